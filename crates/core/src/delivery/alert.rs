//! Alerts: what a mailbox group does with our mail that it shouldn't, from the mailing that showed it to the third in a row within limits.
//!
//! An alert is a fold over the group's mailings in the order of time, so that it can be worked out again at any instant from what was counted: it
//! neither flaps (one quiet mailing ends nothing) nor lingers (three within limits end it).

use super::junk::{self, Opens};
use super::{ACT, About, WARN, about};
use crate::report::{Rate, THIN_BELOW};
use crate::stats::Arm;
use crate::stats::planning::p_prime_chart;
use crate::stats::special::beta_tails;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Complaints over this share of delivered mail are looked at …
pub const COMPLAINTS_WARN: f64 = 0.001;
/// … and over this one something is wrong.
pub const COMPLAINTS_ACT: f64 = 0.003;
/// So many mailings in a row within limits end an alert.
pub const QUIET: usize = 3;
/// A mark is passed where a group that stands right at it would come to as much with this chance at most: with many groups and mailings one in
/// twenty would cry every week.
const BY_CHANCE: f64 = 0.002;
/// A group's own limits need so many mailings before.
const OWN: usize = 8;

/// What an alert is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AlertKind)]
#[repr(u8)]
pub enum Kind {
    /// Less is let in, because of us.
    Blocked = 0,
    /// Its people complain.
    Complaints = 1,
    /// Its people open far less than elsewhere: mail may lie in the junk folder.
    OpenedLess = 2,
}

impl Kind {
    pub const ALL: [Self; 3] = [Self::Blocked, Self::Complaints, Self::OpenedLess];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Blocked => "less is let in",
            Self::Complaints => "complaints",
            Self::OpenedLess => "opened far less than elsewhere",
        }
    }
}

crate::code::coded!(Kind, "kind of delivery alert");

/// A mailing at a group.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OnMailing {
    /// Messages handed over, and what the hosts said.
    pub sent: u64,
    pub accepted: u64,
    pub blocked: u64,
    pub bounced: u64,
    /// Delivered at domains from which a complaint came in the time that is looked at, and those complaints.
    pub reporting: u64,
    pub complaints: u64,
    /// Of people whose opens can be known, here and everywhere else.
    pub here: Arm,
    pub elsewhere: Arm,
    /// The group was paused by itself while it went.
    pub paused: bool,
}

/// What a mailing says of a kind of alert.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Says {
    Outside,
    Within,
    /// It can't be told: it opens no alert, and ends none.
    Nothing,
}

/// What each of a group's mailings, in the order of time, says of a kind of alert.
#[must_use]
pub fn says(kind: Kind, mailings: &[OnMailing]) -> Vec<Says> {
    match kind {
        Kind::Blocked => (0..mailings.len()).map(|i| of_blocks(mailings, i)).collect(),
        Kind::Complaints => mailings.iter().map(of_complaints).collect(),
        Kind::OpenedLess => junk::says(&mailings.iter().map(|m| Opens { here: m.here, elsewhere: m.elsewhere }).collect::<Vec<_>>()),
    }
}

fn of_blocks(mailings: &[OnMailing], i: usize) -> Says {
    let m = &mailings[i];
    if m.paused {
        return Says::Outside;
    }
    if m.sent == 0 {
        return Says::Nothing;
    }
    let refused = m.sent - m.accepted.min(m.sent);
    let of_us = about(m.blocked, m.bounced) == About::Us;
    let worse = m.sent >= THIN_BELOW && (is_over(refused, m.sent, 1.0 - WARN, BY_CHANCE) || under_own(mailings, i));
    match (of_us, worse) {
        (true, true) => Says::Outside,
        (true, false) if share(refused, m.sent) > 1.0 - WARN => Says::Nothing,
        _ => Says::Within,
    }
}

/// Are so many of so many over a mark, and more than chance would bring to anybody who stands right at it, by the binomial's own tail?
#[allow(clippy::cast_precision_loss)]
pub(super) fn is_over(count: u64, of: u64, mark: f64, by_chance: f64) -> bool {
    // P(X >= x) is the lower tail of Beta(x, n - x + 1) at the mark.
    count > 0 && share(count, of) > mark && beta_tails(count as f64, (of - count) as f64 + 1.0, mark).0 <= by_chance
}

/// Is less let in than by the group's own limits, from what isn't blocked of the mailings before?
fn under_own(mailings: &[OnMailing], i: usize) -> bool {
    let arm = |m: &OnMailing| Arm { successes: m.sent.saturating_sub(m.blocked), trials: m.sent };
    let mut points: Vec<Arm> = mailings[..i].iter().filter(|m| m.sent > 0 && !m.paused).map(arm).collect();
    let before = points.len();
    if before < OWN {
        return false;
    }
    points.push(arm(&mailings[i]));
    p_prime_chart(&points, before)
        .is_ok_and(|p| p.chart.signals.contains(&before) && p.chart.lower[before] > share(points[before].successes, points[before].trials))
}

#[allow(clippy::cast_precision_loss)]
fn share(n: u64, of: u64) -> f64 {
    n as f64 / of.max(1) as f64
}

fn of_complaints(m: &OnMailing) -> Says {
    let complaints = m.complaints.min(m.reporting);
    if m.reporting == 0 {
        return Says::Nothing;
    }
    match (is_over(complaints, m.reporting, COMPLAINTS_WARN, BY_CHANCE), share(complaints, m.reporting) <= COMPLAINTS_WARN) {
        (true, _) => Says::Outside,
        (false, true) => Says::Within,
        (false, false) => Says::Nothing,
    }
}

/// From a mailing to another, by their places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    pub from: usize,
    /// The last one outside its limits.
    pub last: usize,
    /// The one that ended it.
    pub until: Option<usize>,
}

/// The alerts that a group's mailings make.
#[must_use]
pub fn spans(says: &[Says]) -> Vec<Span> {
    let (mut out, mut open, mut quiet): (Vec<Span>, Option<Span>, usize) = (Vec::new(), None, 0);
    for (i, s) in says.iter().enumerate() {
        match (s, &mut open) {
            (Says::Outside, None) => (open, quiet) = (Some(Span { from: i, last: i, until: None }), 0),
            (Says::Outside, Some(span)) => (span.last, quiet) = (i, 0),
            (Says::Within, Some(span)) => {
                quiet += 1;
                if quiet == QUIET {
                    out.push(Span { until: Some(i), ..*span });
                    open = None;
                }
            }
            (Says::Within, None) | (Says::Nothing, _) => {}
        }
    }
    out.extend(open);
    out
}

/// How bad it is: for certain under the second mark.
#[must_use]
pub fn is_grave(kind: Kind, m: &OnMailing) -> bool {
    match kind {
        Kind::Blocked => m.paused || Rate::new(m.accepted.min(m.sent), m.sent).upper.is_some_and(|u| u < ACT),
        Kind::Complaints => is_over(m.complaints.min(m.reporting), m.reporting, COMPLAINTS_ACT, BY_CHANCE),
        Kind::OpenedLess => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn mailing(sent: u64, blocked: u64, bounced: u64) -> OnMailing {
        OnMailing { sent, accepted: sent - blocked - bounced, blocked, bounced, ..OnMailing::default() }
    }

    #[rstest]
    #[case(mailing(1_000, 140, 5), Says::Outside)]
    #[case(mailing(1_000, 5, 5), Says::Within)]
    // Many full mailboxes are no word about us.
    #[case(mailing(1_000, 5, 140), Says::Within)]
    // Under the mark, but not for certain.
    #[case(mailing(1_000, 34, 0), Says::Nothing)]
    #[case(OnMailing { paused: true, ..mailing(60, 0, 0) }, Says::Outside)]
    #[case(mailing(0, 0, 0), Says::Nothing)]
    fn a_mailing_is_outside_for_certain_or_not_at_all(#[case] m: OnMailing, #[case] said: Says) {
        assert_eq!(says(Kind::Blocked, &[m]), [said]);
    }

    #[test]
    fn a_groups_own_limits_see_what_the_marks_dont() {
        let mut all: Vec<OnMailing> = (0..12).map(|i| mailing(2_000, 2 + i % 3, 10)).collect();
        all.push(mailing(2_000, 45, 10));
        assert_eq!(says(Kind::Blocked, &all).last(), Some(&Says::Outside));
        assert!(says(Kind::Blocked, &all[..12]).iter().all(|s| *s == Says::Within));
    }

    #[rstest]
    #[case(3, 10_000, Says::Within)]
    #[case(12, 10_000, Says::Nothing)]
    #[case(40, 10_000, Says::Outside)]
    // Two by chance: a group right at the mark comes to that in six of a hundred mailings.
    #[case(2, 408, Says::Nothing)]
    #[case(5, 788, Says::Outside)]
    #[case(1, 50, Says::Nothing)]
    #[case(0, 50, Says::Within)]
    #[case(0, 0, Says::Nothing)]
    fn complaints_are_held_against_the_mark(#[case] complaints: u64, #[case] reporting: u64, #[case] said: Says) {
        assert_eq!(of_complaints(&OnMailing { complaints, reporting, ..OnMailing::default() }), said);
    }

    /// A group that stands right at a mark is told in no more of its mailings than the chance that was given to it.
    #[test]
    fn a_group_at_the_mark_is_seldom_told() {
        use rand::SeedableRng;
        use rand_distr::{Binomial, Distribution};
        let mut r = chacha20::ChaCha12Rng::seed_from_u64(9);
        for n in [200, 1_500, 20_000] {
            let (complain, refuse) = (Binomial::new(n, COMPLAINTS_WARN).unwrap(), Binomial::new(n, 1.0 - WARN).unwrap());
            let times = 20_000;
            let (mut complaints, mut blocks) = (0, 0);
            for _ in 0..times {
                let m = OnMailing { complaints: complain.sample(&mut r), reporting: n, ..OnMailing::default() };
                complaints += usize::from(of_complaints(&m) == Says::Outside);
                blocks += usize::from(of_blocks(&[mailing(n, refuse.sample(&mut r), 0)], 0) == Says::Outside);
            }
            // Three standard errors over the chance.
            let most = BY_CHANCE * f64::from(times) + 3.0 * (BY_CHANCE * f64::from(times)).sqrt();
            assert!(f64::from(complaints as u32) <= most && f64::from(blocks as u32) <= most, "{complaints}, {blocks} of {times} at {n}");
        }
    }

    fn random_says() -> impl Strategy<Value = Vec<Says>> {
        prop::collection::vec(prop_oneof![Just(Says::Outside), Just(Says::Within), Just(Says::Nothing)], 0..60)
    }

    proptest! {
        /// Each outside is in an alert; an alert ends after three within in a row, no sooner and no later; what can't be told changes nothing.
        #[test]
        fn alerts_neither_flap_nor_linger(says in random_says()) {
            let spans = spans(&says);
            for (i, s) in says.iter().enumerate() {
                let inside = spans.iter().filter(|p| p.from <= i && p.until.is_none_or(|u| i <= u)).count();
                prop_assert!(inside <= 1);
                prop_assert!(*s != Says::Outside || inside == 1);
            }
            for p in &spans {
                prop_assert_eq!(says[p.from], Says::Outside);
                prop_assert_eq!(says[p.last], Says::Outside);
                let end = p.until.map_or(says.len(), |u| u + 1);
                let mut quiet = 0;
                for (i, s) in says.iter().enumerate().take(end).skip(p.from) {
                    match s { Says::Outside => quiet = 0, Says::Within => quiet += 1, Says::Nothing => {} }
                    prop_assert_eq!(quiet == QUIET, p.until == Some(i));
                }
            }
            let told: Vec<Says> = says.iter().copied().filter(|s| *s != Says::Nothing).collect();
            prop_assert_eq!(super::spans(&told).len(), spans.len());
        }

        /// More blocked is never told better.
        #[test]
        fn more_blocked_is_never_told_better(sent in 1u64..5_000, a in 0.0f64..1.0, b in 0.0f64..1.0) {
            let of = |share: f64| { let blocked = (share * sent as f64) as u64; of_blocks(&[mailing(sent, blocked, 0)], 0) };
            let rank = |s: Says| match s { Says::Within => 0, Says::Nothing => 1, Says::Outside => 2 };
            prop_assert!(rank(of(a.min(b))) <= rank(of(a.max(b))));
        }
    }
}
