//! A mailing against the norm of its own kind: Laney's p′ chart over the twenty mailings before it. What is rare lies outside its normal limits too
//! often (a second complaint where one was usual), so it is also held to an exact test against all of the twenty.

use crate::DAY;
use crate::channel::Channel;
use crate::id::LetterheadId;
use crate::stats::Arm;
use crate::stats::planning::p_prime_chart;
use crate::stats::rare::chance_of_the_rare;
use serde::Serialize;
use utoipa::ToSchema;

/// So many earlier mailings make a norm.
pub const BASELINE: usize = 20;
/// Outside is what chance among people leaves so seldom on a side: as three standard deviations do.
const OUTSIDE: f64 = 0.00135;
/// They are of so many days.
const WITHIN_DAYS: i64 = 365;

/// A mailing as it is held against others.
#[derive(Debug, Clone, Copy)]
pub struct Point {
    pub at: i64,
    pub topic: Option<i64>,
    pub letterhead: LetterheadId,
    pub channel: Channel,
    pub arm: Arm,
}

/// Of which kind a norm is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    Topic,
    Letterhead,
}

/// The norm of a mailing.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = OwnNorm)]
pub struct Norm {
    pub kind: Kind,
    pub center: f64,
    pub lower: f64,
    pub upper: f64,
    /// Outside its limits.
    pub outside: bool,
}

/// The norm of a mailing among all of them in the order of time: of the twenty before it with its topic in twelve months, or else with its
/// letterhead; none of one with fewer before it.
#[must_use]
pub fn of(points: &[Point], i: usize) -> Option<Norm> {
    let p = points.get(i)?;
    let earlier = |kind: Kind| -> Option<(Kind, Vec<Arm>)> {
        let alike = |q: &&Point| match kind {
            _ if q.channel != p.channel => false,
            Kind::Topic => p.topic.is_some() && q.topic == p.topic,
            Kind::Letterhead => q.letterhead == p.letterhead,
        };
        let since = p.at - WITHIN_DAYS * DAY;
        let mut before: Vec<Arm> = points[..i]
            .iter()
            .rev()
            .take_while(|q| q.at >= since)
            .filter(alike)
            .filter(|q| q.arm.trials > 0)
            .map(|q| q.arm)
            .take(BASELINE)
            .collect();
        before.reverse();
        (before.len() == BASELINE).then_some((kind, before))
    };
    let (kind, mut arms) = earlier(Kind::Topic).or_else(|| earlier(Kind::Letterhead))?;
    if p.arm.trials == 0 {
        return None;
    }
    let before = arms.iter().copied().sum::<Arm>();
    arms.push(p.arm);
    let chart = p_prime_chart(&arms, BASELINE).ok()?.chart;
    #[allow(clippy::cast_precision_loss)]
    let above = p.arm.successes as f64 > chart.center * p.arm.trials as f64;
    Some(Norm {
        kind,
        center: chart.center,
        lower: chart.lower[BASELINE],
        upper: chart.upper[BASELINE],
        outside: chart.signals.contains(&BASELINE) && chance_of_the_rare(p.arm, before, above) < OUTSIDE,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The norm of each of some mailings, in the order of time.
    fn of_each(points: &[Point]) -> Vec<Option<Norm>> {
        (0..points.len()).map(|i| of(points, i)).collect()
    }

    fn points(n: usize, topic: impl Fn(usize) -> i64) -> Vec<Point> {
        (0..n)
            .map(|i| Point {
                at: i as i64 * 7 * DAY,
                topic: Some(topic(i)),
                letterhead: LetterheadId(1),
                channel: Channel::Email,
                arm: Arm { successes: 250 + (i as u64 * 37) % 20, trials: 1_000 },
            })
            .collect()
    }

    #[test]
    fn only_its_own_kind_of_twelve_months_makes_a_norm() {
        let of_topic = of_each(&points(30, |_| 1));
        assert!(of_topic[..BASELINE].iter().all(Option::is_none));
        assert!(of_topic[BASELINE..].iter().all(|n| n.is_some_and(|n| n.kind == Kind::Topic && !n.outside)));
        // Of two topics neither has twenty: the letterhead has.
        assert_eq!(of_each(&points(30, |i| i as i64 % 2))[25].unwrap().kind, Kind::Letterhead);
        // Weeks apart that many are older than a year.
        let slow: Vec<Point> = points(30, |_| 1).into_iter().map(|p| Point { at: p.at * 4, ..p }).collect();
        assert!(of_each(&slow).iter().all(Option::is_none));
    }

    /// A third complaint where one was usual is no news; twenty are.
    #[test]
    fn what_is_rare_is_outside_by_more_than_a_message_or_two() {
        let mut all = points(21, |_| 1);
        (0..).zip(&mut all).for_each(|(i, p)| p.arm = Arm { successes: u64::from(i % 3 == 0), trials: 2_000 });
        all[20].arm.successes = 3;
        let norm = of(&all, 20).unwrap();
        assert!(3.0 / 2_000.0 > norm.upper && !norm.outside);
        all[20].arm.successes = 20;
        assert!(of(&all, 20).unwrap().outside);
    }

    #[test]
    fn what_lies_far_outside_is_said() {
        let mut all = points(24, |_| 1);
        all[23].arm.successes = 120;
        let norms = of_each(&all);
        assert!(norms[23].unwrap().outside && !norms[22].unwrap().outside);
        // A text message is no email.
        all[23].channel = Channel::Text;
        assert_eq!(of_each(&all)[23], None);
    }
}
