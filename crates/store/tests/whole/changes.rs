//! Changes of many people and the way back: what a run changed is put back to the letter, for
//! everyone to whom nothing happened since; a deleted person leaves nothing behind but a hash.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::base_check::Finding;
use rinse_core::consent::{Act, Consent, strictest};
use rinse_core::id::ContactId;
use rinse_core::segment::FieldKind;
use rinse_core::segment::person::Value;
use rinse_core::table::Field;
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::imports::{self, Decision, Fixes, Run};
use rinse_store::ledger::{self, Origin};
use rinse_store::tags::{self, Kind};
use rinse_store::{Connection, Store, base_check, erasure, fields, merges, runs, undo};
use tempfile::TempDir;

const NOW: Instant = Instant::of(1_776_000_000_000);

fn store() -> (TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    (folder, store)
}

fn address(text: &str) -> Address {
    Address::parse(text).unwrap()
}

fn add(c: &Connection, a: &str, name: Option<&str>, acts: &[Act]) -> i64 {
    let profile = Profile { given_name: name.map(str::to_owned), ..Profile::default() };
    let id = contacts::add(c, &address(a), &profile, NOW).unwrap();
    for act in acts {
        ledger::act(c, id, NOW, *act, &Origin { source: "test", ..Origin::default() }).unwrap();
    }
    id.0
}

/// Everything that is known of everybody who is here, in an order of its own.
fn everybody(c: &Connection) -> Vec<String> {
    let mut s = c
        .prepare(
            "SELECT json_array(address, given_name, family_name, country, latitude, consent, paused_until, status, phone,
                (SELECT json_group_array(json_array(channel, entity, consent)) FROM (SELECT * FROM other_consent o WHERE o.contact_id = c.id AND consent <> 0 ORDER BY 1, 2)),
                (SELECT json_group_array(json_array(field_id, text, key, number, day, flag, dated, source)) FROM (SELECT * FROM field_value v WHERE v.contact_id = c.id ORDER BY field_id)),
                (SELECT json_group_array(json_array(day, source, number)) FROM score_history h WHERE h.contact_id = c.id),
                (SELECT json_group_array(list_id) FROM (SELECT list_id FROM list_member m WHERE m.contact_id = c.id ORDER BY 1)),
                (SELECT json_group_array(tag_id) FROM (SELECT tag_id FROM contact_tag m WHERE m.contact_id = c.id ORDER BY 1)),
                (SELECT json_group_array(topic_id) FROM topic_left m WHERE m.contact_id = c.id),
                (SELECT json_group_array(id) FROM (SELECT id FROM purchase m WHERE m.contact_id = c.id ORDER BY 1)),
                (SELECT json_group_array(id) FROM (SELECT id FROM send m WHERE m.contact_id = c.id ORDER BY 1)))
             FROM contact c WHERE gone IS NULL ORDER BY address_key",
        )
        .unwrap();
    s.query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
}

async fn undo(store: &Store, run: i64) -> runs::ChangeRun {
    store.write(move |c| undo::begin(c, run, NOW)).await.unwrap();
    while !store.write(move |c| undo::some(c, run, NOW, None)).await.unwrap().1 {}
    store.read_now(|c| runs::one(c, run, NOW)).unwrap()
}

async fn staged(store: &Store, name: &str, bytes: &[u8], mapping: Vec<Option<Field>>, fixes: Fixes, consent: bool) -> Run {
    let raw = store.folder().join("imports/upload-test");
    std::fs::write(&raw, bytes).unwrap();
    let id = imports::stage(store, raw, name.into(), NOW, None).await.unwrap();
    let scores = mapping.contains(&Some(Field::ScoreDate));
    let word = |w: &str| (!scores).then(|| w.to_owned());
    let evidence = "paper form".into();
    let texts = consent && mapping.contains(&Some(Field::Phone));
    let d =
        Decision { mapping, header: true, list: word("All"), tag: word("Guest"), consent, texts, entity: String::new(), evidence, fixes };
    imports::decide(store, id, d, NOW).await.unwrap();
    imports::check(store, id, |d| Some(d != "washed-out.example"), |_| {}).await.unwrap()
}

fn people_mapping() -> Vec<Option<Field>> {
    vec![
        Some(Field::Address),
        Some(Field::GivenName),
        Some(Field::Own { name: "Visits".into(), kind: FieldKind::Number }),
        Some(Field::Phone),
    ]
}

fn people_csv(rows: &[(u8, &str, &str, &str)]) -> String {
    let mut csv = String::from("E-mail,First name,Visits,Mobile\n");
    rows.iter().for_each(|(who, name, visits, phone)| csv.push_str(&format!("p{who}@tern.example,{name},{visits},{phone}\n")));
    csv
}

fn some_row() -> impl Strategy<Value = (u8, &'static str, &'static str, &'static str)> {
    let phone = prop::sample::select(vec!["", "", "+44 7700 900001", "0044 7700 900002", "+447700900003", "7700"]);
    (0u8..14, prop::sample::select(vec!["", "Wren", "Iona"]), prop::sample::select(vec!["", "1", "2.5", "7"]), phone)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Taking an import back leaves the base as it was, but for those somebody changed since.
    #[test]
    fn an_import_taken_back_never_was(
        first in prop::collection::vec(some_row(), 1..12), second in prop::collection::vec(some_row(), 1..20),
        left in prop::collection::vec(0u8..14, 0..3), touched in prop::option::of(0u8..14),
    ) {
        tokio::runtime::Runtime::new().unwrap().block_on(async {
            let (_folder, store) = store();
            let run = staged(&store, "a.csv", people_csv(&first).as_bytes(), people_mapping(), Fixes::default(), true).await;
            imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
            store.write(move |c| {
                for who in left {
                    if let Some(id) = contacts::id_of(c, &format!("p{who}@tern.example"))? {
                        ledger::act(c, id, NOW, Act::Withdrew, &Origin { source: "test", ..Origin::default() })?;
                    }
                }
                Ok(())
            }).await.unwrap();
            let before = store.read_now(|c| Ok(everybody(c))).unwrap();
            let run = staged(&store, "b.csv", people_csv(&second).as_bytes(), people_mapping(), Fixes::default(), true).await;
            let applied = imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
            let changed = store.read_now(|c| Ok(everybody(c))).unwrap();
            let touched = touched.map(|who| format!("p{who}@tern.example"));
            let key = touched.clone();
            let was_touched = store.write(move |c| {
                let Some(id) = key.map(|k| contacts::id_of(c, &k)).transpose()?.flatten() else { return Ok(false) };
                contacts::replace_profile(c, id, &Profile { family_name: Some("Quay".into()), ..Profile::default() })?;
                runs::changed_by_hand(c, id)?;
                Ok(true)
            }).await.unwrap();
            let change = store.read_now(|c| runs::of_import(c, run.id, NOW)).unwrap().unwrap();
            let undone = undo(&store, change.id).await;
            let touched = touched.filter(|_| was_touched);
            let after = store.read_now(|c| Ok(everybody(c))).unwrap();
            // A number that the one who was touched has by now stays theirs; who had it before doesn't get it back.
            let read = |p: &String| serde_json::from_str::<serde_json::Value>(p).unwrap();
            let kept = after.iter().map(read).find(|p| touched.as_ref().is_some_and(|t| p[0] == **t)).map(|p| p[8].clone()).filter(|n| !n.is_null());
            let had = before.iter().map(read).find(|p| kept.as_ref().is_some_and(|k| p[8] == *k)).map(|p| p[0].clone());
            let without = |all: &[String]| {
                let leaves_out = |p: &serde_json::Value| touched.as_ref().is_some_and(|t| p[0] == **t) || had.as_ref().is_some_and(|h| p[0] == *h);
                all.iter().filter(|p| !leaves_out(&read(p))).cloned().collect::<Vec<_>>()
            };
            prop_assert_eq!(without(&after), without(&before));
            prop_assert_eq!(undone.undone + undone.kept, applied.new + applied.changed);
            prop_assert!(undone.kept <= 1 && changed.len() >= before.len());
            // It can be brought in again, to the same end.
            let again = staged(&store, "b.csv", people_csv(&second).as_bytes(), people_mapping(), Fixes::default(), true).await;
            imports::apply(&store, again.id, NOW, None, |_| true).await.unwrap();
            // The one who was touched and gave a number away keeps none of it: a row that was refused for that number isn't any more.
            let number = |all: &[String]| all.iter().map(read).find(|p| touched.as_ref().is_some_and(|t| p[0] == **t)).map(|p| p[8].clone());
            if number(&before).is_none_or(|n| n.is_null() || Some(n) == number(&after)) {
                prop_assert_eq!(without(&store.read_now(|c| Ok(everybody(c))).unwrap()), without(&changed));
            }
            Ok(())
        })?;
    }

    /// Of two merged people the strictest consent holds, nothing is lost, and parting gives both back.
    #[test]
    fn a_merge_keeps_everything_and_comes_apart(
        acts in prop::collection::vec((0u8..3, 0u8..5), 0..10), sets in prop::collection::vec((0u8..3, 0i64..3), 0..10), sends in prop::collection::vec((0u8..3, 1i64..6), 0..12),
        chain: bool,
    ) {
        tokio::runtime::Runtime::new().unwrap().block_on(async {
            let (_folder, store) = store();
            let (before, run, states) = store.write(move |c| {
                let ids = [0, 1, 2].map(|i| add(c, &format!("wren{}@tern.example", ["", "+a", "+b"][i]), [None, Some("Wren"), Some("W.")][i], &[]));
                for (who, act) in acts {
                    let act = [Act::Agreed, Act::Confirmed, Act::Withdrew, Act::Complained, Act::Paused { until: NOW + DAY }][usize::from(act)];
                    ledger::act(c, ContactId(ids[usize::from(who)]), NOW, act, &Origin { source: "test", ..Origin::default() })?;
                }
                let field = fields::named(c, "Visits", FieldKind::Number, NOW)?;
                for (who, set) in &sets {
                    let id = ids[usize::from(*who)];
                    let list = tags::named(c, Kind::List, &format!("L{set}"), NOW)?;
                    tags::add(c, Kind::List, list, &[ContactId(id)], NOW)?;
                    fields::set(c, ContactId(id), field, &Value::Number(*set as f64), None, None)?;
                }
                c.execute_batch("INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a','a','a','a','a');
                    INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (1,'m',1,0), (2,'m',1,0), (3,'m',1,0), (4,'m',1,0), (5,'m',1,0)")?;
                for (who, mailing) in sends {
                    c.execute("INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at) VALUES (?1, ?2, 0, 3, 0, 0) ON CONFLICT DO NOTHING", [mailing, ids[usize::from(who)]])?;
                }
                let before = everybody(c);
                let states = ids.map(|id| ledger::consent_of(c, ContactId(id)).unwrap());
                let run = runs::begin(c, NOW, None, "merge", "test", None)?;
                if chain {
                    merges::merge(c, run, ContactId(ids[2]), ContactId(ids[1]), NOW, None)?;
                    merges::merge(c, run, ContactId(ids[1]), ContactId(ids[0]), NOW, None)?;
                } else {
                    merges::merge(c, run, ContactId(ids[1]), ContactId(ids[0]), NOW, None)?;
                    merges::merge(c, run, ContactId(ids[2]), ContactId(ids[0]), NOW, None)?;
                }
                runs::finish(c, run, 2)?;
                Ok((before, run, states))
            }).await.unwrap();
            let (all, consent, found) = store.read_now(|c| {
                let id = contacts::id_of(c, "wren+b@tern.example")?.unwrap();
                Ok((everybody(c), ledger::consent_of(c, id)?, id == contacts::id_of(c, "wren@tern.example")?.unwrap()))
            }).unwrap();
            prop_assert_eq!(all.len(), 1);
            prop_assert!(found, "every address leads to the one who stays");
            prop_assert_eq!(consent, states.into_iter().reduce(strictest).unwrap());
            let undone = undo(&store, run).await;
            prop_assert_eq!((undone.undone, undone.kept), (2, 0));
            prop_assert_eq!(store.read_now(|c| Ok(everybody(c))).unwrap(), before);
            Ok(())
        })?;
    }
}

/// Bounces belong to the address, messages to the person: a merge takes the one along and not the other.
#[tokio::test]
async fn a_merged_address_keeps_its_bounces_to_itself() {
    let (_folder, store) = store();
    store
        .write(|c| {
            let (plain, detailed) = (add(c, "wren@tern.example", None, &[Act::Agreed]), add(c, "wren+a@tern.example", None, &[Act::Agreed]));
            c.execute_batch("INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a','a','a','a','a'); INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (1,'m',1,0), (2,'m',1,0)")?;
            for mailing in [1, 2] {
                c.execute(
                    "INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, failed_at, category) VALUES (?1, ?2, 0, 5, 0, 0, ?3, 1)",
                    [mailing, detailed, NOW.millis() + mailing * 3 * DAY],
                )?;
            }
            let run = runs::begin(c, NOW, None, "merge", "test", None)?;
            merges::merge(c, run, ContactId(detailed), ContactId(plain), NOW, None)?;
            let s = rinse_store::upkeep::status::refresh(c, ContactId(plain), NOW + 30 * DAY)?;
            assert_eq!(s.status, rinse_core::upkeep::MailStatus::Active, "{}", s.why);
            assert_eq!(contacts::one(c, ContactId(plain), NOW)?.messages.len(), 2);
            Ok(())
        })
        .await
        .unwrap();
}

/// After a deletion no column of any table and no file holds the person, and no file brings them back.
#[tokio::test]
async fn a_deleted_person_leaves_nothing_but_a_hash() {
    let (folder, store) = store();
    let rows = "E-mail,First name,Visits,Mobile\nzennor@tern.example,Zennorina,3,+44 7700 900077\nother@tern.example,Bran,1,\n";
    let run = staged(&store, "a.csv", rows.as_bytes(), people_mapping(), Fixes::default(), true).await;
    imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
    let imports_folder = folder.path().to_owned();
    store
        .write(move |c| {
            rinse_store::settings::signing_key(c, &[7; 32], NOW)?;
            let id = contacts::id_of(c, "zennor@tern.example")?.unwrap();
            let detailed = add(c, "zennor+boats@tern.example", Some("Zennorina"), &[Act::Agreed]);
            let run = runs::begin(c, NOW, None, "merge", "test", None)?;
            merges::merge(c, run, ContactId(detailed), id, NOW, None)?;
            erasure::erase(c, id, NOW, None)?;
            imports::forget_files(c, &imports_folder)?;
            assert!(erasure::erase(c, id, NOW, None).is_err());
            Ok(())
        })
        .await
        .unwrap();
    let held = store
        .read_now(|c| {
            let mut held = Vec::new();
            let mut tables = c.prepare("SELECT t.name, x.name FROM sqlite_schema t, pragma_table_info(t.name) x WHERE t.type = 'table'")?;
            for column in tables.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))? {
                let (table, column) = column?;
                let sql = format!("SELECT count(*) FROM \"{table}\" WHERE CAST(\"{column}\" AS TEXT) LIKE '%zennor%' OR CAST(\"{column}\" AS TEXT) LIKE '%7700900077%'");
                if c.query_row(&sql, [], |r| r.get::<_, i64>(0))? > 0 {
                    held.push(format!("{table}.{column}"));
                }
            }
            Ok(held)
        })
        .unwrap();
    assert_eq!(held, Vec::<String>::new());
    for file in std::fs::read_dir(folder.path().join("imports")).unwrap() {
        let text = std::fs::read_to_string(file.unwrap().path()).unwrap_or_default();
        assert!(!text.contains("zennor"));
    }
    for _ in 0..2 {
        let again = staged(&store, "a.csv", rows.as_bytes(), people_mapping(), Fixes::default(), true).await;
        assert_eq!((again.new, again.unchanged, again.refused), (0, 1, 1));
    }
    assert_eq!(store.read_now(|c| Ok((contacts::present(c)?, everybody(c).len()))).unwrap(), (1, 1));
}

/// Objects, one a line, land as the same rows of a table do; a broken line is refused by its number.
#[tokio::test]
async fn ndjson_lands_as_a_table_does() {
    let lines = "{\"E-mail\":\"p1@tern.example\",\"First name\":\"Wren, the \\\"elder\\\"\\nof two\"}\n\n{\"Visits\":2.5,\"E-mail\":\"p2@tern.example\"}\n{broken\n[1]\n{\"E-mail\":\"p3@tern.example\",\"Visits\":true}\n";
    let (_folder, store) = store();
    let run = staged(&store, "a.ndjson", lines.as_bytes(), people_mapping(), Fixes::default(), true).await;
    assert!(run.ndjson);
    assert_eq!((run.new, run.refused), (2, 3));
    let refused = std::fs::read_to_string(imports::refused_path(&store, run.id)).unwrap();
    assert!(refused.contains("no JSON object that can be read,4"), "{refused}");
    assert!(refused.contains("\"\"yes\"\" is not a number\",6"), "{refused}");
    imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
    let all = store.read_now(|c| Ok(everybody(c))).unwrap();
    assert!(all[0].contains("Wren, the \\\"elder\\\" of two") && all[1].contains("2.5"), "{all:?}");
}

/// Another delimiter or encoding than found out is taken when somebody says so.
#[tokio::test]
async fn a_file_is_read_again_as_it_is_told() {
    let (_folder, store) = store();
    let raw = store.folder().join("imports/upload-test");
    std::fs::write(&raw, b"mail;a,b,c\np1@tern.example;J\xE9r\xF4me,2,3\n").unwrap();
    let id = imports::stage(&store, raw, "a.csv".into(), NOW, None).await.unwrap();
    let look = |store: &Store| store.read_now(|c| imports::preview(store, c, imports::run(c, id)?, NOW)).unwrap();
    imports::reshape(&store, id, rinse_core::table::Encoding::Windows1252, b';').await.unwrap();
    assert_eq!(look(&store).rows, [["p1@tern.example", "Jérôme,2,3"]]);
    imports::reshape(&store, id, rinse_core::table::Encoding::Utf8, b',').await.unwrap();
    assert_eq!(look(&store).columns, ["mail;a", "b", "c"]);
    assert!(look(&store).rows[0][0].contains('\u{fffd}'));
}

/// Scores come by address, value, day and source; the newest day shows, all are kept, nothing else moves.
#[tokio::test]
async fn scores_fill_only_their_field_and_keep_their_history() {
    let (_folder, store) = store();
    store
        .write(|c| {
            add(c, "p1@tern.example", Some("Wren"), &[Act::Agreed]);
            add(c, "p2@tern.example", None, &[Act::Withdrew]);
            Ok(())
        })
        .await
        .unwrap();
    let mapping =
        || vec![Some(Field::Address), Some(Field::Score { name: "Care".into() }), Some(Field::ScoreDate), Some(Field::ScoreSource)];
    let csv = "mail,score,day,by\np1@tern.example,7,2026-03-01,desk\np2@tern.example,4.5,2026-03-02,desk\np2@tern.example,4,2026-02-02,desk\np2@tern.example,9,2026-02-02,desk\nnobody@tern.example,1,2026-03-01,desk\np3@tern.example,x,2026-03-01,desk\n";
    let before = store.read_now(|c| Ok(everybody(c))).unwrap();
    let run = staged(&store, "s.csv", csv.as_bytes(), mapping(), Fixes::default(), false).await;
    // Two days of one person are two rows; the same day twice is refused.
    assert_eq!((run.new, run.changed, run.refused), (0, 3, 3));
    imports::apply(&store, run.id, NOW, None, |_| true).await.unwrap();
    let first = store.read_now(|c| Ok(everybody(c))).unwrap();
    let again = staged(&store, "s.csv", csv.as_bytes(), mapping(), Fixes::default(), false).await;
    assert_eq!((again.changed, again.unchanged), (0, 3));
    // An older day goes into the history and not over the newer value.
    let older = "mail,score,day,by\np1@tern.example,2,2025-01-01,desk\np2@tern.example,9,2026-04-01,desk\n";
    let late = staged(&store, "t.csv", older.as_bytes(), mapping(), Fixes::default(), false).await;
    imports::apply(&store, late.id, NOW, None, |_| true).await.unwrap();
    let shown = |store: &Store, who: &str| {
        let key = format!("{who}@tern.example");
        let p = store.read_now(|c| contacts::one(c, contacts::id_of(c, &key)?.unwrap(), NOW)).unwrap();
        (p.fields[0].value.clone(), p.fields[0].dated.clone().unwrap(), p.scores.len())
    };
    assert_eq!(shown(&store, "p1"), ("7".into(), "2026-03-01".into(), 2));
    assert_eq!(shown(&store, "p2"), ("9".into(), "2026-04-01".into(), 3));
    for (import, rows, want) in [(late.id, 2, &first), (run.id, 3, &before)] {
        let change = store.read_now(|c| runs::of_import(c, import, NOW)).unwrap().unwrap();
        let undone = undo(&store, change.id).await;
        assert_eq!((undone.undone, undone.kept), (rows, 0));
        assert_eq!(&store.read_now(|c| Ok(everybody(c))).unwrap(), want);
    }
    let dated = vec![Some(Field::Address), Some(Field::Score { name: "Care".into() }), None, None];
    let d = Decision {
        texts: false,
        mapping: dated,
        header: true,
        list: None,
        tag: None,
        consent: false,
        entity: String::new(),
        evidence: String::new(),
        fixes: Fixes::default(),
    };
    assert!(imports::decide(&store, again.id, d, NOW).await.unwrap_err().to_string().contains("without a date"));
}

/// The check finds each kind, its fixes do what their rows say, and every fix comes back.
#[tokio::test]
async fn findings_are_fixed_as_shown_and_taken_back() {
    let (_folder, store) = store();
    store
        .write(|c| {
            for i in 0..60 {
                add(c, &format!("p{i}@fulmar.example"), None, &[Act::Agreed]);
            }
            add(c, "p1@fulmar.exmaple", Some("Wren"), &[Act::Agreed]);
            add(c, "new@fulmar.exmaple", None, &[Act::Agreed]);
            add(c, "left@fulmar.exmaple", None, &[Act::Withdrew]);
            add(c, "p2+boats@fulmar.example", None, &[Act::Confirmed]);
            add(c, "office@quay.example", None, &[]);
            add(c, "x@throw-away.example", None, &[]);
            add(c, "y@washed-out.example", None, &[]);
            Ok(())
        })
        .await
        .unwrap();
    let look =
        |store: &Store| store.read_now(|c| base_check::rows(c, &base_check::rules(c, &|d| Some(d != "washed-out.example"))?)).unwrap();
    let counts = |store: &Store| look(store).iter().map(|(f, _)| f.people).collect::<Vec<_>>();
    let before = store.read_now(|c| Ok(everybody(c))).unwrap();
    assert_eq!(counts(&store), [0, 3, 1, 1, 1, 1]);
    let (found, rows) = look(&store).swap_remove(1);
    // Of the two who agreed, one is merged into somebody who agreed too: only the other loses consent.
    assert_eq!(found.losing_consent, 1);
    let mut made = Vec::new();
    for finding in [Finding::NearMiss, Finding::Duplicate, Finding::Role, Finding::Disposable, Finding::NoMailHost] {
        let rows = look(&store).into_iter().find(|(f, _)| f.finding == finding).unwrap().1;
        made.push(base_check::fix(&store, finding, rows, NOW, None).await.unwrap());
    }
    assert_eq!(counts(&store), [0; 6]);
    for row in rows {
        let (key, want) = (row.becomes.unwrap().to_lowercase(), row.after);
        let consent = store.read_now(|c| ledger::consent_of(c, contacts::id_of(c, &key)?.unwrap())).unwrap();
        assert_eq!(consent, want, "{key}");
    }
    assert_eq!(
        store
            .read_now(|c| Ok((contacts::present(c)?, ledger::consent_of(c, contacts::id_of(c, "left@fulmar.example")?.unwrap())?)))
            .unwrap(),
        (65, Consent::Withdrawn)
    );
    for run in made.into_iter().rev() {
        let undone = undo(&store, run).await;
        assert_eq!(undone.kept, 0, "{}", undone.words);
    }
    assert_eq!(store.read_now(|c| Ok(everybody(c))).unwrap(), before);
    store.write(|c| base_check::set_aside(c, Finding::NearMiss, "fulmar.exmaple", NOW, None)).await.unwrap();
    assert_eq!(counts(&store), [0, 0, 1, 1, 1, 1]);
    let refused = store.write(|c| base_check::save_disposable(c, &["not a domain".into()])).await.unwrap_err();
    assert!(refused.to_string().contains("is no domain"));
}

/// An import finds the same in its file, in an empty base too, and lands it fixed when asked to.
#[tokio::test]
async fn an_import_with_fixes_lands_fixed() {
    let (_folder, store) = store();
    let mut csv = String::from("E-mail,First name,Visits\n");
    (0..40).for_each(|i| csv.push_str(&format!("p{i}@fulmar.example,Wren,1\n")));
    csv.push_str("new@fulmar.exmaple,Bran,2\ninfo@quay.example,,\np3+boats@fulmar.example,,\ny@washed-out.example,,\n");
    let plain = staged(&store, "a.csv", csv.as_bytes(), people_mapping(), Fixes::default(), true).await;
    let rows: Vec<_> = plain.findings.rows.iter().map(|(k, n)| (k.as_str(), *n)).collect();
    assert_eq!(rows, [("duplicate", 1), ("near_miss", 1), ("no_mail_host", 1), ("role", 1)]);
    assert_eq!((plain.new, plain.refused), (44, 0));
    let noted = std::fs::read_to_string(imports::findings_path(&store, plain.id)).unwrap();
    assert!(noted.contains("42,near_miss,fulmar.example,"), "{noted}");
    let fixes = Fixes { domains: true, duplicates: true, tags: true };
    let fixed = staged(&store, "a.csv", csv.as_bytes(), people_mapping(), fixes, true).await;
    assert_eq!((fixed.new, fixed.refused), (43, 1));
    imports::apply(&store, fixed.id, NOW, None, |_| true).await.unwrap();
    let of = |key: &'static str| store.read_now(move |c| contacts::one(c, contacts::id_of(c, key)?.unwrap(), NOW)).unwrap();
    // Nobody agreed for the corrected address.
    assert_eq!(of("new@fulmar.example").row.consent, Consent::None);
    assert_eq!(of("p1@fulmar.example").row.consent, Consent::Consented);
    let tags: Vec<_> = of("info@quay.example").tags.into_iter().map(|t| t.name).collect();
    assert_eq!(tags, ["Guest", "Role account"]);
    let again = staged(&store, "a.csv", csv.as_bytes(), people_mapping(), fixes, true).await;
    assert_eq!((again.new, again.changed, again.unchanged), (0, 0, 43));
}
