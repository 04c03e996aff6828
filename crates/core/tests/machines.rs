//! A scanner comes to one of three mail domains and follows the links of everything that is delivered there. No verdict
//! moves: what the rules know as a machine's is taken out, and what they miss falls on all arms alike. How much they miss,
//! and how many people's own clicks they take with it, is printed (`--nocapture` shows it).

use chacha20::ChaCha12Rng;
use rand::{Rng, RngExt, SeedableRng};
use rinse_core::response::{Hit, Message, On, Rules};
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{ArmCounts, Beside, Verdict, read};
use rinse_core::{HOUR, Instant, MINUTE, SECOND};
use rstest::rstest;
use std::io::Write;

const LINKS: i64 = 5;
const PER_ARM: i64 = 8_000;

/// What a scanner does with a message.
#[derive(Debug, Clone, Copy)]
struct Scanner {
    every_link: bool,
    after: i64,
    images: bool,
}

/// What became of one person's responses.
#[derive(Default, Clone, Copy)]
struct Seen {
    human: bool,
    machines: u32,
    missed: u32,
    /// Followed a link, and isn't seen to have.
    lost: bool,
}

fn person(rng: &mut impl Rng, rate: f64, metric: Metric, scanner: Option<Scanner>) -> Seen {
    // (instant, link or -1 for an open, by a machine)
    let mut hits: Vec<(i64, i64, bool)> = Vec::new();
    if let Some(s) = scanner {
        let from = s.after + rng.random_range(0..2 * SECOND);
        let links = if s.every_link { 0..LINKS } else { 2..3 };
        hits.extend(links.map(|l| (from + l * 150, l, true)));
        if s.images {
            hits.push((from, -1, true));
        }
    }
    let acts = rng.random::<f64>() < rate;
    if acts {
        let own = (-(1.0 - rng.random::<f64>()).ln() * 5.0 * HOUR as f64) as i64 + 20 * SECOND;
        hits.push((own, if metric == Metric::HumanOpen { -1 } else { rng.random_range(0..LINKS) }, false));
    }
    let (mut seen, rules) = (Seen::default(), Rules::default());
    for (at, link, machine) in hits {
        let on = if link < 0 { On::Picture } else { On::Link(link) };
        let hit = Hit { at: Instant::of(at), on, agent: "Reader/5.1", network: None, head: false };
        // A trial counts by the rules that don't depend on the message's own links: many at a time aren't told here.
        let human = rules.judge(&hit, &Message { delivered_at: Instant::of(0), fetching_domain: false }).is_none();
        if (link < 0) != (metric == Metric::HumanOpen) {
            continue;
        }
        seen.human |= human;
        seen.machines += u32::from(machine);
        seen.missed += u32::from(machine && human);
    }
    seen.lost = acts && !seen.human;
    seen
}

/// The verdict, and the shares of machines' responses missed and of people's own lost.
fn trial(metric: Metric, effect: f64, scanner: Option<Scanner>) -> (Verdict, f64, f64) {
    // Anybody who acts does so with a scanner or without: each person has dice of their own.
    let dice = |arm: i64, i: i64| ChaCha12Rng::seed_from_u64((arm * PER_ARM + i).cast_unsigned() * 7919);
    let (mut machines, mut missed, mut lost, mut acted) = (0, 0, 0, 0);
    let counts: Vec<ArmCounts> = (0..2)
        .map(|arm| {
            let rate = 0.15 + if arm == 1 { effect } else { 0.0 };
            let mut c = ArmCounts { assigned: PER_ARM.unsigned_abs(), handed_over: PER_ARM.unsigned_abs(), ..ArmCounts::default() };
            for i in 0..PER_ARM {
                let seen = person(&mut dice(arm, i), rate, metric, scanner.filter(|_| i % 3 == 0));
                c.primary += u64::from(seen.human);
                c.reported += u64::from(seen.human || seen.machines > 0);
                c.removed += u64::from(seen.machines > seen.missed);
                (machines, missed) = (machines + seen.machines, missed + seen.missed);
                (lost, acted) = (lost + u32::from(seen.lost), acted + u32::from(seen.lost || seen.human));
            }
            c
        })
        .collect();
    let plan = Plan { metric, effect: 0.01, ..Plan::usual("?") };
    let r = read(&plan, &counts, &Beside { assignment_holds: true, ..Beside::default() }).unwrap();
    assert!(!r.notes.iter().any(|n| n.contains("taken out")), "the arms are alike in what is taken out: {:?}", r.notes);
    (r.verdict, f64::from(missed) / f64::from(machines.max(1)), f64::from(lost) / f64::from(acted.max(1)))
}

#[rstest]
// What is missed at most: what comes at once is known; after a while it looks like a person's, and falls on all arms alike.
#[case::every_link_at_once(Scanner { every_link: true, after: SECOND, images: false }, 0.0)]
#[case::one_link_at_once(Scanner { every_link: false, after: SECOND, images: false }, 0.0)]
#[case::every_link_after_ten_minutes(Scanner { every_link: true, after: 10 * MINUTE, images: true }, 1.0)]
#[case::one_link_after_ten_minutes(Scanner { every_link: false, after: 10 * MINUTE, images: true }, 1.0)]
fn a_scanner_at_one_domain_moves_no_verdict(#[case] scanner: Scanner, #[case] most_missed: f64) {
    for effect in [0.0, 0.05] {
        let (without, _, _) = trial(Metric::HumanClick, effect, None);
        let (with, missed, lost) = trial(Metric::HumanClick, effect, Some(scanner));
        let said = format!("{scanner:?}: {:.1}% of machines' clicks missed, {:.2}% of people's lost\n", 100.0 * missed, 100.0 * lost);
        std::io::stdout().write_all(said.as_bytes()).unwrap();
        assert_eq!(with, without, "{scanner:?} with an effect of {effect}");
        assert_eq!(with, if effect > 0.0 { Verdict::Called(1) } else { Verdict::CantTell });
        assert!(missed <= most_missed && lost < 0.01, "{missed} {lost}");
    }
}

#[test]
fn images_fetched_at_once_move_no_trial_on_opens() {
    let scanner = Scanner { every_link: false, after: SECOND, images: true };
    for effect in [0.0, 0.05] {
        let (with, missed, lost) = trial(Metric::HumanOpen, effect, Some(scanner));
        assert_eq!(with, trial(Metric::HumanOpen, effect, None).0);
        assert!(missed == 0.0 && lost < 0.01);
    }
}
