//! Consent: what a person has allowed, as the fold of their ledger.
//!
//! Only a person's act, or evidence of one, writes consent. Bounces and clean-ups change the mail
//! status ([`crate::upkeep`]), never this.

use crate::Instant;
use serde::{Deserialize, Serialize};

/// Where a person's permission for marketing mail stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Consent {
    /// No permission on record.
    #[default]
    None = 0,
    /// Double opt-in message sent, not confirmed.
    Invited = 1,
    /// Single opt-in.
    Consented = 2,
    /// Double opt-in done.
    Confirmed = 3,
    /// Asked for a break until a date.
    Paused = 4,
    /// Unsubscribed from everything on this channel by their own act.
    Withdrawn = 5,
    /// Marked us as spam.
    Complained = 6,
}

crate::code::coded!(Consent, "consent state");

impl Consent {
    pub const ALL: [Self; 7] =
        [Self::None, Self::Invited, Self::Consented, Self::Confirmed, Self::Paused, Self::Withdrawn, Self::Complained];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Invited => "invited",
            Self::Consented => "consented",
            Self::Confirmed => "confirmed",
            Self::Paused => "paused",
            Self::Withdrawn => "withdrawn",
            Self::Complained => "complained",
        }
    }

    /// May marketing mail go out at all in this state?
    #[must_use]
    pub fn allows_marketing(self) -> bool {
        matches!(self, Self::Consented | Self::Confirmed)
    }
}

/// One entry of the consent ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Act {
    /// Evidence that the person agreed (an import with its evidence, a form without double opt-in).
    Agreed,
    Invited,
    Confirmed,
    /// Asked for a break until the instant.
    Paused {
        until: Instant,
    },
    /// Ended the break themselves, before its date.
    Resumed,
    Withdrew,
    Complained,
}

impl Act {
    /// How the ledger writes it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Agreed => "agreed",
            Self::Invited => "invited",
            Self::Confirmed => "confirmed",
            Self::Paused { .. } => "paused",
            Self::Resumed => "resumed",
            Self::Withdrew => "withdrew",
            Self::Complained => "complained",
        }
    }

    /// The act of a ledger's word; `until` is a break's end.
    #[must_use]
    pub fn of_word(word: &str, until: Option<Instant>) -> Option<Self> {
        let until = until.unwrap_or(Instant::of(0));
        [Self::Agreed, Self::Invited, Self::Confirmed, Self::Paused { until }, Self::Resumed, Self::Withdrew, Self::Complained]
            .into_iter()
            .find(|a| a.word() == word)
    }
}

/// Where consent stands, with what a break hides.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Standing {
    pub state: Consent,
    /// Under a pause: what was before it, and is again after it.
    pub under: Consent,
    /// When the pause ends.
    pub until: Option<Instant>,
}

impl Standing {
    /// The state at an instant: a pause ends by itself.
    #[must_use]
    pub fn at(self, now: Instant) -> Consent {
        if self.state == Consent::Paused && self.until.is_some_and(|u| u <= now) { self.under } else { self.state }
    }

    /// The standing after an act at an instant.
    ///
    /// Somebody else's evidence (an import, an invitation) doesn't end a break the person asked for.
    #[must_use]
    pub fn after(self, act: Act, at: Instant) -> Self {
        let paused = self.at(at) == Consent::Paused;
        let base = if self.state == Consent::Paused { self.under } else { self.state };
        let plain = |state| Self { state, under: Consent::None, until: None };
        match act {
            Act::Paused { until } if base.allows_marketing() => Self { state: Consent::Paused, under: base, until: Some(until) },
            Act::Agreed | Act::Invited | Act::Paused { .. } if paused => self,
            Act::Resumed => plain(base),
            _ => plain(next(base, act)),
        }
    }
}

/// What a ledger adds up to: acts with their instants, oldest first.
#[must_use]
pub fn fold(ledger: impl IntoIterator<Item = (Instant, Act)>) -> Standing {
    ledger.into_iter().fold(Standing::default(), |s, (at, act)| s.after(act, at))
}

/// The state after `act`, breaks aside. A withdrawal or complaint is only left by the person confirming again.
fn next(state: Consent, act: Act) -> Consent {
    use Consent as C;
    match act {
        Act::Complained => C::Complained,
        Act::Confirmed => C::Confirmed,
        Act::Withdrew if state == C::Complained => C::Complained,
        Act::Withdrew => C::Withdrawn,
        _ if matches!(state, C::Withdrawn | C::Complained) => state,
        Act::Agreed if state == C::Confirmed => state,
        Act::Agreed => C::Consented,
        Act::Invited if state.allows_marketing() => state,
        Act::Invited => C::Invited,
        Act::Paused { .. } | Act::Resumed => state,
    }
}

/// What holds of two states of one person, after a merge: the strictest. A refusal outlives a
/// permission, and a permission for one address is none for the other.
#[must_use]
pub fn strictest(a: Consent, b: Consent) -> Consent {
    use Consent as C;
    let order = [C::Complained, C::Withdrawn, C::None, C::Invited, C::Paused, C::Consented, C::Confirmed];
    order.into_iter().find(|s| *s == a || *s == b).unwrap_or(C::None)
}

/// May an import write `Agreed` for someone in this state? It can't raise consent over a
/// withdrawal or a complaint: such rows are reported, not applied.
#[must_use]
pub fn import_may_raise(state: Consent) -> bool {
    !matches!(state, Consent::Withdrawn | Consent::Complained)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn act() -> impl Strategy<Value = Act> {
        prop_oneof![
            Just(Act::Agreed),
            Just(Act::Invited),
            Just(Act::Confirmed),
            Just(Act::Resumed),
            Just(Act::Withdrew),
            Just(Act::Complained),
            (0i64..100).prop_map(|t| Act::Paused { until: Instant::of(t) }),
        ]
    }

    fn ledger() -> impl Strategy<Value = Vec<(Instant, Act)>> {
        prop::collection::vec((0i64..40, act()), 0..12).prop_map(|mut v| {
            v.sort_by_key(|(t, _)| *t);
            v.into_iter().map(|(t, a)| (Instant::of(t), a)).collect()
        })
    }

    proptest! {
        /// After a person left, nothing but their own confirmation brings marketing back.
        #[test]
        fn leaving_holds_until_they_confirm(
            before in ledger(), leave in prop_oneof![Just(Act::Withdrew), Just(Act::Complained)], after in ledger(), now in 40i64..200,
        ) {
            let confirmed_again = after.iter().any(|(_, a)| *a == Act::Confirmed);
            let state = fold(before.into_iter().chain([(Instant::of(0), leave)]).chain(after)).at(Instant::of(now));
            if !confirmed_again {
                prop_assert!(matches!(state, Consent::Withdrawn | Consent::Complained));
            }
        }

        /// A merge never gives a permission that one of the two had not, and keeps every refusal.
        #[test]
        fn a_merge_is_as_strict_as_either(a in 0usize..7, b in 0usize..7) {
            let (a, b) = (Consent::ALL[a], Consent::ALL[b]);
            let both = strictest(a, b);
            prop_assert_eq!(both, strictest(b, a));
            prop_assert!(both == a || both == b);
            prop_assert_eq!(both.allows_marketing(), a.allows_marketing() && b.allows_marketing());
            prop_assert_eq!(import_may_raise(both), import_may_raise(a) && import_may_raise(b));
        }

        /// A pause hides the state before it and gives it back, whole; nobody but the person ends it.
        #[test]
        fn a_pause_returns_what_was(acts in ledger(), until in 50i64..60, other in prop_oneof![Just(Act::Agreed), Just(Act::Invited)]) {
            let before = fold(acts.clone()).at(Instant::of(41));
            let acts: Vec<_> = acts.into_iter().chain([(Instant::of(41), Act::Paused { until: Instant::of(until) }), (Instant::of(42), other)]).collect();
            let s = fold(acts);
            if before.allows_marketing() {
                prop_assert_eq!(s.at(Instant::of(until - 1)), Consent::Paused);
                prop_assert_eq!(s.at(Instant::of(until)), before);
                prop_assert_eq!(s.after(Act::Resumed, Instant::of(45)).at(Instant::of(45)), before);
                prop_assert_eq!(s.after(Act::Withdrew, Instant::of(45)).at(Instant::of(until)), Consent::Withdrawn);
            }
        }
    }
}
