//! A trial that reserves its people: nobody of its roster gets another marketing mailing until its window ends.

use crate::common::{START, hand_over, run};
use rinse_core::clearance::{Outcome, Reason};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::trial::assign::assign;
use rinse_core::trial::plan::Plan;
use rinse_core::{HOUR, Instant, MINUTE};
use rinse_store::clearing::person::{at_handover, explain, load};
use rinse_store::clearing::{self, Decided};
use rinse_store::sends::{self, Phase};
use rinse_store::{Connection, trials};
use rstest::rstest;

const WINDOW: i64 = 24;
/// Twelve of twenty take part.
const PILOT: std::ops::RangeInclusive<i64> = 1..=12;

/// A trial of mailing 1 under way; 2 is another marketing mailing, 3 a service mailing; 4 and 5 are steps of one series.
fn setup(c: &Connection, reserves: bool, tried: i64) {
    c.execute_batch(
        "INSERT INTO series (id, name, letterhead_id, made_at, state, outline) VALUES (1, 's', 1, 0, 'draft', '{}');
         INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at, class, series_id) VALUES
            (1, 'Boat days', 1, 0, 'sending', 1, 1, NULL), (2, 'Tide notes', 1, 0, 'draft', NULL, 1, NULL), (3, 'Your booking', 1, 0, 'draft', NULL, 2, NULL),
            (4, 'Welcome', 1, 0, 'sending', 1, 1, 1), (5, 'Second letter', 1, 0, 'sending', 1, 1, 1);",
    )
    .unwrap();
    let plan = Plan { pilot_share: 0.6, window_hours: WINDOW, reserves, per_arm: (tried == 4).then_some(100), ..Plan::usual("?") };
    let trial = trials::save_plan(c, MailingId(tried), &plan, START, None).unwrap();
    if tried == 4 {
        // People come to it one by one.
        c.execute("UPDATE trial SET state = 'collecting', sealed_at = ?1", [START.millis()]).unwrap();
        for contact in PILOT {
            c.execute("INSERT INTO roster (trial_id, contact_id, stratum, arm) VALUES (?1, ?2, 0, 0)", [trial.0, contact]).unwrap();
        }
        return;
    }
    let roster = assign(7, &PILOT.map(|i| (ContactId(i), 1).into()).collect::<Vec<_>>(), &[1, 1]);
    trials::seal(c, trial, 7, &roster, Vec::new(), START).unwrap();
    let cleared = |contact| Decided { contact, domain: 1, zone: 0, outcome: Outcome::Cleared };
    let done = clearing::audience(c, MailingId(tried), START).unwrap();
    sends::record(c, MailingId(tried), &done, START, roster.iter().map(|e| (cleared(e.contact), Phase::Pilot, e.arm))).unwrap();
}

/// Those whom a mailing meets at an instant and may not have, for the trial's sake.
fn reserved(c: &Connection, mailing: i64, at: Instant) -> Vec<i64> {
    let mut found = clearing::audience(c, MailingId(mailing), at).unwrap().people(Some(Reason::Reserved));
    found.sort_unstable();
    found.iter().map(|id| id.0).collect()
}

#[rstest]
#[case::other_marketing(1, 2, true)]
#[case::service_mail_goes(1, 3, false)]
#[case::its_own_rollout(1, 1, false)]
#[case::a_series_beside(1, 4, true)]
#[case::the_series_goes_on(4, 5, false)]
#[case::but_no_other_mailing(4, 2, true)]
fn whom_a_mailing_may_not_have(#[case] tried: i64, #[case] mailing: i64, #[case] kept: bool) {
    run(20, move |c| {
        setup(c, true, tried);
        let theirs: Vec<i64> = if kept { PILOT.collect() } else { Vec::new() };
        let later = START + HOUR;
        assert_eq!(reserved(c, mailing, later), theirs);
        // One by one, at the handover and when somebody asks why, it is the same.
        for contact in 1..=20 {
            let mut loaded = load(c, MailingId(mailing), later).unwrap();
            let outcome = at_handover(c, &mut loaded, ContactId(contact), SendId(0), later, later).unwrap();
            let barred = matches!(outcome, Outcome::Barred(r) if r.has(Reason::Reserved));
            assert_eq!(barred, theirs.contains(&contact), "person {contact}: {outcome:?}");
            let said = explain(c, MailingId(mailing), ContactId(contact), later, later).unwrap();
            let answer = said.answers.iter().find(|a| a.reason == Reason::Reserved).unwrap();
            assert_eq!(answer.says == "barred", theirs.contains(&contact), "{answer:?}");
        }
    });
}

/// From the seal until the window ends, which is known once the last of the pilot is out; only where the plan says so.
#[rstest]
fn it_ends_with_the_window() {
    run(20, |c| {
        setup(c, true, 1);
        let end = START + WINDOW * HOUR;
        assert_eq!(reserved(c, 2, end + HOUR).len(), 12, "still going out: nobody knows when it ends");
        hand_over(c, START, "250 2.0.0 ok");
        trials::set_reading_due(c).unwrap();
        assert_eq!((reserved(c, 2, end + -MINUTE).len(), reserved(c, 2, end).len()), (12, 0));
        let said = explain(c, MailingId(2), ContactId(1), START + HOUR, START + HOUR).unwrap();
        let saw = &said.answers.iter().find(|a| a.reason == Reason::Reserved).unwrap().saw;
        assert!(saw.contains("Boat days") && saw.contains(&end.words()), "{saw}");
    });
}

#[rstest]
fn a_plan_that_does_not_say_so_keeps_nobody() {
    run(20, |c| {
        setup(c, false, 1);
        assert_eq!(reserved(c, 2, START + HOUR), Vec::<i64>::new());
        // Earlier plans are sealed as they were written, without a word of it.
        let plan: String = c.query_row("SELECT plan FROM trial", [], |r| r.get(0)).unwrap();
        assert!(!plan.contains("reserves"), "{plan}");
    });
}
