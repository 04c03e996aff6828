//! Clearance: may this mailing go to this person at this instant?
//!
//! One pure function from a person's standing and the rules to *cleared*, *held until* or *barred*.
//! All reasons are kept; the first in their order ([`Reason`]) is the one that counts in the
//! sluice, so that its numbers add up. [`clear`] decides for one person and is what is right;
//! [`columns`] does the same for a whole base at once.

pub mod columns;
pub mod forecast;
mod reason;
mod rules;
mod sluice;

pub use reason::{Reason, Reasons};
pub use rules::{Class, Facts, HOLD_LIMIT, LetterheadHours, OverCap, RuleError, RuleSet, Rules};
pub use sluice::{Part, Sluice, Step, tally};

use crate::Instant;
use crate::caps::Message;
use crate::consent::Consent;
use crate::hours::{all_open, first_all_open};
use crate::id::ContactId;
use crate::upkeep::MailStatus;
use crate::zone::Wall;
use jiff::tz::TimeZone;

/// One person as clearance sees them, for one mailing.
#[derive(Debug, Clone, Copy)]
pub struct Person<'a> {
    pub contact: ContactId,
    /// Of the mailing's channel: a text message goes to a number.
    pub has_address: bool,
    pub already_sent: bool,
    pub status: MailStatus,
    pub resting_until: Option<Instant>,
    /// No marketing, for silence (until they answer or sign up).
    pub sunset: bool,
    pub consent: Consent,
    /// What holds under a pause, and again after it.
    pub under_pause: Consent,
    pub paused_until: Option<Instant>,
    /// Nothing goes to their mail domain until then.
    pub domain_paused_until: Option<Instant>,
    pub country: Option<&'a str>,
    pub zone: Option<&'a TimeZone>,
    pub topic_left: bool,
    /// They have left the series that the mailing is a step of.
    pub series_left: bool,
    /// The suppression lists that name them and apply to the mailing, a bit each.
    pub lists: u64,
    /// A trial that must not overlap has them.
    pub reserved: bool,
    /// They are in a mail-load cell that the mailing leaves out.
    pub load_left_out: bool,
    /// Messages that count or are reserved, whatever their scope.
    pub messages: &'a [Message],
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
    clear_by(person, rules, at, person.zone.unwrap_or(&rules.zone))
}

/// As [`clear`], by a clock that is the person's (the letterhead's, of somebody without a zone).
#[must_use]
pub fn clear_by(person: &Person<'_>, rules: &Rules, at: Instant, clock: &impl Wall) -> Outcome {
    by_then(person, rules, at, clock, bars(person, rules))
}

/// What bars them whatever the instant: no time mends it.
#[must_use]
pub fn bars(person: &Person<'_>, rules: &Rules) -> Reasons {
    let marketing = rules.class == Class::Marketing;
    let mut r = Reasons::default();
    let mut bar = |when: bool, reason: Reason| {
        if when {
            r.add(reason);
        }
    };
    let consent = if person.consent == Consent::Paused { person.under_pause } else { person.consent };
    bar(!person.has_address, Reason::NoAddress);
    bar(person.already_sent, Reason::AlreadySent);
    bar(person.status == MailStatus::Retired || marketing && person.sunset, Reason::Retired);
    bar(consent == Consent::Complained && !rules.complainers_too, Reason::Complained);
    if marketing {
        bar(consent == Consent::Withdrawn, Reason::Withdrawn);
        bar(matches!(consent, Consent::None | Consent::Invited | Consent::Paused), Reason::NoConsent);
        bar(consent == Consent::Consented && rules.must_confirm(person.country), Reason::NotConfirmed);
        bar(person.topic_left, Reason::TopicLeft);
        bar(person.series_left, Reason::SeriesLeft);
        bar(rules.holdout.as_ref().is_some_and(|h| h.keeps_out(person.contact)), Reason::GlobalHoldout);
        bar(person.reserved, Reason::Reserved);
        bar(person.load_left_out, Reason::LoadLeftOut);
    }
    bar(person.lists != 0, Reason::Suppressed);
    r.lists = person.lists;
    r
}

/// The decision at an instant, for somebody of whom it is known what bars them whatever the instant.
pub(crate) fn by_then(person: &Person<'_>, rules: &Rules, at: Instant, clock: &impl Wall, bars: Reasons) -> Outcome {
    let mut r = bars;
    add_holds(person, rules, at, clock, &mut r);
    conclude(person, rules, at, clock, r)
}

/// What all reasons come to.
fn conclude(person: &Person<'_>, rules: &Rules, at: Instant, clock: &impl Wall, mut r: Reasons) -> Outcome {
    if r.bars() {
        return Outcome::Barred(r);
    }
    if r.first().is_none() {
        return Outcome::Cleared;
    }
    let until = release(person, rules, at, clock);
    // A rest that waits for a cleaning run has no end that service mail could wait for.
    if until.millis() == i64::MAX || rules.class == Class::Marketing && until > rules.give_up_at {
        r.add(Reason::HeldTooLong);
        return Outcome::Barred(r);
    }
    Outcome::Held(until, r)
}

/// The reasons for which they would have to wait at `t`.
fn add_holds(person: &Person<'_>, rules: &Rules, t: Instant, clock: &impl Wall, r: &mut Reasons) {
    if rest(person).is_some_and(|until| until > t) {
        r.add(Reason::Resting);
    }
    if person.domain_paused_until.is_some_and(|until| until > t) {
        r.add(Reason::DomainPaused);
    }
    if rules.class == Class::Service {
        return;
    }
    if pause(person).is_some_and(|until| until > t) {
        r.add(Reason::Paused);
    }
    if rules.over_cap != OverCap::Exceed {
        for (i, cap) in &rules.caps {
            if cap.first_allowed(person.messages, t, rules.rank, clock) > t {
                r.caps |= 1 << i;
                r.add(if rules.over_cap == OverCap::Skip { Reason::OverCap } else { Reason::HeldByCap });
            }
        }
    }
    if !all_open(&rules.hours, t, clock) {
        r.add(Reason::OutsideHours);
    }
}

fn rest(person: &Person<'_>) -> Option<Instant> {
    // A rest without an end waits for a cleaning run.
    (person.status == MailStatus::Resting).then(|| person.resting_until.unwrap_or(Instant::of(i64::MAX)))
}

fn pause(person: &Person<'_>) -> Option<Instant> {
    // A pause without an end would be a fault; until it is mended nothing goes out.
    (person.consent == Consent::Paused).then(|| person.paused_until.unwrap_or(Instant::of(i64::MAX)))
}

/// The first instant, `at` or later, at which rest, pauses, every cap and the hours all allow it.
fn release(person: &Person<'_>, rules: &Rules, at: Instant, clock: &impl Wall) -> Instant {
    let service = rules.class == Class::Service;
    let mut t = rest(person).into_iter().chain(person.domain_paused_until).fold(at, Instant::max);
    if service {
        return t;
    }
    t = pause(person).map_or(t, |until| until.max(t));
    if t.millis() == i64::MAX {
        return t;
    }
    loop {
        let before = t;
        if rules.over_cap == OverCap::Hold {
            for (_, cap) in &rules.caps {
                t = t.max(cap.first_allowed(person.messages, t, rules.rank, clock));
            }
        }
        if t.millis() == i64::MAX {
            return t;
        }
        t = first_all_open(&rules.hours, t, clock);
        if t == before || t.millis() == i64::MAX {
            return t;
        }
    }
}

#[cfg(test)]
mod tests;
