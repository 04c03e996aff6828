//! Lines of `rinse calc` a second on one core, each line different and read and written as JSON; a plan's rehearsal.

use rinse_core::id::{ContactId, MailingId};
use rinse_core::stats::calc::answer_line;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::rehearsal::{Usual, rehearse};
use std::io::Write;
use std::time::Instant as Stopwatch;

fn rate(what: &str, aim: u32, lines: &[String]) {
    let start = Stopwatch::now();
    let bytes: usize = lines.iter().map(|l| answer_line(l).to_string().len()).sum();
    let seconds = start.elapsed().as_secs_f64();
    assert!(bytes > 40 * lines.len(), "answers");
    let _ = writeln!(std::io::stdout(), "rinse calc, {what}: {:.0} lines a second on one core (aim: {aim})", lines.len() as f64 / seconds);
}

pub(crate) fn calc() {
    let arm = |i: u32, n: u32| format!("{{\"successes\":{},\"trials\":{n}}}", n / 6 + i * 37 % (n / 10));
    let two: Vec<String> = (0..100_000)
        .map(|i| {
            let (a, b) = (arm(i, 2_000 + i % 900), arm(i + 11, 2_100 + i % 800));
            format!("{{\"id\":\"{i}\",\"fn\":\"two_proportions\",\"args\":{{\"a\":{a},\"b\":{b},\"level\":0.95}}}}")
        })
        .collect();
    rate("two_proportions with Fisher's p, some 2,000 people an arm", 50_000, &two);
    let bounds: Vec<String> = (0..10_000)
        .map(|i| {
            let t = |k: u32| f64::from(k) / 5.0 - if k < 5 { f64::from(i % 97) / 2_000.0 } else { 0.0 };
            format!(
                "{{\"id\":\"{i}\",\"fn\":\"spending_bounds\",\"args\":{{\"alpha\":0.05,\"sides\":2,\"information_fractions\":[{},{},{},{},{}],\"spending\":\"obrien_fleming\"}}}}",
                t(1), t(2), t(3), t(4), t(5)
            )
        })
        .collect();
    rate("spending_bounds of five looks", 4_000, &bounds);
    let best: Vec<String> = (0..30_000)
        .map(|i| {
            let arms = [arm(i, 2_000), arm(i + 3, 2_050), arm(i + 7, 1_990), arm(i + 13, 2_010)].join(",");
            format!("{{\"id\":\"{i}\",\"fn\":\"beta_binomial\",\"args\":{{\"arms\":[{arms}],\"prior\":{{\"alpha\":1,\"beta\":1}}}}}}")
        })
        .collect();
    rate("beta_binomial of four arms", 10_000, &best);
}

pub(crate) fn rehearsal() {
    for arms in [2, 6] {
        let plan = Plan { harm_looks: 2, ..Plan::usual("?") };
        let usual = Usual { primary: 0.2, sd: 0.0, amounts: &[], leaving: 0.003, complaints: 0.0005, unknown: 0.0 };
        let start = Stopwatch::now();
        let done = rehearse(&plan, arms, 5_000 * arms as u64, usual, Some(0.01), 10_000, 1).expect("a rehearsal");
        let _ = writeln!(
            std::io::stdout(),
            "rehearsal of {arms} arms, {} cases of 10,000 runs: {:.2} s (aim: about 1)",
            done.cases.len(),
            start.elapsed().as_secs_f64()
        );
    }
}

/// A reading from its counts: what a page shows of a trial however large.
pub(crate) fn reading() {
    use rinse_core::trial::assign::{Person, assign, strata};
    use rinse_core::trial::reading::{ArmCounts, Beside, read};
    let plan = Plan { harm_looks: 2, ..Plan::usual("?") };
    let person = |i: i64| Person {
        contact: ContactId(i),
        domain: 1 + (i % 12) as u32,
        cell: (i % 7 < 5).then_some((i % 7) as u8),
        opens_unknown: i % 12 == 3,
    };
    let people: Vec<Person> = (0..1_000_000).map(person).collect();
    let cleared = strata(&people);
    let start = Stopwatch::now();
    let roster = assign(7, &cleared, &[1; 6]);
    let assigned = start.elapsed().as_secs_f64() * 1000.0;
    let mut counts = vec![ArmCounts::default(); 6];
    let mut by_stratum = std::collections::BTreeMap::new();
    for e in &roster {
        let answered = u64::from(e.contact.0 % 5 == 0);
        let c = &mut counts[e.arm];
        (c.assigned, c.handed_over) = (c.assigned + 1, c.handed_over + 1);
        (c.primary, c.reported, c.left) = (c.primary + answered, c.reported + answered, c.left + u64::from(e.contact.0 % 300 == 0));
        let arm: &mut rinse_core::stats::Arm =
            &mut by_stratum.entry(e.stratum).or_insert_with(|| vec![rinse_core::stats::Arm { successes: 0, trials: 0 }; 6])[e.arm];
        (arm.trials, arm.successes) = (arm.trials + 1, arm.successes + answered);
    }
    let beside = Beside { assignment_holds: true, strata: by_stratum.into_values().collect(), ..Beside::default() };
    let mut times: Vec<f64> = (0..9)
        .map(|_| {
            let start = Stopwatch::now();
            assert_eq!(read(&plan, &counts, &beside).expect("a reading").pairs.len(), 15);
            start.elapsed().as_secs_f64() * 1000.0
        })
        .collect();
    times.sort_by(f64::total_cmp);
    let _ = writeln!(
        std::io::stdout(),
        "reading of 1,000,000 people in 6 arms from its counts: median {:.0} ms (aim: 200); their assignment computed again: {assigned:.0} ms",
        times[4]
    );
}

/// The exact tests at the sizes where they are slowest: rare outcomes of ten million, and money of a million people drawn again.
pub(crate) fn exact() {
    use rinse_core::stats::Arm;
    use rinse_core::stats::midp::midp_two_proportions;
    use rinse_core::stats::randomization::{Stratum, redraw};
    use rinse_core::stats::two_proportions::two_proportions;
    let n = 10_000_000;
    let of = |i: u64| (Arm { successes: 40_000 + i * 17, trials: n }, Arm { successes: 40_300 + i * 11, trials: n });
    let each = |what: &str, test: &dyn Fn(Arm, Arm) -> f64| {
        let start = Stopwatch::now();
        let sum: f64 = (0..200).map(|i| test(of(i).0, of(i).1)).sum();
        assert!(sum.is_finite());
        let _ = writeln!(
            std::io::stdout(),
            "{what} at 10,000,000 people an arm: {:.2} ms (aim: under 1)",
            start.elapsed().as_secs_f64() * 1000.0 / 200.0
        );
    };
    each("two proportions with Fisher's p", &|a, b| two_proportions(a, b, 0.95).map_or(f64::NAN, |c| c.fisher_p));
    each("mid-p", &|a, b| midp_two_proportions(a, b).map_or(f64::NAN, |m| m.p_value));
    // One in a hundred buys; a hundred strata.
    let amounts = |n: u32| (0..n).map(|i| 5.0 + f64::from(i * 7919 % 977) / 10.0).collect::<Vec<f64>>();
    let strata: Vec<Stratum> = (0..100).map(|_| Stratum { people: [5_000, 5_000], others: [amounts(50), amounts(52)] }).collect();
    let start = Stopwatch::now();
    let found = redraw(&[strata], 0.95, 10_000, 1).expect("a test");
    assert!(found.lower < found.upper);
    let _ = writeln!(
        std::io::stdout(),
        "money of 1,000,000 people, 1% of whom bought, in 100 strata, drawn again 10,000 times with limits: {:.2} s on one core (aim: under 2)",
        start.elapsed().as_secs_f64()
    );
}

/// An hour trial of 12 rounds at 12 hours with 200,000 people, who differ in how they answer; and a draw of a million.
pub(crate) fn hours() {
    use rinse_core::trial::assign::Person;
    use rinse_core::trial::hour::draw::{Candidate, of_round};
    use rinse_core::trial::hour::plan::{HourPlan, Round};
    use rinse_core::trial::hour::reading::{Answered, read_with_own};
    let people = |n: i64| -> Vec<Candidate> {
        let person =
            |i: i64| Person { contact: ContactId(i), domain: 1 + (i % 12) as u32, cell: Some((i % 5) as u8), opens_unknown: false };
        (0..n).map(|i| Candidate { person: person(i), zone: (i % 8) as u32, own: None }).collect()
    };
    let rounds: Vec<Round> = (0..12).map(|r| Round { mailing: MailingId(r), day: 20_000 + 7 * r }).collect();
    let plan = HourPlan { hours: (8..20).collect(), rounds, ..HourPlan::usual("Does the hour matter?") };
    let million = people(1_000_000);
    let start = Stopwatch::now();
    assert_eq!(of_round(&plan, 7, 0, &million).len(), million.len());
    let _ = writeln!(std::io::stdout(), "hours of 1,000,000 people drawn: {:.2} s (aim: under 1)", start.elapsed().as_secs_f64());
    let all = people(200_000);
    for (people, differ) in [("who are all alike", false), ("who differ in their hours, with each one's own", true)] {
        let answers: Vec<Answered> = (0..12)
            .flat_map(|round| {
                of_round(&plan, 7, round, &all).into_iter().map(move |d| {
                    let chance = (d.contact.0 * 7_919 + round as i64 * 104_729 + i64::from(d.hour) * 31) % 1_000;
                    let near = if differ { 250 - 40 * (d.contact.0 % 12 + 8 - i64::from(d.hour)).abs() } else { 0 };
                    Answered {
                        contact: d.contact,
                        round,
                        zone: d.zone,
                        stratum: d.stratum,
                        hour: d.hour,
                        opens_unknown: false,
                        lost: chance == 999,
                        machine: chance == 998,
                        did: chance < 100 + d.contact.0 % 300 + near,
                    }
                })
            })
            .collect();
        let start = Stopwatch::now();
        let (reading, own) = read_with_own(&plan, &answers);
        let seconds = start.elapsed().as_secs_f64();
        assert_eq!((reading.persons, own.is_some()), (200_000, differ), "as the people are");
        let _ = writeln!(std::io::stdout(), "hour trial of 12 rounds of 200,000 people {people}, read: {seconds:.2} s (aim: under 2)");
    }
}
