//! A seeded base of a million people with twenty million messages and as many responses, written
//! straight into a file: made once, kept in target/bench-base.

use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::{LetterheadHours, RuleSet};
use rinse_core::holdout::Holdout;
use rinse_core::hours::Hours;
use rinse_core::id::LetterheadId;
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::{Store, rollups, rules};
use rusqlite::{Connection, params};
use std::path::{Path, PathBuf};

pub(crate) const PEOPLE: i64 = 1_000_000;
pub(crate) const MAILINGS: i64 = 20;
/// When the last mailing is two days old.
const NOW: i64 = 1_776_364_800_000;
/// When the base is asked about: nothing in it is later.
pub(crate) const ASKED: i64 = NOW + 6 * DAY;

/// Small, fast and the same everywhere (SplitMix64).
pub(crate) struct Dice(u64);

impl Dice {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    pub(crate) fn below(&mut self, n: u64) -> i64 {
        i64::try_from(self.next() % n).unwrap_or(0)
    }

    fn chance(&mut self, percent: u64) -> bool {
        self.next() % 100 < percent
    }
}

pub(crate) const GIVEN: [&str; 12] =
    ["Ailsa", "Bran", "Carys", "Davin", "Eilis", "Fenn", "Greta", "Hamish", "Iona", "Jory", "Kerra", "Lorne"];
pub(crate) const FAMILY: [&str; 12] =
    ["Ashdown", "Brook", "Carrow", "Drift", "Eddy", "Farrow", "Gannet", "Haven", "Inver", "Jetty", "Keel", "Ledge"];
pub(crate) const COUNTRIES: [&str; 6] = ["GB", "IE", "NO", "DE", "US", "NZ"];
pub(crate) const SOURCES: [&str; 5] = ["visitor desk", "web form", "members' evening", "lantern shop", "boat trip"];

const ZONES: [&str; 6] = ["Europe/London", "Europe/Dublin", "Europe/Oslo", "Europe/Berlin", "America/New_York", "Pacific/Auckland"];
/// The mailings to come: twenty over four weeks, to everybody, lists and segments.
pub(crate) const COMING: i64 = 20;

/// The folder with the base, made when there is none of this version.
pub(crate) fn folder() -> PathBuf {
    let folder = Path::new("target/bench-base").to_owned();
    let made = folder.join("made-3");
    if !made.exists() {
        let _ = std::fs::remove_dir_all(&folder);
        eprintln!("Making the base of {PEOPLE} people once; some minutes.");
        make(&folder);
        std::fs::write(made, "").expect("a mark");
    }
    let ruled = folder.join("ruled");
    if !ruled.exists() {
        rule(&folder);
        std::fs::write(ruled, "").expect("a mark");
    }
    let rolled = folder.join("rolled");
    if !rolled.exists() {
        let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
        c.execute_batch("PRAGMA synchronous = OFF; PRAGMA cache_size = -400000; PRAGMA temp_store = MEMORY; BEGIN").expect("pragmas");
        rollups::everything(&c).expect("the roll-ups");
        c.execute_batch("COMMIT; PRAGMA wal_checkpoint(TRUNCATE)").expect("commit");
        std::fs::write(rolled, "").expect("a mark");
    }
    folder
}

/// What twelve rules ask: topics left, suppression lists, breaks, three caps, hours, countries that confirm, a
/// holdout; and twenty mailings to come.
fn rule(folder: &Path) {
    drop(Store::open(folder, false).expect("a store"));
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = OFF; BEGIN").expect("begin");
    c.execute_batch(&format!(
        "INSERT INTO topic_left SELECT 1, id, 0 FROM contact WHERE id % 31 = 0;
         UPDATE contact SET consent = 4, under_pause = 2, paused_until = {} WHERE id % 211 = 0;
         INSERT INTO suppression_list (id, name, made_at, looked_at, scope, scope_id) VALUES (2, 'Shop', 0, 0, 'letterhead', 1), (3, 'Boats', 0, 0, 'topic', 1);
         INSERT INTO suppression_entry (list_id, kind, text, added_at) SELECT 1, 1, address_key, 0 FROM contact WHERE id % 97 = 0;
         INSERT INTO suppression_entry (list_id, kind, text, added_at) VALUES (2, 2, 'post7.example', 0), (3, 3, '*.post9.example', 0);",
        ASKED + 5 * DAY
    ))
    .expect("the rules' rows");
    let cap = |limit, window| Cap { limit, window, scope: Scope::Marketing, in_force: true };
    let set = RuleSet {
        caps: vec![cap(1, Window::CalendarDay), cap(2, Window::Days { n: 7 }), cap(5, Window::Days { n: 28 })],
        hours: vec![LetterheadHours { letterhead: LetterheadId(1), hours: Hours { from_minute: 480, until_minute: 1200 } }],
        confirm: vec!["DE".into()],
        holdout: Some(Holdout { share: 0.02 }),
        ..RuleSet::default()
    };
    rules::save(&c, Instant::of(0), None, &set, "").expect("the rules");
    for i in 0..COMING {
        c.execute(
            "INSERT INTO mailing (id, name, letterhead_id, topic_id, list_id, over_cap, made_at, state, planned_at) VALUES (?1, 'Coming', 1, ?2, ?3, ?4, 0, 'planned', ?5)",
            params![
                MAILINGS + 1 + i,
                (i % 3 != 2).then_some(1 + i % 2),
                [None, Some(1), Some(2), Some(3), Some(1)][(i % 5) as usize],
                if i % 4 == 3 { "skip" } else { "hold" },
                ASKED + i * 33 * HOUR + HOUR
            ],
        )
        .expect("a mailing");
    }
    c.execute_batch("COMMIT; PRAGMA wal_checkpoint(TRUNCATE)").expect("commit");
}

fn make(folder: &Path) {
    drop(Store::open(folder, false).expect("a store"));
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch(
        "PRAGMA synchronous = OFF; PRAGMA cache_size = -400000; PRAGMA temp_store = FILE; PRAGMA wal_autocheckpoint = 50000;
         DROP INDEX send_recent; DROP INDEX send_contact; DROP INDEX field_value_contact; DROP INDEX list_member_contact;
         DROP INDEX contact_family; DROP INDEX contact_given; DROP INDEX contact_domain;
         INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a','a','a','a','a'); INSERT INTO list (id, name, made_at) VALUES (1,'Tide notes readers',0), (2,'Boat days',0), (3,'Members',0);
         INSERT INTO tag (id, name, made_at) VALUES (1,'Guest',0), (2,'Patron',0); INSERT INTO topic (name) VALUES ('Tide notes'), ('Boat days');
         INSERT INTO field (id, name, kind, made_at) VALUES (1,'tier','choice',0), (2,'visits','number',0), (3,'since','date',0);",
    )
    .expect("the frame");
    let put = |sql: &str, values: &[&dyn rusqlite::ToSql]| {
        c.prepare_cached(sql).and_then(|mut s| s.execute(values)).expect("a row");
    };
    let mut d = Dice::new(20_260_416);
    c.execute_batch("BEGIN").expect("begin");
    for i in 1..=40_i64 {
        put(
            "INSERT INTO domain (id, name, delivered, fetched, opens_unknown) VALUES (?1, ?2, 100000, ?3, ?4)",
            params![i, format!("post{i}.example"), if i == 1 { 95_000 } else { 9_000 }, i == 1],
        );
    }
    for i in 1..=PEOPLE {
        let (g, f) = (GIVEN[d.below(12) as usize], FAMILY[d.below(12) as usize]);
        // A fifth at the open-blind domain, the rest spread.
        let domain = if d.chance(20) { 1 } else { 2 + d.below(39) };
        let address = format!("{}.{}{i}@post{domain}.example", g.to_lowercase(), f.to_lowercase());
        let consent = [2, 2, 2, 2, 2, 3, 3, 0, 5, 2][d.below(10) as usize];
        let status = if d.chance(97) { 0 } else { 1 + d.below(3) };
        put(
            "INSERT INTO contact (id, address, address_key, domain_id, given_name, family_name, country, zone, source, latitude, longitude, added_at, consent, consent_at, status)
             VALUES (?1,?2,?2,?3,?4,?5,?6,?13,?7,?8,?9,?10,?11,?10,?12)",
            params![i, address, domain, g, f, COUNTRIES[d.below(6) as usize], SOURCES[d.below(5) as usize], 50.0 + d.below(1000) as f64 / 100.0,
                -8.0 + d.below(1000) as f64 / 100.0, NOW - (PEOPLE - i) * 1500 * DAY / PEOPLE - d.below(DAY as u64), consent, status, ZONES[d.below(6) as usize]],
        );
        if d.chance(60) {
            let tier = ["friend", "keeper", "patron"][d.below(3) as usize];
            put("INSERT INTO field_value (field_id, contact_id, text, key) VALUES (1, ?1, ?2, ?2)", params![i, tier]);
        }
    }
    for (field, share) in [(2, 70), (3, 40)] {
        for i in 1..=PEOPLE {
            if !d.chance(share) {
                continue;
            }
            if field == 2 {
                put("INSERT INTO field_value (field_id, contact_id, number) VALUES (2, ?1, ?2)", params![i, d.below(30) as f64]);
            } else {
                put("INSERT INTO field_value (field_id, contact_id, day) VALUES (3, ?1, ?2)", params![i, 17_000 + d.below(3_500)]);
            }
        }
    }
    for (list, share) in [(1, 60), (2, 25), (3, 10)] {
        for i in (1..=PEOPLE).filter(|_| d.chance(share)) {
            put("INSERT INTO list_member VALUES (?1, ?2, 0)", params![list, i]);
        }
    }
    for (tag, share) in [(1, 15), (2, 2)] {
        for i in (1..=PEOPLE).filter(|_| d.chance(share)) {
            put("INSERT INTO contact_tag VALUES (?1, ?2, 0)", params![tag, i]);
        }
    }
    for k in 0..300_000_i64 {
        let (product, category) = [("Storm lantern", "light"), ("Chart print", "paper"), ("Boat day", "trip")][d.below(3) as usize];
        put(
            "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key, category, category_key) VALUES (?1,?2,?3,?4,'GBP',?5,lower(?5),?6,?6)",
            params![format!("k{k}"), 1 + d.below(PEOPLE as u64), NOW - d.below(700) * DAY, 500 + d.below(20_000), product, category],
        );
    }
    c.execute_batch("COMMIT").expect("commit");
    for m in 1..=MAILINGS {
        c.execute_batch("BEGIN").expect("begin");
        let sent = NOW - (MAILINGS - m) * 20 * DAY - 2 * DAY;
        put(
            "INSERT INTO mailing (id, name, letterhead_id, made_at, state) VALUES (?1, ?2, 1, 0, 'sent')",
            params![m, format!("Tide notes {m}")],
        );
        for i in 1..=PEOPLE {
            messages(&mut d, &put, m, i, sent);
        }
        c.execute_batch("COMMIT").expect("commit");
    }
    c.execute_batch(
        "CREATE INDEX send_recent ON send (at, contact_id, mailing_id, state, handed_at) WHERE class = 1; CREATE INDEX send_contact ON send (contact_id, id);
         CREATE INDEX field_value_contact ON field_value (contact_id, field_id);
         CREATE INDEX list_member_contact ON list_member (contact_id); CREATE INDEX contact_family ON contact (family_name COLLATE NOCASE, id);
         CREATE INDEX contact_given ON contact (given_name COLLATE NOCASE, id); CREATE INDEX contact_domain ON contact (domain_id, id);
         PRAGMA wal_checkpoint(TRUNCATE);",
    )
    .expect("the indexes");
}

/// One message and its responses: opens by people and machines, clicks, a few of the rest.
fn messages(d: &mut Dice, put: &impl Fn(&str, &[&dyn rusqlite::ToSql]), m: i64, i: i64, sent: i64) {
    let id = (m - 1) * PEOPLE + i;
    // Some people read nearly everything, some nothing.
    let keen = 5 + (i.wrapping_mul(2_654_435_761) % 90).unsigned_abs();
    let opened = d.chance(keen).then(|| sent + 60_000 + d.below(5 * DAY as u64));
    let machine = d.chance(30).then(|| sent + 3_000 + d.below(6_000));
    let clicked = opened.filter(|_| d.chance(22)).map(|at| at + d.below(600_000));
    let any_open = opened.into_iter().chain(machine).min();
    put(
        "INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, open_at, any_open_at, click_at, any_click_at)
         VALUES (?1,?2,?3,?2,3,?4,?4,?4,?4,?5,?6,?7,?7)",
        params![id, m, i, sent, opened, any_open, clicked],
    );
    let respond = |at: i64, kind: i64, machine: i64, link: Option<i64>| {
        put(
            "INSERT INTO response (at, send_id, kind, link, agent, machine, rules_version) VALUES (?1,?2,?3,?4,'Reader/5.1',?5,1)",
            params![at, id, kind, link, machine],
        );
    };
    if let Some(at) = machine {
        respond(at, 1, 1, None);
    }
    if let Some(at) = opened {
        respond(at, 1, 0, None);
        if d.chance(20) {
            respond((at + d.below(3 * DAY as u64)).min(NOW), 1, 0, None);
        }
    }
    if let Some(at) = clicked {
        respond(at, 2, 0, Some(d.below(3)));
    }
    for (kind, one_in) in [(3, 400), (4, 700), (5, 4_000)] {
        if d.below(one_in) == 0 {
            respond(sent + d.below(2 * DAY as u64), kind, 0, None);
        }
    }
}
