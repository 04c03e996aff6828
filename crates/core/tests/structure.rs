//! How the sources hang together, read from themselves: no module needs one that needs it (from the `crate::` paths, a top-level file or folder
//! being a module, and so is what stands in a folder of a subject), SQL stands in the store alone, no state stands in it as a number written by hand,
//! and no number of a row is a bare one.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

fn sources(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            into.push(path);
        }
    }
}

/// What a file has apart from its tests and comments.
fn code(file: &Path) -> String {
    let text = std::fs::read_to_string(file).unwrap();
    let own = text.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
    own.lines().map(|l| l.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// The lines of a crate's sources that have any of these words.
fn with(of: &str, is: impl Fn(&str) -> bool) -> Vec<String> {
    let mut files = Vec::new();
    sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(of).join("src"), &mut files);
    let lines = |file: PathBuf| {
        let text = code(&file);
        text.lines().filter(|l| is(l)).map(|l| format!("{}: {}", file.display(), l.trim())).collect::<Vec<_>>()
    };
    files.into_iter().flat_map(lines).collect()
}

/// The names after each `crate::`, alone or in braces.
fn named(text: &str) -> BTreeSet<String> {
    let word = |s: &str| s.trim().chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect::<String>();
    let mut out = BTreeSet::new();
    for rest in text.split("crate::").skip(1) {
        match rest.strip_prefix('{') {
            Some(group) => out.extend(group.split('}').next().unwrap_or_default().split(',').map(word)),
            None => drop(out.insert(word(rest))),
        }
    }
    out
}

/// Folders of the store that put modules in order by their subject.
const SUBJECTS: [&str; 8] = ["db", "people", "consent", "mail", "groups", "automation", "insight", "house"];

/// Each module of a crate with the modules that it names.
fn needs(root: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let mut files = Vec::new();
    sources(root, &mut files);
    let mut out: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in files {
        let path: Vec<String> =
            file.strip_prefix(root).unwrap().components().map(|c| c.as_os_str().to_string_lossy().replace(".rs", "")).collect();
        // What stands in a folder of a subject is a module by its own name.
        let of_subject = path.len() > 1 && root.ends_with("store/src") && SUBJECTS.contains(&path[0].as_str()) && path[1] != "mod";
        let first = path[usize::from(of_subject)].clone();
        out.entry(first).or_default().extend(named(&code(&file)));
    }
    out.retain(|module, _| module != "lib" && module != "main");
    let modules: BTreeSet<String> = out.keys().cloned().collect();
    out.iter_mut().for_each(|(module, needs)| needs.retain(|n| n != module && modules.contains(n)));
    out
}

/// The modules that are in a circle.
fn in_circles(needs: &BTreeMap<String, BTreeSet<String>>) -> Vec<&str> {
    let reached = |from: &str| {
        let (mut seen, mut next) = (BTreeSet::new(), vec![from.to_owned()]);
        while let Some(module) = next.pop() {
            next.extend(needs[&module].iter().filter(|n| seen.insert((*n).clone())).cloned());
        }
        seen
    };
    needs.keys().map(String::as_str).filter(|m| reached(m).contains(*m)).collect()
}

#[rstest::rstest]
fn no_module_needs_one_that_needs_it(#[values("core", "store", "server")] of: &str) {
    let needs = needs(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(of).join("src"));
    let found = in_circles(&needs);
    assert!(needs.len() > 20 && found.is_empty(), "{of}: {found:?}");
}

#[rstest::rstest]
fn sql_stands_in_the_store_alone(#[values("core", "post", "server", "rinse")] of: &str) {
    let verbs = ["SELECT ", "INSERT INTO ", "INSERT OR ", "UPDATE ", "DELETE FROM ", "CREATE TABLE "];
    let found = with(of, |line| verbs.iter().any(|v| line.contains(&format!("\"{v}"))) || line.contains("rusqlite::"));
    assert!(found.is_empty(), "{found:#?}");
}

/// A number or a word that stands after a column of states: `state = 3`, `k.status IN (1, 3)`, `state = 'sent'`.
fn is_a_state_by_hand(line: &str) -> bool {
    ["state", "status", "status_before", "status_after", "consent"].iter().any(|column| {
        line.match_indices(column).any(|(at, _)| {
            let alone = !line[..at].ends_with(|c: char| c.is_alphanumeric() || c == '_');
            let rest = &line[at + column.len()..];
            let value = [" = ", " <> ", " IN (", " NOT IN ("].iter().find_map(|op| rest.strip_prefix(op));
            alone && value.is_some_and(|v| v.starts_with(|c: char| c.is_ascii_digit() || c == '\''))
        })
    })
}

#[test]
fn no_state_is_written_by_hand() {
    assert!(
        is_a_state_by_hand("WHERE k.status = 3 AND") && is_a_state_by_hand("state NOT IN ('sent')") && !is_a_state_by_hand("my_state = 3")
    );
    let found = with("store", is_a_state_by_hand);
    assert!(found.is_empty(), "{found:#?}");
}

/// A row's number that any number would do for: `contact: i64`, `mailing_id: Option<i64>`. (`series: i64` counts them somewhere.)
fn is_a_bare_number(line: &str) -> bool {
    ["contact", "mailing", "send", "trial", "hour_trial", "segment", "letterhead"].iter().any(|row| {
        line.match_indices(row).any(|(at, _)| {
            let alone = !line[..at].ends_with(|c: char| c.is_alphanumeric() || c == '_');
            let rest = &line[at + row.len()..];
            let of = rest.strip_prefix("_id").unwrap_or(rest).strip_prefix(": ");
            alone && of.is_some_and(|t| ["i64", "&i64", "Option<i64>"].iter().any(|bare| t.starts_with(bare)))
        })
    })
}

#[rstest::rstest]
fn a_row_is_no_bare_number(#[values("core", "store", "server", "rinse", "standins")] of: &str) {
    assert!(is_a_bare_number("fn f(contact: i64)") && is_a_bare_number("mailing_id: Option<i64>,") && !is_a_bare_number("by_contact: i64"));
    let found = with(of, is_a_bare_number);
    assert!(found.is_empty(), "{found:#?}");
}
