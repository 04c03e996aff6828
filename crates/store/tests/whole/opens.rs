//! Whose opens can be known: found out by what a domain fetches, said of the messages before, and known again when it stops.

use crate::common::{START, hand_over, mailing, rows, run, start, sums_hold};
use rinse_core::clearance::OverCap;
use rinse_core::figure::Figure;
use rinse_core::id::MailingId;
use rinse_core::{DAY, Instant, MINUTE};
use rinse_store::machines::opens;
use rinse_store::{Connection, figures};

const PEOPLE: usize = 60;

/// A mailing to everybody, of whose messages some have their images fetched half a minute later.
fn mailed(c: &Connection, at: Instant, fetched: usize) -> i64 {
    let m = mailing(c, None, OverCap::Hold);
    start(c, m, at);
    hand_over(c, at, "250 2.0.0 ok");
    for send in rows::<i64>(c, &format!("SELECT id FROM send WHERE mailing_id = {m} ORDER BY id")).into_iter().take(fetched) {
        crate::common::hit(c, send, None, at + MINUTE / 2, "Reader/5.1", false).unwrap();
    }
    m
}

/// What is done once a day.
fn a_day_begins(c: &Connection, now: Instant) {
    opens::move_on(c, now).unwrap();
    while opens::mark_some(c, 7).unwrap() {}
    sums_hold(c);
}

fn told(c: &Connection, mailing: i64) -> [u64; 3] {
    let sums = figures::of_mailings(c, &[MailingId(mailing)]).unwrap().remove(&MailingId(mailing)).unwrap();
    [Figure::Delivered, Figure::OpensKnown, Figure::HumanOpens].map(|f| sums.of(f))
}

#[test]
fn a_domain_is_found_out_and_known_again() {
    run(PEOPLE, |c| {
        let first = mailed(c, START, 55);
        // What came before it was found out was taken for people's, until the day after; what came then says itself what it is.
        assert_eq!(told(c, first), [60, 54, 49], "until 81% of 60 were fetched");
        a_day_begins(c, START + DAY);
        assert_eq!(told(c, first), [60, 0, 0]);
        assert_eq!(opens::unknown_domains(c).unwrap().len(), 1);
        // The next one is known to be unknown as it goes, and its fetches are still on their way when many messages are out.
        let second = mailed(c, START + 2 * DAY, 0);
        assert_eq!(told(c, second), [60, 0, 0]);
        a_day_begins(c, START + 2 * DAY);
        assert_eq!(opens::unknown_domains(c).unwrap().len(), 1, "of today's messages nothing is said yet");
        // 115 messages, 55 fetched: it stopped.
        a_day_begins(c, START + 3 * DAY);
        assert!(opens::unknown_domains(c).unwrap().is_empty());
        let third = mailed(c, START + 4 * DAY, 6);
        assert_eq!(told(c, third), [60, 60, 6]);
        assert_eq!(told(c, second), [60, 0, 0], "what was unknown stays so");
    });
}

#[test]
fn only_the_last_ninety_days_say_something() {
    run(PEOPLE, |c| {
        for week in 0..3 {
            mailed(c, START + week * 7 * DAY, 0);
        }
        // All of one mailing is 25% of four; after the others are 90 days ago it is all there is.
        mailed(c, START + 80 * DAY, PEOPLE);
        a_day_begins(c, START + 81 * DAY);
        assert!(opens::unknown_domains(c).unwrap().is_empty());
        a_day_begins(c, START + 120 * DAY);
        assert_eq!(rows::<String>(c, "SELECT delivered || ' ' || fetched FROM domain"), ["60 60"]);
        let next = mailed(c, START + 121 * DAY, PEOPLE);
        a_day_begins(c, START + 122 * DAY);
        assert_eq!(told(c, next), [60, 0, 0]);
        let earlier = told(c, next - 1);
        assert_eq!(earlier, [60, 0, 0], "41 days before it was found out");
        assert_eq!(told(c, next - 2)[1], 60, "107 days before");
        // Too little mail to tell: it stays what it was found to be.
        a_day_begins(c, START + 400 * DAY);
        assert_eq!(rows::<String>(c, "SELECT delivered || ' ' || opens_unknown FROM domain"), ["0 1"]);
    });
}
