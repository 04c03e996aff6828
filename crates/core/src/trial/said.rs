//! The verdict as a sentence, and what has to be known to read it.

use super::companies::Design;
use super::crossed::Margin;
use super::letter;
use super::metric::Metric;
use super::plan::{Aim, Plan};
use super::reading::{ArmCounts, Pair, Verdict};

/// A pair turned so that it says how an arm stands to the other: difference, lower, upper, the other.
fn stands(p: &Pair, arm: usize) -> (f64, f64, f64, usize) {
    if p.arm == arm { (p.difference, p.lower, p.upper, p.base) } else { (-p.difference, -p.upper, -p.lower, p.arm) }
}

/// "between 1.6 and 5.8": sizes the way they were spoken of, the one nearer to nothing first.
fn between(plan: &Plan, (low, high): (f64, f64)) -> String {
    let sign = plan.metric.sign();
    let (near, far) = if sign < 0.0 { (-high, -low) } else { (low, high) };
    format!("between {} and {}", plan.bound(near), plan.bound(far))
}

/// What the verdict says, with the sizes behind it, and what goes out on no call.
pub(super) fn sentence(
    plan: &Plan,
    verdict: Verdict,
    also: Option<usize>,
    (pairs, margins): (&[Pair], &[Margin]),
    (arms, tells): (usize, bool),
) -> String {
    let (metric, sign) = (plan.metric.words(), plan.metric.sign());
    let fate = match plan.on_no_call {
        Some(arm) => format!("{} goes out, as sealed", letter(arm)),
        None => "nothing goes out, as sealed".to_owned(),
    };
    let by_arm = !margins.is_empty() && !pairs.is_empty();
    if let (Verdict::Called(arm), false, false) = (verdict, margins.is_empty(), by_arm) {
        return crossed_sentence(plan, arm, margins);
    }
    // The rival that came closest is what the arm has to be seen against.
    let closest = |arm: usize| {
        let mine = pairs.iter().filter(|p| p.arm == arm || p.base == arm).map(|p| stands(p, arm));
        mine.min_by(|a, b| (sign * a.0).total_cmp(&(sign * b.0))).unwrap_or((0.0, 0.0, 0.0, arm))
    };
    match verdict {
        Verdict::Called(arm) => {
            let (difference, low, high, other) = closest(arm);
            let least = if sign < 0.0 { -high } else { low };
            let small = if least < plan.effect { ", so it may be too small to matter" } else { "" };
            let than = match (arms, plan.control) {
                (2, _) => String::new(),
                (_, Some(c)) if c != arm => format!(" than {}, the control", letter(c)),
                _ if by_arm => format!(" than {}, which goes out on no call", letter(other)),
                _ => format!(" than {}, and {}", letter(other), better_than(pairs, arm, arms)),
            };
            let rival = also.map_or_else(String::new, |b| {
                format!(
                    " {} beat {} too; which of the two is better isn't decided, and the one that did better goes out.",
                    letter(b),
                    if by_arm { letter(other).to_string() } else { "the control".to_owned() }
                )
            });
            format!("Called for {}: {}{than}, {}{small}.{rival}", letter(arm), plan.more(difference), between(plan, (low, high)))
        }
        Verdict::NoWorse(arm) => {
            let (difference, low, high, other) = closest(arm);
            format!(
                "{} is no worse than {}: {}, {}, and it may lose {}. {} goes out.",
                letter(arm),
                letter(other),
                plan.more(difference),
                between(plan, (low, high)),
                plan.amount(plan.effect),
                letter(arm)
            )
        }
        Verdict::Ahead(arm) => {
            let (difference, low, high, other) = closest(arm);
            format!(
                "{} goes out: {} than {} in the pilot, {}. It was planned to earn, so nothing is proven.",
                letter(arm),
                plan.more(difference),
                letter(other),
                between(plan, (low, high))
            )
        }
        Verdict::TooCloseToMatter => format!(
            "Too close to matter: whatever the difference in {metric}, it is smaller than the {} worth having; {fate}.",
            plan.amount(plan.effect)
        ),
        Verdict::CantTell if plan.aim == Aim::NoWorse => {
            let control = plan.control.unwrap_or(0);
            let (_, low, high, _) = closest(1 - control.min(1));
            let worst = if sign < 0.0 { high } else { -low };
            format!(
                "Not shown that {} is no worse than {}: it may lose {}, of {} that it might; {fate}.",
                letter(1 - control.min(1)),
                letter(control),
                plan.amount(worst.max(0.0)),
                plan.amount(plan.effect)
            )
        }
        Verdict::CantTell if plan.aim == Aim::Earn => format!("Nothing goes ahead: every arm breaches a guardrail or was stopped; {fate}."),
        Verdict::CantTell if by_arm => format!(
            "Can't tell: the two changes don't simply add up, and no arm is shown to do better in {metric} than {}; {fate}.",
            letter(pairs[0].base)
        ),
        Verdict::CantTell if !margins.is_empty() => format!("Can't tell: neither change is shown to move {metric}; {fate}."),
        Verdict::CantTell if !tells => {
            format!("Can't tell: in an arm nobody brought anything within the window, so nothing says how the arms differ; {fate}.")
        }
        Verdict::CantTell if arms == 2 => {
            let p = &pairs[0];
            let least = if p.lower > 0.0 { plan.more(p.lower) } else { unsigned(plan, p.lower) };
            format!("Can't tell: {} may have from {least} to {} than {}; {fate}.", letter(p.arm), plan.more(p.upper), letter(p.base))
        }
        Verdict::CantTell => {
            let than = plan.control.map_or_else(|| "every other".to_owned(), |c| format!("the control {}", letter(c)));
            let better = if sign < 0.0 { "fewer" } else { "more" };
            format!("Can't tell: no arm is shown to have {better} {metric} than {than}; {fate}.")
        }
        Verdict::Void => format!("Void: the trial was broken, so nothing is read from it; {fate}."),
    }
}

/// "better than every other arm"; where some were never open at the same time, those it was compared with.
fn better_than(pairs: &[Pair], arm: usize, arms: usize) -> String {
    let with: Vec<usize> = pairs.iter().filter(|p| p.arm == arm || p.base == arm).map(|p| stands(p, arm).3).collect();
    let named = |of: Vec<usize>| of.into_iter().map(|i| letter(i).to_string()).collect::<Vec<_>>().join(", ");
    let never: Vec<usize> = (0..arms).filter(|i| *i != arm && !with.contains(i)).collect();
    if never.is_empty() {
        return "better than every other arm".to_owned();
    }
    format!(
        "better than every arm that it was compared with ({}; never with {}, which was open at another time)",
        named(with),
        named(never)
    )
}

/// "3.9 fewer", "0.35 GBP less": the lower end of a range whose upper end names the unit.
fn unsigned(plan: &Plan, low: f64) -> String {
    let size = plan.bound(low.abs());
    if plan.metric.is_money() { format!("{size} {} less", plan.currency()) } else { format!("{size} fewer") }
}

fn crossed_sentence(plan: &Plan, arm: usize, margins: &[Margin]) -> String {
    let said: Vec<String> = margins
        .iter()
        .map(|m| match m.called {
            Some(with) => {
                let turned = if with { (m.difference, m.lower, m.upper) } else { (-m.difference, -m.upper, -m.lower) };
                let side = if with { "with" } else { "without" };
                format!("{side} “{}” {}, {}", m.name, plan.more(turned.0), between(plan, (turned.1, turned.2)))
            }
            None => format!("“{}” isn't shown to matter and stands as sealed for no call", m.name),
        })
        .collect();
    format!("Called for {}: {}.", letter(arm), said.join("; "))
}

/// What nobody can know, said beside the verdict: how many they are, and how far it could move what was found.
#[allow(clippy::cast_precision_loss)]
pub(super) fn unknown_remark(plan: &Plan, pairs: &[Pair], counts: &[ArmCounts]) -> Option<String> {
    let (unknown, all) = counts.iter().fold((0, 0), |n, c| (n.0 + c.unknown, n.1 + c.assigned));
    let p = pairs.iter().find(|p| p.worst.is_some())?;
    let w = p.worst?;
    Some(format!(
        "Of {} of {} people ({:.0}%) the opens can't be known; the others decide. If all of {}'s unknown had opened and none of {}'s, {} would have {} than {}; the other way round {}.",
        crate::words::thousands(unknown),
        crate::words::thousands(all),
        100.0 * unknown as f64 / all.max(1) as f64,
        letter(p.base),
        letter(p.arm),
        letter(p.arm),
        plan.more(w.lower),
        letter(p.base),
        plan.more(w.upper)
    ))
    .filter(|_| plan.metric == Metric::HumanOpen)
}

/// Companies whose people aren't as many answers as they are people.
pub(super) fn company_remark(design: &[Design]) -> Option<String> {
    let most = design.iter().map(|d| d.effect).fold(1.0, f64::max);
    (most > 1.05).then(|| {
        format!("People of one company answered alike in one arm more than in another: taken by company, the variance is {most:.2} times as large, and intervals and p go by that.")
    })
}
