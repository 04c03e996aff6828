//! Incidents wait for a person; cleaning runs do what they said, and undo it; what is stored is what the fold gives.

use crate::common::{START, how_many, mail, rows, run, stored_is_folded};
use proptest::prelude::*;
use rinse_core::id::ContactId;
use rinse_core::upkeep::policy::Retires;
use rinse_core::upkeep::run::{MemberState, RunState};
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::Connection;
use rinse_store::upkeep::{applying, effects, incidents, made_of, policy, runs, status};
use rusqlite::params;

const GONE: &str = "550 5.1.1 no such user";
const DISABLED: &str = "550 5.2.1 mailbox disabled";
const FINE: &str = "250 2.0.0 ok";

fn settle(c: &Connection, now: Instant) {
    while status::settle_due(c, now).unwrap() {}
}

/// Once a day what has turned old enough is worked out again.
fn daily(c: &Connection, now: Instant) {
    status::end_rests(c, now).unwrap();
    let seen = policy::see(c, &policy::current(c).unwrap().policy, now, |_, _| Ok(())).unwrap();
    policy::note_history(c, &seen, now).unwrap();
    settle(c, now);
}

/// A policy put in force by a run that is applied at once.
fn in_force(c: &Connection, policy: &Policy, now: Instant) -> i64 {
    let id = runs::begin(c, Some(policy), "for the test", now, None).unwrap();
    let seen = policy::see(c, policy, now, |_, _| Ok(())).unwrap();
    for part in runs::in_parts(&seen.changed) {
        runs::put_changed(c, id, &part).unwrap();
    }
    let effect = effects::effect(c, id, now).unwrap();
    runs::proposed(c, id, &effect).unwrap();
    applying::begin_apply(c, id, now, None).unwrap();
    finish(c, id, now);
    id
}

fn finish(c: &Connection, id: i64, now: Instant) {
    while applying::go_on(c, id, now).unwrap() {}
    settle(c, now);
}

fn propose_due(c: &Connection, now: Instant) -> i64 {
    let id = runs::begin(c, None, "", now, None).unwrap();
    let mut after = Some(0);
    while let Some(from) = after {
        after = runs::put_due(c, id, from, now).unwrap();
    }
    let effect = effects::effect(c, id, now).unwrap();
    runs::proposed(c, id, &effect).unwrap();
    id
}

#[test]
fn the_first_version_is_as_rinse_comes() {
    run(0, |c| assert_eq!(policy::current(c).unwrap().policy, Policy::default()));
}

#[test]
fn a_host_that_fails_retires_nobody_until_a_person_says_so() {
    run(120, |c| {
        mail(c, 0, |_| FINE);
        mail(c, 10, |who| if who <= 40 { GONE } else { FINE });
        assert_eq!(incidents::waiting(c).unwrap().len(), 1);
        // Those before the limit was passed were judged by themselves, and are judged again.
        assert_eq!(how_many(c, MailStatus::Active), 120);
        let found = incidents::all(c).unwrap().remove(0);
        assert_eq!((found.failures, found.messages, found.counts), (40, 120, None));
        assert_eq!((found.norm_failures, found.norm_messages, found.lines.len()), (0, 120, 1));
        let now = START + 11 * DAY;
        incidents::decide(c, found.id, Some(true), "they closed", now, None).unwrap();
        settle(c, now);
        assert_eq!(how_many(c, MailStatus::Resting), 40, "delivered to before: they rest");
        stored_is_folded(c, now);
        incidents::decide(c, found.id, Some(false), "a relay was broken", now + HOUR, None).unwrap();
        settle(c, now + HOUR);
        assert_eq!((how_many(c, MailStatus::Active), incidents::waiting(c).unwrap().len()), (120, 0));
        incidents::decide(c, found.id, None, "", now + 2 * HOUR, None).unwrap();
        assert_eq!(incidents::waiting(c).unwrap().len(), 1, "a decision can be taken back");
        // What didn't count is no norm either: the next bad day waits as well.
        incidents::decide(c, found.id, Some(false), "", now + 2 * HOUR, None).unwrap();
        mail(c, 20, |who| if who > 90 { DISABLED } else { FINE });
        assert_eq!(incidents::waiting(c).unwrap().len(), 1);
        assert!(incidents::decide(c, 99, Some(true), "", now, None).is_err());
    });
}

#[test]
fn usual_failures_are_no_incident() {
    run(120, |c| {
        mail(c, 0, |who| if who <= 8 { GONE } else { FINE });
        mail(c, 10, |who| if who <= 33 { GONE } else { FINE });
        // 25 of 112, and 10 times 8 of 120 is more.
        assert_eq!(incidents::waiting(c).unwrap().len(), 0);
        assert_eq!(how_many(c, MailStatus::Retired), 8);
        assert_eq!(how_many(c, MailStatus::Resting), 25);
    });
}

#[test]
fn a_run_retires_whom_a_person_has_read_and_can_be_undone_by_halves() {
    run(30, |c| {
        let now = START;
        in_force(c, &Policy { retires: Retires::InRuns { since: START }, ..Policy::default() }, now);
        mail(c, 1, |who| if who <= 6 { GONE } else { FINE });
        for day in [3, 12] {
            mail(c, day, |who| if (10..14).contains(&who) { DISABLED } else { FINE });
        }
        assert_eq!((how_many(c, MailStatus::Retired), made_of::due(c).unwrap()), (0, 10));
        mail(c, 14, |_| FINE);
        assert_eq!(
            rows::<i64>(c, "SELECT count(*) FROM send WHERE contact_id = 1 AND handed_at IS NOT NULL"),
            [1],
            "it isn't mailed meanwhile"
        );

        let now = START + 15 * DAY;
        let id = propose_due(c, now);
        assert!(runs::begin(c, None, "", now, None).unwrap_err().to_string().contains("is open"));
        runs::take_out(c, id, ContactId(2), true).unwrap();
        let proposed = runs::one(c, id, now).unwrap();
        assert_eq!(
            proposed.groups.iter().map(|g| (g.cause, g.people, g.taken_out)).collect::<Vec<_>>(),
            [(Cause::NeverThere, 6, 1), (Cause::FailedForGood, 4, 0)]
        );
        let effect = proposed.effect.unwrap();
        assert_eq!((effect.mailable, effect.mailable_after), (20, 20), "they rest already");
        assert!(effect.accepted_after.rate > effect.accepted.rate, "{effect:?}");
        applying::begin_apply(c, id, now, Some(1)).unwrap();
        finish(c, id, now);
        stored_is_folded(c, now);
        assert_eq!((how_many(c, MailStatus::Retired), how_many(c, MailStatus::Observed), made_of::due(c).unwrap()), (9, 1, 0));
        let entry: (String, String) = c
            .query_row("SELECT source, evidence FROM ledger WHERE contact_id = 1 ORDER BY id DESC LIMIT 1", [], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .unwrap();
        assert!(entry.0 == "cleaning run" && entry.1.contains("no such address"), "{entry:?}");

        // Undone for one cause, where nothing happened since.
        c.execute("INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key) VALUES ('k', 11, ?1, 100, 'GBP', 'storm lantern', 'storm lantern')", params![now.millis() + 1]).unwrap();
        applying::begin_undo(c, id, Some(Cause::FailedForGood), None, now + DAY, Some(1)).unwrap();
        finish(c, id, now + DAY);
        stored_is_folded(c, now + DAY);
        let state = |who: i64| runs::members(c, id, None, who - 1, 1).unwrap()[0].state;
        assert_eq!([state(10), state(11), state(1)], [MemberState::PutBack, MemberState::NotPutBack, MemberState::Applied]);
        assert_eq!((how_many(c, MailStatus::Retired), made_of::due(c).unwrap()), (6, 3), "due again");
        assert_eq!(effects::came(c, &runs::one(c, id, now).unwrap()).unwrap().unwrap().taken_out.count, 1, "who bought since");

        applying::begin_undo(c, id, None, None, now + 2 * DAY, Some(1)).unwrap();
        finish(c, id, now + 2 * DAY);
        let undone = runs::one(c, id, now).unwrap();
        assert_eq!((undone.state, how_many(c, MailStatus::Retired)), (RunState::Undone, 1));
        assert!(applying::begin_undo(c, id, None, None, now + 2 * DAY, None).is_err());
        let late = propose_due(c, now + 3 * DAY);
        let evidence = &runs::members(c, late, None, 0, 1).unwrap()[0].why;
        assert!(evidence.contains("no such address") && !evidence.contains("undone"), "judged again by what it was judged by: {evidence}");
        applying::begin_apply(c, late, now + 3 * DAY, None).unwrap();
        finish(c, late, now + 3 * DAY);
        assert!(applying::begin_undo(c, late, None, None, now + 34 * DAY, None).unwrap_err().to_string().contains("30 days"));
    });
}

#[test]
fn a_policy_is_previewed_brought_into_force_and_taken_back() {
    run(20, |c| {
        mail(c, 0, |_| FINE);
        for day in [10, 18, 26] {
            mail(c, day, |who| if who <= 5 { DISABLED } else { FINE });
        }
        let now = START + 27 * DAY;
        assert_eq!(how_many(c, MailStatus::Retired), 5, "at the second");
        let four = Policy { permanent_mailings: 4, permanent_by_hand: true, ..Policy::default() };
        let id = in_force(c, &four, now);
        assert_eq!((how_many(c, MailStatus::Active), policy::current(c).unwrap().policy), (20, four));
        stored_is_folded(c, now);
        assert_eq!(runs::one(c, id, now).unwrap().groups[0].people, 5);
        applying::begin_undo(c, id, None, Some(ContactId(3)), now + HOUR, None).unwrap();
        finish(c, id, now + HOUR);
        assert_eq!(rows::<i64>(c, "SELECT id FROM contact WHERE status = 3"), [3], "put back by a person, whatever the policy");
        in_force(c, &Policy::default(), now + 2 * HOUR);
        assert_eq!(how_many(c, MailStatus::Retired), 5);
        stored_is_folded(c, now + 2 * HOUR);
        assert!(policy::see(c, &Policy::default(), now, |_, _| Err(rinse_store::StoreError::Stopped)).is_err(), "a preview can be stopped");
    });
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever hosts answer and people decide, in whatever order: what is stored is what the fold gives, and undoing all of it leaves
    /// nobody retired by a run.
    #[test]
    fn what_is_stored_is_what_the_fold_gives(
        steps in prop::collection::vec((1i64..9, 0usize..5, prop::collection::vec(0usize..8, 6)), 1..12),
        in_runs in any::<bool>(),
    ) {
        run(6, move |c| {
            if in_runs {
                in_force(c, &Policy { retires: Retires::InRuns { since: START }, ..Policy::default() }, START);
            }
            let (mut day, mut applied) = (0, Vec::new());
            for (after, act, replies) in steps {
                day += after;
                const REPLIES: [&str; 8] = [FINE, FINE, FINE, GONE, DISABLED, "552 5.2.2 mailbox full", "550 5.7.1 blocked: reputation", "550 5.1.2 no such domain"];
                mail(c, day, |who| REPLIES[replies[usize::try_from(who).unwrap() - 1]]);
                let now = START + day * DAY + HOUR;
                match act {
                    0 => {
                        let id = propose_due(c, now);
                        if runs::one(c, id, now).unwrap().state == RunState::Proposed {
                            runs::take_out(c, id, runs::members(c, id, None, 0, 1).unwrap()[0].contact_id, replies[0] > 3).unwrap();
                            applying::begin_apply(c, id, now, None).unwrap();
                            finish(c, id, now);
                            applied.push(id);
                        }
                    }
                    1 => {
                        if let Some(id) = applied.pop()
                            && applying::begin_undo(c, id, None, None, now, None).is_ok()
                        {
                            finish(c, id, now);
                        }
                    }
                    2 => {
                        let retires = policy::current(c).unwrap().policy.retires;
                        let mailings = u32::try_from(2 + replies[1] % 3).unwrap();
                        in_force(c, &Policy { permanent_mailings: mailings, retires, ..Policy::default() }, now);
                    }
                    _ => {}
                }
                daily(c, now);
                stored_is_folded(c, now);
            }
        });
    }
}
