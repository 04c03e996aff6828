//! Figures on screen against a plain count of the raw rows, over random responses.

use crate::common::{rows, sums_hold};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::{Category, FailureClass, Reply};
use rinse_core::figure::{Fact, Figure};
use rinse_core::id::{ContactId, MailingId, SendId, TrialId};
use rinse_core::trial::assign::{Enrolled, assign};
use rinse_core::trial::plan::Plan;
use rinse_core::{HOUR, Instant, MINUTE};
use rinse_store::clearing::{self, Decided};
use rinse_store::contacts::{self, Profile};
use rinse_store::sends::{self, Phase};
use rinse_store::{Connection, Store, figures, findings, responses, trials};

const START: Instant = Instant::of(1_700_000_000_000);
const PEOPLE: i64 = 24;
const WINDOW: i64 = 24;

#[derive(Debug, Clone)]
struct Happening {
    send: i64,
    minutes: i64,
    kind: i64,
    agent: &'static str,
}

fn happening() -> impl Strategy<Value = Happening> {
    (1..=PEOPLE, 0i64..48 * 60, 1i64..6, prop_oneof![Just("Reader/5.1"), Just("GullPost-ImageProxy/2")])
        .prop_map(|(send, minutes, kind, agent)| Happening { send, minutes, kind, agent })
}

fn plan() -> Plan {
    Plan { pilot_share: 1.0, window_hours: WINDOW, leaving_margin: 0.01, complaint_margin: 0.01, ..Plan::usual("?") }
}

/// One mailing, one trial of everyone; every sixth message bounces.
fn setup(c: &Connection) -> Vec<Enrolled> {
    c.execute_batch(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
         INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at) VALUES (1, 'm', 1, 0, 'sending', 1);",
    )
    .unwrap();
    for i in 1..=PEOPLE {
        contacts::add(c, &Address::parse(&format!("p{i}@tern.example")).unwrap(), &Profile::default(), START).unwrap();
    }
    c.execute_batch("UPDATE contact SET consent = 2").unwrap();
    trials::save_plan(c, MailingId(1), &plan(), START, None).unwrap();
    let roster = assign(7, &(1..=PEOPLE).map(|i| (ContactId(i), 1).into()).collect::<Vec<_>>(), &[1, 1]);
    trials::seal(c, TrialId(1), 7, &roster, Vec::new(), START).unwrap();
    let cleared = |contact| Decided { contact, domain: 1, zone: 0, outcome: rinse_core::clearance::Outcome::Cleared };
    let done = clearing::audience(c, MailingId(1), START).unwrap();
    sends::record(c, MailingId(1), &done, START, roster.iter().map(|e| (cleared(e.contact), Phase::Pilot, e.arm))).unwrap();
    let (batch, _) = sends::claim(c, START, 1000).unwrap();
    for out in batch {
        let words = if out.send.0 % 6 == 0 { "550 5.7.1 blocked by policy" } else { "250 2.0.0 ok" };
        sends::answered(c, out.send, &Reply::parse(words), START).unwrap();
    }
    trials::set_reading_due(c).unwrap();
    roster
}

fn happen(c: &Connection, h: &Happening) {
    let at = START + h.minutes * MINUTE;
    match h.kind {
        1 => drop(crate::common::hit(c, h.send, None, at, h.agent, false).unwrap()),
        2 => drop(crate::common::hit(c, h.send, Some(0), at, h.agent, false).unwrap()),
        3 => drop(responses::reply(c, SendId(h.send), at, "Re", "yes").unwrap()),
        4 => drop(responses::unsubscribe(c, SendId(h.send), true, at, "one-click").unwrap()),
        _ => drop(responses::complaint(c, SendId(h.send), at).unwrap()),
    }
}

/// Distinct sends with a raw response of this kind, human only when asked, before `until`.
fn reference(c: &Connection, kind: i64, human: bool, until: i64, arm: Option<usize>) -> u64 {
    let arm = arm.map_or(-1, |a| a as i64);
    c.query_row(
        "SELECT count(DISTINCT r.send_id) FROM response r JOIN send s ON s.id = r.send_id
         WHERE r.kind = ?1 AND (NOT ?2 OR r.machine = 0) AND r.at < ?3 AND (?4 < 0 OR s.arm = ?4)",
        rusqlite::params![kind, human, until, arm],
        |r| r.get::<_, i64>(0),
    )
    .unwrap()
    .unsigned_abs()
}

/// Every figure is what its facts say of each message, opens to so many rows, and is part of what it is of.
fn told_right(c: &Connection) -> rinse_store::Result<()> {
    sums_hold(c);
    let told = &findings::mailings(c, 0, START.millis())?[0];
    for figure in Figure::ALL {
        let n = figures::rows(c, MailingId(1), figure.key())?.len() as u64;
        assert_eq!(n, plainly(c, figure), "{figure:?} opens to its rows");
        if let Some(rate) = told.figures.get(&figure) {
            assert_eq!((rate.count, rate.of), (n, plainly(c, figure.of().unwrap())), "{figure:?}");
        }
        // What is reported and no person's is taken out for one reason each.
        if let Some(reported) = figure.definition().reported {
            let out: u64 = figure.definition().taken_out.iter().map(|f| plainly(c, *f)).sum();
            assert_eq!(n + out, plainly(c, reported), "{figure:?}");
        }
    }
    Ok(())
}

/// Counted one message after the other, by the words of the catalogue.
fn plainly(c: &Connection, figure: Figure) -> u64 {
    let sql = "SELECT handed_at, accepted_at, failed_at, category, opens_unknown, open_at, click_at, reply_at, left_at, topic_left_at, series_left_at, paused_at,
        withdrew_at, complained_at, any_open_at, any_click_at, open_rule, click_rule FROM send";
    let mut s = c.prepare(sql).unwrap();
    let messages = s.query_map([], |r| (0..18).map(|i| r.get::<_, Option<i64>>(i)).collect::<rusqlite::Result<Vec<_>>>()).unwrap();
    let holds = |m: &[Option<i64>], fact: Fact| {
        let class = |class| m[3].is_some_and(|code| Category::from_code(code).class() == class);
        match fact {
            Fact::HandedOver => m[0].is_some(),
            Fact::Accepted => m[1].is_some(),
            Fact::Failed => m[2].is_some(),
            Fact::Permanent => class(FailureClass::Permanent),
            Fact::Temporary => class(FailureClass::Temporary),
            Fact::Block => class(FailureClass::Block),
            Fact::OpensUnknown => m[4] == Some(1),
            Fact::HumanOpen => m[5].is_some(),
            Fact::HumanClick => m[6].is_some(),
            Fact::Reply => m[7].is_some(),
            Fact::Left => m[8].is_some(),
            Fact::LeftTopic => m[9].is_some(),
            Fact::LeftSeries => m[10].is_some(),
            Fact::Paused => m[11].is_some(),
            Fact::Withdrew => m[12].is_some(),
            Fact::Complained => m[13].is_some(),
            Fact::ReportedOpen => m[14].is_some(),
            Fact::ReportedClick => m[15].is_some(),
            Fact::OpenTooSoon => m[16] == Some(1),
            Fact::OpenByAgent => m[16] == Some(2),
            Fact::OpenByDomain => m[16] == Some(3),
            Fact::OpenByHead => m[16] == Some(5),
            Fact::OpenByNetwork => m[16] == Some(6),
            Fact::ClickTooSoon => m[17] == Some(1),
            Fact::ClickByAgent => m[17] == Some(2),
            Fact::ManyClicks => m[17] == Some(4),
            Fact::ClickByHead => m[17] == Some(5),
            Fact::ClickByNetwork => m[17] == Some(6),
        }
    };
    messages.map(Result::unwrap).filter(|m| figure.counts(|fact| holds(m, fact))).count() as u64
}

proptest! {
    #![proptest_config(crate::common::histories(40))]

    #[test]
    fn figures_equal_a_plain_count(what in prop::collection::vec(happening(), 0..120)) {
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(folder.path(), false).unwrap();
            store.write(move |c| {
                setup(c);
                what.iter().for_each(|h| happen(c, h));
                let trial = trials::one(c, TrialId(1))?;
                assert_eq!(trial.reading_due, Some((START + WINDOW * HOUR).millis()));
                let end = (START + WINDOW * HOUR).millis();
                let counts = trials::counts(c, &trial)?;
                for (arm, n) in counts.iter().enumerate() {
                    assert_eq!((n.assigned, n.handed_over), (12, 12));
                    assert_eq!(n.accepted + n.bounced, 12);
                    assert_eq!(n.primary, reference(c, 1, true, end, Some(arm)), "human opens of arm {arm}");
                    assert_eq!(n.reported, reference(c, 1, false, end, Some(arm)), "reported opens of arm {arm}");
                    assert_eq!(n.clicked, reference(c, 2, true, end, Some(arm)));
                    assert_eq!(n.complained, reference(c, 5, true, end, Some(arm)));
                }
                told_right(c)?;
                // Retries on another day, another class: the sums follow, the mailing's stay.
                let before = findings::mailings(c, 0, START.millis())?[0].figures.clone();
                c.execute("UPDATE send SET at = at + 86400000 * (id % 3), class = 1 + id % 2", [])?;
                sums_hold(c);
                assert_eq!(findings::mailings(c, 0, START.millis())?[0].figures, before);
                // People whose opens turn out not to be known are in no rate of opens, and nowhere else missing.
                c.execute("UPDATE send SET opens_unknown = 1 WHERE id % 4 = 0", [])?;
                told_right(c)?;
                let after = &findings::mailings(c, 0, START.millis())?[0].figures;
                assert_eq!(after[&Figure::OpensKnown].count, rows::<i64>(c, "SELECT count(*) FROM send WHERE failed_at IS NULL AND id % 4 > 0")[0].unsigned_abs());
                assert_eq!(after[&Figure::HumanClicks], before[&Figure::HumanClicks]);
                // Reported as failed afterwards: delivered no more, whatever they did before.
                c.execute("UPDATE send SET failed_at = 9, category = 1 WHERE id % 5 = 0", [])?;
                told_right(c)?;
                figures::count_again(c)?;
                told_right(c)?;
                Ok(())
            }).await.unwrap();
        });
    }
}

/// Columns of a message that say what came of it, or where it is counted, each with the values that it may have.
const SAID: [(&str, &[Option<i64>]); 20] = [
    ("accepted_at", &[None, Some(5)]),
    ("failed_at", &[None, Some(5)]),
    ("category", &[None, Some(1), Some(4), Some(9)]),
    ("opens_unknown", &[Some(0), Some(1)]),
    ("any_open_at", &[None, Some(HOUR), Some(90 * HOUR)]),
    ("open_at", &[None, Some(HOUR), Some(90 * HOUR)]),
    ("open_rule", &[None, Some(1), Some(3)]),
    ("any_click_at", &[None, Some(HOUR)]),
    ("click_at", &[None, Some(HOUR), Some(3 * HOUR)]),
    ("click_rule", &[None, Some(1), Some(6)]),
    ("reply_at", &[None, Some(2 * HOUR)]),
    ("left_at", &[None, Some(5)]),
    ("topic_left_at", &[None, Some(5)]),
    ("complained_at", &[None, Some(5)]),
    ("at", &[Some(0), Some(40 * HOUR)]),
    ("class", &[Some(1), Some(2)]),
    ("arm", &[Some(0), Some(1)]),
    ("load", &[None, Some(2)]),
    ("place_id", &[Some(1), Some(2)]),
    ("tries", &[Some(0), Some(1)]),
];

proptest! {
    #![proptest_config(crate::common::histories(60))]

    /// A change is counted part by part: whatever changes in one statement, in whatever order, the sums are what counting says.
    #[test]
    fn sums_are_counts_whatever_changes_together(
        changes in prop::collection::vec((1..=4i64, prop::collection::vec((0..SAID.len(), 0..4usize), 1..9)), 1..40),
    ) {
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(folder.path(), false).unwrap();
            store.write(move |c| {
                c.execute_batch(
                    "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
                     INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at) VALUES (1, 'm', 1, 0, 'sending', 1);
                     INSERT INTO place (id, domain_id, country, source) VALUES (1, 0, '', ''), (2, 0, 'NO', '');",
                )?;
                for i in 1..=4 {
                    contacts::add(c, &Address::parse(&format!("p{i}@tern.example")).unwrap(), &Profile::default(), START)?;
                    c.execute("INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at) VALUES (?1, 1, ?1, 1, 1, 0, 0)", [i])?;
                }
                for (send, said) in changes {
                    let said: std::collections::BTreeMap<&str, Option<i64>> =
                        said.into_iter().map(|(column, value)| (SAID[column].0, SAID[column].1[value % SAID[column].1.len()])).collect();
                    let value = |v: Option<i64>| v.map_or_else(|| "NULL".to_owned(), |v| v.to_string());
                    let mut set: Vec<String> = said.iter().map(|(column, v)| format!("{column} = {}", value(*v))).collect();
                    // Handed over with the first of it, in the same statement.
                    let first = rows::<i64>(c, &format!("SELECT handed_at IS NULL FROM send WHERE id = {send}"))[0] == 1;
                    if first {
                        set.push(format!("handed_at = {}, local_hour = 2", send * HOUR));
                        if !said.contains_key("place_id") {
                            set.push("place_id = 1".to_owned());
                        }
                    }
                    c.execute(&format!("UPDATE send SET {} WHERE id = {send}", set.join(", ")), [])?;
                    sums_hold(c);
                }
                Ok(())
            }).await.unwrap();
        });
    }
}
