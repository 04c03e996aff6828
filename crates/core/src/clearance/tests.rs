use super::columns::{Base, Marks, Messages, NONE, Ready};
use super::forecast::{Coming, Player};
use super::*;
use crate::caps::{Cap, Kind, Message, Scope, Window};
use crate::holdout::Holdout;
use crate::hours::Hours;
use crate::id::LetterheadId;
use crate::{DAY, HOUR};
use proptest::prelude::*;
use std::sync::Arc;

const ZONES: [&str; 4] = ["UTC", "Europe/London", "America/Halifax", "Pacific/Auckland"];
const COUNTRIES: [&str; 4] = ["", "GB", "DE", "NO"];
/// 27 March 2026: clocks change in London two days later, in Auckland nine days later.
const BEGAN: Instant = Instant::of(1_774_569_600_000);

#[derive(Debug, Clone)]
struct Someone {
    flags: u8,
    sunset: bool,
    codes: (u8, u8, u8),
    until: (Option<i64>, Option<i64>),
    place: (u16, u16),
    lists: u64,
    domain: Option<i64>,
    messages: Vec<Message>,
}

fn message() -> impl Strategy<Value = Message> {
    (-8 * DAY..12 * DAY, 0u32..3, 1u32..3, any::<bool>(), prop::option::of((1u8..5, 1i64..9)), 1u8..3).prop_map(
        |(t, topic, letterhead, series, reserved, channel)| Message {
            at: BEGAN + t,
            kind: Kind { channel, topic, letterhead, series },
            // What lies ahead can only be reserved.
            reserved: if t > 0 { Some(reserved.unwrap_or((3, 4))) } else { reserved },
        },
    )
}

prop_compose! {
    fn someone()(
        flags in prop_oneof![4 => Just(0u8), 1 => 0u8..64],
        sunset in prop::bool::weighted(0.1),
        codes in (prop_oneof![3 => 2u8..4, 2 => Just(4u8), 1 => 0u8..7], 0u8..7, prop_oneof![3 => Just(0u8), 2 => 0u8..4]),
        until in (prop::option::of(-5 * DAY..12 * DAY), prop::option::of(-5 * DAY..12 * DAY)),
        place in (0u16..4, 0u16..4),
        lists in prop_oneof![5 => Just(0u64), 1 => 0u64..8],
        domain in prop::option::weighted(0.2, 0..6 * DAY),
        messages in prop::collection::vec(message(), 0..9),
    ) -> Someone {
        Someone { flags, sunset, codes, until, place, lists, domain, messages }
    }
}

fn cap() -> impl Strategy<Value = Cap> {
    let window = prop_oneof![
        (1u32..60).prop_map(|n| Window::Hours { n }),
        (1u32..6).prop_map(|n| Window::Days { n }),
        Just(Window::CalendarDay),
        Just(Window::IsoWeek)
    ];
    let scope = prop_oneof![
        3 => Just(Scope::Marketing), 1 => (1i64..3).prop_map(|id| Scope::Channel { id }),
        1 => (0i64..3).prop_map(|id| Scope::Topic { id }), 1 => (1i64..3).prop_map(|id| Scope::Letterhead { id }),
        1 => Just(Scope::Series)
    ];
    (1u32..5, window, scope, any::<bool>()).prop_map(|(limit, window, scope, off)| Cap {
        limit,
        window,
        scope,
        in_force: !off || limit > 2,
    })
}

fn hours() -> impl Strategy<Value = Option<Hours>> {
    prop::option::of((0u16..1440, 1u16..1440).prop_map(|(from, n)| Hours { from_minute: from, until_minute: (from + n) % 1440 }))
}

prop_compose! {
    fn rules()(
        caps in prop::collection::vec(cap(), 0..4), hours in hours(), over in 0usize..3, service in prop::bool::weighted(0.15),
        rank in (1u8..6, 1i64..9), topic in 0u32..3, zone in 0usize..4, country in 0usize..4, holdout in prop::bool::weighted(0.3),
        limit in 1i64..10, (complainers_too, series) in any::<(bool, bool)>(), (channel, quiet) in (1u8..3, hours()),
    ) -> (RuleSet, Facts) {
        let set = RuleSet {
            caps,
            hours: hours.map(|hours| LetterheadHours { letterhead: LetterheadId(1), hours }).into_iter().collect(),
            confirm: vec!["DE".into(), "NO".into()],
            holdout: holdout.then_some(Holdout { share: 0.3 }),
            quiet,
        };
        let facts = Facts {
            class: if service { Class::Service } else { Class::Marketing },
            kind: Kind { channel, topic, letterhead: 1, series },
            rank,
            over_cap: [OverCap::Hold, OverCap::Skip, OverCap::Exceed][over],
            hold_limit: limit * DAY,
            zone: TimeZone::get(ZONES[zone]).unwrap(),
            country: Some(COUNTRIES[country].to_owned()).filter(|c| !c.is_empty()),
            complainers_too,
        };
        (set, facts)
    }
}

/// Everybody, in their order.
fn clear_all((b, messages): &(Base, Messages), marks: &Marks, r: &Rules, at: Instant) -> Vec<Outcome> {
    let ready = Ready::new(b, marks, r, at);
    (0..b.contact.len()).map(|i| ready.clear(i, messages)).collect()
}

fn base(people: &[Someone]) -> ((Base, Messages), Marks) {
    let mut b = Base {
        countries: COUNTRIES.map(str::to_owned).to_vec(),
        zones: ZONES.iter().map(|z| TimeZone::get(z).unwrap()).collect(),
        ..Base::default()
    };
    let (mut marks, mut messages) = (Marks::default(), Vec::new());
    for (i, p) in people.iter().enumerate() {
        b.contact.push(ContactId(i as i64 * 3));
        b.consent.push(p.codes.0);
        b.under_pause.push(p.codes.1);
        b.status.push(p.codes.2);
        b.status_until.push(p.until.0.map_or(NONE, |t| BEGAN.millis() + t));
        b.paused_until.push(p.until.1.map_or(NONE, |t| BEGAN.millis() + t));
        b.country.push(p.place.0);
        b.zone.push(p.place.1);
        b.sunset.push(p.sunset);
        messages.extend(p.messages.iter().map(|m| (ContactId(i as i64 * 3), *m)));
        marks.flags.push(p.flags);
        Arc::make_mut(&mut marks.lists).push(p.lists);
        marks.domain_until.push(p.domain.map_or(NONE, |t| BEGAN.millis() + t));
    }
    let messages = Messages::hang(&b.contact, &messages);
    ((b, messages), marks)
}

/// The forecast as it is meant, nothing spared: at each instant at which anything is due, anybody who is due is
/// started by rank, then what is due on record is cleared again by rank. None: it doesn't go by then.
fn replayed(p: &Person<'_>, coming: &[(Rules, Kind, Instant)], planned: usize, until: Instant) -> Vec<Option<Instant>> {
    let (mut goes, mut stands): (Vec<Option<Instant>>, Vec<(Option<Instant>, bool)>) =
        coming.iter().enumerate().map(|(i, c)| (None, (Some(c.2), i >= planned))).unzip();
    let mut order: Vec<usize> = (0..coming.len()).collect();
    order.sort_by_key(|&i| coming[i].0.rank);
    while let Some(now) = stands.iter().filter_map(|s| s.0).min().filter(|t| *t <= until) {
        for recorded in [false, true] {
            for &i in order.iter() {
                if stands[i].1 != recorded || stands[i].0.is_none_or(|t| t > now) {
                    continue;
                }
                let reserved = stands.iter().enumerate().filter(|(n, s)| *n != i && s.1).filter_map(|(n, s)| {
                    (coming[n].0.class == Class::Marketing).then_some(())?;
                    Some(Message { at: s.0?, kind: coming[n].1, reserved: Some(coming[n].0.rank) })
                });
                let went = goes.iter().enumerate().filter_map(|(n, t)| {
                    (coming[n].0.class == Class::Marketing).then_some(())?;
                    Some(Message { at: (*t)?, kind: coming[n].1, reserved: None })
                });
                let messages: Vec<Message> = p.messages.iter().copied().chain(went).chain(reserved).collect();
                stands[i] = match clear(&Person { messages: &messages, ..*p }, &coming[i].0, now) {
                    Outcome::Cleared if !recorded => (Some(now), true),
                    Outcome::Held(t, _) => (Some(t), true),
                    Outcome::Barred(_) => (None, true),
                    Outcome::Cleared => {
                        goes[i] = Some(now);
                        (None, true)
                    }
                };
            }
        }
    }
    goes
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Played through on columns, people get what they get when it is all gone through one by one.
    #[test]
    fn the_forecast_is_the_replay(p in someone(), mailings in prop::collection::vec((rules(), 0i64..40, 1u8..6), 1..8), planned in 0usize..8) {
        let sent: Vec<Message> = p.messages.iter().filter(|m| m.reserved.is_none()).copied().collect();
        let (b, marks) = base(&[Someone { messages: sent, ..p }]);
        let until = BEGAN + 40 * DAY;
        let coming: Vec<(Rules, Kind, Instant)> = mailings
            .into_iter()
            .enumerate()
            .map(|(i, ((set, facts), at, priority))| {
                // Many at the same instant; each its own rank.
                let (at, facts) = (BEGAN + at / 2 * 12 * HOUR, Facts { rank: (priority, i as i64), ..facts });
                (set.for_mailing(&facts, at), facts.kind, at)
            })
            .collect();
        let planned = planned.min(coming.len());
        let ready: Vec<Ready<'_>> = coming.iter().map(|(r, _, at)| Ready::new(&b.0, &marks, r, *at)).collect();
        let events: Vec<Coming> = coming
            .iter()
            .zip(&ready)
            .map(|((r, kind, at), ready)| Coming {
                at: *at, rank: r.rank, kind: *kind, marketing: r.class == Class::Marketing, bars: ready.bars(0), reach: r.reach(),
            })
            .collect();
        let mut player = Player::default();
        for _ in 0..2 {
            let fates = player.play(&events, planned, b.1.of(0), until, |i, t, m| ready[i].decide(0, t, m, events[i].bars));
            let goes: Vec<Option<Instant>> = fates.iter().map(|f| f.goes).collect();
            prop_assert_eq!(goes, replayed(&b.0.person(b.1.of(0), 0, &marks), &coming, planned, until));
        }
    }

    /// The whole base at once decides as one by one does, reason for reason.
    #[test]
    fn columns_decide_as_the_reference_does(people in prop::collection::vec(someone(), 1..25), (set, facts) in rules(), at in 0i64..9 * DAY) {
        let (b, marks) = base(&people);
        let at = BEGAN + at;
        let r = set.for_mailing(&facts, at);
        for (i, decided) in clear_all(&b, &marks, &r, at).into_iter().enumerate() {
            prop_assert_eq!(decided, clear(&b.0.person(b.1.of(i), i, &marks), &r, at), "person {}", i);
        }
    }

    /// Nobody withdrawn, complained, retired, suppressed, or without the consent their country asks
    /// for gets marketing, whatever else holds.
    #[test]
    fn the_protected_never_get_marketing(p in someone(), (set, facts) in rules(), at in 0i64..9 * DAY) {
        let facts = Facts { class: Class::Marketing, ..facts };
        let (b, marks) = base(std::slice::from_ref(&p));
        let (at, person) = (BEGAN + at, b.0.person(b.1.of(0), 0, &marks));
        let r = set.for_mailing(&facts, at);
        let state = if person.consent == Consent::Paused { person.under_pause } else { person.consent };
        let protected = person.status == MailStatus::Retired
            || person.sunset
            || person.load_left_out
            || person.lists != 0
            || person.topic_left
            || person.series_left
            || person.already_sent
            || !state.allows_marketing()
            || (state == Consent::Consented && r.must_confirm(person.country));
        let outcome = clear(&person, &r, at);
        if protected {
            prop_assert!(matches!(outcome, Outcome::Barred(_)));
        }
        if matches!(outcome, Outcome::Cleared) && person.consent == Consent::Paused {
            prop_assert!(person.paused_until.is_some_and(|u| u <= at));
        }
    }

    /// A held person is cleared at the release, and at no instant before it: looked at every quarter
    /// of an hour, and a millisecond before.
    #[test]
    fn holds_end_exactly(p in someone(), (set, facts) in rules(), at in 0i64..9 * DAY) {
        let (b, marks) = base(std::slice::from_ref(&p));
        let (at, person) = (BEGAN + at, b.0.person(b.1.of(0), 0, &marks));
        // The holdout's quarter is that of the mailing.
        let r = set.for_mailing(&facts, at);
        if let Outcome::Held(until, why) = clear(&person, &r, at) {
            prop_assert!(until > at && why.first().is_some_and(Reason::holds));
            prop_assert!(r.class == Class::Service || until <= r.give_up_at);
            match clear(&person, &r, until) {
                // By then somebody else's reservation fills the cap, and this mailing skips people over one.
                Outcome::Barred(then) if r.over_cap == OverCap::Skip => prop_assert!(then.only(Reason::OverCap)),
                then => prop_assert_eq!(then, Outcome::Cleared),
            }
            let mut t = at;
            while t < until {
                prop_assert_ne!(clear(&person, &r, t), Outcome::Cleared, "free at {} already", t.words());
                t = t + HOUR / 4;
            }
            prop_assert_ne!(clear(&person, &r, until + -1), Outcome::Cleared);
        }
    }

    /// Selected people are cleared, or stand at exactly one step; taking a rule away clears as many
    /// more as the sluice says.
    #[test]
    fn the_sluice_adds_up(people in prop::collection::vec(someone(), 0..40), (set, facts) in rules()) {
        let (b, marks) = base(&people);
        let at = BEGAN + DAY;
        let s = tally(clear_all(&b, &marks, &set.for_mailing(&facts, at), at));
        prop_assert_eq!(s.selected, s.cleared + s.steps.iter().map(|x| x.people).sum::<u64>());
        prop_assert_eq!(s.held, s.steps.iter().filter(|x| x.reason.holds()).map(|x| x.people).sum::<u64>());
        // Without one cap: the same rules with it switched off.
        for (i, cap) in set.caps.iter().enumerate().filter(|(_, c)| c.in_force) {
            let mut without = set.clone();
            without.caps[i] = Cap { in_force: false, ..*cap };
            let now = tally(clear_all(&b, &marks, &without.for_mailing(&facts, at), at)).cleared;
            let said: u64 = s.steps.iter().filter(|x| x.reason == Reason::HeldByCap || x.reason == Reason::OverCap)
                .flat_map(|x| &x.parts).filter(|p| p.index == i).map(|p| p.without_it).sum();
            prop_assert_eq!(now, s.cleared + said, "without cap {}", i);
        }
        // Without the suppression lists.
        let none = Marks { lists: Arc::default(), ..marks.clone() };
        let now = tally(clear_all(&b, &none, &set.for_mailing(&facts, at), at)).cleared;
        let said = s.steps.iter().find(|x| x.reason == Reason::Suppressed).map_or(0, |x| x.without_it);
        prop_assert_eq!(now, s.cleared + said);
    }
}

#[test]
fn reasons_keep_their_numbers_and_their_order() {
    assert!(Reason::ALL.windows(2).all(|w| w[0] < w[1]));
    for r in Reason::ALL {
        assert_eq!(Reason::from_code(i64::from(r as u8)), Some(r));
    }
    assert_eq!(Reason::from_code(10), None);
}

#[test]
fn rules_that_cannot_hold_are_refused_with_a_sentence() {
    let cap = Cap { limit: 2, window: Window::IsoWeek, scope: Scope::Marketing, in_force: true };
    let refused = |set: RuleSet| set.check().unwrap_err().to_string();
    assert!(refused(RuleSet { caps: vec![cap, Cap { limit: 3, ..cap }], ..RuleSet::default() }).contains("twice"));
    assert!(refused(RuleSet { confirm: vec!["Germany".into()], ..RuleSet::default() }).contains("two letters"));
    assert!(refused(RuleSet { holdout: Some(Holdout { share: 1.0 }), ..RuleSet::default() }).contains("50%"));
    assert!(refused(RuleSet { caps: vec![cap; 13], ..RuleSet::default() }).contains("12"));
    assert!(RuleSet { caps: vec![cap], ..RuleSet::default() }.check().is_ok());
}
