//! Trials in a series, over random histories: people come and come again, are held, put off, refused and withdraw, shares change
//! and arms come and go. Whatever happens, who is enrolled is what the seed and the stretches make of it, and counts once.

use crate::common::{START, hand_over, rows, run};
use proptest::prelude::*;
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::RuleSet;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, LetterheadId, SeriesId, TrialId};
use rinse_core::series::{Again, Does, Outline, Step};
use rinse_core::standing::TrialState;
use rinse_core::trial::looks::looks_on_entry;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::stretches::{added_up, full};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::ledger::{self, Origin};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::series::{self, entering, walk};
use rinse_store::trials::{self, enrol};
use rinse_store::{Connection, rules};

const PEOPLE: i64 = 160;
const PER_ARM: u64 = 30;

#[derive(Debug, Clone)]
enum Happens {
    /// So many people from one on enter, who may have been in it before.
    Come(i64, i64),
    Shares([u32; 3]),
    /// What the host answers from now on.
    Host(&'static str),
    Withdraw(i64),
    /// A cap of one message in so many days is in force, or none.
    Cap(Option<u32>),
    Hours(i64),
    /// Everybody who was given this arm leaves by the message.
    Leave(u8),
    End,
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        6 => (1i64..=PEOPLE, 1i64..60).prop_map(|(from, n)| Happens::Come(from, n)),
        2 => prop_oneof![Just([1, 1, 0]), Just([1, 0, 1]), Just([2, 1, 3]), Just([1, 5, 0])].prop_map(Happens::Shares),
        2 => prop_oneof![Just("250 ok"), Just("451 later"), Just("550 5.1.1 no such user")].prop_map(Happens::Host),
        2 => (1i64..=PEOPLE).prop_map(Happens::Withdraw),
        1 => prop::option::of(1u32..4).prop_map(Happens::Cap),
        4 => (1i64..60).prop_map(Happens::Hours),
        1 => (0u8..3).prop_map(Happens::Leave),
        1 => Just(Happens::End),
    ]
}

/// A running series of one message in three variants, whose trial is sealed.
fn sealed(c: &Connection) -> i64 {
    let draft = MailingDraft { subjects: vec!["a".into(), "b".into(), "c".into()], ..MailingDraft::under(LetterheadId(1), "Welcome") };
    let mailing = mailings::save(c, None, &draft, START, None).unwrap();
    let plan = Plan {
        per_arm: Some(PER_ARM),
        shares: vec![1, 1, 0],
        control: Some(0),
        harm_looks: 2,
        leaving_margin: 0.0,
        window_hours: 24,
        ..Plan::usual("Which greeting is opened more?")
    };
    assert!(trials::save_plan(c, mailing, &plan, START, None).unwrap_err().to_string().contains("has an audience"));
    let steps = vec![Step { id: 1, does: Does::Mail { mailing } }];
    let id = series::save(c, None, "Welcome", LetterheadId(1), &Outline { again: Again::Always, steps, ..Outline::default() }, START, None)
        .unwrap();
    let audience = trials::save_plan(c, mailing, &Plan { per_arm: None, shares: Vec::new(), ..plan.clone() }, START, None);
    assert!(audience.unwrap_err().to_string().contains("one by one"));
    let trial = trials::save_plan(c, mailing, &plan, START, None).unwrap();
    series::start(c, id, START, None).unwrap();
    trials::seal(c, trial, 77, &[], looks_on_entry(&plan).unwrap(), START).unwrap();
    trial.0
}

/// All that is due by an instant, each at its own.
fn go(c: &Connection, from: Instant, to: Instant, host: &str) {
    let mut t = from;
    loop {
        while walk::step(c, t).unwrap() > 0 || hand_over(c, t, host) > 0 {}
        trials::hold_looks(c, t).unwrap();
        let waits: Vec<i64> = rows(c, "SELECT at FROM send WHERE state IN (0, 1, 4)");
        match waits.into_iter().filter(|at| *at > t.millis() && *at <= to.millis()).min() {
            Some(at) => t = Instant::of(at),
            None => return,
        }
    }
}

fn n(c: &Connection, sql: &str) -> i64 {
    rows(c, sql)[0]
}

fn holds(c: &Connection, id: i64) {
    let t = trials::one(c, TrialId(id)).unwrap();
    let beside = trials::beside(c, &t, &trials::counts(c, &t).unwrap()).unwrap();
    assert!(beside.assignment_holds && beside.broken.is_none(), "{beside:?}");
    // Who is enrolled was handed the message, once as part of the trial, and has that arm whenever they come.
    assert_eq!(n(c, "SELECT count(*) FROM send WHERE phase = 1"), n(c, "SELECT count(*) FROM roster"));
    // Once it is given up everybody gets what was sealed for no call.
    let over = if t.state == TrialState::Ended { t.enrolled_at.unwrap() } else { i64::MAX };
    assert_eq!(
        n(c, &format!("SELECT count(*) FROM send s JOIN roster r USING (contact_id) WHERE s.handed_at <= {over} AND s.arm <> r.arm")),
        0
    );
    assert_eq!(n(c, &format!("SELECT count(*) FROM send WHERE handed_at > {over} AND arm <> 0")), 0);
    assert_eq!(
        n(
            c,
            "SELECT count(*) FROM roster r WHERE NOT EXISTS (SELECT 1 FROM send s WHERE s.contact_id = r.contact_id AND s.phase = 1 AND s.handed_at IS NOT NULL)"
        ),
        0
    );
    assert_eq!(
        n(
            c,
            "SELECT count(*) FROM send s LEFT JOIN roster r USING (contact_id) WHERE s.handed_at IS NOT NULL AND r.arm IS NULL AND s.arm <> 0"
        ),
        0
    );
    // Each in the stretch of their handover, and in an arm that was open then.
    let outside = "SELECT count(*) FROM roster r JOIN send s ON s.contact_id = r.contact_id AND s.phase = 1 JOIN trial_stretch t ON t.place = r.stratum
        WHERE s.handed_at < t.began_at OR s.handed_at > coalesce((SELECT began_at FROM trial_stretch n WHERE n.place = t.place + 1), 9e15)
            OR json_extract(t.parts, '$[' || r.arm || ']') = 0";
    assert_eq!(n(c, outside), 0);
    // Nobody more once it is full or ended, and it is full exactly then.
    let stretches = enrol::stretches(c, &t).unwrap();
    let (people, last) = (enrol::enrolled(&stretches), stretches.last().unwrap());
    for (place, s) in stretches.iter().enumerate() {
        let counted = |arm: usize| n(c, &format!("SELECT count(*) FROM roster WHERE stratum = {place} AND arm = {arm}"));
        assert_eq!(s.people, [counted(0), counted(1), counted(2)].map(i64::unsigned_abs));
    }
    match t.enrolled_at {
        None => assert!(!full(PER_ARM, &last.parts, &people)),
        Some(at) => {
            assert_eq!(n(c, &format!("SELECT count(*) FROM send WHERE phase = 1 AND handed_at > {at}")), 0);
            assert!(full(PER_ARM, &last.parts, &people) || !t.enrolment_words.is_empty());
            assert!(t.state != TrialState::Ended || t.enrolment_words.starts_with("Given up"));
        }
    }
    // A look closes what does harm, but for what the others are compared with and what goes out on no call.
    for s in &t.stopped {
        assert!(s.arm == 0 || last.parts[s.arm] == 0 || t.enrolled_at.is_some(), "{s:?}");
    }
    // What was counted stretch by stretch is what was counted.
    let all = trials::counts(c, &t).unwrap();
    assert_eq!(all, added_up(&beside.stretches));
    assert_eq!(all.iter().map(|c| c.assigned).collect::<Vec<_>>(), people);
}

/// A message that was put off before the plan was sealed, or before the call, goes out as what it was.
#[test]
fn what_is_tried_again_stays_what_it_was() {
    run(40, |c| {
        let trial = sealed(c);
        entering::put_in(c, SeriesId(1), &[ContactId(1), ContactId(2), ContactId(3), ContactId(4), ContactId(5)], START, None).unwrap();
        while walk::step(c, START).unwrap() > 0 || hand_over(c, START, "451 later") > 0 {}
        let arms: Vec<i64> = rows(c, "SELECT arm FROM send ORDER BY id");
        enrol::change(c, TrialId(trial), &[1, 0, 1], "Another greeting is ready", START + 60_000, None).unwrap();
        // As if they had been put off before the seal: in no trial, all with A.
        c.execute("UPDATE send SET phase = 0, arm = 0 WHERE contact_id <= 2", []).unwrap();
        c.execute("DELETE FROM roster WHERE contact_id <= 2", []).unwrap();
        go(c, START + 60_000, START + 2 * DAY, "250 ok");
        let kept: Vec<i64> = rows(c, "SELECT arm FROM send ORDER BY id");
        assert_eq!(kept, [&[0, 0][..], &arms[2..]].concat());
        assert_eq!(n(c, "SELECT count(*) FROM roster WHERE contact_id <= 2"), 0);
    });
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn whatever_happens_who_is_enrolled_can_be_computed_again(history in prop::collection::vec(happens(), 4..18)) {
        run(usize::try_from(PEOPLE).unwrap(), move |c| {
            let trial = sealed(c);
            let (mut t, mut host) = (START, "250 ok");
            for h in history {
                let until = if let Happens::Hours(h) = h { t + h * HOUR } else { t + HOUR };
                match h {
                    Happens::Come(from, n) => {
                        let people: Vec<ContactId> = (from..=(from + n).min(PEOPLE)).map(ContactId).collect();
                        entering::put_in(c, SeriesId(1), &people, t, None).unwrap();
                    }
                    // Refused once nobody is enrolled any more, or when it is what there is.
                    Happens::Shares(parts) => drop(enrol::change(c, TrialId(trial), &parts, "Another greeting is ready", t, None)),
                    Happens::End => drop(enrol::end(c, TrialId(trial), "The season is over", t, None)),
                    Happens::Host(reply) => host = reply,
                    Happens::Withdraw(who) => {
                        ledger::act(c, ContactId(who), t, Act::Withdrew, &Origin { source: "test", ..Origin::default() }).unwrap();
                    }
                    Happens::Cap(days) => {
                        let caps = days.map(|n| Cap { limit: 1, window: Window::Days { n }, scope: Scope::Marketing, in_force: true });
                        rules::save(c, t, None, &RuleSet { caps: caps.into_iter().collect(), ..RuleSet::default() }, "members said so").unwrap();
                    }
                    Happens::Leave(arm) => {
                        let leave = "UPDATE send SET left_at = handed_at + 1 WHERE phase = 1 AND arm = ?1 AND left_at IS NULL";
                        c.execute(leave, [arm]).unwrap();
                    }
                    Happens::Hours(_) => {}
                }
                go(c, t, until, host);
                t = until;
                holds(c, trial);
            }
            // In the end everybody's window ends, and it is read where arms can be compared.
            go(c, t, t + 40 * DAY, "250 ok");
            holds(c, trial);
        });
    }
}
