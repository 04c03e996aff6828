//! Lines that a person reads otherwise: what failed before is read again, and people stand where their history puts them.

use crate::common::{START, how_many, mail, run, stored_is_folded, sums_hold};
use proptest::prelude::*;
use rinse_core::bounce::{Category, Reply, masked};
use rinse_core::upkeep::MailStatus;
use rinse_core::{DAY, Instant};
use rinse_store::Connection;
use rinse_store::upkeep::{incidents, readings, status};

const CLOSED: &str = "550 5.1.1 …@tern.example closed until spring";

fn line(who: i64) -> String {
    format!("550 5.1.1 <p{who}@tern.example> closed until spring")
}

/// Reads a part of the past again; false when there is none.
fn read_a_part(c: &Connection) -> bool {
    let Some((id, mark)) = readings::unfinished(c).unwrap() else { return false };
    let looked = readings::look(c, id, mark).unwrap();
    readings::read_again(c, &looked.again).unwrap();
    readings::came_to(c, id, mark, &looked).unwrap();
    true
}

/// Reads the past again to its end, as the engine does.
fn finish(c: &Connection, now: Instant) {
    while read_a_part(c) {}
    while status::settle_due(c, now).unwrap() {}
}

#[test]
fn what_a_person_says_of_a_line_holds_before_and_after_and_is_taken_back_whole() {
    run(60, |c| {
        mail(c, 0, |who| if who <= 15 { line(who) } else { "250 ok".into() });
        let now = START + DAY;
        assert!(incidents::waiting(c).unwrap().is_empty());
        assert_eq!(how_many(c, MailStatus::Active), 45);
        let tried = readings::try_on(c, CLOSED, Category::Deferred, now).unwrap();
        assert_eq!((tried.messages, tried.people, tried.mailings, tried.worked_out), (15, 15, 1, 15));
        assert_eq!(tried.now_read, [readings::NowRead { reason: "no such address".into(), messages: 15 }]);
        assert_eq!((tried.moves.len(), tried.moves[0].people, tried.moves[0].to.as_str()), (1, 15, "active"));
        assert_eq!(how_many(c, MailStatus::Active), 45, "a try changes nothing");

        let id = readings::put_in_force(c, CLOSED, Category::Policy, "they close in winter", now, None).unwrap();
        finish(c, now);
        assert_eq!(how_many(c, MailStatus::Active), 60);
        let said = rinse_store::upkeep::reasons::said(c, now).unwrap();
        assert_eq!((said.lines[0].line.as_str(), said.lines[0].counts), (CLOSED, false));
        mail(c, 2, |who| if who <= 15 { line(who) } else { "250 ok".into() });
        assert_eq!(how_many(c, MailStatus::Active), 60, "it holds for what comes");
        sums_hold(c);

        readings::end(c, id, now + 2 * DAY, None).unwrap();
        finish(c, now + 2 * DAY);
        assert_eq!(how_many(c, MailStatus::Active), 45, "both mailings are read by the rules again");
        sums_hold(c);
        let all = readings::all(c).unwrap();
        assert!(all[0].ended_at.is_some() && !all[0].reads_the_past);
    });
}

#[test]
fn only_a_line_that_was_said_is_read_otherwise_and_only_otherwise() {
    run(3, |c| {
        mail(c, 0, line);
        let now = START + DAY;
        let refused = |line: &str, category, why: &str| readings::put_in_force(c, line, category, why, now, None).unwrap_err().to_string();
        assert!(readings::try_on(c, "550 5.1.1 no", Category::Policy, now).unwrap_err().to_string().contains("No host said this line"));
        assert!(refused(CLOSED, Category::NoSuchAddress, "as it is").contains("already"));
        assert!(refused(CLOSED, Category::Policy, "").contains("Say why"));
        assert!(refused(&line(1), Category::Policy, "one address").contains("masked"));
        assert!(readings::end(c, 7, now, None).is_err());
    });
}

const LINES: [&str; 4] = ["550 5.1.1 <a1@tern.example> closed", "550 5.2.1 off 77", "552 5.2.2 full", "550 5.7.1 blocked 4"];

#[derive(Debug, Clone)]
enum Step {
    Mail,
    Say(usize, Category),
    End(usize),
    /// So many parts of the past are read again.
    Parts(usize),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        2 => Just(Step::Mail),
        3 => (0..LINES.len(), proptest::sample::select(Category::ALL.to_vec())).prop_map(|(l, k)| Step::Say(l, k)),
        1 => (0..LINES.len()).prop_map(Step::End),
        1 => (1..3_usize).prop_map(Step::Parts),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever is said of lines and taken back, in whatever order and however far the past was read again meanwhile: at the end each failure is read as its
    /// line is, and everybody stands where that puts them.
    #[test]
    fn each_failure_is_read_as_its_line_is(steps in prop::collection::vec(step(), 1..12)) {
        run(8, move |c| {
            let mut day = 0;
            let reply = |who: i64| LINES.get(usize::try_from(who).unwrap() % 6).map_or("250 ok".to_owned(), |l| (*l).to_owned());
            for s in steps {
                day += 1;
                let now = START + day * DAY;
                match s {
                    Step::Mail => mail(c, day, reply),
                    Step::Say(l, category) => drop(readings::put_in_force(c, &masked(&Reply::parse(LINES[l]).line()), category, "so it is", now, None)),
                    Step::End(l) => {
                        let of = masked(&Reply::parse(LINES[l]).line());
                        if let Some(r) = readings::all(c).unwrap().into_iter().find(|r| r.line == of && r.ended_at.is_none()) {
                            readings::end(c, r.id, now, None).unwrap();
                        }
                    }
                    Step::Parts(n) => {
                        for _ in 0..n {
                            read_a_part(c);
                        }
                    }
                }
            }
            let now = START + (day + 1) * DAY;
            finish(c, now);
            let in_force: Vec<readings::Reading> = readings::all(c).unwrap().into_iter().filter(|r| r.ended_at.is_none()).collect();
            let mut s = c.prepare("SELECT reply, category FROM send WHERE failed_at IS NOT NULL").unwrap();
            let failures = s.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, i64>(1)?))).unwrap();
            for f in failures {
                let (line, category) = f.unwrap();
                let by_person = in_force.iter().find(|r| r.line == masked(&line)).map(|r| r.category);
                assert_eq!(Category::from_code(category), by_person.unwrap_or_else(|| Category::of_line(&line)), "{line}");
            }
            stored_is_folded(c, now);
        });
    }
}
