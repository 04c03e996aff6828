//! Consent: what a person has allowed, as the fold of their ledger.
//!
//! Only a person's act, or evidence of one, writes consent. Bounces and clean-ups change the mail
//! status ([`crate::upkeep`]), never this.

use crate::Instant;
use serde::{Deserialize, Serialize};

/// Where a person's permission for marketing mail stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Consent {
    /// No permission on record.
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

impl Consent {
    pub const ALL: [Self; 7] =
        [Self::None, Self::Invited, Self::Consented, Self::Confirmed, Self::Paused, Self::Withdrawn, Self::Complained];

    #[must_use]
    pub fn from_code(code: i64) -> Self {
        usize::try_from(code).ok().and_then(|c| Self::ALL.get(c)).copied().unwrap_or(Self::None)
    }

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
    Withdrew,
    Complained,
}

/// The state that a ledger adds up to, at the instant `now` (a pause ends by itself).
#[must_use]
pub fn fold(ledger: impl IntoIterator<Item = Act>, now: Instant) -> Consent {
    let mut state = Consent::None;
    let mut pause: Option<(Instant, Consent)> = None;
    for act in ledger {
        let under = pause.map_or(state, |(_, before)| before);
        state = next(under, act);
        pause = match act {
            Act::Paused { until } if under.allows_marketing() => Some((until, under)),
            _ => None,
        };
    }
    match pause {
        Some((until, before)) if now >= until => before,
        _ => state,
    }
}

/// The state after `act`. A withdrawal or complaint is only left by the person confirming anew.
#[must_use]
pub fn next(state: Consent, act: Act) -> Consent {
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
        Act::Paused { .. } if state.allows_marketing() => C::Paused,
        Act::Paused { .. } => state,
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
            Just(Act::Withdrew),
            Just(Act::Complained),
            (0i64..100).prop_map(|t| Act::Paused { until: Instant(t) }),
        ]
    }

    proptest! {
        /// After a person left, nothing but their own confirmation brings marketing back.
        #[test]
        fn leaving_holds_until_they_confirm(
            before in prop::collection::vec(act(), 0..12),
            leave in prop_oneof![Just(Act::Withdrew), Just(Act::Complained)],
            after in prop::collection::vec(act(), 0..12),
            now in 0i64..200,
        ) {
            let confirmed_again = after.contains(&Act::Confirmed);
            let state = fold(before.into_iter().chain([leave]).chain(after), Instant(now));
            if !confirmed_again {
                prop_assert!(matches!(state, Consent::Withdrawn | Consent::Complained));
            }
        }

        /// A merge never gives a permission that one of the two had not, and keeps every refusal.
        #[test]
        fn a_merge_is_as_strict_as_either(a in 0i64..7, b in 0i64..7) {
            let (a, b) = (Consent::from_code(a), Consent::from_code(b));
            let both = strictest(a, b);
            prop_assert_eq!(both, strictest(b, a));
            prop_assert!(both == a || both == b);
            prop_assert_eq!(both.allows_marketing(), a.allows_marketing() && b.allows_marketing());
            prop_assert_eq!(import_may_raise(both), import_may_raise(a) && import_may_raise(b));
        }

        /// A pause hides the state before it and gives it back, whole.
        #[test]
        fn a_pause_returns_what_was(acts in prop::collection::vec(act(), 0..12), until in 50i64..60) {
            let before = fold(acts.clone(), Instant(40));
            let acts: Vec<_> = acts.into_iter().chain([Act::Paused { until: Instant(until) }]).collect();
            if before.allows_marketing() {
                prop_assert_eq!(fold(acts.clone(), Instant(until - 1)), Consent::Paused);
                prop_assert!(fold(acts, Instant(until)).allows_marketing());
            }
        }
    }
}
