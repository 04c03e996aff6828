//! What the coming mailings will do with a person: who gets what when, and who has to wait for whom.
//!
//! People don't touch each other, so each is played through alone: mailings and releases in the order
//! of their instants, as the engine takes them, every message that goes counting for the next.

use super::{Outcome, Person, Reasons, Rules, clear_by};
use crate::Instant;
use crate::caps::{Kind, Message};
use crate::zone::Wall;

/// A mailing to come, for somebody it selects.
#[derive(Debug, Clone, Copy)]
pub struct Coming<'a> {
    pub rules: &'a Rules,
    pub kind: Kind,
    pub at: Instant,
    pub marketing: bool,
}

/// How one of them ends for the person.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fate {
    /// When the message goes; None: it doesn't.
    pub goes: Option<Instant>,
    /// Why they waited first, if they did.
    pub waited: Option<Reasons>,
    /// Why it doesn't go.
    pub barred: Option<Reasons>,
    /// The others (by their places, up to 63) whose messages were in the way of a cap.
    pub after: u64,
}

/// Where one of them stands while it is played.
#[derive(Clone, Copy)]
enum Stands {
    Planned(Instant),
    /// On record: reserved for this instant.
    Waits(Instant),
    Over,
}

/// Plays the mailings through, as the engine does: at each instant those that are due are started by
/// rank, which puts everybody cleared or held on record; then what is due on record is cleared again and
/// goes, by rank. Messages on record are reservations for the others.
///
/// `sent` is what went before; the first `planned` of `coming` are still to be started, the others are on
/// record for their instants already. What differs per mailing (topics left, lists, already sent) comes
/// from `standing`, and by which clock each goes for the person from `clock`.
#[must_use]
pub fn play<'p, W: Wall + 'p>(
    coming: &[Coming<'_>],
    planned: usize,
    sent: &[Message],
    until: Instant,
    standing: impl Fn(usize) -> Person<'p>,
    clock: impl Fn(usize) -> &'p W,
) -> Vec<Fate> {
    let untouched = Fate { goes: None, waited: None, barred: None, after: 0 };
    let mut fates: Vec<Fate> = vec![untouched; coming.len()];
    let mut stands: Vec<Stands> =
        coming.iter().enumerate().map(|(i, c)| if i < planned { Stands::Planned(c.at) } else { Stands::Waits(c.at) }).collect();
    let mut by_rank: Vec<usize> = (0..coming.len()).collect();
    by_rank.sort_unstable_by_key(|&i| coming[i].rules.rank);
    let mut gone: Vec<Message> = sent.to_vec();
    let mut counted: Vec<Message> = Vec::new();
    let next = |stands: &[Stands]| {
        stands
            .iter()
            .filter_map(|s| match s {
                Stands::Planned(t) | Stands::Waits(t) => Some(*t),
                Stands::Over => None,
            })
            .min()
    };
    while let Some(now) = next(&stands).filter(|t| *t <= until) {
        for starts in [true, false] {
            for &i in &by_rank {
                let due = match stands[i] {
                    Stands::Planned(t) => starts && t <= now,
                    Stands::Waits(t) => !starts && t <= now,
                    Stands::Over => false,
                };
                if !due {
                    continue;
                }
                counted.clear();
                counted.extend(&gone);
                counted.extend(stands.iter().enumerate().filter_map(|(n, s)| match s {
                    Stands::Waits(at) if n != i && coming[n].marketing => {
                        Some(Message { at: *at, kind: coming[n].kind, reserved: Some(coming[n].rules.rank) })
                    }
                    _ => None,
                }));
                let outcome = clear_by(&Person { messages: &counted, ..standing(i) }, coming[i].rules, now, clock(i));
                if let Outcome::Held(_, why) | Outcome::Barred(why) = outcome
                    && why.caps != 0
                {
                    fates[i].after |= in_the_way(&fates, &stands, i, now + -coming[i].rules.reach(), now);
                }
                match outcome {
                    Outcome::Cleared if starts => stands[i] = Stands::Waits(now),
                    Outcome::Cleared => {
                        fates[i].goes = Some(now);
                        stands[i] = Stands::Over;
                        if coming[i].marketing {
                            gone.push(Message { at: now, kind: coming[i].kind, reserved: None });
                        }
                    }
                    Outcome::Held(release, why) => {
                        fates[i].waited = fates[i].waited.or(Some(why));
                        stands[i] = Stands::Waits(release);
                    }
                    Outcome::Barred(why) => {
                        fates[i].barred = Some(why);
                        stands[i] = Stands::Over;
                    }
                }
            }
        }
    }
    fates
}

/// The others, a bit each, that went since an instant or are on record until `now`.
fn in_the_way(fates: &[Fate], stands: &[Stands], but: usize, since: Instant, now: Instant) -> u64 {
    let there = |n: usize| fates[n].goes.is_some_and(|g| g > since) || matches!(stands[n], Stands::Waits(at) if at <= now);
    (0..fates.len().min(64)).filter(|&n| n != but && there(n)).fold(0, |bits, n| bits | 1 << n)
}
