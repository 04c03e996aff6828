//! The simulated world against its own scenario file: a subject with a true effect is found, one
//! without is called no more often than alpha says.

use rinse_core::Instant;
use rinse_core::stats::Arm;
use rinse_core::stats::two_proportions::two_proportions;
use rinse_standins::network::{Handed, Network, What};
use rinse_standins::people::traits;
use rinse_standins::scenario::Scenario;
use std::collections::HashSet;

/// Sends one message to `n` people per arm and counts how many of each arm looked.
fn openers(network: &Network, trial: usize, n: usize, subjects: [&str; 2]) -> [u64; 2] {
    for (arm, subject) in subjects.iter().enumerate() {
        let messages: Vec<(String, String, String)> = (0..n)
            .map(|i| {
                let id = format!("{trial}.{arm}.{i}@skerry-light.example");
                let body = format!("Subject: {subject}\r\nContent-Type: text/html\r\n\r\n<img src=\"http://h/o/{arm}-{i}\">");
                (id, format!("p{trial}x{arm}x{i}@tern.example"), body)
            })
            .collect();
        let handed: Vec<Handed<'_>> = messages
            .iter()
            .map(|(id, to, body)| Handed { message_id: id, return_path: "back@skerry-light.example", to, bytes: body.as_bytes() })
            .collect();
        assert!(network.hand_over(Instant::of(0), &handed).unwrap().iter().all(|r| r.accepted()));
    }
    let events = network.due(Instant::of(i64::MAX), 1_000_000).unwrap();
    let mut seen: [HashSet<&str>; 2] = [HashSet::new(), HashSet::new()];
    for e in &events {
        if let What::Http { url, .. } = &e.what
            && let Some(who) = url.split("/o/").nth(1)
        {
            seen[usize::from(who.starts_with('1'))].insert(who);
        }
    }
    let counts = [seen[0].len() as u64, seen[1].len() as u64];
    network.done(&events).unwrap();
    counts
}

/// How many of the trials are called for A, and for B.
fn calls(trials: usize, n: usize, subjects: [&str; 2]) -> (usize, usize) {
    let folder = tempfile::tempdir().unwrap();
    let network = Network::open(folder.path(), Scenario::skerry_light(), Instant::of(0), false).unwrap();
    let arm = |x| Arm { successes: x, trials: n as u64 };
    let (mut for_a, mut for_b) = (0, 0);
    for trial in 0..trials {
        let [a, b] = openers(&network, trial, n, subjects);
        let c = two_proportions(arm(a), arm(b), 0.95).unwrap();
        if c.p_value < 0.05 {
            if c.difference > 0.0 { for_b += 1 } else { for_a += 1 }
        }
    }
    (for_a, for_b)
}

#[test]
fn no_true_effect_is_rarely_called() {
    let (a, b) = calls(60, 200, ["The lamps by night", "The lamps by day"]);
    // Binomial(60, 0.05): nine or more has a chance of 0.3%.
    assert!(a + b < 9, "{a} for A, {b} for B");
}

#[test]
fn a_true_effect_is_found_on_its_own_side() {
    let scenario = Scenario::skerry_light();
    assert!(scenario.taste("Free lamps") < -0.2 && scenario.taste("The Tide by night") > 0.1);
    // About 7 points of 27: a power of about 0.85 with 700 an arm.
    let (a, b) = calls(12, 700, ["Free lamps by night", "The tide by night"]);
    assert!(a == 0 && b >= 8, "{a} for A, {b} for B of 12");
}

/// How many more of a hundred people look at a subject than at another, over everybody there could be.
fn truth(scenario: &Scenario, subjects: [&str; 2]) -> f64 {
    let gone = scenario.domain("tern.example").gone;
    let people = 40_000;
    let rate = |subject: &str| {
        let taste = scenario.taste(subject);
        let of = |i| 1.0 / (1.0 + (-(traits(scenario.seed, &format!("t{i}@tern.example"), gone).open + taste)).exp());
        (0..people).map(of).sum::<f64>() / f64::from(people)
    };
    rate(subjects[1]) - rate(subjects[0])
}

#[test]
fn intervals_cover_the_worlds_own_truth_as_often_as_they_say() {
    let (folder, scenario) = (tempfile::tempdir().unwrap(), Scenario::skerry_light());
    let network = Network::open(folder.path(), Scenario::skerry_light(), Instant::of(0), false).unwrap();
    let n = 250;
    let pairs = [
        ["Free lamps by night", "The tide by night"],
        ["The lamps by day", "The tide by night"],
        ["The lamps by night", "The lamps by day"],
    ];
    let (mut covered, mut all) = (0, 0);
    for pair in pairs {
        let truth = truth(&scenario, pair);
        for trial in 0..40 {
            let [a, b] = openers(&network, 1_000 * (all + 1) + trial, n, pair).map(|x| Arm { successes: x, trials: n as u64 });
            let c = two_proportions(a, b, 0.95).unwrap();
            covered += u32::from((c.lower..=c.upper).contains(&truth));
        }
        all += 40;
    }
    // Binomial(120, 0.95): under 107 has a chance of 0.4%.
    assert!(covered >= 107, "{covered} of {all}");
}
