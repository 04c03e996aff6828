//! A base with everything in it: the demo's year (lists, ledger, figures, links, purchases, series, trials, imports, reports), with each person and all
//! that is theirs so many times as it takes to be as many people as are asked for.

use rinse_store::{Store, figures, rollups};
use rusqlite::Connection;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Tables that name people or messages and are no part of them.
const ONCE: [&str; 3] = ["inbound", "came_back", "test_send"];
/// Sums over people that nothing here counts again.
const SUMS: [(&str, &[&str]); 6] = [
    ("people_standing", &["people"]),
    ("brought_figure", &["people", "conversions", "cents"]),
    ("base_day", &["active", "resting", "observed", "retired", "sunset", "tombstones"]),
    ("mail_load_day", &["people", "mailable", "complained", "withdrew"]),
    ("domain", &["delivered", "fetched"]),
    ("link_cell", &["people", "clicks", "reached", "machine_clicks"]),
];

/// What a table is made of.
struct Table {
    name: String,
    /// Each column, and the table that it refers to.
    columns: Vec<(String, Option<String>)>,
}

/// The folder with so many people or a little more, made when there is none.
pub(crate) fn folder(binary: &Path, people: i64) -> PathBuf {
    let folder = PathBuf::from(format!("target/bench-whole-{people}"));
    let made = folder.join("made");
    if !made.exists() {
        let _ = std::fs::remove_dir_all(&folder);
        let year = year(binary);
        eprintln!("Making a whole base of {people} people once; some minutes for a million.");
        let started = std::time::Instant::now();
        multiply(&year, &folder, people);
        eprintln!("  in {:.0} s", started.elapsed().as_secs_f64());
        std::fs::write(made, "").expect("a mark");
    }
    folder
}

/// A year of the demo that nobody has opened.
fn year(binary: &Path) -> PathBuf {
    let year = PathBuf::from("target/bench-year");
    if !year.exists() {
        eprintln!("Making the demo's year once; some minutes.");
        let done = Command::new(binary).args(["demo", "--prepare", "--data"]).arg(&year).env("RUST_LOG", "warn").status();
        assert!(done.is_ok_and(|s| s.success()), "the demo's year could not be made");
    }
    // An earlier version may have made it.
    drop(Store::open(&year, false).expect("the year opens"));
    year
}

fn multiply(year: &Path, folder: &Path, people: i64) {
    copied(year, folder);
    drop(Store::open(folder, false).expect("a store"));
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = OFF; PRAGMA journal_mode = OFF; PRAGMA foreign_keys = OFF; PRAGMA cache_size = -400000; PRAGMA temp_store = MEMORY")
        .expect("pragmas");
    c.execute("ATTACH ?1 AS year", [year.join("rinse.db").to_string_lossy()]).expect("the year");
    let there: i64 = c.query_row("SELECT count(*) FROM year.contact", [], |r| r.get(0)).expect("a count");
    let times = (people + there - 1) / there;
    c.execute_batch(&format!(
        "CREATE TEMP TABLE n (k INTEGER PRIMARY KEY); WITH RECURSIVE i(k) AS (SELECT 0 UNION ALL SELECT k + 1 FROM i WHERE k < {times} - 1) INSERT INTO n SELECT k FROM i"
    ))
    .expect("the copies");
    let kept = set_aside(&c);
    let tables = tables(&c);
    let theirs = theirs(&tables);
    c.execute_batch("BEGIN").expect("begin");
    for t in &tables {
        c.execute_batch(&format!("DELETE FROM main.\"{}\"", t.name)).expect("an empty table");
        c.execute_batch(&copy(t, &theirs, times)).unwrap_or_else(|e| panic!("{}: {e}", t.name));
    }
    for (table, columns) in SUMS {
        let set: Vec<String> = columns.iter().map(|k| format!("{k} = {k} * {times}")).collect();
        c.execute_batch(&format!("UPDATE {table} SET {}", set.join(", "))).unwrap_or_else(|e| panic!("{table}: {e}"));
    }
    c.execute_batch("COMMIT").expect("commit");
    kept.iter().for_each(|sql| c.execute_batch(sql).unwrap_or_else(|e| panic!("{sql}: {e}")));
    c.execute_batch("DETACH year; BEGIN").expect("begin");
    figures::count_again(&c).expect("the figures");
    rollups::everything(&c).expect("the roll-ups");
    c.execute_batch("UPDATE ledger SET salt = NULL, digest = NULL, link = NULL; COMMIT; PRAGMA journal_mode = WAL").expect("commit");
    drop(c);
    // Whoever opens a file whose ledger has no seals seals it.
    drop(Store::open(folder, false).expect("a store"));
}

/// The year's files beside its data and its journal, which name people by their numbers there.
fn copied(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("the year").flatten() {
        let (path, into) = (entry.path(), to.join(entry.file_name()));
        if path.is_dir() {
            copied(&path, &into);
        } else if !path.extension().is_some_and(|e| e == "journal" || e.to_string_lossy().starts_with("db")) {
            std::fs::copy(&path, &into).expect("a copy");
        }
    }
}

/// Takes triggers and indexes away while rows are written; how they are made again.
fn set_aside(c: &Connection) -> Vec<String> {
    let mut all = c
        .prepare("SELECT type, name, sql FROM main.sqlite_schema WHERE type IN ('index', 'trigger') AND sql IS NOT NULL")
        .expect("a schema");
    let all: Vec<(String, String, String)> =
        all.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?))).and_then(Iterator::collect).expect("a schema");
    all.into_iter()
        .map(|(kind, name, sql)| {
            c.execute_batch(&format!("DROP {kind} main.\"{name}\"")).expect("it goes");
            sql
        })
        .collect()
}

fn tables(c: &Connection) -> Vec<Table> {
    let strings =
        |sql: &str| -> Vec<String> { c.prepare(sql).and_then(|mut s| s.query_map([], |r| r.get(0))?.collect()).expect("a schema") };
    strings("SELECT name FROM main.sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'")
        .into_iter()
        .map(|name| {
            let refers: BTreeMap<String, String> = c
                .prepare(&format!("SELECT \"from\", \"table\" FROM pragma_foreign_key_list('{name}')"))
                .and_then(|mut s| s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect())
                .expect("a schema");
            let columns = strings(&format!("SELECT name FROM pragma_table_info('{name}')"));
            let by_name = |k: &str| ["contact", "send"].into_iter().find(|t| k == format!("{t}_id")).map(str::to_owned);
            let columns = columns.into_iter().map(|k| (k.clone(), refers.get(&k).cloned().or_else(|| by_name(&k)))).collect();
            Table { name, columns }
        })
        .collect()
}

/// The tables whose rows are somebody's: of people and messages, and of what refers to such a row.
fn theirs(tables: &[Table]) -> BTreeSet<String> {
    let mut all: BTreeSet<String> = ["contact".to_owned(), "send".to_owned()].into();
    loop {
        let more: Vec<String> = tables
            .iter()
            .filter(|t| !all.contains(&t.name) && !ONCE.contains(&t.name.as_str()))
            .filter(|t| t.columns.iter().any(|(_, to)| to.as_ref().is_some_and(|to| all.contains(to))))
            .map(|t| t.name.clone())
            .collect();
        if more.is_empty() {
            return all;
        }
        all.extend(more);
    }
}

/// Rows of people stand beside each other's copies, so that numbers go by time as they do in life.
fn copy(t: &Table, theirs: &BTreeSet<String>, times: i64) -> String {
    let (own, own_key) = (theirs.contains(&t.name), t.columns.iter().any(|(k, _)| k == "key"));
    let value = |(k, to): &(String, Option<String>)| {
        let of_a_person = to.as_ref().is_some_and(|to| theirs.contains(to));
        match k.as_str() {
            "id" if own => format!("t.id * {times} + n.k"),
            "cause" if t.name == "reacted" => format!("t.cause * {times} + n.k"),
            _ if of_a_person && own => format!("t.\"{k}\" * {times} + n.k"),
            _ if of_a_person => format!("t.\"{k}\" * {times}"),
            "address" | "address_key" if own => {
                format!(
                    "CASE WHEN n.k = 0 THEN t.{k} WHEN instr(t.{k}, '@') THEN replace(t.{k}, '@', '.' || n.k || '@') ELSE t.{k} || n.k END"
                )
            }
            "phone" if own => "iif(n.k = 0, t.phone, NULL)".into(),
            "key" if own && own_key && t.name != "field_value" => "iif(n.k = 0, t.key, t.key || '#' || n.k)".into(),
            _ => format!("t.\"{k}\""),
        }
    };
    let names: Vec<String> = t.columns.iter().map(|(k, _)| format!("\"{k}\"")).collect();
    let values: Vec<String> = t.columns.iter().map(value).collect();
    let from = if own { "t CROSS JOIN temp.n AS n" } else { "t" };
    format!("INSERT INTO main.\"{0}\" ({1}) SELECT {2} FROM year.\"{0}\" AS {from}", t.name, names.join(", "), values.join(", "))
}
