use super::walk::{Fact, Facts, How, Move, Sent, Standing, ahead, at_minute, next};
use super::*;
use crate::id::MailingId;
use crate::zone::{self, Wall};
use crate::{Instant, MINUTE};
use proptest::prelude::*;

fn step(id: u32, does: Does) -> Step {
    Step { id, does }
}

/// Trees of steps, their numbers and mailings given from top to bottom.
fn outlines() -> impl Strategy<Value = Outline> {
    let leaf = prop_oneof![
        Just(Does::Mail { mailing: MailingId(0) }),
        (1u32..200, prop::option::of(0u16..1440)).prop_map(|(hours, minute)| Does::Wait { hours, minute }),
        (1u32..200).prop_map(|hours| Does::Await { what: Happening::Event { name: "visit".into() }, hours }),
        Just(Does::Act { deed: Deed::Tag { tag: 1, put: true } }),
    ]
    .prop_map(|does| step(0, does));
    let steps = leaf.prop_recursive(3, 16, 3, |inner| {
        let question = prop_oneof![
            Just(Question::Segment { segment: SegmentId(1) }),
            Just(Question::Happened { what: Happening::Event { name: "visit".into() } }),
            (1.0f64..99.0).prop_map(|percent| Question::Share { percent }),
        ];
        (question, prop::collection::vec(inner.clone(), 0..3), prop::collection::vec(inner, 1..3))
            .prop_map(|(on, yes, no)| step(0, Does::Fork { on, yes, no }))
    });
    fn number(steps: &mut [Step], n: &mut u32) {
        for s in steps {
            *n += 1;
            s.id = *n;
            match &mut s.does {
                Does::Mail { mailing } => *mailing = MailingId(i64::from(*n)),
                Does::Fork { yes, no, .. } => {
                    number(yes, n);
                    number(no, n);
                }
                _ => {}
            }
        }
    }
    prop::collection::vec(steps, 1..4).prop_map(|mut steps| {
        number(&mut steps, &mut 0);
        Outline { steps, ..Outline::default() }
    })
}

/// Walks somebody through, looking again `late` milliseconds after each instant that it asks for.
fn walk(o: &Outline, facts: &Facts, late: i64) -> (Vec<(u32, Instant)>, Vec<(MailingId, Instant)>, Option<Instant>) {
    let clock = zone::named("Europe/London").unwrap();
    let mut s = Standing { step: o.first().unwrap(), came: Instant::of(0), entered: Instant::of(0), sent: None };
    let (mut seen, mut sends, mut now) = (vec![(s.step, s.came)], Vec::new(), Instant::of(late));
    for _ in 0..1_000 {
        let (to, at) = match next(o, &s, facts, &clock, now) {
            Move::Stay(Some(until)) => {
                assert!(until > now, "a wait asks for a later look");
                now = until + late;
                continue;
            }
            Move::Send { mailing, due } => {
                assert_eq!(s.sent, None, "no second message while one is on its way");
                sends.push((mailing, due));
                s.sent = Some(Sent::Accepted(due));
                continue;
            }
            Move::Go { to, at, .. } | Move::Act { to, at, .. } => (to, at),
            Move::Exit { at, .. } => return (seen, sends, Some(at)),
            other => panic!("{other:?}"),
        };
        assert!(at >= s.came && at <= now, "nobody goes back in time, or ahead of it");
        let Some(step) = to else { return (seen, sends, None) };
        s = Standing { step, came: at, entered: s.entered, sent: None };
        seen.push((step, at));
    }
    panic!("it doesn't end");
}

fn facts(visits: &[i64], inside: bool, share: f64) -> Facts {
    let did = visits.iter().map(|h| (Instant::of(h * crate::HOUR), Fact::Event("Visit".into()))).collect();
    Facts { did, segments: [(SegmentId(1), inside)].into(), share, ..Facts::default() }
}

proptest! {
    /// Everyone comes through, from top to bottom, at no step twice, and it makes no difference how late anybody looks.
    #[test]
    fn a_walk_ends_and_doesnt_depend_on_when_one_looks(
        o in outlines(), visits in prop::collection::vec(0i64..400, 0..4), inside: bool, share in 0.0f64..1.0, late in 0i64..30_000_000
    ) {
        prop_assert!(o.check().is_ok(), "{:?}", o.check());
        let f = facts(&visits, inside, share);
        let (seen, sends, _) = walk(&o, &f, 0);
        prop_assert!(seen.windows(2).all(|w| w[0].0 < w[1].0), "{:?}", seen);
        prop_assert_eq!(&walk(&o, &f, late).0, &seen);
        prop_assert_eq!(sends.len(), seen.iter().filter(|(s, _)| o.mailings().contains_key(s)).count());
    }

    /// The forecast of somebody to whom nothing more happens is what then comes to pass.
    #[test]
    fn what_lies_ahead_is_what_comes(o in outlines(), share in 0.0f64..1.0) {
        let f = facts(&[], false, share);
        let (_, sends, _) = walk(&o, &f, 0);
        let clock = zone::named("Europe/London").unwrap();
        let s = Standing { step: o.first().unwrap(), came: Instant::of(0), entered: Instant::of(0), sent: None };
        prop_assert_eq!(ahead(&o, s, &f, &clock, Instant::of(0), Instant::of(i64::MAX / 2)), sends);
    }

    /// Nothing goes after an exit, and without it the way is the same until then.
    #[test]
    fn an_exit_ends_it(o in outlines(), at in 1i64..400, share in 0.0f64..1.0) {
        let f = facts(&[at], false, share);
        let out = Outline { exits: vec![Exit::Happened { what: Happening::Event { name: "visit".into() } }], ..o.clone() };
        let (seen, sends, left) = walk(&out, &f, 0);
        let (whole, _, _) = walk(&o, &f, 0);
        prop_assert!(whole.starts_with(&seen));
        prop_assert!(sends.iter().all(|(_, due)| *due <= Instant::of(at * crate::HOUR)));
        if let Some(left) = left {
            prop_assert_eq!(left, Instant::of(at * crate::HOUR));
        }
    }

    /// In a changed outline everybody is at a step of it, or through; where their step is still there, they are at it.
    #[test]
    fn a_change_loses_nobody(o in outlines(), keep in prop::collection::vec(any::<bool>(), 30)) {
        fn without(steps: &[Step], keep: &[bool]) -> Vec<Step> {
            steps.iter().filter(|s| keep[s.id as usize % keep.len()]).map(|s| match &s.does {
                Does::Fork { on, yes, no } => step(s.id, Does::Fork { on: on.clone(), yes: without(yes, keep), no: without(no, keep) }),
                _ => s.clone(),
            }).collect()
        }
        let changed = Outline { steps: without(&o.steps, &keep), ..o.clone() };
        let there: Vec<u32> = changed.placed().iter().map(|p| p.step.id).collect();
        for p in o.placed() {
            match o.moved(p.step.id, &changed) {
                Some(to) => {
                    prop_assert!(there.contains(&to) && to >= p.step.id);
                    prop_assert!(!there.contains(&p.step.id) || to == p.step.id);
                }
                None => prop_assert!(!there.contains(&p.step.id)),
            }
        }
    }

    /// A time of day comes within a day and a clock change, never earlier, and the clock shows it (or it was leapt over).
    #[test]
    fn the_minute_of_the_day_is_theirs(t in 1_700_000_000_000i64..1_800_000_000_000, minute in 0u16..1440, place in 0usize..4) {
        let clock = zone::named(["Europe/London", "America/St_Johns", "Pacific/Apia", "UTC"][place]).unwrap();
        let t = Instant::of(t);
        let at = at_minute(t, minute, &clock);
        prop_assert!(at >= t && at - t <= DAY + 2 * HOUR, "{}", at - t);
        prop_assert!(clock.minute(at) == minute || !clock.changes(at + -MINUTE, at + 1).is_empty());
    }
}

#[test]
fn a_held_message_keeps_its_step_and_goes_on_when_it_went() {
    let o = Outline {
        steps: vec![step(1, Does::Mail { mailing: MailingId(7) }), step(2, Does::Wait { hours: 24, minute: None })],
        ..Outline::default()
    };
    let at = |sent| Standing { step: 1, came: Instant::of(0), entered: Instant::of(0), sent };
    let ask = |s: Standing| next(&o, &s, &Facts::default(), &zone::TimeZone::UTC, Instant::of(9 * DAY));
    assert_eq!(ask(at(None)), Move::Send { mailing: MailingId(7), due: Instant::of(0) });
    assert_eq!(ask(at(Some(Sent::Pending))), Move::Stay(None));
    // The wait begins when the message went, not when it was due.
    let went = Instant::of(8 * DAY);
    assert_eq!(ask(at(Some(Sent::Accepted(went)))), Move::Go { to: Some(2), at: went, how: How::Sent });
    let barred = |for_good| Some(Sent::Barred { at: went, for_good });
    assert_eq!(ask(at(barred(false))), Move::Go { to: Some(2), at: went, how: How::NotSent });
    assert_eq!(ask(at(barred(true))), Move::Unreachable { at: went });
}

#[test]
fn what_happens_counts_from_entering_on_and_a_click_shows_an_open() {
    let f = Facts {
        did: vec![
            (Instant::of(5), Fact::Clicked(1, 2)),
            (Instant::of(9), Fact::Bought { product: "Chart print".into(), category: "Paper".into(), cents: -100, currency: "GBP".into() }),
        ],
        ..Facts::default()
    };
    let first = |what: &Happening, after| f.first(what, Instant::of(after), Instant::of(100));
    assert_eq!(first(&Happening::Opened { step: 1 }, 0), Some(Instant::of(5)));
    assert_eq!(first(&Happening::Opened { step: 1 }, 5), None, "not before they entered, nor as they did");
    assert_eq!(first(&Happening::Clicked { step: 1, link: Some(1) }, 0), None);
    assert_eq!(first(&Happening::Clicked { step: 1, link: Some(2) }, 0), Some(Instant::of(5)));
    assert_eq!(first(&Happening::Bought { product: None, category: None }, 0), None, "a refund is no purchase");
}

#[test]
fn a_birthday_comes_each_year() {
    let day = |y, m, d| i64::from(jiff::civil::date(1970, 1, 1).until(jiff::civil::date(y, m, d)).unwrap().get_days());
    let born = day(1984, 2, 29);
    let entry = |days, today| Outline::entry_day(born, days, true, today);
    assert_eq!(entry(0, day(2026, 1, 5)), Some(day(2026, 2, 28)));
    assert_eq!(entry(0, day(2026, 3, 1)), Some(day(2027, 2, 28)));
    assert_eq!(entry(0, day(2028, 1, 1)), Some(day(2028, 2, 29)));
    assert_eq!(entry(-14, day(2026, 2, 14)), Some(day(2026, 2, 14)));
    assert_eq!(entry(-60, day(2025, 12, 30)), Some(day(2025, 12, 30)), "a shift may reach over the year's end");
    assert_eq!(Outline::entry_day(born, 7, false, day(2026, 1, 5)), Some(day(1984, 3, 7)));
}

#[test]
fn what_cant_be_meant_is_refused_in_a_sentence() {
    let with = |steps: Vec<Step>| Outline { steps, ..Outline::default() }.check().unwrap_err();
    let mail = |id, mailing| step(id, Does::Mail { mailing });
    assert!(with(vec![mail(1, MailingId(1)), mail(1, MailingId(2))]).contains("same number"));
    assert!(with(vec![mail(1, MailingId(1)), mail(2, MailingId(1))]).contains("stands at two steps"));
    assert!(with(vec![step(1, Does::Wait { hours: 0, minute: None })]).contains("between 1 hour"));
    assert!(with(vec![step(1, Does::Await { what: Happening::Opened { step: 9 }, hours: 5 })]).contains("sends none"));
    assert!(with(vec![step(1, Does::Fork { on: Question::Share { percent: 10.0 }, yes: vec![], no: vec![] })]).contains("no difference"));
    assert!(Outline::default().ready().unwrap_err().contains("Nothing happens"));
    for s in starters::all() {
        let mailings: Vec<MailingId> = (1..).map(MailingId).take(s.messages.len()).collect();
        let o = s.with(&mailings, Some(SegmentId(1)));
        assert!(o.ready().is_ok() && o.mailings().len() == s.messages.len(), "{}", s.key);
        assert!(!o.words(&Named::default()).contains("that is gone:"), "{}", o.words(&Named::default()));
    }
}
