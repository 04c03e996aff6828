//! The sentences of a reading.

use super::plan::{HourPlan, clock};
use super::reading::{HourVerdict, Reading};
use crate::words::listed;

pub(super) fn points(x: f64) -> String {
    format!("{:.1} points", 100.0 * x)
}

fn p_words(p: f64) -> String {
    if p < 0.001 { "under 0.001".into() } else { format!("{p:.3}") }
}

fn about(p: Option<f64>) -> String {
    p.map_or_else(String::new, |p| format!(" (p {})", p_words(p)))
}

pub(super) fn loss(p: Option<f64>, spread: f64, breaks: bool) -> String {
    let lost = format!("Between the hours {} more or fewer were lost before handover{}", points(spread), about(p));
    if breaks { format!("{lost}: they weren't treated alike.") } else { format!("{lost}: alike enough to compare.") }
}

pub(super) fn machines(p: Option<f64>, spread: f64, breaks: bool) -> String {
    let taken = format!("Machines opened {} more or fewer between the hours{}", points(spread), about(p));
    if breaks {
        format!("{taken}: they don't go by the hour as people do, so opens can't be read. Ask for clicks or replies.")
    } else {
        format!("{taken}: alike.")
    }
}

pub(super) fn own(p: f64, level: f64) -> String {
    let p_value = p_words(p);
    if p < level {
        format!("People differ in which hour suits them (p {p_value}): hours of their own may be worth a confirming trial.")
    } else {
        format!("People don't differ in which hour suits them, as far as this base can tell (p {p_value}): one hour for all.")
    }
}

/// What the verdict is, what it could still be, and what it says of the usual hour.
pub(super) fn sentence(plan: &HourPlan, r: &Reading, why: Option<&str>) -> String {
    if let (Some(g), HourVerdict::Matters | HourVerdict::NotShown) = (&r.gain, r.verdict) {
        return super::confirming::sentence(g);
    }
    match r.verdict {
        HourVerdict::Void => {
            let broken = r.checks.iter().find(|c| c.breaks).map_or("", |c| c.sentence.as_str());
            format!("Void. {broken}")
        }
        HourVerdict::CantTell => {
            format!("Can't tell: {}.", why.unwrap_or("the answers leave nothing to judge by").trim_end_matches('.'))
        }
        HourVerdict::NotShown => {
            let most = r.hours.iter().filter_map(|h| h.upper).fold(0.0, f64::max);
            format!(
                "As far as this base can tell, the hour doesn't matter{}: no hour is better than the average by more than {}.",
                about(r.p_value),
                points(most)
            )
        }
        HourVerdict::Matters => {
            let set: Vec<String> = r.best_set.iter().map(|h| clock(*h)).collect();
            let best = match set.as_slice() {
                [one] => format!("{one} is the best"),
                _ => format!("{} can't be told from the best", listed(&set)),
            };
            let usual = r.hours.iter().find(|h| h.hour == plan.usual_hour);
            let now = match usual.and_then(|h| Some((h.estimate?, h.lower?, h.upper?))) {
                _ if r.best_set.contains(&plan.usual_hour) => {
                    if set.len() > 1 {
                        format!("; the usual hour, {}, is among them", clock(plan.usual_hour))
                    } else {
                        ", and is the usual one".to_owned()
                    }
                }
                Some((d, low, high)) => {
                    let side = if d < 0.0 { "under" } else { "over" };
                    let (low, high) = if d < 0.0 { (-high, -low) } else { (low, high) };
                    format!(
                        "; {}, the usual hour, lies {} {side} the mean of the hours ({:.1} to {:.1})",
                        clock(plan.usual_hour),
                        points(d.abs()),
                        100.0 * low,
                        100.0 * high
                    )
                }
                None => String::new(),
            };
            format!("The hour matters{}. {best}{now}.", about(r.p_value))
        }
    }
}

/// What a reader has to know beside it.
pub(super) fn notes(plan: &HourPlan, r: &Reading) -> Vec<String> {
    let mut out = Vec::new();
    for of in r.rounds.iter().filter_map(|of| of.left_out.as_ref().map(|why| (of.round, why))) {
        out.push(format!("Round {} isn't read: {}.", of.0, of.1));
    }
    if let Some(n) = r.redrawn {
        out.push(format!("Few people or few answers: the p-value is that of {n} draws of the hours again, not of the chi-square."));
    }
    if r.verdict == HourVerdict::Matters && plan.confirms.is_none() {
        out.push("What the best hour gains isn't known from these rounds: the best of several is always ahead by chance, too. A confirming trial of it against the usual hour tells.".into());
    }
    if !r.weekdays.is_empty() {
        out.push(format!("It holds for {}, for messages like these, and for the people who were drawn.", r.weekdays));
    }
    let alone = r.wave.as_ref().filter(|w| w.p_value < plan.alpha && r.verdict == HourVerdict::NotShown);
    if alone.is_some() {
        out.push(
            "A daily wave shows (its own p is under alpha), but it isn't what this trial decides by: plan another to ask for it.".into(),
        );
    }
    out
}
