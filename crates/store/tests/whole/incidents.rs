//! Incidents are found over a whole mailbox group, at a domain of it that fails alone, and cover what joins the group.

use crate::common::{START, how_many, mail, rows, run, statuses, stored_is_folded};
use proptest::prelude::*;
use rinse_core::upkeep::MailStatus;
use rinse_core::{DAY, HOUR};
use rinse_store::Connection;
use rinse_store::upkeep::incidents::{self, Incident};
use rinse_store::upkeep::status;

const GONE: &str = "550 5.1.1 no such user";
const FINE: &str = "250 2.0.0 ok";

/// Puts everybody at one of some domains whose mail one operator takes.
fn spread(c: &Connection, domains: i64, which: impl Fn(i64) -> i64) {
    for n in 0..domains {
        c.execute("INSERT INTO domain (name, operator, operator_by) VALUES (?1, 'bigpost.example', 1)", [format!("d{n}.example")]).unwrap();
    }
    for who in rows::<i64>(c, "SELECT id FROM contact") {
        c.execute(
            "UPDATE contact SET domain_id = (SELECT id FROM domain WHERE name = ?2) WHERE id = ?1",
            rusqlite::params![who, format!("d{}.example", which(who))],
        )
        .unwrap();
    }
}

fn only(c: &Connection) -> Incident {
    let mut all = incidents::all(c).unwrap();
    assert_eq!(all.len(), 1);
    all.remove(0)
}

#[test]
fn an_operator_that_fails_retires_nobody_at_its_small_domains() {
    run(120, |c| {
        spread(c, 40, |who| who % 40);
        mail(c, 0, |_| FINE);
        mail(c, 10, |who| if who <= 40 { GONE } else { FINE });
        let found = only(c);
        assert_eq!((found.place.as_str(), found.whole_group, found.domains), ("bigpost.example", true, 40));
        assert_eq!((found.failures, found.messages, found.norm_failures, found.norm_messages), (40, 120, 0, 120));
        assert_eq!(how_many(c, MailStatus::Active), 120, "one failure at each of 40 domains");
        let now = START + 11 * DAY;
        incidents::decide(c, found.id, Some(true), "they moved", now, None).unwrap();
        while status::settle_due(c, now).unwrap() {}
        assert_eq!(how_many(c, MailStatus::Resting), 40);
        stored_is_folded(c, now);
    });
}

#[test]
fn a_domain_that_fails_alone_is_found_in_a_large_group() {
    run(400, |c| {
        spread(c, 2, |who| i64::from(who <= 30));
        mail(c, 0, |who| if who > 392 { GONE } else { FINE });
        // 37 of 400 aren't ten times the group's 2%; 25 of the small one's 30 are.
        mail(c, 10, |who| if who <= 25 || (100..112).contains(&who) { GONE } else { FINE });
        let found = only(c);
        assert_eq!((found.place.as_str(), found.whole_group, found.domains), ("d1.example", false, 1));
        assert_eq!((found.failures, found.messages), (25, 30));
        assert_eq!((how_many(c, MailStatus::Resting), how_many(c, MailStatus::Retired)), (12, 8), "the others were judged by themselves");
        stored_is_folded(c, START + 11 * DAY);
    });
}

#[test]
fn a_domain_that_comes_to_the_group_is_covered_from_its_next_failure_on() {
    run(120, |c| {
        spread(c, 30, |who| if who > 116 { 29 } else { who % 29 });
        c.execute("UPDATE domain SET operator = NULL WHERE name = 'd29.example'", []).unwrap();
        mail(c, 0, |_| FINE);
        let at = |who: i64| if who <= 40 || who > 116 { GONE } else { FINE };
        // The last two fail once DNS has said whose hosts they are.
        mail(c, 10, |who| {
            if who == 119 {
                c.execute("UPDATE domain SET operator = 'bigpost.example' WHERE name = 'd29.example'", []).unwrap();
                assert_eq!(how_many(c, MailStatus::Resting), 2);
            }
            at(who)
        });
        while status::settle_due(c, START + 10 * DAY + HOUR).unwrap() {}
        assert_eq!((only(c).failures, how_many(c, MailStatus::Active)), (44, 120));
        stored_is_folded(c, START + 11 * DAY);
    });
}

proptest! {
    #![proptest_config(crate::common::histories(16))]

    /// However one operator's people are spread over domains of at most 20 people, the same is found of them as at one domain.
    #[test]
    fn a_groups_parts_are_judged_as_the_whole(
        domains in 6i64..40, before in prop::collection::hash_set(1i64..=120, 0..12), then in prop::collection::hash_set(1i64..=120, 0..90)
    ) {
        let seen = |domains: i64| {
            let (before, then) = (before.clone(), then.clone());
            run(120, move |c| {
                spread(c, domains, |who| who % domains);
                mail(c, 0, |who| if before.contains(&who) { GONE } else { FINE });
                mail(c, 10, |who| if then.contains(&who) { GONE } else { FINE });
                stored_is_folded(c, START + 11 * DAY);
                let all = incidents::all(c).unwrap();
                (all.iter().map(|i| (i.failures, i.messages, i.norm_failures, i.norm_messages)).collect::<Vec<_>>(), statuses(c))
            })
        };
        prop_assert_eq!(seen(domains), seen(1));
    }
}
