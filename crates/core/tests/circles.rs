//! No module needs one that needs it: read from the `crate::` paths of each crate's sources, a top-level file or folder being a module.

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

/// Each module of a crate with the modules that it names.
fn needs(root: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let mut files = Vec::new();
    sources(root, &mut files);
    let mut out: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in files {
        let first = file.strip_prefix(root).unwrap().components().next().unwrap().as_os_str().to_string_lossy().replace(".rs", "");
        let text = std::fs::read_to_string(&file).unwrap();
        let own = text.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
        let code: Vec<&str> = own.lines().map(|l| l.split("//").next().unwrap_or_default()).collect();
        out.entry(first).or_default().extend(named(&code.join("\n")));
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

/// As many as there are now where some are left: it may become fewer, and never more.
#[rstest::rstest]
#[case("core", 0)]
#[case("store", 35)]
#[case("server", 10)]
fn no_module_needs_one_that_needs_it(#[case] of: &str, #[case] left: usize) {
    let needs = needs(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(of).join("src"));
    let found = in_circles(&needs);
    assert!(found.len() <= left, "{of}: {found:?}");
    assert_eq!(found.len(), left, "fewer than before: let this test say so, so that it stays");
}
