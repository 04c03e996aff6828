//! Where one person goes next.
//!
//! [`next`] looks at one step and says what follows from what is known. It has no clock and asks nobody:
//! the store gathers the facts, does what it says, and asks again until somebody stays. Steps are left at
//! the instant at which they were over, not at the one at which somebody looked, so that waits don't drift.

use super::{Does, Exit, Happening, Outline, Question, Step, span};
use crate::Instant;
use crate::goal::{Goal, Happened, is_of};
use crate::id::{MailingId, SegmentId};
use crate::reaction::{Deed, SETTLES_AFTER};
use crate::words::fold;
use crate::zone::Wall;
use crate::{DAY, MINUTE};
use std::collections::HashMap;

/// What became of a step's message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sent {
    /// Recorded: it is due, held, deferred, or being handed over.
    Pending,
    Accepted(Instant),
    Failed(Instant),
    /// No rule lets it go to them. `for_good`: nor will any other message, since they left, complained or can't be
    /// reached.
    Barred {
        at: Instant,
        for_good: bool,
    },
}

/// Where somebody is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    pub step: u32,
    /// When they came to the step.
    pub came: Instant,
    /// When they entered the series.
    pub entered: Instant,
    /// The message of this step, when it sends one.
    pub sent: Option<Sent>,
}

/// What somebody did, as far as a series can ask.
#[derive(Debug, Clone, PartialEq)]
pub enum Fact {
    /// With the message of a step; a click has its link.
    Opened(u32),
    Clicked(u32, u32),
    Replied(u32),
    Event(String),
    Bought {
        product: String,
        category: String,
        cents: i64,
        currency: String,
    },
}

/// What is known of a person.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// With the instants at which it happened.
    pub did: Vec<(Instant, Fact)>,
    /// Topics that they have left.
    pub left: Vec<i64>,
    /// The segments that were asked about, and whether they are in them.
    pub segments: HashMap<SegmentId, bool>,
    pub goals: HashMap<i64, Goal>,
    /// From 0 to below 1, the same for them at a step each time.
    pub share: f64,
}

/// Why they left a step, or the series.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// The wait was over, the deed done.
    Done,
    Sent,
    NotSent,
    Yes,
    No,
    /// It happened in time.
    Happened,
    /// It didn't.
    TooLate,
}

impl How {
    /// As the store keeps it.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Sent => "sent",
            Self::NotSent => "not sent",
            Self::Yes => "yes",
            Self::No => "no",
            Self::Happened => "happened",
            Self::TooLate => "too late",
        }
    }
}

/// What follows.
#[derive(Debug, Clone, PartialEq)]
pub enum Move<'a> {
    /// They stay, until something happens; look again then, at the latest.
    Stay(Option<Instant>),
    /// The message of this step is to be recorded, due at this instant.
    Send { mailing: MailingId, due: Instant },
    /// Do this, then they go on.
    Act { deed: &'a Deed, to: Option<u32>, at: Instant },
    /// To another step, or through (`None`).
    Go { to: Option<u32>, at: Instant, how: How },
    /// Out by the exit with this number.
    Exit { exit: usize, at: Instant },
    /// Out, because no mail reaches them any more.
    Unreachable { at: Instant },
    /// It has to be known first whether they are in this segment.
    Ask(SegmentId),
}

impl Facts {
    /// When it happened first, after an instant and by `now`.
    #[must_use]
    pub fn first(&self, what: &Happening, after: Instant, now: Instant) -> Option<Instant> {
        let meets = |f: &Fact| match (what, f) {
            (Happening::Opened { step }, Fact::Opened(s) | Fact::Clicked(s, _)) | (Happening::Replied { step }, Fact::Replied(s)) => {
                step == s
            }
            (Happening::Clicked { step, link }, Fact::Clicked(s, l)) => step == s && link.is_none_or(|asked| asked == *l),
            (Happening::Event { name }, Fact::Event(n)) => fold(name) == fold(n),
            (Happening::Bought { product: p, category: k }, Fact::Bought { product, category, cents, .. }) => {
                *cents >= 0 && is_of((p, k), product, category)
            }
            (Happening::Goal { goal }, fact) => self.goals.get(goal).is_some_and(|g| {
                let happened = match fact {
                    Fact::Event(name) => Happened::Event { name },
                    Fact::Bought { product, category, cents, currency } => {
                        Happened::Purchase { product, category, cents: *cents, currency }
                    }
                    _ => return false,
                };
                g.worth(happened).conversions > 0
            }),
            _ => false,
        };
        self.did.iter().filter(|(at, f)| *at > after && *at <= now && meets(f)).map(|(at, _)| *at).min()
    }
}

/// The first instant, `t` or later, at which their clock shows this minute of the day.
#[must_use]
pub fn at_minute(t: Instant, minute: u16, clock: &impl Wall) -> Instant {
    // A time that a clock change leaps over means the change itself, which still lies on that day.
    (clock.day(t) - 1..)
        .find_map(|day| {
            let [a, b] = clock.instants(day * DAY + i64::from(minute) * MINUTE);
            a.into_iter().chain(b).min().filter(|at| *at >= t)
        })
        .unwrap_or(t)
}

/// When a wait that began at `came` is over.
fn over(came: Instant, hours: u32, minute: Option<u16>, clock: &impl Wall) -> Instant {
    let least = came + span(hours);
    minute.map_or(least, |m| at_minute(least, m, clock))
}

/// What follows for somebody at `now`. A step that the outline doesn't have means that they are through.
#[must_use]
pub fn next<'a>(outline: &'a Outline, s: &Standing, facts: &Facts, clock: &impl Wall, now: Instant) -> Move<'a> {
    if let Some(out) = exits(outline, s, facts, now) {
        return out;
    }
    let placed = outline.placed();
    let Some(p) = placed.iter().find(|p| p.step.id == s.step) else {
        return Move::Go { to: None, at: s.came, how: How::Done };
    };
    let go = |at: Instant, how: How| Move::Go { to: p.next, at, how };
    match &p.step.does {
        Does::Mail { mailing } => match s.sent {
            None => Move::Send { mailing: *mailing, due: s.came },
            Some(Sent::Pending) => Move::Stay(None),
            // Never earlier than they came: a report can be dated before its message.
            Some(Sent::Accepted(at)) => go(at.max(s.came), How::Sent),
            Some(Sent::Failed(at) | Sent::Barred { at, for_good: false }) => go(at.max(s.came), How::NotSent),
            Some(Sent::Barred { at, for_good: true }) => Move::Unreachable { at: at.max(s.came) },
        },
        Does::Wait { hours, minute } => match over(s.came, *hours, *minute, clock) {
            until if until > now => Move::Stay(Some(until)),
            until => go(until, How::Done),
        },
        Does::Await { what, hours } => {
            let limit = s.came + span(*hours);
            // What a reader does is known to be theirs some seconds later: nobody is too late before that.
            let told = if matches!(what, Happening::Opened { .. } | Happening::Clicked { .. }) { limit + SETTLES_AFTER } else { limit };
            match facts.first(what, s.entered, now.min(limit)) {
                Some(at) => go(at.max(s.came), How::Happened),
                None if told > now => Move::Stay(Some(told)),
                None => go(limit, How::TooLate),
            }
        }
        Does::Fork { on, yes, no } => {
            let answer = match on {
                Question::Segment { segment } => match facts.segments.get(segment) {
                    None => return Move::Ask(*segment),
                    Some(answer) => *answer,
                },
                Question::Happened { what } => facts.first(what, s.entered, s.came).is_some(),
                Question::Share { percent } => facts.share * 100.0 < *percent,
            };
            let (way, how): (&[Step], _) = if answer { (yes, How::Yes) } else { (no, How::No) };
            Move::Go { to: way.first().map(|s| s.id).or(p.next), at: s.came, how }
        }
        Does::Act { deed } => Move::Act { deed, to: p.next, at: s.came },
    }
}

fn exits<'a>(outline: &Outline, s: &Standing, facts: &Facts, now: Instant) -> Option<Move<'a>> {
    let mut first: Option<(Instant, usize)> = None;
    for (i, exit) in outline.exits.iter().enumerate() {
        let at = match exit {
            Exit::Happened { what } => facts.first(what, s.entered, now),
            // When somebody left a topic or a segment isn't asked: they are out now.
            Exit::TopicLeft { topic } => facts.left.contains(topic).then_some(now),
            Exit::SegmentLeft { segment } => match facts.segments.get(segment) {
                None => return Some(Move::Ask(*segment)),
                Some(inside) => (!inside).then_some(now),
            },
        };
        if let Some(at) = at
            && first.is_none_or(|(earliest, _)| at < earliest)
        {
            first = Some((at, i));
        }
    }
    first.map(|(at, exit)| Move::Exit { exit, at })
}

/// The messages that somebody inside will come to until an instant, if nothing more happens: waits for something run to
/// their limit, forks on it go the way of now, and every message is handed over when it is due. Segments that aren't in
/// the facts are taken as "not in it".
#[must_use]
pub fn ahead(
    outline: &Outline,
    from: Standing,
    facts: &Facts,
    clock: &impl Wall,
    now: Instant,
    until: Instant,
) -> Vec<(MailingId, Instant)> {
    let mut out = Vec::new();
    let mut s = from;
    let mut facts = facts.clone();
    for segment in outline.exits.iter().filter_map(|e| if let Exit::SegmentLeft { segment } = e { Some(*segment) } else { None }) {
        facts.segments.entry(segment).or_insert(true);
    }
    let mut t = now;
    // A step is come to once, and asks at most three times.
    for _ in 0..4 * outline.placed().len() + 4 {
        let to = match next(outline, &s, &facts, clock, t) {
            Move::Stay(Some(later)) if later <= until => {
                t = later;
                continue;
            }
            Move::Send { mailing, due } => {
                let at = due.max(now);
                if at > until {
                    break;
                }
                out.push((mailing, at));
                s.sent = Some(Sent::Accepted(at));
                t = t.max(at);
                continue;
            }
            // What is on its way is counted already; it goes on from now at the earliest.
            Move::Stay(None) => {
                s.sent = Some(Sent::Accepted(t));
                continue;
            }
            Move::Ask(segment) => {
                facts.segments.insert(segment, false);
                continue;
            }
            Move::Act { to, at, .. } | Move::Go { to, at, .. } => (to, at),
            Move::Stay(Some(_)) | Move::Exit { .. } | Move::Unreachable { .. } => break,
        };
        let (Some(step), at) = to else { break };
        s = Standing { step, came: at, entered: s.entered, sent: None };
    }
    out
}
