//! Groups of messages against a plain recount of the sends, over random histories and filters: every figure of every grouping, parts that add up
//! to the whole, filters in any order.

use crate::common::{START, hand_over, hit, rows, run, sums_hold};
use proptest::prelude::*;
use rinse_core::bounce::Category;
use rinse_core::clearance::OverCap;
use rinse_core::figure::Figure;
use rinse_core::findings::{By, Clock};
use rinse_core::id::{LetterheadId, SendId};
use rinse_core::{HOUR, Instant, MINUTE};
use rinse_store::findings::answers;
use rinse_store::findings::groups::{self, Filter};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::{Connection, figures, responses, sends};

const PEOPLE: usize = 45;

/// Two domains of enough people to be told, one of too few; three countries, two zones and nobody's; two sources.
fn people(c: &Connection) {
    c.execute_batch(
        "INSERT INTO domain (id, name) VALUES (50, 'gull.example'), (51, 'small.example');
         UPDATE contact SET domain_id = 50 WHERE id % 2 = 0;
         UPDATE contact SET domain_id = 51 WHERE id % 15 = 0;
         UPDATE contact SET country = CASE id % 3 WHEN 0 THEN 'NO' WHEN 1 THEN 'GB' END, source = iif(id % 5 < 3, 'boat trip', 'web form'),
            zone = CASE id % 4 WHEN 0 THEN 'Europe/Oslo' WHEN 1 THEN 'America/St_Johns' END;
         INSERT INTO mail_load (contact_id, cell, per_28_days, delivered, responses, blind) SELECT id, id % 7, 1, 1, 0, 0 FROM contact WHERE id % 4 < 3;
         INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent, zone)
            VALUES (2, 'Lantern shop', 'b', 'b@skerry-light.example', 'b', '', '', '', 'Europe/London');",
    )
    .unwrap();
}

#[derive(Debug, Clone)]
struct Mailed {
    letterhead: i64,
    topic: Option<i64>,
    label: Option<u8>,
    hours: i64,
}

#[derive(Debug, Clone)]
enum Then {
    Open { send: i64, after: i64 },
    Click { send: i64, after: i64, link: u32 },
    Reply { send: i64, after: i64 },
    Leaves { send: i64 },
    Complains { send: i64 },
    Fails { send: i64 },
}

fn mailed() -> impl Strategy<Value = Vec<Mailed>> {
    let one = (1i64..3, prop::option::of(1i64..3), prop::option::of(0u8..2), 0i64..1_500);
    prop::collection::vec(one.prop_map(|(letterhead, topic, label, hours)| Mailed { letterhead, topic, label, hours }), 1..4)
}

fn then() -> impl Strategy<Value = Then> {
    let send = 1i64..=(PEOPLE as i64 * 3);
    let after = prop_oneof![0i64..60, 60i64..20_000];
    prop_oneof![
        6 => (send.clone(), after.clone()).prop_map(|(send, after)| Then::Open { send, after }),
        4 => (send.clone(), after.clone(), 0u32..3).prop_map(|(send, after, link)| Then::Click { send, after, link }),
        1 => (send.clone(), after).prop_map(|(send, after)| Then::Reply { send, after }),
        1 => send.clone().prop_map(|send| Then::Leaves { send }),
        1 => send.clone().prop_map(|send| Then::Complains { send }),
        2 => send.prop_map(|send| Then::Fails { send }),
    ]
}

fn happen(c: &Connection, mailed: &[Mailed], then: &[Then]) {
    people(c);
    for m in mailed {
        let draft = MailingDraft {
            topic_id: m.topic,
            over_cap: OverCap::Hold,
            subjects: vec!["s".into()],
            ..MailingDraft::under(LetterheadId(m.letterhead), "m")
        };
        let id = mailings::save(c, None, &draft, START, None).unwrap();
        if let Some(label) = m.label {
            c.execute("INSERT OR IGNORE INTO label (id, name, made_at) VALUES (?1, 'label ' || ?1, 0)", [label + 1]).unwrap();
            c.execute("INSERT INTO mailing_label VALUES (?1, ?2)", [i64::from(label) + 1, id.0]).unwrap();
        }
        let at = START + m.hours * HOUR;
        crate::common::start(c, id.0, at);
        hand_over(c, at, "250 2.0.0 ok");
    }
    let handed = |send: i64| rows::<Option<i64>>(c, &format!("SELECT handed_at FROM send WHERE id = {send}")).pop().flatten();
    for t in then {
        let (send, after) = match t {
            Then::Open { send, after } | Then::Click { send, after, .. } | Then::Reply { send, after } => (*send, *after),
            Then::Leaves { send } | Then::Complains { send } | Then::Fails { send } => (*send, 90),
        };
        // Late, early, twice: whatever comes for a message that went.
        let Some(at) = handed(send).map(|h| Instant::of(h) + after * MINUTE) else { continue };
        match t {
            Then::Open { .. } => drop(hit(c, send, None, at, "Reader/5.1", false).unwrap()),
            Then::Click { link, .. } => drop(hit(c, send, Some(*link), at, "Reader/5.1", false).unwrap()),
            Then::Reply { .. } => drop(responses::reply(c, SendId(send), at, "Re", "yes").unwrap()),
            Then::Leaves { .. } => drop(responses::unsubscribe(c, SendId(send), true, at, "one-click").unwrap()),
            Then::Complains { .. } => drop(responses::complaint(c, SendId(send), at).unwrap()),
            Then::Fails { .. } => sends::failed(c, SendId(send), Category::MailboxFull, "452 4.2.2 full", at).unwrap(),
        }
    }
}

/// What puts a send in its group, written again over its recipient as they are: nothing here changes them.
fn plainly(by: By, clock: Clock) -> String {
    // The hour by a clock, from the zones' offsets of the days in question (no clock changes within them).
    let t = match clock {
        Clock::Utc => "s.handed_at / 3600000",
        Clock::Recipients => "local_hour(coalesce(k.zone, l.zone), s.handed_at)",
    };
    match by {
        By::Mailing => "m.id".into(),
        By::Weekday => format!("(strftime('%w', {t} * 3600, 'unixepoch') + 6) % 7"),
        By::Month => format!("strftime('%Y-%m', {t} * 3600, 'unixepoch')"),
        By::Hour => format!("CAST(strftime('%H', {t} * 3600, 'unixepoch') AS INTEGER)"),
        By::Topic => "coalesce(m.topic_id, 0)".into(),
        By::Letterhead => "m.letterhead_id".into(),
        By::Label => "coalesce((SELECT label_id FROM mailing_label WHERE mailing_id = m.id), 0)".into(),
        By::Domain => "iif(k.domain_id = 51, 0, k.domain_id)".into(),
        By::Country => "coalesce(k.country, '')".into(),
        By::Source => "k.source".into(),
        By::Load => "coalesce((SELECT cell FROM mail_load WHERE contact_id = k.id), -1)".into(),
        By::Step => "(m.id * 0)".into(),
        _ => unreachable!(),
    }
}

const ASKED: [By; 12] = [
    By::Mailing,
    By::Weekday,
    By::Month,
    By::Hour,
    By::Topic,
    By::Letterhead,
    By::Label,
    By::Step,
    By::Load,
    By::Domain,
    By::Country,
    By::Source,
];

fn recount(c: &Connection, (by, across): (By, By), clock: Clock, filter: &str, figure: Figure) -> Vec<String> {
    let (a, b) = (plainly(by, clock), plainly(across, clock));
    rows(
        c,
        &format!(
            "SELECT ({a}) || '/' || ({b}) || '/' || sum({counted}) FROM send s JOIN contact k ON k.id = s.contact_id JOIN mailing m ON m.id = s.mailing_id
             JOIN letterhead l ON l.id = m.letterhead_id WHERE s.handed_at IS NOT NULL AND {filter} GROUP BY {a}, {b} HAVING sum({counted}) > 0 ORDER BY 1",
            counted = figures::counted(figure, "s")
        ),
    )
}

fn told(c: &Connection, (by, across): (By, By), clock: Clock, filter: &Filter, figure: Figure) -> Vec<String> {
    let pieces = groups::pieces(c, by, Some(across), clock, filter).unwrap();
    let mut sums = std::collections::BTreeMap::<String, u64>::new();
    for p in pieces {
        *sums.entry(format!("{}/{}", p.key, p.across)).or_default() += p.sums.of(figure);
    }
    let mut out: Vec<String> = sums.into_iter().filter(|s| s.1 > 0).map(|(key, n)| format!("{key}/{n}")).collect();
    out.sort();
    out
}

proptest! {
    #![proptest_config(crate::common::histories(25))]

    #[test]
    fn every_grouping_is_a_plain_recount(
        mailed in mailed(),
        then in prop::collection::vec(then(), 0..120),
        by in prop::sample::select(&ASKED[..]),
        across in prop::sample::select(&ASKED[..]),
        utc: bool,
        narrowed in prop::sample::subsequence(vec![0usize, 1, 2, 3], 0..=3),
    ) {
        run(PEOPLE, move |c| {
            happen(c, &mailed, &then);
            sums_hold(c);
            let clock = if utc { Clock::Utc } else { Clock::Recipients };
            let mut filter = Filter::default();
            let mut sql = vec!["1".to_owned()];
            for n in &narrowed {
                match n {
                    0 => (filter.letterhead, _) = (Some(LetterheadId(1)), sql.push("m.letterhead_id = 1".into())),
                    1 => (filter.domain, _) = (Some(50), sql.push("k.domain_id = 50".into())),
                    2 => (filter.country, _) = (Some("GB".into()), sql.push("k.country = 'GB'".into())),
                    _ => {
                        let from = (START + 700 * HOUR).millis();
                        (filter.from, _) = (Some(from), sql.push(format!("s.handed_at / 3600000 >= {from} / 3600000")));
                    }
                }
            }
            let sql = sql.join(" AND ");
            let places = filter.domain.is_some() || filter.country.is_some() || by.of_place() || across.of_place();
            if places && [by, across].contains(&By::Load) {
                assert!(groups::pieces(c, by, Some(across), clock, &filter).is_err());
                return;
            }
            for figure in Figure::ALL {
                assert_eq!(told(c, (by, across), clock, &filter, figure), recount(c, (by, across), clock, &sql, figure), "{figure:?} by {by:?} and {across:?}");
            }
            // Parts add up: of one grouping, of both crossed, of none.
            let all = |pieces: Vec<groups::Piece>| pieces.iter().map(|p| p.sums.of(Figure::Sent)).sum::<u64>();
            let whole = all(groups::pieces(c, By::Class, None, clock, &filter).unwrap());
            assert_eq!(all(groups::pieces(c, by, None, clock, &filter).unwrap()), whole);
            assert_eq!(all(groups::pieces(c, by, Some(across), clock, &filter).unwrap()), whole);
            // When people answer: each first answer once.
            let answers = answers::told(c, clock, &Filter::default()).unwrap();
            let counted = |sql: &str| rows::<i64>(c, &format!("SELECT count(*) FROM send WHERE {sql}"))[0];
            assert_eq!(answers.clicks.all, counted("click_at IS NOT NULL"));
            assert_eq!(answers.opens.all, counted("open_at IS NOT NULL AND opens_unknown = 0"));
            let hour: Vec<i64> = rows(c, "SELECT (strftime('%w', reply_at / 1000, 'unixepoch') + 6) % 7 * 24 + strftime('%H', reply_at / 1000, 'unixepoch') FROM send WHERE reply_at IS NOT NULL");
            if utc {
                for h in hour {
                    assert!(answers.replies.hours[usize::try_from(h).unwrap()] > 0);
                }
            }
        });
    }
}
