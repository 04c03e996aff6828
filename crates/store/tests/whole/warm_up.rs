//! A new name's mail: never over the ceiling of a day, those first who answer most, and everybody in the end.

use crate::common::{START, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::clearance::OverCap;
use rinse_core::consent::Act;
use rinse_core::delivery::warm_up::{Because, Rule};
use rinse_core::id::{LetterheadId, SendId};
use rinse_core::load::{Answer, Mail, cell};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::delivery::{ahead, alerts};
use rinse_store::ledger::{self, Origin};
use rinse_store::warm_up::{self, WarmUp};
use rinse_store::{Connection, responses, sends};
use std::collections::HashMap;

const FINE: &str = "250 2.0.0 ok";
const GREY: &str = "451 4.7.1 greylisted, try again in 300 seconds";
const SLOWER: &str = "421 4.7.0 too many messages, slow down";
const BLOCKED: &str = "550 5.7.1 blocked: reputation of the sender";

/// As the engine does once a day.
fn daily(c: &Connection, now: Instant) {
    let found = warm_up::look(c, &warm_up::people(c).unwrap(), &alerts::largest(c, now).unwrap(), now).unwrap();
    warm_up::keep(c, &found, now).unwrap();
    let moved = warm_up::moved(c, now).unwrap();
    warm_up::put(c, &moved).unwrap();
}

/// The beginning of the first day.
const BEGIN: Instant = Instant::of((START.millis() / DAY + 1) * DAY);

/// The day's sending, each hour, until its end.
fn day(c: &Connection, n: i64, reply: impl Fn(i64) -> &'static str) {
    let from = BEGIN + n * DAY;
    daily(c, from);
    for hour in 0..24 {
        let now = from + hour * HOUR;
        loop {
            let (batch, looked_at) = sends::claim(c, now, 20).unwrap();
            if looked_at == 0 {
                break;
            }
            for out in batch {
                let tries = c.query_row("SELECT tries FROM send WHERE id = ?1", [out.send.0], |r| r.get(0)).unwrap();
                sends::answered(c, out.send, &Reply::parse(reply(tries)), now).unwrap();
            }
        }
    }
}

fn warmed(c: &Connection, rule: Rule) -> WarmUp {
    warm_up::begin(c, "Skerry-Light.example", rule, BEGIN, None).unwrap();
    daily(c, BEGIN);
    warm_up::open(c).unwrap().pop().unwrap()
}

fn send(c: &Connection) -> i64 {
    let m = mailing(c, None, OverCap::Hold);
    c.execute("UPDATE mailing SET state = 'sending', started_at = ?2 WHERE id = ?1", [m, BEGIN.millis()]).unwrap();
    start(c, m, BEGIN);
    m
}

fn handed(c: &Connection) -> Vec<i64> {
    rows(c, "SELECT count(*) FROM send WHERE handed_at IS NOT NULL GROUP BY handed_at / 86400000 ORDER BY handed_at / 86400000")
}

#[test]
fn a_name_is_warmed_up_and_readers_go_first() {
    run(900, |c| {
        let rule = Rule { start: 100, factor: 1.5 };
        for (answer, from, to) in [(Answer::Silent, 1, 400), (Answer::Steady, 700, 880)] {
            c.execute(
                "INSERT INTO mail_load SELECT id, ?1, 1, NULL, 4, 1, 0 FROM contact WHERE id BETWEEN ?2 AND ?3",
                rusqlite::params![cell(Mail::Usual, answer), from, to],
            )
            .unwrap();
        }
        // Before it: the name is new.
        let domain = rows::<i64>(c, "SELECT id FROM domain WHERE name = 'tern.example'")[0];
        let told = ahead::of(c, &HashMap::from([(domain, 900)]), LetterheadId(1), BEGIN).unwrap();
        assert_eq!((told.new_name.as_deref(), told.groups[0].warm_up.is_none()), (Some("skerry-light.example"), true));
        warmed(c, rule);
        let told = ahead::of(c, &HashMap::from([(domain, 900)]), LetterheadId(1), BEGIN).unwrap();
        let first = BEGIN.millis().div_euclid(DAY);
        let w = told.groups[0].warm_up.unwrap();
        assert_eq!((told.new_name, w.at_once, w.last), (None, 100, first + 4));
        send(c);
        for n in 0..6 {
            day(c, n, |_| FINE);
        }
        assert_eq!(handed(c), [100, 150, 225, 338, 87]);
        // 181 who answer, then 319 of whom nothing is known, then the silent ones.
        let order: Vec<i64> = rows(
            c,
            "SELECT max(CASE WHEN s.contact_id BETWEEN 700 AND 880 THEN 0 WHEN s.contact_id <= 400 THEN 2 ELSE 1 END) FROM send s GROUP BY handed_at / 86400000 ORDER BY handed_at / 86400000",
        );
        assert_eq!(order, [0, 1, 1, 2, 2]);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE accepted_at IS NULL"), [0]);
        let w = warm_up::open(c).unwrap().pop().unwrap();
        let g = &warm_up::groups(c, &w, BEGIN + 6 * DAY).unwrap()[0];
        assert_eq!(g.days.iter().map(|d| d.ceiling.unwrap()).collect::<Vec<_>>(), [100, 150, 225, 338, 507]);
        // 87 of 507 said too little of the next step.
        assert_eq!((g.today.ceiling, g.today.because), (Some(507), Because::TooLittle));
        send(c);
        for n in 6..9 {
            day(c, n, |_| FINE);
        }
        assert!(warm_up::open(c).unwrap().is_empty(), "over 900 a day there is no ceiling");
        assert_eq!(warm_up::all(c).unwrap()[0].ended_by, None);
    });
}

#[test]
fn hosts_that_complain_slow_it_down() {
    run(600, |c| {
        let w = warmed(c, Rule { start: 50, factor: 2.0 });
        send(c);
        let because = |n: i64| {
            let g = &warm_up::groups(c, &w, BEGIN + n * DAY).unwrap()[0];
            (g.today.ceiling, g.today.because)
        };

        // Everybody is put off at the first meeting: the second answer counts.
        day(c, 0, |tries| if tries == 1 { GREY } else { FINE });
        assert_eq!(because(1), (Some(100), Because::Grew));
        // Asked to slow down by all: half, and the pace of the hour holds back the rest of the day's. Who was put off is tried again beyond the
        // ceiling: hosts know them.
        day(c, 1, |_| SLOWER);
        assert_eq!(because(2), (Some(50), Because::Deferred));
        day(c, 2, |_| FINE);
        assert_eq!(rows::<i64>(c, "SELECT handed FROM warm_up_day ORDER BY day"), [50, 40, 50]);
        // Three of 50 complain; once each, however often they are reported.
        let some: Vec<i64> = rows(c, "SELECT id FROM send WHERE tries = 1 AND accepted_at IS NOT NULL LIMIT 3");
        for s in some.iter().chain(&some) {
            responses::complaint(c, SendId(*s), BEGIN + 2 * DAY + HOUR).unwrap();
        }
        assert_eq!(rows::<i64>(c, "SELECT complained FROM warm_up_day ORDER BY day DESC LIMIT 1"), [3]);
        assert_eq!(because(3), (Some(25), Because::Complaints));
        // A person ends it: the rest goes on the day that it was placed on, without a ceiling.
        assert!(warm_up::end(c, w.id, "ok", BEGIN + 3 * DAY, 1).is_err());
        c.execute("INSERT INTO person (id, name) SELECT 1, 'Ines Marek' WHERE NOT EXISTS (SELECT 1 FROM person WHERE id = 1)", []).unwrap();
        warm_up::end(c, w.id, "hosts know us by our other name", BEGIN + 3 * DAY, 1).unwrap();
        for n in 3..10 {
            day(c, n, |_| FINE);
        }
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE accepted_at IS NULL AND failed_at IS NULL"), [0]);
    });
}

#[test]
fn what_cannot_be_warmed_up_is_refused() {
    run(30, |c| {
        let begin = |domain: &str, rule| warm_up::begin(c, domain, rule, BEGIN, None).map_err(|e| e.to_string());
        assert!(begin("elsewhere.example", Rule::default()).unwrap_err().contains("No letterhead sends from elsewhere.example"));
        assert!(begin("skerry-light.example", Rule { start: 1, factor: 1.5 }).unwrap_err().contains("10 to 100,000"));
        begin("skerry-light.example", Rule::default()).unwrap();
        assert!(begin("skerry-light.example", Rule::default()).unwrap_err().contains("already"));
        // 30 people are no more than the first day's 200: nothing is held, and it ends by itself.
        daily(c, BEGIN);
        send(c);
        day(c, 0, |_| FINE);
        assert_eq!(handed(c), [30]);
        daily(c, BEGIN + DAY);
        assert!(warm_up::open(c).unwrap().is_empty());
    });
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// Two groups, two mailings, whatever hosts say on each day: no group ever gets more on a day than its ceiling, nobody gets a mailing twice, and
    /// once all is let in everybody is answered for.
    #[test]
    fn no_day_is_over_its_ceiling(said in prop::collection::vec(0usize..5, 2..8), start in 10u32..60, factor in 1.1f64..3.0) {
        run(90, move |c| {
            for i in 0..40 {
                let a = Address::parse(&format!("q{i}@gull.example")).unwrap();
                let id = contacts::add(c, &a, &Profile::default(), START).unwrap();
                ledger::act(c, id, START, Act::Agreed, &Origin { source: "test", ..Origin::default() }).unwrap();
            }
            let w = warmed(c, Rule { start, factor });
            send(c);
            send(c);
            for (n, what) in said.iter().enumerate() {
                day(c, i64::try_from(n).unwrap(), |tries| [FINE, if tries == 1 { GREY } else { FINE }, SLOWER, BLOCKED, FINE][*what]);
            }
            for n in said.len()..said.len() + 40 {
                day(c, i64::try_from(n).unwrap(), |_| FINE);
            }
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM warm_up_day WHERE handed > ceiling"), [0]);
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM warm_up_day WHERE accepted + deferred + blocked + failed > handed"), [0]);
            let over = warm_up::all(c).unwrap()[0].ended_at;
            let counted: i64 = rows(c, "SELECT sum(handed) FROM warm_up_day")[0];
            assert!(over.is_some() || counted == 260, "{counted} of warm-up {}", w.id);
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send"), [260]);
            let open: Vec<String> = rows(c, "SELECT state || ' ' || at || ' ' || coalesce(reply, '') FROM send WHERE accepted_at IS NULL AND failed_at IS NULL");
            assert!(open.is_empty(), "{open:?}");
        });
    }
}
