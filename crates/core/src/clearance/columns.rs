//! Clearance of a whole base at once, on columns.
//!
//! Decides exactly as [`super::clear`] does for each person (a property test holds the two equal),
//! some thirty times faster: consent, status and country are looked up in small tables, a zone's day
//! and hours are worked out once for everybody in it, and only people who have to wait are asked
//! one by one when they may get it.
//!
//! What is so of people ([`Base`]), what they were sent ([`Messages`]) and what is so for one mailing
//! ([`Marks`]) are apart: the first two can be kept between clearances.

use super::{Class, Outcome, OverCap, Person, Reason, Reasons, Rules, release};
use crate::caps::{Cap, Kind, Message, Window};
use crate::consent::Consent;
use crate::upkeep::MailStatus;
use crate::zone::{Local, Wall};
use crate::{DAY, Instant};
use jiff::tz::TimeZone;

/// Stands for no instant.
pub const NONE: i64 = i64::MIN;

/// A base in columns: place `i` of each is the same person. Contacts come in ascending order.
#[derive(Debug, Default, Clone)]
pub struct Base {
    pub contact: Vec<i64>,
    /// [`Consent`] as its number.
    pub consent: Vec<u8>,
    pub under_pause: Vec<u8>,
    /// [`MailStatus`] as its number.
    pub status: Vec<u8>,
    pub status_until: Vec<i64>,
    /// No marketing, for silence.
    pub sunset: Vec<bool>,
    pub paused_until: Vec<i64>,
    /// Place in `countries`; 0 is an unknown one.
    pub country: Vec<u16>,
    /// Place in `zones`; 0 is an unknown one.
    pub zone: Vec<u16>,
    pub countries: Vec<String>,
    /// The first is never asked.
    pub zones: Vec<TimeZone>,
}

const NOBODY: u32 = u32::MAX;

/// Finds people's places. Those asked for mostly come in ascending order, so it looks beside the last one first.
pub struct Places<'a> {
    contacts: &'a [i64],
    next: usize,
}

impl<'a> Places<'a> {
    /// Of contacts in ascending order.
    #[must_use]
    pub fn new(contacts: &'a [i64]) -> Self {
        Self { contacts, next: 0 }
    }

    #[must_use]
    pub fn of(&mut self, contact: i64) -> Option<u32> {
        if self.contacts.get(self.next).is_none_or(|c| *c != contact) {
            self.next = self.contacts.binary_search(&contact).ok()?;
        }
        self.next += 1;
        u32::try_from(self.next - 1).ok()
    }
}

/// The messages of a base's people that count or are reserved.
#[derive(Debug, Default, Clone)]
pub struct Messages {
    /// Whose messages are `list[first[i]..first[i + 1]]`; empty when there are none at all.
    first: Vec<u32>,
    list: Vec<Message>,
}

impl Messages {
    /// Hangs messages on people, who come in ascending order; those of others are left out.
    #[must_use]
    pub fn hang(contacts: &[i64], found: &[(i64, Message)]) -> Self {
        if found.is_empty() {
            return Self::default();
        }
        let mut places = Places::new(contacts);
        let whose: Vec<u32> = found.iter().map(|(contact, _)| places.of(*contact).unwrap_or(NOBODY)).collect();
        // How many each has, then where each one's begin, then each into its place.
        let mut first = vec![0_u32; contacts.len() + 1];
        for place in whose.iter().filter(|p| **p != NOBODY) {
            first[*place as usize + 1] += 1;
        }
        for i in 1..first.len() {
            first[i] += first[i - 1];
        }
        let filler = Message { at: Instant(0), kind: Kind::default(), reserved: None };
        let mut list = vec![filler; first.last().copied().unwrap_or(0) as usize];
        let mut next = first.clone();
        for (place, (_, message)) in whose.iter().zip(found).filter(|(p, _)| **p != NOBODY) {
            list[next[*place as usize] as usize] = *message;
            next[*place as usize] += 1;
        }
        Self { first, list }
    }

    /// Only those that were handed over.
    #[must_use]
    pub fn handed_over(&self) -> Self {
        let mut out = Self { first: Vec::with_capacity(self.first.len()), list: Vec::with_capacity(self.list.len()) };
        for i in 0..self.first.len() {
            out.first.push(u32::try_from(out.list.len()).unwrap_or(u32::MAX));
            out.list.extend(self.of(i).iter().filter(|m| m.reserved.is_none()));
        }
        out
    }

    /// The same, with some people's messages replaced by what is given for them (sorted by person), or,
    /// when `beside`, with those added to what they have.
    #[must_use]
    pub fn with(&self, contacts: &[i64], some: &[(i64, Vec<Message>)], beside: bool) -> Self {
        let (mut first, mut list) = (Vec::with_capacity(contacts.len() + 1), Vec::with_capacity(self.list.len() + some.len()));
        let mut some = some.iter().peekable();
        for (i, contact) in contacts.iter().enumerate() {
            first.push(u32::try_from(list.len()).unwrap_or(u32::MAX));
            while some.next_if(|s| s.0 < *contact).is_some() {}
            match some.next_if(|s| s.0 == *contact) {
                Some((_, theirs)) => {
                    if beside {
                        list.extend_from_slice(self.of(i));
                    }
                    list.extend_from_slice(theirs);
                }
                None => list.extend_from_slice(self.of(i)),
            }
        }
        first.push(u32::try_from(list.len()).unwrap_or(u32::MAX));
        Self { first, list }
    }

    /// Those of the person at a place.
    #[must_use]
    pub fn of(&self, i: usize) -> &[Message] {
        match (self.first.get(i), self.first.get(i + 1)) {
            (Some(&a), Some(&b)) => self.list.get(a as usize..b as usize).unwrap_or_default(),
            _ => &[],
        }
    }

    #[must_use]
    pub fn len(&self) -> usize {
        self.list.len()
    }

    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }
}

impl Base {
    fn country_of(&self, i: usize) -> Option<&str> {
        let place = self.country[i] as usize;
        (place > 0).then(|| self.countries.get(place).map(String::as_str)).flatten()
    }

    fn zone_of(&self, i: usize) -> Option<&TimeZone> {
        let place = self.zone[i] as usize;
        if place > 0 { self.zones.get(place) } else { None }
    }

    /// The same person as one row.
    #[must_use]
    pub fn person<'a>(&'a self, messages: &'a Messages, i: usize, marks: &Marks) -> Person<'a> {
        let instant = |v: i64| (v != NONE).then_some(Instant(v));
        let flags = marks.flags[i];
        Person {
            contact: self.contact[i],
            has_address: flags & Marks::NO_ADDRESS == 0,
            already_sent: flags & Marks::ALREADY_SENT != 0,
            status: MailStatus::from_code(i64::from(self.status[i])),
            resting_until: instant(self.status_until[i]),
            sunset: self.sunset[i],
            consent: Consent::from_code(i64::from(self.consent[i])),
            under_pause: Consent::from_code(i64::from(self.under_pause[i])),
            paused_until: instant(self.paused_until[i]),
            country: self.country_of(i),
            zone: self.zone_of(i),
            topic_left: flags & Marks::TOPIC_LEFT != 0,
            lists: marks.lists.get(i).copied().unwrap_or(0),
            trial_holdout: flags & Marks::TRIAL_HOLDOUT != 0,
            load_left_out: flags & Marks::LOAD_LEFT_OUT != 0,
            messages: messages.of(i),
        }
    }
}

/// What is so for one mailing, per person of a [`Base`].
#[derive(Debug, Default)]
pub struct Marks {
    pub flags: Vec<u8>,
    /// The suppression lists that name them; empty when none names anybody.
    pub lists: Vec<u64>,
}

impl Marks {
    pub const NO_ADDRESS: u8 = 1;
    pub const ALREADY_SENT: u8 = 2;
    pub const TOPIC_LEFT: u8 = 4;
    pub const TRIAL_HOLDOUT: u8 = 8;
    pub const LOAD_LEFT_OUT: u8 = 16;
}

/// What is the same for everybody of one zone at the instant.
struct Zone {
    clock: Local,
    /// Where each cap's window begins; none: it has to be asked message by message (a clock change is near).
    begins: Vec<Option<Instant>>,
    shut: bool,
}

/// The clocks of a base's zones, ready for clearances at instants of a span; the first is of people without one.
#[must_use]
pub fn clocks(own: &TimeZone, zones: &[TimeZone], from: Instant, until: Instant) -> Vec<Local> {
    std::iter::once(own).chain(zones.iter().skip(1)).map(|z| Local::between(z, from, until)).collect()
}

/// Past the last instant at which anybody is held, clock changes matter to nobody.
const BEYOND: i64 = 40 * DAY;

fn zone(rules: &Rules, clock: Local, at: Instant) -> Zone {
    let begins = rules.caps.iter().map(|(_, cap)| match cap.window {
        Window::Hours { .. } | Window::Days { .. } => Some(at + -cap.window.reach() + 1),
        Window::CalendarDay | Window::IsoWeek => {
            let reach = cap.window.reach();
            clock.changes(at + -reach, at + reach).is_empty().then(|| first_of_window(cap, at, &clock))
        }
    });
    Zone { begins: begins.collect(), shut: rules.hours.is_some_and(|h| !h.open(at, &clock)), clock }
}

/// The first instant of the calendar window that `at` lies in, where no clock change is near.
fn first_of_window(cap: &Cap, at: Instant, clock: &Local) -> Instant {
    let (mut inside, mut outside) = (at, at + -cap.window.reach());
    while inside - outside > 1 {
        let middle = outside + (inside - outside) / 2;
        if cap.in_window(middle, at, clock) { inside = middle } else { outside = middle }
    }
    inside
}

/// Decides for the people at some places, at one instant, in the order given.
#[must_use]
pub fn clear_some(base: &Base, messages: &Messages, marks: &Marks, rules: &Rules, at: Instant, who: &[u32]) -> Vec<Outcome> {
    let marketing = rules.class == Class::Marketing;
    let (from, until) = (at + (-rules.reach() - 10 * DAY), rules.give_up_at.max(at) + BEYOND);
    let zones: Vec<Zone> = clocks(&rules.zone, &base.zones, from, until).into_iter().map(|c| zone(rules, c, at)).collect();
    let confirm: Vec<bool> =
        std::iter::once(rules.must_confirm(None)).chain(base.countries.iter().skip(1).map(|c| rules.must_confirm(Some(c)))).collect();
    let known = Known { base, messages, marks, rules, at, marketing, zones, confirm };
    who.iter().map(|&i| known.one(i as usize)).collect()
}

/// What is the same for everybody of one clearance.
struct Known<'a> {
    base: &'a Base,
    messages: &'a Messages,
    marks: &'a Marks,
    rules: &'a Rules,
    at: Instant,
    marketing: bool,
    /// By their places in the base.
    zones: Vec<Zone>,
    confirm: Vec<bool>,
}

impl Known<'_> {
    #[inline]
    fn one(&self, i: usize) -> Outcome {
        let Self { base, marks, rules, at, marketing, .. } = *self;
        let mut r = Reasons::default();
        let flags = marks.flags[i];
        let consent = if base.consent[i] == Consent::Paused as u8 { base.under_pause[i] } else { base.consent[i] };
        let mut bar = |when: bool, reason: Reason| {
            if when {
                r.add(reason);
            }
        };
        bar(flags & Marks::NO_ADDRESS != 0, Reason::NoAddress);
        bar(flags & Marks::ALREADY_SENT != 0, Reason::AlreadySent);
        bar(base.status[i] == MailStatus::Retired as u8 || marketing && base.sunset[i], Reason::Retired);
        bar(consent == Consent::Complained as u8 && !rules.complainers_too, Reason::Complained);
        if marketing {
            bar(consent == Consent::Withdrawn as u8, Reason::Withdrawn);
            bar(consent == Consent::None as u8 || consent == Consent::Invited as u8 || consent == Consent::Paused as u8, Reason::NoConsent);
            bar(consent == Consent::Consented as u8 && self.confirm[base.country[i] as usize], Reason::NotConfirmed);
            bar(flags & Marks::TOPIC_LEFT != 0, Reason::TopicLeft);
            bar(rules.holdout.as_ref().is_some_and(|h| h.keeps_out(base.contact[i])), Reason::GlobalHoldout);
            bar(flags & Marks::TRIAL_HOLDOUT != 0, Reason::TrialHoldout);
            bar(flags & Marks::LOAD_LEFT_OUT != 0, Reason::LoadLeftOut);
        }
        if let Some(&lists) = marks.lists.get(i) {
            bar(lists != 0, Reason::Suppressed);
            r.lists = lists;
        }
        if base.status[i] == MailStatus::Resting as u8 && base.status_until[i] > at.0 {
            r.add(Reason::Resting);
        }
        if marketing {
            if base.consent[i] == Consent::Paused as u8 && (base.paused_until[i] > at.0 || base.paused_until[i] == NONE) {
                r.add(Reason::Paused);
            }
            if rules.over_cap != OverCap::Exceed && !rules.caps.is_empty() {
                self.over_caps(i, &mut r);
            }
            if self.zones[base.zone[i] as usize].shut {
                r.add(Reason::OutsideHours);
            }
        }
        if r.bars() {
            return Outcome::Barred(r);
        }
        if r.first().is_none() {
            return Outcome::Cleared;
        }
        let until = release(&base.person(self.messages, i, marks), rules, at, &self.zones[base.zone[i] as usize].clock);
        if marketing && until > rules.give_up_at {
            r.add(Reason::HeldTooLong);
            return Outcome::Barred(r);
        }
        Outcome::Held(until, r)
    }

    fn over_caps(&self, i: usize, r: &mut Reasons) {
        let Self { base, rules, at, .. } = *self;
        let messages = self.messages.of(i);
        let zone = &self.zones[base.zone[i] as usize];
        for (n, (place, cap)) in rules.caps.iter().enumerate() {
            if messages.len() < cap.limit as usize {
                continue;
            }
            let counts = |m: &&Message| cap.scope.covers(m.kind) && m.precedes(at, rules.rank);
            let over = match zone.begins[n] {
                Some(begins) => messages.iter().filter(|m| m.at >= begins).filter(counts).count() >= cap.limit as usize,
                None => cap.first_allowed(messages, at, rules.rank, &zone.clock) > at,
            };
            if over {
                r.caps |= 1 << place;
                r.add(if rules.over_cap == OverCap::Skip { Reason::OverCap } else { Reason::HeldByCap });
            }
        }
    }
}
