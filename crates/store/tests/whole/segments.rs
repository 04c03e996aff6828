//! The compiler of segments against the reference evaluator: random trees over random people, no
//! difference allowed.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::consent::Consent;
use rinse_core::goal::{Goal, What};
use rinse_core::id::{ContactId, ListId, MailingId, SegmentId, SeriesId};
use rinse_core::segment::person::Value;
use rinse_core::segment::{Bought, Compare, DateTest, Did, Field, FieldKind, SeriesPart, TextTest, Times, Tree, holds};
use rinse_core::upkeep::MailStatus;
use rinse_core::upkeep::silence::Stage;
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::segments::sql::How;
use rinse_store::segments::{self, person};
use rinse_store::{Connection, Store, StoreError, fields, goals, scores, uses};
use rusqlite::params;
use std::sync::OnceLock;

const NOW: Instant = Instant::of(20_000 * DAY + 5_000);
const PEOPLE: i64 = 40;
const MAILINGS: i64 = 8;
const WORDS: [&str; 5] = ["Ødegård", "ødegård ", "Wren", "w", ""];
const DOMAINS: [&str; 4] = ["tern.example", "mail.tern.example", "bittern.example", "gull.example"];

/// A number that depends on nothing but what it is asked for.
fn dice(what: &str, i: i64, sides: i64) -> i64 {
    (rinse_core::segment::share::draw(what, ContactId(i)) * sides as f64) as i64
}

/// A base in which every value is sometimes missing and every instant sometimes lies on an edge.
fn base() -> &'static (tempfile::TempDir, Store) {
    static BASE: OnceLock<(tempfile::TempDir, Store)> = OnceLock::new();
    BASE.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), false).unwrap();
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(store.write(|c| {
            fill(c).unwrap();
            Ok(())
        }))
        .unwrap();
        (folder, store)
    })
}

fn fill(c: &Connection) -> Result<(), StoreError> {
    c.execute_batch(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
         INSERT INTO list (name, made_at) VALUES ('one', 0), ('two', 0);
         INSERT INTO tag (name, made_at) VALUES ('red', 0), ('green', 0);
         INSERT INTO topic (name) VALUES ('tides'), ('boats');
         INSERT INTO segment (name, kind, tree, made_at, changed_at) VALUES ('written', 'outside', '{\"kind\":\"any\",\"of\":[]}', 0, 0);",
    )?;
    for (name, kind) in
        [("tier", FieldKind::Choice), ("visits", FieldKind::Number), ("since", FieldKind::Date), ("member", FieldKind::YesNo)]
    {
        fields::named(c, name, kind, Instant::of(0))?;
    }
    for (name, what) in [
        ("A lantern", What::Purchase { product: Some("Storm LANTERN".into()), category: None }),
        ("A talk", What::Event { name: "came to a talk".into(), cents: 0 }),
    ] {
        goals::save(c, None, name, &Goal { what, currency: String::new() }, Instant::of(0), None)?;
    }
    scores::save(c, None, "Interest", Some(2.0), Instant::of(0), None)?;
    scores::save(c, None, "Visits", None, Instant::of(0), None)?;
    for m in 1..=MAILINGS {
        c.execute("INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (?1, 'm' || ?1, 1, 0)", [m])?;
    }
    let outline = serde_json::to_string(&rinse_core::series::Outline::default())?;
    for series in 1..=2 {
        let sql = "INSERT INTO series (id, name, letterhead_id, outline, made_at) VALUES (?1, 's' || ?1, 1, ?2, 0)";
        c.execute(sql, params![series, outline])?;
    }
    c.execute("UPDATE mailing SET series_id = 1 + id % 2 WHERE id > 1", [])?;
    // Whole and half days around now: edges of windows are hit exactly.
    let ago = |what: &str, i: i64| NOW.millis() - dice(what, i, 12) * DAY / 2 - dice(what, -i, 3) + 1;
    for i in 1..=PEOPLE {
        let domain = DOMAINS[dice("domain", i, 4) as usize];
        let word = |what: &str| Some(WORDS[dice(what, i, 5) as usize].to_owned()).filter(|_| dice(what, -i, 3) > 0);
        let profile = Profile {
            given_name: word("given"),
            family_name: word("family"),
            country: word("country"),
            source: word("source"),
            ..Profile::default()
        };
        let id = contacts::add(c, &Address::parse(&format!("p{i}@{domain}")).unwrap(), &profile, Instant::of(ago("added", i)))?;
        let placed = dice("place", i, 3) > 0;
        c.execute(
            "UPDATE contact SET consent = ?2, status = ?3, latitude = ?4, longitude = ?5, region = ?6 WHERE id = ?1",
            params![
                id.0,
                dice("consent", i, 7),
                dice("status", i, 4),
                placed.then(|| 50.0 + dice("lat", i, 20) as f64),
                placed.then(|| dice("lon", i, 20) as f64),
                word("region")
            ],
        )?;
        for (n, table) in [(2, "list_member"), (2, "contact_tag"), (2, "topic_left"), (1, "segment_member")] {
            for set in (1..=n).filter(|set| dice(table, i * 10 + set, 2) > 0) {
                let at = if table == "segment_member" { "" } else { ", 0" };
                c.execute(&format!("INSERT INTO {table} VALUES (?1, ?2{at})"), [set, id.0])?;
            }
        }
        let dated = Some(20_000 - dice("dated", i, 8)).filter(|_| dice("dated", -i, 3) > 0);
        let values = [
            Value::Text(WORDS[dice("tier", i, 4) as usize].to_owned()),
            Value::Number(dice("visits", i, 6) as f64 / 2.0),
            Value::Date(20_000 + dice("since", i, 9) - 4),
            Value::YesNo(dice("member", i, 2) > 0),
        ];
        for (field, value) in (1..).zip(&values).filter(|(f, _)| dice("held", i * 10 + f, 3) > 0) {
            fields::set(c, id, field, value, dated, None)?;
        }
        if dice("load", -i, 4) > 0 {
            c.execute("INSERT INTO mail_load VALUES (?1, ?2, 1, 0.5, 1, 1, 0)", [id.0, dice("load", i, 4)])?;
        }
        if dice("silent", i, 3) > 0 {
            c.execute("INSERT INTO silent VALUES (?1, ?2, 0, 0, NULL)", [id.0, dice("stage", i, 4)])?;
        }
        for e in 0..dice("in series", i, 4) {
            let (k, series) = (i * 10 + e, 1 + dice("series", i * 10 + e, 2));
            let ended = Some(NOW.millis()).filter(|_| e > 0 || dice("ended", k, 2) > 0);
            let sql =
                "INSERT INTO series_entry (series_id, contact_id, at, cause, step, came_at, ended_at) VALUES (?1, ?2, 0, '', 1, 0, ?3)";
            c.execute(sql, params![series, id.0, ended])?;
        }
        for e in 0..dice("scored", i, 3) {
            let (k, score) = (i * 10 + e, 1 + dice("score", i * 10 + e, 2));
            let points = dice("points", k, 5) as f64 - 1.0;
            scores::add(c, score, id, Instant::of(ago("scored at", k).min(NOW.millis())), points, &scores::From::default())?;
        }
        for b in 0..dice("bought", i, 4) {
            let k = i * 10 + b;
            let cents = [1_050, 2_000, -2_000][dice("cents", k, 3) as usize];
            let product = ["Storm lantern", "Chart print"][dice("product", k, 2) as usize];
            c.execute(
                "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key, category, category_key) VALUES (?1,?2,?3,?4,'GBP',?5,lower(?5),'Light','light')",
                params![k.to_string(), id.0, ago("bought at", k), cents, product],
            )?;
        }
        for e in 0..dice("events", i, 5) {
            let (k, name) = (i * 10 + e, ["Came to a talk", "Stayed"][dice("event", i * 10 + e, 2) as usize]);
            c.execute(
                "INSERT INTO event (key, contact_id, at, name, name_key) VALUES (?1, ?2, ?3, ?4, lower(?4))",
                params![k.to_string(), id.0, ago("event at", k), name],
            )?;
        }
        for m in (1..=MAILINGS).filter(|m| dice("sent", i * 10 + m, 4) > 0) {
            let k = i * 10 + m;
            let accepted = Some(ago("accepted", k)).filter(|_| dice("accepted", -k, 5) > 0);
            c.execute(
                "INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, accepted_at) VALUES (?1,?2,?3,?2,3,0,0,?4)",
                params![k, m, id.0, accepted],
            )?;
            for r in 0..dice("answers", k, 4) {
                let (k, kind) = (k * 10 + r, 1 + dice("kind", k * 10 + r, 5));
                let link = (kind == 2).then(|| dice("link", k, 2));
                c.execute(
                    "INSERT INTO response (at, send_id, kind, link, machine, rules_version) VALUES (?1,?2,?3,?4,?5,1)",
                    params![ago("answered", k), k / 10, kind, link, if dice("machine", k, 2) > 0 && kind < 3 { 2 } else { 0 }],
                )?;
            }
        }
    }
    // What the doors keep up as responses come in.
    for (column, kind, human) in [("open_at", 1, true), ("any_open_at", 1, false), ("click_at", 2, true), ("any_click_at", 2, false)] {
        let human = if human { "AND machine = 0" } else { "" };
        c.execute_batch(&format!(
            "UPDATE send SET {column} = (SELECT min(at) FROM response r WHERE r.send_id = send.id AND r.kind = {kind} {human})"
        ))?;
    }
    c.execute_batch("UPDATE domain SET delivered = 100, fetched = CASE name WHEN 'gull.example' THEN 95 ELSE 80 END, opens_unknown = (name = 'gull.example')")?;
    Ok(())
}

fn window() -> impl Strategy<Value = Option<u32>> {
    prop::option::of(0u32..7)
}

fn times() -> impl Strategy<Value = Times> {
    prop_oneof![(0u32..4).prop_map(Times::AtLeast), (0u32..4).prop_map(Times::AtMost), (4u32..9).prop_map(Times::AtLeast)]
}

fn compare() -> impl Strategy<Value = Compare> {
    prop::sample::select(vec![Compare::Over, Compare::AtLeast, Compare::Equal, Compare::AtMost, Compare::Under])
}

fn field() -> impl Strategy<Value = Field> {
    prop::sample::select(vec![
        Field::GivenName,
        Field::FamilyName,
        Field::Country,
        Field::Region,
        Field::Source,
        Field::TimeZone,
        Field::Own(1),
    ])
}

fn leaf() -> impl Strategy<Value = Tree> {
    let text = prop::sample::select(vec![TextTest::Is, TextTest::IsNot, TextTest::Begins, TextTest::Contains]);
    let value = prop::sample::select(vec!["ØDEGÅRD", "wren", "w", "ø", "n"]);
    let date = prop_oneof![
        (19_995i64..20_006).prop_map(DateTest::Before),
        (19_995i64..20_006).prop_map(DateTest::From),
        (0u32..6).prop_map(DateTest::LastDays),
        (0u32..6).prop_map(DateTest::NextDays)
    ];
    let did = prop::sample::select(vec![Did::Opened, Did::Clicked, Did::Replied, Did::Left, Did::Complained]);
    let of = prop_oneof![2 => Just((None, None)), 2 => (1..=MAILINGS).prop_map(|m| (Some(m), None)), 1 => (1i64..3).prop_map(|s| (None, Some(s)))];
    let responded = (did, any::<bool>(), times(), window(), of, prop::option::of(0u32..3)).prop_map(
        |(did, human, times, within_days, (mailing, series), link)| {
            let link = link.filter(|_| did == Did::Clicked && mailing.is_some());
            Tree::Did { did, human, times, within_days, mailing: mailing.map(MailingId), link, series: series.map(SeriesId) }
        },
    );
    let parts = prop::sample::select(vec![SeriesPart::Inside, SeriesPart::Before, SeriesPart::Ever]);
    let missing = prop_oneof![field(), Just(Field::Position), (1i64..5).prop_map(Field::Own)];
    let bought =
        (any::<bool>(), compare(), 0i32..5, prop::option::of(any::<bool>()), window()).prop_map(|(count, is, n, which, within_days)| {
            Tree::Bought {
                what: if count { Bought::Count } else { Bought::Value },
                is,
                value: f64::from(n) * if count { 1.0 } else { 10.5 },
                product: which.filter(|w| *w).map(|_| "storm LANTERN".into()),
                category: which.filter(|w| !*w).map(|_| "Light".into()),
                within_days,
            }
        });
    prop_oneof![
        3 => (field(), text, value).prop_map(|(field, is, value)| Tree::Text { field, is, value: value.into() }),
        2 => (compare(), 0i32..6).prop_map(|(is, n)| Tree::Number { field: 2, is, value: f64::from(n) / 2.0 }),
        1 => date.prop_map(|is| Tree::Date { field: 3, is }),
        1 => any::<bool>().prop_map(|yes| Tree::YesNo { field: 4, yes }),
        2 => missing.prop_map(|field| Tree::Missing { field }),
        1 => (1i64..5, 0u32..9).prop_map(|(field, within_days)| Tree::Dated { field, within_days }),
        1 => (1i64..3).prop_map(|list| Tree::List { list: ListId(list) }),
        1 => (1i64..3).prop_map(|tag| Tree::Tag { tag }),
        1 => (1i64..3).prop_map(|topic| Tree::Topic { topic }),
        1 => Just(Tree::Segment { segment: SegmentId(1) }),
        1 => prop::sample::subsequence(Consent::ALL.to_vec(), 1..4).prop_map(|states| Tree::Consent { states }),
        1 => prop::sample::subsequence(MailStatus::ALL.to_vec(), 1..3).prop_map(|states| Tree::Status { states }),
        1 => (prop::sample::select(DOMAINS.to_vec()), any::<bool>()).prop_map(|(d, subdomains)| Tree::Domain { domain: d.to_uppercase(), subdomains }),
        1 => (50.0f64..70.0, 0.0f64..20.0, 0.0f64..1500.0).prop_map(|(latitude, longitude, km)| Tree::Near { latitude, longitude, km, place: String::new(), miles: false }),
        6 => responded,
        2 => (1i64..3, parts).prop_map(|(series, part)| Tree::Series { series: SeriesId(series), part }),
        2 => (times(), window()).prop_map(|(times, within_days)| Tree::Received { times, within_days }),
        2 => bought,
        1 => (prop::sample::select(vec!["came to a TALK", "stayed"]), times(), window()).prop_map(|(name, times, within_days)| Tree::Event { name: name.into(), times, within_days }),
        1 => prop::sample::subsequence((0u8..4).collect::<Vec<_>>(), 1..3).prop_map(|cells| Tree::Load { cells }),
        1 => prop::sample::subsequence(Stage::ALL.to_vec(), 1..3).prop_map(|stages| Tree::Silent { stages }),
        1 => (1i64..3, times(), window()).prop_map(|(goal, times, within_days)| Tree::Converted { goal, times, within_days }),
        1 => (1i64..3, compare(), -2i32..6).prop_map(|(score, is, n)| Tree::Score { score, is, value: f64::from(n) / 2.0 }),
        1 => (0u32..8).prop_map(|within_days| Tree::Added { within_days }),
        1 => (0.0f64..100.0).prop_map(|percent| Tree::Share { percent, salt: "tide".into() }),
    ]
}

fn tree() -> impl Strategy<Value = Tree> {
    leaf().prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(|of| Tree::All { of }),
            prop::collection::vec(inner.clone(), 0..4).prop_map(|of| Tree::Any { of }),
            inner.prop_map(|t| Tree::Not { of: Box::new(t) }),
        ]
    })
}

/// The base with its responses rolled up: of nobody, of everybody, of half of them (the other half due
/// by the mark and by name). A reader keeps its state while the base behind it goes on.
fn in_state(rolled: u8) -> &'static Store {
    static STATES: OnceLock<Vec<(tempfile::TempDir, std::sync::Mutex<Connection>, Store)>> = OnceLock::new();
    let all = STATES.get_or_init(|| {
        (0..4)
            .map(|state| {
                let folder = tempfile::tempdir().unwrap();
                let whole = Connection::open(base().0.path().join("rinse.db")).unwrap();
                whole.execute("VACUUM INTO ?1", [folder.path().join("rinse.db").to_str().unwrap()]).unwrap();
                let c = Connection::open(folder.path().join("rinse.db")).unwrap();
                if state == 1 || state == 2 {
                    // Roll-ups are asked only when nothing in them is later than the instant asked about.
                    let late = "UPDATE response SET at = ?1 WHERE at > ?1; UPDATE send SET accepted_at = ?1 WHERE accepted_at > ?1;
                        UPDATE send SET open_at = min(open_at, ?1), any_open_at = min(any_open_at, ?1), click_at = min(click_at, ?1), any_click_at = min(any_click_at, ?1)";
                    c.execute_batch(&late.replace("?1", &NOW.millis().to_string())).unwrap();
                }
                rinse_store::rollups::everything(&c).unwrap();
                match state {
                    0 => c.execute_batch("DELETE FROM answered; INSERT INTO rollup_due SELECT id FROM contact").unwrap(),
                    2 => c
                        .execute_batch(
                            "INSERT INTO rollup_due SELECT DISTINCT contact_id FROM send WHERE contact_id % 3 = 0;
                             UPDATE rollup SET upto = (SELECT avg(id) FROM response);
                             UPDATE answered SET t1 = t1 + 100 * 86400000, n = 99 WHERE contact_id % 3 = 0",
                        )
                        .unwrap(),
                    _ => {}
                }
                // Somebody else is writing, so the store's own writer rolls nothing up.
                c.execute_batch("PRAGMA journal_mode = WAL; BEGIN IMMEDIATE").unwrap();
                let store = Store::open(folder.path(), false).unwrap();
                (folder, std::sync::Mutex::new(c), store)
            })
            .collect()
    });
    &all[usize::from(rolled)].2
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_500))]

    /// SQL answers yes, no and unknown exactly where the evaluator does.
    #[test]
    fn sql_and_the_evaluator_agree(tree in tree(), rolled in 0u8..4, exact: bool) {
        static PERSONS: [OnceLock<Vec<rinse_core::segment::Person>>; 4] = [const { OnceLock::new() }; 4];
        let store = in_state(rolled);
        let persons =
            PERSONS[usize::from(rolled)].get_or_init(|| store.read_now(|c| (1..=PEOPLE).map(|id| person::load(c, ContactId(id))).collect()).unwrap());
        let sql = segments::sql::compile(&tree, NOW, How { rolled: rolled < 3, none_due: rolled == 1, exact, bits: false, range: None });
        let answers: Vec<Option<bool>> = store
            .read_now(|c| {
                let mut s = c.prepare(&format!("SELECT {} FROM contact c ORDER BY c.id", sql.text))?;
                Ok(s.query_map(rusqlite::params_from_iter(&sql.values), |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
            })
            .unwrap();
        if !exact && rolled != 3 {
            // Counted in parts, each with sets of its own people: the parts add up.
            let (mut sums, part) = ([0, 0], PEOPLE / 3);
            for from in [1, part + 1, 2 * part + 1] {
                let to = if from > 2 * part { PEOPLE } else { from + part - 1 };
                let how = How { rolled: true, none_due: rolled == 1, exact, bits: false, range: Some((from, to)) };
                let sql = segments::sql::compile(&tree, NOW, how);
                let text = format!("SELECT count(*) FROM contact c WHERE c.id BETWEEN {from} AND {to} AND {}", sql.text);
                sums[0] += store.read_now(|c| Ok(c.prepare(&text)?.query_row(rusqlite::params_from_iter(&sql.values), |r| r.get::<_, i64>(0))?)).unwrap();
                let sql = segments::sql::compile(&tree, NOW, How { bits: true, ..how });
                sums[1] += store.read_now(|c| segments::sets::count(c, &sql, from, to)).unwrap();
            }
            let whole = answers.iter().filter(|a| **a == Some(true)).count() as i64;
            prop_assert_eq!(sums, [whole; 2], "{:?}", tree);
        }
        for (p, answer) in persons.iter().zip(answers) {
            let want = holds(&tree, p, NOW);
            // Picking people out, only yes counts; under a not and when it is asked for, unknown is told from no.
            let agree = if exact { answer == want } else { (answer == Some(true)) == (want == Some(true)) };
            prop_assert!(agree, "person {} is {:?}, not {:?}: {:?}\n{}", p.id, answer, want, tree, sql.text);
        }
    }
}

/// The made-up base is worth the comparison only when every kind of condition has all its answers.
#[test]
fn the_base_has_all_answers() {
    let (_, store) = base();
    let share = |tree: &Tree| {
        let people: Vec<_> =
            store.read_now(|c| (1..=PEOPLE).map(|id| person::load(c, ContactId(id))).collect::<Result<Vec<_>, _>>()).unwrap();
        people.iter().filter(|p| holds(tree, p, NOW) == Some(true)).count()
    };
    let did =
        |did, human| Tree::Did { did, human, times: Times::AtLeast(1), within_days: Some(3), mailing: None, link: None, series: None };
    for tree in [
        Tree::Text { field: Field::GivenName, is: TextTest::Is, value: "ødegård".into() },
        Tree::Number { field: 2, is: Compare::Over, value: 1.0 },
        did(Did::Opened, true),
        did(Did::Clicked, false),
        did(Did::Left, true),
        Tree::Bought { what: Bought::Value, is: Compare::Under, value: 0.0, product: None, category: None, within_days: None },
        Tree::Missing { field: Field::Position },
    ] {
        let n = share(&tree);
        assert!(n > 0 && n < PEOPLE as usize, "{n} for {tree:?}");
    }
}

fn saved(c: &Connection, name: &str, tree: Tree) -> Result<SegmentId, StoreError> {
    segments::save(c, None, &segments::Draft { name: name.into(), tree }, NOW, None)
}

/// Runs in a write that is thrown away, so that the shared base stays as it is.
fn thrown_away(f: impl Fn(&Connection) + Send + 'static) {
    let (folder, _) = base();
    let c = Connection::open(folder.path().join("rinse.db")).unwrap();
    c.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    c.execute_batch("PRAGMA foreign_keys = ON; BEGIN IMMEDIATE").unwrap();
    f(&c);
    c.execute_batch("ROLLBACK").unwrap();
}

#[test]
fn what_is_used_stays_and_says_by_whom() {
    thrown_away(|c| {
        let tier = Tree::Text { field: Field::Own(1), is: TextTest::Is, value: "wren".into() };
        let inner = saved(c, "Wrens", tier.clone()).unwrap();
        let outer = saved(c, "Not wrens", Tree::Not { of: Box::new(Tree::Segment { segment: inner }) }).unwrap();
        let refused = |r: Result<(), StoreError>| r.unwrap_err().to_string();
        assert!(refused(uses::delete_segment(c, inner)).contains("segment Not wrens"));
        assert!(refused(uses::delete_field(c, 1)).contains("segment Wrens"));
        let circle = segments::Draft { name: "Wrens".into(), tree: Tree::Segment { segment: outer } };
        assert!(segments::save(c, Some(inner), &circle, NOW, None).unwrap_err().to_string().contains("circle: Wrens → Not wrens → Wrens"));
        assert!(saved(c, "wrens", tier).unwrap_err().to_string().contains("already"));
        assert!(saved(c, "x", Tree::YesNo { field: 1, yes: true }).unwrap_err().to_string().contains("another kind"));
        assert!(saved(c, "x", Tree::Tag { tag: 99 }).unwrap_err().to_string().contains("no tag"));
        uses::delete_segment(c, outer).unwrap();
        uses::delete_segment(c, inner).unwrap();
        uses::delete_field(c, 1).unwrap();
        assert_eq!(c.query_row("SELECT count(*) FROM field_value WHERE field_id = 1", [], |r| r.get::<_, i64>(0)).unwrap(), 0);
    });
}

#[test]
fn frozen_copies_stay_and_outside_ones_are_replaced_whole() {
    thrown_away(|c| {
        let one = saved(c, "Readers", Tree::List { list: ListId(1) }).unwrap();
        let before = segments::people(c, &Tree::Segment { segment: one }, NOW).unwrap();
        let frozen = segments::begin_frozen(c, one, "Readers then", NOW, None).unwrap();
        segments::add_frozen(c, frozen, &before).unwrap();
        assert!(segments::one(c, frozen).is_err(), "not seen before it is whole");
        segments::end_frozen(c, frozen).unwrap();
        c.execute("DELETE FROM list_member WHERE list_id = 1", []).unwrap();
        assert!(segments::people(c, &Tree::Segment { segment: one }, NOW).unwrap().is_empty());
        assert_eq!(segments::people(c, &Tree::Segment { segment: frozen }, NOW).unwrap(), before);
        let id = segments::replace_outside(c, "Board", &[ContactId(1), ContactId(2), ContactId(3)], NOW, None).unwrap();
        assert_eq!(segments::replace_outside(c, "board", &[ContactId(3), ContactId(4)], NOW, None).unwrap(), id);
        assert_eq!(segments::people(c, &Tree::Segment { segment: id }, NOW).unwrap(), [ContactId(3), ContactId(4)]);
        assert!(segments::replace_outside(c, "Readers", &[ContactId(1)], NOW, None).is_err(), "a live one is not overwritten");
    });
}

/// The parts of a split add up to the whole, for every field, missing included; an overlap table is
/// symmetric and holds each set's own number.
#[test]
fn parts_add_up() {
    let (_, store) = base();
    store
        .read_now(|c| {
            let whole = Tree::Any { of: vec![Tree::List { list: ListId(1) }, Tree::Tag { tag: 1 }] };
            let people = segments::people(c, &whole, NOW)?.len() as i64;
            for field in [Field::Country, Field::Source, Field::Position, Field::Own(1), Field::Own(2), Field::Own(3), Field::Own(4)] {
                let parts = segments::split(c, &whole, field, NOW)?;
                assert_eq!(parts.iter().map(|p| p.people).sum::<i64>(), people, "{field:?}");
                assert!(parts.iter().any(|p| p.value.is_none()), "missing is a part of {field:?}");
            }
            let sets = [Tree::List { list: ListId(1) }, Tree::Tag { tag: 1 }, whole];
            let o = segments::overlap(c, &sets, NOW)?;
            for (i, set) in sets.iter().enumerate() {
                assert_eq!(o.people[i][i] as usize, segments::people(c, set, NOW)?.len());
                assert!((0..3).all(|j| o.people[i][j] == o.people[j][i] && o.people[i][j] <= o.people[i][i]));
            }
            assert_eq!(o.people[0][2], o.people[0][0], "a part of a union lies in it whole");
            Ok(())
        })
        .unwrap();
}
