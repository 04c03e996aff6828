//! What the coming mailings will do with a person: who gets what when, and who has to wait for whom.
//!
//! People don't touch each other, so each is played through alone: mailings and releases in the order
//! of their instants, as the engine takes them, every message that goes counting for the next.

use super::{Outcome, Reasons};
use crate::Instant;
use crate::caps::{Kind, Message, Rank};

/// A mailing to come, for somebody it selects.
#[derive(Debug, Clone, Copy)]
pub struct Coming {
    /// When it starts; of a message on record, what it is reserved for.
    pub at: Instant,
    pub rank: Rank,
    pub kind: Kind,
    pub marketing: bool,
    /// What bars the person whatever the instant ([`super::bars`]).
    pub bars: Reasons,
    /// How far back messages count for its caps.
    pub reach: i64,
}

/// How one of them ends for the person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
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

/// Plays people through, one after the other; keeps its room between them.
#[derive(Default)]
pub struct Player {
    fates: Vec<Fate>,
    /// Still to be started, in the order in which they are.
    planned: Vec<usize>,
    /// On record: reserved for this instant.
    waits: Vec<(Instant, usize)>,
    due: Vec<usize>,
    /// What went.
    gone: Vec<Message>,
}

impl Player {
    /// Plays the mailings through, as the engine does: at each instant those that are due are started by
    /// rank, which puts everybody cleared or held on record; then what is due on record is cleared again and
    /// goes, by rank. Messages on record are reservations for the others. Anybody who is barred whatever the
    /// instant is in nobody's way.
    ///
    /// `sent` is what went before; the first `planned` of `coming` are still to be started, the others are on
    /// record for their instants already. `decide` clears the person for one of them, at an instant and with
    /// these messages.
    pub fn play(
        &mut self,
        coming: &[Coming],
        planned: usize,
        sent: &[Message],
        until: Instant,
        decide: impl Fn(usize, Instant, &[Message]) -> Outcome,
    ) -> &[Fate] {
        self.fates.clear();
        self.fates.resize(coming.len(), Fate::default());
        self.gone.clear();
        self.gone.extend_from_slice(sent);
        self.planned.clear();
        for (i, c) in coming.iter().enumerate().take(planned) {
            if c.bars == Reasons::default() {
                self.planned.push(i);
            } else {
                self.fates[i].barred = Some(c.bars);
            }
        }
        self.planned.sort_unstable_by_key(|&i| (coming[i].at, coming[i].rank));
        self.waits.clear();
        self.waits.extend(coming.iter().enumerate().skip(planned).map(|(i, c)| (c.at, i)));
        let mut next = 0;
        loop {
            let starts = self.planned.get(next).map(|&i| coming[i].at);
            let Some(now) = self.waits.iter().map(|w| w.0).chain(starts).min().filter(|t| *t <= until) else { break };
            let began = next;
            let mut sure = None;
            while let Some(&i) = self.planned.get(next).filter(|&&i| coming[i].at <= now) {
                next += 1;
                match self.look(coming, i, now, &decide) {
                    Outcome::Cleared => {
                        sure = Some(i);
                        self.waits.push((now, i));
                    }
                    Outcome::Held(release, why) => {
                        self.fates[i].waited = Some(why);
                        self.waits.push((release, i));
                    }
                    Outcome::Barred(why) => self.fates[i].barred = Some(why),
                }
            }
            self.due.clear();
            self.due.extend(self.waits.iter().filter(|w| w.0 <= now).map(|w| w.1));
            self.due.sort_unstable_by_key(|&i| coming[i].rank);
            // The only one due, cleared a moment ago: it would be found as it was.
            let sure = sure.filter(|_| self.due.len() == 1 && next == began + 1);
            for n in 0..self.due.len() {
                let i = self.due[n];
                let outcome = if sure.is_some() { Outcome::Cleared } else { self.look(coming, i, now, &decide) };
                let Some(place) = self.waits.iter().position(|w| w.1 == i) else { continue };
                match outcome {
                    Outcome::Cleared => {
                        self.fates[i].goes = Some(now);
                        self.waits.swap_remove(place);
                        if coming[i].marketing {
                            self.gone.push(Message { at: now, kind: coming[i].kind, reserved: None });
                        }
                    }
                    Outcome::Held(release, why) => {
                        self.fates[i].waited = self.fates[i].waited.or(Some(why));
                        self.waits[place].0 = release;
                    }
                    Outcome::Barred(why) => {
                        self.fates[i].barred = Some(why);
                        self.waits.swap_remove(place);
                    }
                }
            }
        }
        &self.fates
    }

    /// Clears one of them beside what went and what is on record.
    fn look(&mut self, coming: &[Coming], i: usize, now: Instant, decide: impl Fn(usize, Instant, &[Message]) -> Outcome) -> Outcome {
        let gone = self.gone.len();
        let others = self.waits.iter().filter(|w| w.1 != i && coming[w.1].marketing);
        self.gone.extend(others.map(|&(at, n)| Message { at, kind: coming[n].kind, reserved: Some(coming[n].rank) }));
        let outcome = decide(i, now, &self.gone);
        self.gone.truncate(gone);
        if let Outcome::Held(_, why) | Outcome::Barred(why) = outcome
            && why.caps != 0
        {
            self.fates[i].after |= self.in_the_way(i, now + -coming[i].reach, now);
        }
        outcome
    }

    /// The others, a bit each, that went since an instant or are on record until `now`.
    fn in_the_way(&self, but: usize, since: Instant, now: Instant) -> u64 {
        let went = self.fates.iter().enumerate().filter(|(_, f)| f.goes.is_some_and(|g| g > since)).map(|(n, _)| n);
        let waits = self.waits.iter().filter(|w| w.0 <= now).map(|w| w.1);
        went.chain(waits).filter(|n| *n < 64 && *n != but).fold(0, |bits, n| bits | 1 << n)
    }
}
