//! Clearance: may this mailing go to this person at this instant?
//!
//! One pure function from a person's standing and the rules to *cleared*, *held until* or *barred*.
//! All reasons are kept; the first in the order below is the one that counts in the sluice, so that
//! its numbers add up.

use crate::caps::Cap;
use crate::consent::Consent;
use crate::upkeep::MailStatus;
use crate::{DAY, Instant};
use serde::{Deserialize, Serialize};

/// Why someone is held or barred, in the order in which reasons count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Reason {
    NoAddress = 0,
    AlreadySent = 1,
    Retired = 2,
    Complained = 3,
    Withdrawn = 4,
    NoConsent = 5,
    TopicLeft = 6,
    Suppressed = 7,
    TrialHoldout = 8,
    OverCap = 9,
    HeldTooLong = 10,
    Resting = 11,
    Paused = 12,
    HeldByCap = 13,
}

impl Reason {
    pub const ALL: [Self; 14] = [
        Self::NoAddress,
        Self::AlreadySent,
        Self::Retired,
        Self::Complained,
        Self::Withdrawn,
        Self::NoConsent,
        Self::TopicLeft,
        Self::Suppressed,
        Self::TrialHoldout,
        Self::OverCap,
        Self::HeldTooLong,
        Self::Resting,
        Self::Paused,
        Self::HeldByCap,
    ];

    /// Holds wait for an instant; every other reason bars.
    #[must_use]
    pub fn holds(self) -> bool {
        self >= Self::Resting
    }

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NoAddress => "No valid address",
            Self::AlreadySent => "Already sent or on its way",
            Self::Retired => "Retired address",
            Self::Complained => "Complained",
            Self::Withdrawn => "Withdrawn",
            Self::NoConsent => "No consent on record",
            Self::TopicLeft => "Left this topic",
            Self::Suppressed => "On the suppression list",
            Self::TrialHoldout => "Kept out as the trial was sealed",
            Self::OverCap => "Over the cap, mailing skips",
            Self::HeldTooLong => "Held too long",
            Self::Resting => "Held: address resting",
            Self::Paused => "Held: asked for a pause",
            Self::HeldByCap => "Held: over the cap",
        }
    }

    #[must_use]
    pub fn from_code(code: i64) -> Option<Self> {
        usize::try_from(code).ok().and_then(|c| Self::ALL.get(c)).copied()
    }
}

/// A set of reasons.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reasons(u16);

impl Reasons {
    fn add(&mut self, reason: Reason) {
        self.0 |= 1 << reason as u8;
    }

    #[must_use]
    pub fn first(self) -> Option<Reason> {
        Reason::from_code(i64::from(self.0.trailing_zeros())).filter(|_| self.0 != 0)
    }

    #[must_use]
    pub fn only(self, reason: Reason) -> bool {
        self.0 == 1 << reason as u8
    }

    pub fn iter(self) -> impl Iterator<Item = Reason> {
        Reason::ALL.into_iter().filter(move |&r| self.0 & (1 << r as u8) != 0)
    }

    fn bars(self) -> bool {
        self.0 & ((1 << Reason::Resting as u8) - 1) != 0
    }
}

/// What a mailing's class means for the rules.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Class {
    Marketing,
    /// Something the recipient expects: a receipt, a booking, security.
    Service,
}

/// What a mailing does with people over the cap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OverCap {
    Hold,
    Skip,
}

/// The rules of one clearance.
#[derive(Debug, Clone, Copy)]
pub struct Rules {
    pub class: Class,
    /// The cap, when there is one and it is in force.
    pub cap: Option<Cap>,
    pub over_cap: OverCap,
    /// Nobody is held past this instant.
    pub give_up_at: Instant,
}

/// How long a mailing holds people by default.
pub const HOLD_LIMIT: i64 = 7 * DAY;

/// One person as clearance sees them, for one mailing.
#[derive(Debug, Clone, Copy)]
pub struct Person<'a> {
    pub has_address: bool,
    pub already_sent: bool,
    pub status: MailStatus,
    pub resting_until: Option<Instant>,
    pub consent: Consent,
    pub paused_until: Option<Instant>,
    pub topic_left: bool,
    pub suppressed: bool,
    pub trial_holdout: bool,
    /// Marketing messages that count towards the cap, reservations included.
    pub counted: &'a [Instant],
}

/// The decision.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    Cleared,
    Held(Instant, Reasons),
    Barred(Reasons),
}

/// Decides for one person and one instant.
#[must_use]
pub fn clear(person: &Person<'_>, rules: &Rules, at: Instant) -> Outcome {
    let marketing = rules.class == Class::Marketing;
    let mut r = Reasons::default();
    let mut bar = |when: bool, reason: Reason| {
        if when {
            r.add(reason);
        }
    };
    bar(!person.has_address, Reason::NoAddress);
    bar(person.already_sent, Reason::AlreadySent);
    bar(person.status == MailStatus::Retired, Reason::Retired);
    bar(person.consent == Consent::Complained, Reason::Complained);
    if marketing {
        bar(person.consent == Consent::Withdrawn, Reason::Withdrawn);
        bar(matches!(person.consent, Consent::None | Consent::Invited), Reason::NoConsent);
        bar(person.topic_left, Reason::TopicLeft);
    }
    bar(person.suppressed, Reason::Suppressed);
    bar(marketing && person.trial_holdout, Reason::TrialHoldout);

    let mut until = at;
    let mut hold = |r: &mut Reasons, release: Option<Instant>, reason: Reason| {
        if let Some(release) = release.filter(|&i| i > at) {
            r.add(reason);
            until = until.max(release);
        }
    };
    hold(&mut r, person.resting_until.filter(|_| person.status == MailStatus::Resting), Reason::Resting);
    if marketing {
        hold(&mut r, person.paused_until.filter(|_| person.consent == Consent::Paused), Reason::Paused);
        if let Some(cap) = rules.cap {
            let release = cap.first_allowed(person.counted, at);
            if rules.over_cap == OverCap::Hold {
                hold(&mut r, Some(release), Reason::HeldByCap);
            } else if release > at {
                r.add(Reason::OverCap);
            }
        }
    }
    if until > rules.give_up_at {
        r.add(Reason::HeldTooLong);
    }
    if r.bars() {
        Outcome::Barred(r)
    } else if until > at {
        Outcome::Held(until, r)
    } else {
        Outcome::Cleared
    }
}

/// One step of the sluice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Step {
    pub reason: Reason,
    /// People whose first reason this is.
    pub people: u64,
    /// People who would be cleared now were it not for this reason: others may be caught by
    /// several, so this is not the same as `people`.
    pub without_it: u64,
}

/// The picture of a clearance: selected people, what each rule takes off, who is left.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Sluice {
    pub selected: u64,
    pub cleared: u64,
    pub held: u64,
    pub steps: Vec<Step>,
    /// The last instant at which somebody held is released.
    pub last_release: Option<Instant>,
}

/// Adds up outcomes.
#[must_use]
pub fn tally(outcomes: impl IntoIterator<Item = Outcome>) -> Sluice {
    let mut sluice = Sluice { selected: 0, cleared: 0, held: 0, steps: Vec::new(), last_release: None };
    let (mut own, mut alone) = ([0u64; Reason::ALL.len()], [0u64; Reason::ALL.len()]);
    for outcome in outcomes {
        sluice.selected += 1;
        let reasons = match outcome {
            Outcome::Cleared => {
                sluice.cleared += 1;
                continue;
            }
            Outcome::Held(until, reasons) => {
                sluice.held += 1;
                sluice.last_release = sluice.last_release.max(Some(until));
                reasons
            }
            Outcome::Barred(reasons) => reasons,
        };
        if let Some(first) = reasons.first() {
            own[first as usize] += 1;
            if reasons.only(first) {
                alone[first as usize] += 1;
            }
        }
    }
    sluice.steps = Reason::ALL
        .into_iter()
        .filter(|&r| own[r as usize] > 0)
        .map(|r| Step { reason: r, people: own[r as usize], without_it: alone[r as usize] })
        .collect();
    sluice
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        fn standing()(
            flags in any::<[bool; 5]>(), status in 0usize..4, consent in 0usize..7,
            rest in 0i64..20, pause in 0i64..20, counted in prop::collection::vec(0i64..30, 0..5),
        ) -> (Person<'static>, Vec<Instant>) {
            (Person {
                has_address: flags[0], already_sent: flags[1], status: MailStatus::ALL[status],
                resting_until: Some(Instant(rest * DAY)), consent: Consent::ALL[consent],
                paused_until: Some(Instant(pause * DAY)), topic_left: flags[2], suppressed: flags[3],
                trial_holdout: flags[4], counted: &[],
            }, counted.into_iter().map(|d| Instant(d * DAY)).collect())
        }
    }

    fn rules(over_cap: OverCap, class: Class) -> Rules {
        Rules { class, cap: Some(Cap::new(2, 96).unwrap()), over_cap, give_up_at: Instant(12 * DAY) }
    }

    proptest! {
        #[test]
        fn the_protected_never_get_marketing((mut p, counted) in standing()) {
            p.counted = &counted;
            let out = clear(&p, &rules(OverCap::Hold, Class::Marketing), Instant(10 * DAY));
            let protected = p.suppressed || p.topic_left || p.status == MailStatus::Retired || p.already_sent
                || !(p.consent.allows_marketing() || p.consent == Consent::Paused);
            if protected {
                prop_assert!(matches!(out, Outcome::Barred(_)));
            }
        }

        /// A held person is cleared at the release instant and held a millisecond before it.
        #[test]
        fn holds_end_exactly((mut p, counted) in standing()) {
            // A pause that ran out is folded away before clearance; here the state stays paused.
            p.counted = &counted;
            let r = rules(OverCap::Hold, Class::Marketing);
            if let Outcome::Held(until, _) = clear(&p, &r, Instant(10 * DAY)) {
                prop_assert!(until <= r.give_up_at);
                prop_assert!(!matches!(clear(&p, &r, until + -1), Outcome::Cleared));
                prop_assert_eq!(clear(&Person { counted: &counted.iter().copied().filter(|&c| c <= Instant(10 * DAY)).collect::<Vec<_>>(), ..p }, &r, until), Outcome::Cleared);
            }
        }

        #[test]
        fn the_sluice_adds_up(people in prop::collection::vec(standing(), 0..60)) {
            let r = rules(OverCap::Skip, Class::Marketing);
            let s = tally(people.iter().map(|(p, c)| clear(&Person { counted: c, ..*p }, &r, Instant(10 * DAY))));
            prop_assert_eq!(s.selected, s.cleared + s.steps.iter().map(|x| x.people).sum::<u64>());
            prop_assert_eq!(s.held, s.steps.iter().filter(|x| x.reason.holds()).map(|x| x.people).sum::<u64>());
            prop_assert!(s.steps.iter().all(|x| x.without_it <= x.people));
        }
    }
}
