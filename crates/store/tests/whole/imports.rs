//! Imports against a plain model: whatever the rows, applying them twice, in any batches, with a
//! stop in the middle, leaves the base that the model says.

use proptest::prelude::*;
use rinse_core::Instant;
use rinse_core::consent::Act;
use rinse_core::segment::FieldKind;
use rinse_core::standing::FileState;
use rinse_core::table::{self, Field};
use rinse_store::imports::{self, Decision, Run};
use rinse_store::ledger::{self, Origin};
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::{Store, contacts, fields, runs, undo};
use std::collections::BTreeMap;

const NOW: Instant = Instant::of(1_700_000_000_000);

#[derive(Debug, Clone)]
struct Row {
    who: u8,
    name: &'static str,
    visits: &'static str,
    broken: bool,
}

fn row() -> impl Strategy<Value = Row> {
    let name = prop::sample::select(vec!["", "Wren", "Ødegård, \"the\" elder", "=1+1", "名前"]);
    let visits = prop::sample::select(vec!["", "1", "2.5", "many"]);
    (0u8..12, name, visits, prop::bool::weighted(0.1)).prop_map(|(who, name, visits, broken)| Row { who, name, visits, broken })
}

fn csv_of(rows: &[Row], delimiter: u8) -> Vec<u8> {
    let mut w = csv::WriterBuilder::new().delimiter(delimiter).flexible(true).from_writer(Vec::new());
    w.write_record(["E-mail", "First name", "Visits"]).unwrap();
    for r in rows {
        // Case and a foreign spelling of the domain make no other person.
        let address = format!("{}{}@TERN.example", if r.who % 2 == 0 { "Wren" } else { "wren" }, r.who);
        // As it is, or as a row comes back that was refused: with an apostrophe before what would be a formula.
        let name = if r.who % 3 == 0 { table::neutral_cell(r.name) } else { r.name.to_owned() };
        if r.broken { w.write_record([&address, &name]).unwrap() } else { w.write_record([&address, &name, r.visits]).unwrap() }
    }
    w.into_inner().unwrap()
}

/// Name and visits by person, and how many rows are refused.
fn model(rows: &[Row]) -> (BTreeMap<u8, (Option<String>, Option<f64>)>, i64) {
    let (mut people, mut refused) = (BTreeMap::new(), 0);
    for r in rows {
        if r.broken || r.visits == "many" || people.contains_key(&r.who) {
            refused += 1;
            continue;
        }
        people.insert(r.who, (Some(r.name.to_owned()).filter(|n| !n.is_empty()), r.visits.parse().ok()));
    }
    (people, refused)
}

async fn staged(store: &Store, bytes: &[u8]) -> Run {
    let raw = store.folder().join("imports/upload-test");
    std::fs::write(&raw, bytes).unwrap();
    let id = imports::stage(store, raw, "p.csv".into(), NOW, None).await.unwrap();
    let visits = Field::Own { name: "visits".into(), kind: FieldKind::Number };
    let d = Decision {
        texts: false,
        mapping: vec![Some(Field::Address), Some(Field::GivenName), Some(visits)],
        header: true,
        list: Some("All".into()),
        tag: Some("Guest".into()),
        consent: true,
        entity: String::new(),
        evidence: "paper form".into(),
        fixes: imports::Fixes::default(),
    };
    imports::decide(store, id, d, NOW).await.unwrap();
    imports::check(store, id, |_| None, |_| {}).await.unwrap()
}

fn base(store: &Store) -> BTreeMap<u8, (Option<String>, Option<f64>)> {
    store
        .read_now(|c| {
            let mut s = c.prepare(
                "SELECT CAST(substr(address_key, 5, instr(address_key, '@') - 5) AS INTEGER), given_name, v.number FROM contact c
                 LEFT JOIN field_value v ON v.contact_id = c.id",
            )?;
            Ok(s.query_map([], |r| Ok((r.get(0)?, (r.get(1)?, r.get(2)?))))?.collect::<rusqlite::Result<_>>()?)
        })
        .unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(30))]

    #[test]
    fn the_base_is_what_the_model_says(rows in prop::collection::vec(row(), 1..40), delimiter in prop::sample::select(vec![b',', b';', b'\t', b'|'])) {
        let (people, refused) = model(&rows);
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(folder.path(), false).unwrap();
            let run = staged(&store, &csv_of(&rows, delimiter)).await;
            assert_eq!((run.new, run.changed, run.refused), (people.len() as i64, 0, refused));
            imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
            assert_eq!(base(&store), people);
            let everyone = store.read_now(|c| Ok(c.query_row("SELECT (SELECT count(*) FROM list_member) + (SELECT count(*) FROM contact_tag) + (SELECT count(*) FROM ledger)", [], |r| r.get::<_, i64>(0))?)).unwrap();
            assert_eq!(everyone, 3 * people.len() as i64, "list, tag and evidence for each, once");

            // The refused rows come back with line numbers that point at them.
            let back = std::fs::read(imports::refused_path(&store, run.id)).unwrap();
            let back: Vec<csv::StringRecord> = csv::ReaderBuilder::new().flexible(true).from_reader(back.as_slice()).records().collect::<Result<_, _>>().unwrap();
            assert_eq!(back.len() as i64, refused);
            for r in &back {
                let line: usize = r.iter().next_back().unwrap().parse().unwrap();
                assert_eq!(r.get(0).unwrap().to_lowercase(), format!("wren{}@tern.example", rows[line - 2].who));
            }

            // The same file twice changes nothing.
            let again = staged(&store, &csv_of(&rows, delimiter)).await;
            assert_eq!((again.new, again.changed, again.unchanged), (0, 0, people.len() as i64));
            imports::apply(&store, again.id, NOW, None, |_| true).await.unwrap();
            assert_eq!(base(&store), people);
        });
    }
}

/// Stopped after two batches, an import goes on where it stood, and still knows its earlier rows.
#[tokio::test]
async fn a_stopped_import_goes_on_where_it_stood() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    let mut csv = String::from("E-mail,First name,Visits\n");
    let people = 9_000;
    (0..people).for_each(|i| csv.push_str(&format!("wren{i}@tern.example,Wren,{i}\n")));
    csv.push_str("wren0@tern.example,Somebody else,1\n");
    let run = staged(&store, csv.as_bytes()).await;
    assert_eq!((run.new, run.refused), (people, 1));
    let mut batches = 0;
    let stopped = imports::apply(&store, run.id, NOW, None, |_| {
        batches += 1;
        batches < 2
    })
    .await
    .unwrap();
    assert_eq!(stopped.state, FileState::Cancelled);
    assert!(stopped.done > 0 && stopped.done < people, "{}", stopped.done);
    // As after a crash: the run still says that it is under way.
    store.write(move |c| Ok(c.execute("UPDATE import_run SET state = 'applying' WHERE id = ?1", [run.id])?)).await.unwrap();
    let done = imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
    assert_eq!((done.state, done.done), (FileState::Applied, people + 1));
    let counts = store
        .read_now(|c| {
            let first: String = c.query_row("SELECT given_name FROM contact WHERE address_key = 'wren0@tern.example'", [], |r| r.get(0))?;
            Ok((fields::all(c)?[0].people, c.query_row("SELECT count(*) FROM contact", [], |r| r.get::<_, i64>(0))?, first))
        })
        .unwrap();
    assert_eq!(counts, (people, people, "Wren".to_owned()));
}

/// The same columns are mapped as they were the last time; a field can't change its kind on the way.
#[tokio::test]
async fn a_mapping_is_remembered_and_kinds_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    let csv = b"E-mail,First name,Visits\nwren@tern.example,Wren,3\n";
    let first = staged(&store, csv).await;
    imports::apply(&store, first.id, NOW, None, |_| true).await.unwrap();
    let raw = store.folder().join("imports/upload-2");
    std::fs::write(&raw, csv).unwrap();
    let id = imports::stage(&store, raw, "again.csv".into(), NOW, None).await.unwrap();
    let remembered = store.read_now(|c| imports::run(c, id)).unwrap();
    assert_eq!(remembered.mapping, first.mapping);

    let as_text = Field::Own { name: "Visits".into(), kind: FieldKind::Text };
    let twice = vec![Some(Field::Address), Some(Field::GivenName), Some(Field::GivenName)];
    let decision = |mapping| Decision {
        texts: false,
        mapping,
        header: true,
        list: None,
        tag: None,
        consent: false,
        entity: String::new(),
        evidence: String::new(),
        fixes: imports::Fixes::default(),
    };
    assert!(imports::decide(&store, id, decision(twice), NOW).await.unwrap_err().to_string().contains("same field"));
    imports::decide(&store, id, decision(vec![Some(Field::Address), None, Some(as_text)]), NOW).await.unwrap();
    assert!(imports::check(&store, id, |_| None, |_| {}).await.unwrap_err().to_string().contains("another kind of value"));
}

/// People who agreed with another legal entity than the first: only their consent to it is raised, never over
/// a refusal of it, and taking the import back puts that back.
#[tokio::test]
async fn consent_to_another_legal_entity_comes_in() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    let csv = b"E-mail,First name,Visits\nwren@tern.example,Wren,3\nrook@tern.example,Rook,4\n";
    let first = staged(&store, csv).await;
    imports::apply(&store, first.id, NOW, None, |_| true).await.unwrap();
    let shop = || Origin { source: "form", entity: "Lantern Shop Ltd".into(), ..Origin::default() };
    store
        .write(move |c| {
            let l = Letterhead {
                name: "Shop".into(),
                from_name: "Shop".into(),
                from_address: "shop@skerry-light.example".into(),
                postal_address: "1 Quay".into(),
                entity: "Lantern Shop Ltd".into(),
                ..Letterhead::default()
            };
            letterheads::save(c, &l, NOW)?;
            let rook = contacts::id_of(c, "rook@tern.example")?.unwrap();
            ledger::act(c, rook, NOW, Act::Agreed, &shop())?;
            ledger::act(c, rook, NOW, Act::Withdrew, &shop()).map(|_| ())
        })
        .await
        .unwrap();
    let raw = store.folder().join("imports/upload-shop");
    std::fs::write(&raw, b"E-mail,First name\nwren@tern.example,Wren\nrook@tern.example,Rook\nfinch@tern.example,Finch\n").unwrap();
    let id = imports::stage(&store, raw, "shop.csv".into(), NOW, None).await.unwrap();
    let d = |entity: &str| Decision {
        texts: false,
        mapping: vec![Some(Field::Address), Some(Field::GivenName)],
        header: true,
        list: None,
        tag: None,
        consent: true,
        entity: entity.into(),
        evidence: "shop till, ticked".into(),
        fixes: imports::Fixes::default(),
    };
    assert!(imports::decide(&store, id, d("Tern Ltd"), NOW).await.unwrap_err().to_string().contains("No letterhead"));
    imports::decide(&store, id, d("Lantern Shop Ltd"), NOW).await.unwrap();
    imports::check(&store, id, |_| None, |_| {}).await.unwrap();
    let run = imports::apply(&store, id, NOW, None, |_| true).await.unwrap();
    assert_eq!((run.new, run.changed, run.refused), (1, 1, 1));
    let standing = || {
        store
            .read_now(|c| {
                let mut s = c.prepare(
                    "SELECT given_name || ' ' || c.consent || ' ' || coalesce(e.consent, 0) FROM contact c
                     LEFT JOIN other_consent e ON e.contact_id = c.id AND e.channel = 1 WHERE gone IS NULL ORDER BY c.id",
                )?;
                Ok(s.query_map([], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?)
            })
            .unwrap()
    };
    assert_eq!(standing(), ["Wren 2 2", "Rook 2 5", "Finch 0 2"]);
    let change = store.read_now(|c| runs::of_import(c, id, NOW)).unwrap().unwrap();
    store.write(move |c| undo::begin(c, change.id, NOW)).await.unwrap();
    while !store.write(move |c| undo::some(c, change.id, NOW, None)).await.unwrap().1 {}
    assert_eq!(standing(), ["Wren 2 0", "Rook 2 5"]);
}
