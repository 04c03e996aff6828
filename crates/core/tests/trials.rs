//! Whole trials, simulated: cleared, drawn, assigned, answered in time, looked at for harm, decided. Without a true effect they are
//! called no more often than alpha says, however many arms there are and however fast one of them is answered; with the
//! planned effect they are called right as often as the power asks.

use chacha20::ChaCha12Rng;
use rand::{Rng, RngExt, SeedableRng};
use rinse_core::caps::{Cap, Kind, Message, Scope, Window};
use rinse_core::clearance::columns::{Base, Marks, Messages, NONE, Ready};
use rinse_core::clearance::{Class, Facts, Outcome, OverCap, RuleSet};
use rinse_core::holdout::Holdout;
use rinse_core::id::ContactId;
use rinse_core::stats::sample_size::sample_size_two_proportions;
use rinse_core::trial::assign::{Person, Placed, assign, draw_pilot, strata};
use rinse_core::trial::looks::{look, plan_looks};
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{ArmCounts, Verdict};
use rinse_core::trial::rules::decide;
use rinse_core::zone::TimeZone;
use rinse_core::{DAY, HOUR, Instant};
use rstest::rstest;

/// The world that a trial runs in.
#[derive(Clone, Copy)]
struct World {
    arms: usize,
    per_arm: usize,
    control: Option<usize>,
    /// What the last arm's people answer more.
    effect: f64,
    /// How much faster the last arm's people answer.
    faster: f64,
    /// How many of the others answer.
    rate: f64,
    /// How many times as many people the last arm has.
    larger: u32,
}

impl World {
    const fn plain(arms: usize, per_arm: usize, control: Option<usize>) -> Self {
        Self { arms, per_arm, control, effect: 0.0, faster: 1.0, rate: BASE, larger: 1 }
    }

    fn parts(&self) -> Vec<u32> {
        (0..self.arms).map(|i| if i + 1 == self.arms { self.larger } else { 1 }).collect()
    }
}

const BASE: f64 = 0.2;
const LEAVE: f64 = 0.004;

fn plan(w: World) -> Plan {
    Plan {
        metric: Metric::HumanClick,
        effect: 0.08,
        pilot_share: 0.5,
        window_hours: 72,
        leaving_margin: 0.01,
        control: w.control,
        harm_looks: 3,
        ..Plan::usual("?")
    }
}

/// When somebody acts after the handover: exponential, with this mean in hours.
fn delay(rng: &mut impl Rng, mean: f64) -> i64 {
    (-(1.0 - rng.random::<f64>()).ln() * mean * HOUR as f64) as i64
}

const BEGAN: Instant = Instant::of(1_774_569_600_000);

/// People of whom some never agreed, took a break, rest or are retired, have left the topic, or got mail lately.
fn people(rng: &mut impl Rng, n: usize) -> (Base, Messages, Marks) {
    let mut b = Base { countries: vec![String::new()], zones: vec![TimeZone::UTC], ..Base::default() };
    let (mut marks, mut messages) = (Marks::default(), Vec::new());
    for i in 0..n as i64 {
        b.contact.push(ContactId(i));
        b.consent.push([2, 3, 2, 3, 2, 3, 2, 0, 4, 5][rng.random_range(0..10)]);
        b.under_pause.push(2);
        b.status.push(if rng.random::<f64>() < 0.05 { 3 } else { 0 });
        b.status_until.push(NONE);
        b.paused_until.push(BEGAN.millis() + rng.random_range(0..20 * DAY));
        b.country.push(0);
        b.zone.push(0);
        b.sunset.push(rng.random::<f64>() < 0.03);
        marks.flags.push(if rng.random::<f64>() < 0.04 { Marks::TOPIC_LEFT } else { 0 });
        for _ in 0..rng.random_range(0..4) {
            let at = BEGAN + rng.random_range(-10 * DAY..0);
            messages
                .push((ContactId(i), Message { at, kind: Kind { channel: 1, topic: 1, letterhead: 1, series: false }, reserved: None }));
        }
    }
    let messages = Messages::hang(&b.contact, &messages);
    (b, messages, marks)
}

/// How many of `runs` trials call the last arm, and how many call another.
fn calls(w: World, runs: u64, seed: u64) -> (u64, u64) {
    let plan = plan(w);
    let looks = plan_looks(&plan, |t| LEAVE * (1.0 - (-(t as f64) / (12.0 * HOUR as f64)).exp())).unwrap();
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    let parts = w.parts();
    let pilot_size = w.per_arm * parts.iter().sum::<u32>() as usize;
    let (base, messages, marks) = people(&mut rng, pilot_size * 4);
    let cap = Cap { limit: 3, window: Window::Days { n: 7 }, scope: Scope::Marketing, in_force: true };
    let set = RuleSet { caps: vec![cap], holdout: Some(Holdout { share: 0.05 }), ..RuleSet::default() };
    let facts = Facts {
        class: Class::Marketing,
        kind: Kind { channel: 1, topic: 1, letterhead: 1, series: false },
        rank: (3, 1),
        over_cap: OverCap::Hold,
        hold_limit: 7 * DAY,
        zone: TimeZone::UTC,
        country: None,
        complainers_too: false,
    };
    // A hundred clearances, each at an instant of its own: breaks end, and what counts towards the cap grows old.
    let cleared: Vec<Vec<Placed>> = (0..100)
        .map(|hour| {
            let at = BEGAN + hour * 4 * HOUR;
            let rules = set.for_mailing(&facts, at);
            let ready = Ready::new(&base, &marks, &rules, at);
            let goes = (0..base.contact.len()).filter(|i| ready.clear(*i, &messages) == Outcome::Cleared);
            let person = |i: usize| Person {
                contact: ContactId(i as i64),
                domain: 1 + (i % 3) as u32,
                cell: (i % 7 < 5).then_some((i % 7) as u8),
                opens_unknown: false,
            };
            strata(&goes.map(person).collect::<Vec<_>>())
        })
        .collect();
    let (mut last, mut other) = (0, 0);
    for run in 0..runs {
        let pilot = draw_pilot(seed ^ run, &cleared[(run % 100) as usize], pilot_size);
        assert_eq!(pilot.len(), pilot_size, "enough are cleared");
        let roster = assign(seed ^ run, &pilot, &parts);
        let window = plan.window_hours * HOUR;
        let mut left_at = Vec::new();
        let mut counts = vec![ArmCounts::default(); w.arms];
        for e in &roster {
            let (is_last, c) = (e.arm == w.arms - 1, &mut counts[e.arm]);
            c.assigned += 1;
            c.handed_over += 1;
            if rng.random::<f64>() < w.rate + if is_last { w.effect } else { 0.0 } {
                let mean = if is_last { 9.0 / w.faster } else { 9.0 };
                c.primary += u64::from(delay(&mut rng, mean) < window);
            }
            if rng.random::<f64>() < LEAVE {
                let at = delay(&mut rng, 12.0);
                if at < window {
                    c.left += 1;
                    left_at.push((at, e.arm));
                }
            }
        }
        let mut stopped = Vec::new();
        for l in &looks {
            let mut then = counts.clone();
            then.iter_mut().for_each(|c| c.left = 0);
            left_at.iter().filter(|(at, _)| *at <= l.at).for_each(|(_, arm)| then[*arm].left += 1);
            stopped.extend(look(&plan, then.as_slice().into(), l, 0).unwrap().into_iter().map(|s| s.arm));
        }
        match decide(&plan, counts.as_slice().into(), &stopped).unwrap().0 {
            Verdict::Called(arm) if arm == w.arms - 1 => last += 1,
            Verdict::Called(_) => other += 1,
            _ => {}
        }
    }
    (last, other)
}

#[rstest]
#[case::two(World::plain(2, 400, None))]
#[case::two_and_one_is_faster(World { faster: 6.0, ..World::plain(2, 400, None) })]
#[case::three(World::plain(3, 300, None))]
#[case::six_against_a_control(World { faster: 3.0, ..World::plain(6, 200, Some(0)) })]
#[case::rare(World { rate: 0.003, ..World::plain(2, 500, None) })]
#[case::rare_at_one_to_ten(World { rate: 0.008, larger: 10, ..World::plain(2, 100, None) })]
#[case::three_at_one_to_three(World { larger: 3, ..World::plain(3, 150, None) })]
fn with_nothing_between_them_few_are_called(#[case] w: World) {
    let runs = 20_000;
    let (last, other) = calls(w, runs, 11);
    let most = 0.05 + 3.0 * (0.05 * 0.95 / runs as f64).sqrt();
    let share = (last + other) as f64 / runs as f64;
    assert!(share <= most, "{share} of {} arms called, {most} at most", w.arms);
}

#[rstest]
#[case::two(2, None)]
#[case::three_against_a_control(3, Some(0))]
#[case::six_against_a_control(6, Some(0))]
fn the_planned_effect_is_found_as_often_as_planned(#[case] arms: usize, #[case] control: Option<usize>) {
    let comparisons = (arms - 1) as f64;
    let n = sample_size_two_proportions(BASE, 0.08, 0.05 / comparisons, 0.8, 1.0, 2).unwrap().n_a.ceil() as usize;
    let runs = 1_500;
    let (right, wrong) = calls(World { effect: 0.08, ..World::plain(arms, n, control) }, runs, 5);
    let least = 0.8 - 3.0 * (0.8 * 0.2 / runs as f64).sqrt();
    assert!(right as f64 / runs as f64 >= least, "{right} of {runs} right, {wrong} wrong, with {n} per arm");
}
