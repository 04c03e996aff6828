//! Clearance of a whole base at once, on columns.
//!
//! Decides exactly as [`super::clear`] does for each person (a property test holds the two equal),
//! some thirty times faster: consent, status and country are looked up in small tables, a zone's day
//! and hours are worked out once for everybody in it, and only people who have to wait are asked
//! one by one when they may get it.
//!
//! What is so of people ([`Base`]), what they were sent ([`Messages`]) and what is so for one mailing
//! ([`Marks`]) are apart: the first two can be kept between clearances.

use super::{Class, Outcome, OverCap, Person, Reason, Reasons, Rules, by_then, conclude};
use crate::caps::{Cap, Kind, Message, Window};
use crate::code::Code;
use crate::consent::Consent;
use crate::id::ContactId;
use crate::upkeep::MailStatus;
use crate::zone::{Local, Wall};
use crate::{DAY, Instant};
use jiff::tz::TimeZone;
use std::sync::Arc;

/// Stands for no instant.
pub const NONE: i64 = i64::MIN;

/// A base in columns: place `i` of each is the same person. Contacts come in ascending order.
#[derive(Debug, Default, Clone)]
pub struct Base {
    pub contact: Vec<ContactId>,
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
    contacts: &'a [ContactId],
    next: usize,
}

impl<'a> Places<'a> {
    /// Of contacts in ascending order.
    #[must_use]
    pub fn new(contacts: &'a [ContactId]) -> Self {
        Self { contacts, next: 0 }
    }

    #[must_use]
    pub fn of(&mut self, contact: ContactId) -> Option<u32> {
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
    pub fn hang(contacts: &[ContactId], found: &[(ContactId, Message)]) -> Self {
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
        let filler = Message { at: Instant::of(0), kind: Kind::default(), reserved: None };
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
    pub fn with(&self, contacts: &[ContactId], some: &[(ContactId, Vec<Message>)], beside: bool) -> Self {
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

    /// The memory they take.
    #[must_use]
    pub const fn bytes(&self) -> usize {
        self.first.capacity() * size_of::<u32>() + self.list.capacity() * size_of::<Message>()
    }

    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }
}

impl Base {
    /// The memory it takes, but for the names of countries and zones.
    #[must_use]
    pub const fn bytes(&self) -> usize {
        let bytes = self.consent.capacity() + self.under_pause.capacity() + self.status.capacity() + self.sunset.capacity();
        let shorts = self.country.capacity() + self.zone.capacity();
        let longs = self.contact.capacity() + self.status_until.capacity() + self.paused_until.capacity();
        bytes + 2 * shorts + 8 * longs
    }

    fn country_of(&self, i: usize) -> Option<&str> {
        let place = self.country[i] as usize;
        (place > 0).then(|| self.countries.get(place).map(String::as_str)).flatten()
    }

    pub fn zone_of(&self, i: usize) -> Option<&TimeZone> {
        let place = self.zone[i] as usize;
        if place > 0 { self.zones.get(place) } else { None }
    }

    /// The same person as one row, with their messages.
    #[must_use]
    pub fn person<'a>(&'a self, messages: &'a [Message], i: usize, marks: &Marks) -> Person<'a> {
        let instant = |v: i64| (v != NONE).then_some(Instant::of(v));
        let flags = marks.flags[i];
        // What is loaded is checked; whatever else came here would not be mailed.
        let consent = |code: u8| Consent::of_code(i64::from(code)).unwrap_or(Consent::Withdrawn);
        Person {
            contact: self.contact[i],
            has_address: flags & Marks::NO_ADDRESS == 0,
            already_sent: flags & Marks::ALREADY_SENT != 0,
            status: MailStatus::of_code(i64::from(self.status[i])).unwrap_or(MailStatus::Retired),
            resting_until: instant(self.status_until[i]),
            sunset: self.sunset[i],
            consent: consent(self.consent[i]),
            under_pause: consent(self.under_pause[i]),
            paused_until: instant(self.paused_until[i]),
            domain_paused_until: marks.domain_until.get(i).and_then(|u| instant(*u)),
            country: self.country_of(i),
            zone: self.zone_of(i),
            topic_left: flags & Marks::TOPIC_LEFT != 0,
            series_left: flags & Marks::SERIES_LEFT != 0,
            lists: marks.lists.get(i).copied().unwrap_or(0),
            reserved: flags & Marks::RESERVED != 0,
            load_left_out: flags & Marks::LOAD_LEFT_OUT != 0,
            messages,
        }
    }
}

/// What is so for one mailing, per person of a [`Base`].
#[derive(Debug, Default, Clone)]
pub struct Marks {
    pub flags: Vec<u8>,
    /// The suppression lists that name them; empty when none names anybody.
    pub lists: Arc<Vec<u64>>,
    /// Until when nothing goes to their mail domain; empty when none is paused.
    pub domain_until: Vec<i64>,
}

impl Marks {
    pub const NO_ADDRESS: u8 = 1;
    pub const ALREADY_SENT: u8 = 2;
    pub const TOPIC_LEFT: u8 = 4;
    pub const RESERVED: u8 = 8;
    pub const LOAD_LEFT_OUT: u8 = 16;
    pub const SERIES_LEFT: u8 = 32;
}

/// What is the same for everybody of one zone at the instant.
struct Zone {
    clock: Local,
    /// Where each cap's window begins; none: it has to be asked message by message (a clock change is near).
    begins: Vec<Option<Instant>>,
    shut: bool,
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
    Zone { begins: begins.collect(), shut: !crate::hours::all_open(&rules.hours, at, &clock), clock }
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

/// One mailing's clearance of a base, ready for an instant: what is the same for everybody of a zone or a
/// country is worked out.
pub struct Ready<'a> {
    base: &'a Base,
    marks: &'a Marks,
    rules: &'a Rules,
    at: Instant,
    marketing: bool,
    /// By their places in the base.
    zones: Vec<Zone>,
    confirm: Vec<bool>,
}

impl<'a> Ready<'a> {
    #[must_use]
    pub fn new(base: &'a Base, marks: &'a Marks, rules: &'a Rules, at: Instant) -> Self {
        // Everything that is asked until somebody is given up lies in this span, and windows that reach back from it.
        let (from, until) = (at + (-rules.reach() - 10 * DAY), rules.give_up_at.max(at) + BEYOND);
        let own = std::iter::once(&rules.zone).chain(base.zones.iter().skip(1));
        let zones = own.map(|z| zone(rules, Local::between(z, from, until), at)).collect();
        let confirm = std::iter::once(None).chain(base.countries.iter().skip(1).map(|c| Some(c.as_str())));
        let confirm = confirm.map(|c| rules.must_confirm(c)).collect();
        Self { base, marks, rules, at, marketing: rules.class == Class::Marketing, zones, confirm }
    }

    /// What bars the person at a place whatever the instant: as [`super::bars`].
    #[inline]
    #[must_use]
    pub fn bars(&self, i: usize) -> Reasons {
        let Self { base, marks, rules, marketing, .. } = *self;
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
            bar(flags & Marks::SERIES_LEFT != 0, Reason::SeriesLeft);
            bar(rules.holdout.as_ref().is_some_and(|h| h.keeps_out(base.contact[i])), Reason::GlobalHoldout);
            bar(flags & Marks::RESERVED != 0, Reason::Reserved);
            bar(flags & Marks::LOAD_LEFT_OUT != 0, Reason::LoadLeftOut);
        }
        if let Some(&lists) = marks.lists.get(i) {
            bar(lists != 0, Reason::Suppressed);
            r.lists = lists;
        }
        r
    }

    /// The decision for the person at a place at the instant that this is ready for.
    #[inline]
    #[must_use]
    pub fn clear(&self, i: usize, messages: &Messages) -> Outcome {
        self.decide(i, self.at, messages.of(i), self.bars(i))
    }

    /// The decision for the person at a place with these messages: quick at the instant that this is ready for.
    #[inline]
    #[must_use]
    pub fn decide(&self, i: usize, t: Instant, messages: &[Message], bars: Reasons) -> Outcome {
        let Self { base, marks, rules, at, marketing, .. } = *self;
        let zone = &self.zones[base.zone[i] as usize];
        if t != at {
            return by_then(&base.person(messages, i, marks), rules, t, &zone.clock, bars);
        }
        let mut r = bars;
        if base.status[i] == MailStatus::Resting as u8 && (base.status_until[i] > at.millis() || base.status_until[i] == NONE) {
            r.add(Reason::Resting);
        }
        if marks.domain_until.get(i).is_some_and(|until| *until > at.millis()) {
            r.add(Reason::DomainPaused);
        }
        if marketing {
            if base.consent[i] == Consent::Paused as u8 && (base.paused_until[i] > at.millis() || base.paused_until[i] == NONE) {
                r.add(Reason::Paused);
            }
            if rules.over_cap != OverCap::Exceed && !rules.caps.is_empty() {
                self.over_caps(zone, messages, &mut r);
            }
            if zone.shut {
                r.add(Reason::OutsideHours);
            }
        }
        conclude(&base.person(messages, i, marks), rules, at, &zone.clock, r)
    }

    fn over_caps(&self, zone: &Zone, messages: &[Message], r: &mut Reasons) {
        let Self { rules, at, .. } = *self;
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
