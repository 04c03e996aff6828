use super::*;
use crate::id::SegmentId;
use crate::trial::plan::Aim;
use crate::trial::plan::tests::plan as two_points;
use proptest::prelude::*;
use rstest::rstest;

fn plan() -> Plan {
    Plan { effect: 0.01, ..two_points() }
}

fn holds() -> Beside {
    Beside { assignment_holds: true, ..Beside::default() }
}

fn counts<const N: usize>(n: u64, opens: [u64; N], left: [u64; N], handed: [u64; N]) -> Vec<ArmCounts> {
    (0..N)
        .map(|i| ArmCounts {
            assigned: n,
            handed_over: handed[i],
            accepted: handed[i],
            primary: opens[i],
            reported: opens[i],
            left: left[i],
            ..ArmCounts::default()
        })
        .collect()
}

#[rstest]
#[case([589, 700], [9, 10], [3000, 3000], true, Verdict::Called(1))]
#[case([700, 589], [9, 10], [3000, 3000], true, Verdict::Called(0))]
#[case([600, 610], [9, 10], [3000, 3000], true, Verdict::CantTell)]
#[case([589, 700], [9, 90], [3000, 3000], true, Verdict::CantTell)]
#[case([589, 700], [9, 10], [3000, 2900], true, Verdict::Void)]
#[case([589, 700], [9, 10], [3000, 3000], false, Verdict::Void)]
fn verdicts(
    #[case] opens: [u64; 2],
    #[case] left: [u64; 2],
    #[case] handed: [u64; 2],
    #[case] assignment_holds: bool,
    #[case] want: Verdict,
) {
    let r = read(&plan(), &counts(3000, opens, left, handed), &Beside { assignment_holds, ..Beside::default() }).unwrap();
    assert_eq!(r.verdict, want, "{}", r.sentence);
}

#[rstest]
// The best is better than every other, or it isn't called.
#[case([589, 600, 720], None, Verdict::Called(2), None)]
#[case([589, 700, 720], None, Verdict::CantTell, None)]
// Against a control two may win; the one with more goes out.
#[case([589, 700, 720], Some(0), Verdict::Called(2), Some(1))]
#[case([720, 589, 600], Some(0), Verdict::Called(0), None)]
#[case([720, 589, 719], Some(0), Verdict::CantTell, None)]
fn three_arms(#[case] opens: [u64; 3], #[case] control: Option<usize>, #[case] want: Verdict, #[case] also: Option<usize>) {
    let r = read(&Plan { control, ..plan() }, &counts(3000, opens, [9; 3], [3000; 3]), &holds()).unwrap();
    assert_eq!((r.verdict, r.also), (want, also), "{}", r.sentence);
    assert!(r.pairs.iter().all(|p| p.lower <= p.primary.lower && p.upper >= p.primary.upper), "all together is wider than each alone");
}

#[test]
fn a_stopped_arm_or_a_broken_seal_is_never_called() {
    let stopped = vec![Stopped { arm: 1, against: 0, harm: "leaving".into(), z: 4.0, z_bound: 3.0, at: 0 }];
    let better = counts(3000, [589, 700], [9, 10], [3000, 3000]);
    let r = read(&plan(), &better, &Beside { stopped, ..holds() }).unwrap();
    assert!(r.verdict == Verdict::CantTell && r.notes[0].contains("B was stopped"), "{:?}", r.notes);
    let r = read(&plan(), &better, &Beside { broken: Some("The plan differs from its seal.".into()), ..holds() }).unwrap();
    assert_eq!((r.verdict, r.notes), (Verdict::Void, vec!["The plan differs from its seal.".to_owned()]));
    let r = read(&Plan { aim: Aim::Earn, ..plan() }, &counts(3000, [600, 601], [9, 10], [3000, 3000]), &holds()).unwrap();
    assert!(r.verdict == Verdict::Ahead(1) && r.sentence.contains("nothing is proven"));
}

#[test]
fn responses_taken_out_of_one_arm_more_are_a_warning_and_change_nothing() {
    let mut c = counts(3_000, [589, 700], [9, 10], [3_000; 2]);
    (c[0].removed, c[1].removed) = (700, 1_400);
    let r = read(&plan(), &c, &holds()).unwrap();
    assert!(r.verdict == Verdict::Called(1) && r.notes[0].contains("taken out as machines'"), "{:?}", r.notes);
}

#[test]
fn close_arms_with_many_people_are_too_close_to_matter() {
    let r = read(&plan(), &counts(200_000, [40_000, 40_100], [9, 10], [200_000; 2]), &holds()).unwrap();
    assert_eq!(r.verdict, Verdict::TooCloseToMatter);
    assert!(r.sentence.contains("A goes out, as sealed"));
}

#[test]
fn fewer_people_leaving_is_better_and_is_no_guardrail_besides() {
    let plan = Plan { metric: Metric::Leaving, effect: 0.002, ..plan() };
    let r = read(&plan, &counts(20_000, [160, 80], [160, 80], [20_000; 2]), &holds()).unwrap();
    assert_eq!(r.verdict, Verdict::Called(1));
    assert!(r.sentence.starts_with("Called for B: 0.4 fewer people leaving per 100 people, between 0.2 and 0.6"), "{}", r.sentence);
    assert!(r.pairs[0].guardrails.iter().all(|g| g.name != "leaving") && r.bayes.unwrap().prob_best[1] > 0.99);
}

#[test]
fn money_is_read_by_the_arms_drawn_again_with_welch_beside() {
    let plan = Plan { metric: Metric::Revenue, effect: 0.5, goal: crate::trial::plan::tests::goal("GBP"), no_mail: 1, ..plan() };
    let values = |n: usize, each: f64| (0..n).map(|i| each + (i % 10) as f64).collect::<Vec<f64>>();
    let values = vec![values(300, 20.0), values(420, 22.0), values(100, 20.0)];
    let counts: Vec<ArmCounts> = values
        .iter()
        .zip([3_000, 3_000, 0])
        .map(|(v, handed_over)| ArmCounts {
            assigned: 3_000,
            handed_over,
            primary: v.len() as u64,
            reported: v.len() as u64,
            sum: v.iter().sum(),
            squares: v.iter().map(|x| x * x).sum(),
            ..ArmCounts::default()
        })
        .collect();
    // As rules before version 5 read it: by Welch's test, with limits by resampling beside.
    let before = read_by(Rule::of(4).unwrap(), &plan, &counts, &Beside { values: values.clone(), ..holds() }).unwrap();
    let (p, by_draws) = (&before.pairs[0], before.pairs[0].resampled.unwrap());
    assert!((by_draws.lower - p.lower).abs() < 0.1 && (by_draws.upper - p.upper).abs() < 0.1 && before.verdict == Verdict::Called(1));
    let amounts = vec![Amounts { stretch: 0, people: vec![3_000; 3], brought: values }];
    let r = read(&plan, &counts, &Beside { amounts, ..holds() }).unwrap();
    assert!(r.verdict == Verdict::Called(1) && r.sentence.contains("1.26 GBP more a person"), "{}", r.sentence);
    let (p, welch) = (&r.pairs[0], r.pairs[0].welch.unwrap());
    assert!(p.test == Some(Test::Redrawn) && (welch.lower - p.lower).abs() < 0.1 && (welch.upper - p.upper).abs() < 0.1);
    assert!(r.pairs[0].resampled.is_none() && r.bayes.is_none() && r.omnibus.is_none());
    // Those without mail are lost to nobody, and call nothing: they say what mail as such brings.
    assert!(r.loss_p > 0.99 && r.arms.len() == 2 && r.no_mail.unwrap().counts.primary == 100);
    assert!(r.lift.len() == 2 && r.lift.iter().all(|l| l.lower > 0.0 && l.adjusted_p < 0.001));
}

#[test]
fn money_that_nobody_brought_is_not_too_close_to_matter() {
    let plan = Plan { metric: Metric::Revenue, effect: 0.5, goal: crate::trial::plan::tests::goal("GBP"), ..plan() };
    let r = read(&plan, &counts(3_000, [0, 0], [9, 9], [3_000; 2]), &holds()).unwrap();
    assert!(r.verdict == Verdict::CantTell && r.sentence.contains("nobody brought anything"), "{}", r.sentence);
}

#[test]
fn what_cannot_be_known_is_bounded_and_who_stops_on_sight_calls_nothing() {
    let mut c = counts(3_000, [489, 600], [9, 10], [3_000; 2]);
    (c[0].unknown, c[1].unknown) = (500, 480);
    let r = read(&plan(), &c, &holds()).unwrap();
    let worst = r.pairs[0].worst.unwrap();
    assert!((worst.lower - (600.0 - 989.0) / 3_000.0).abs() < 1e-12 && (worst.upper - (1_080.0 - 489.0) / 3_000.0).abs() < 1e-12);
    assert!(r.verdict == Verdict::Called(1) && r.remarks[0].starts_with("Of 980 of 6,000 people (16%)"), "{:?}", r.remarks);
    let r = read(&plan(), &c, &Beside { ended_on_sight: true, ..holds() }).unwrap();
    assert!(r.verdict == Verdict::CantTell && r.notes[0].contains("ended before"), "{:?}", r.notes);
}

#[test]
fn four_against_nobody_is_no_call() {
    let plan = Plan { metric: Metric::Reply, effect: 0.001, ..plan() };
    let r = read(&plan, &counts(1_000, [0, 4], [0, 0], [1_000; 2]), &holds()).unwrap();
    assert!(r.verdict == Verdict::CantTell && r.pairs[0].test == Some(Test::MidP) && r.pairs[0].lower <= 0.0, "{:?}", r.pairs[0]);
    // By version 4 it was one.
    let before = read_by(Rule::of(4).unwrap(), &plan, &counts(1_000, [0, 4], [0, 0], [1_000; 2]), &holds()).unwrap();
    assert_eq!(before.verdict, Verdict::Called(1));
}

#[test]
fn a_subgroup_that_answers_otherwise_is_seen_and_changes_nothing() {
    let groups = vec![crate::trial::plan::Subgroup { name: "Members".into(), segment: SegmentId(1) }];
    let plan = Plan { subgroups: groups, ..plan() };
    let all = counts(4_000, [800, 800], [9, 9], [4_000; 2]);
    let inside = vec![
        ArmCounts { assigned: 1_000, primary: 150, ..ArmCounts::default() },
        ArmCounts { assigned: 1_000, primary: 250, ..ArmCounts::default() },
    ];
    let r = read(&plan, &all, &Beside { subgroups: vec![inside], ..holds() }).unwrap();
    let row = &r.subgroups[0].rows[0];
    assert!(r.verdict == Verdict::CantTell && row.interaction_p < 0.001 && row.inside_lower > 0.0 && row.outside < 0.0);
    assert!((row.inside - 0.1).abs() < 1e-12 && (row.outside + 100.0 / 3_000.0).abs() < 1e-12);
}

proptest! {
    /// Names of arms decide nothing: turned around, the reading turns with them.
    #[test]
    fn turning_the_arms_turns_the_verdict(opens in prop::collection::vec(300u64..800, 2..6), by in 1usize..5, control in prop::option::of(0usize..6)) {
        let n = opens.len();
        let control = control.filter(|c| *c < n);
        let by = by % n;
        let of = |opens: &[u64], control| {
            let counts: Vec<ArmCounts> = opens.iter().map(|o| ArmCounts { assigned: 3000, handed_over: 3000, primary: *o, reported: *o, ..ArmCounts::default() }).collect();
            read(&Plan { control, on_no_call: None, ..plan() }, &counts, &holds()).unwrap()
        };
        let turned: Vec<u64> = (0..n).map(|i| opens[(i + by) % n]).collect();
        let (a, b) = (of(&opens, control), of(&turned, control.map(|c| (c + n - by) % n)));
        let back = |v: Verdict| match v { Verdict::Called(i) => Verdict::Called((i + by) % n), v => v };
        // Two arms with the same count are told apart by their place alone.
        let mut distinct = opens.clone();
        distinct.sort_unstable();
        distinct.dedup();
        if distinct.len() == n {
            prop_assert_eq!(a.verdict, back(b.verdict));
        }
        prop_assert!((a.bayes.unwrap().prob_best.iter().sum::<f64>() - 1.0).abs() < 1e-6);
    }
}
