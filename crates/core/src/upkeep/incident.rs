//! The incident guard: when far more addresses of one mailbox group fail on a mailing than usually do, it is most likely the host that
//! failed. One misconfigured host must not retire thousands, so none of these failures counts until a person decides. The same is asked of the
//! group's domain alone where the whole group is within its norm: what is wrong at one of its hundred domains drowns in the others' mail.

use super::Policy;
use serde::{Deserialize, Serialize};

/// The norm is of the last so many days.
pub const NORM_DAYS: i64 = 90;
/// What is called one mailing's failures here are those of the messages of so many days: a step of a series goes on for ever.
pub const ON_A_MAILING_DAYS: i64 = 5;
/// A group (or a domain of one) with fewer messages than these has no norm of its own: the whole base's is used.
const OWN_FROM: u64 = 100;
/// In a base with fewer messages than [`OWN_FROM`], 2 of 100 are taken as usual.
const USUAL: Counted = Counted { failures: 2, messages: 100 };

/// Failures that count against addresses (permanent or temporary, no blocks), of messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Counted {
    pub failures: u64,
    pub messages: u64,
}

/// Of what the norm is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NormOf {
    Group,
    Base,
    /// Too little mail was sent for a norm.
    Usual,
}

/// A group's norm: its own where it has one, else the base's.
#[must_use]
pub fn norm(own: Counted, base: Counted) -> (NormOf, Counted) {
    if own.messages >= OWN_FROM {
        (NormOf::Group, own)
    } else if base.messages >= OWN_FROM {
        (NormOf::Base, base)
    } else {
        (NormOf::Usual, USUAL)
    }
}

/// Do a mailing's failures at a group make an incident?
#[must_use]
pub fn is_incident(on_mailing: Counted, norm: Counted, policy: &Policy) -> bool {
    on_mailing.failures > u64::from(policy.incident_addresses)
        // The rates are compared by their products: a norm without any failure is passed by the first.
        && on_mailing.failures * norm.messages > u64::from(policy.incident_times) * norm.failures * on_mailing.messages
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const NORM: Counted = Counted { failures: 4, messages: 1_000 };

    #[rstest]
    #[case::as_many_as_it_takes(Counted { failures: 20, messages: 30 }, NORM, false)]
    #[case::one_more(Counted { failures: 21, messages: 30 }, NORM, true)]
    #[case::ten_times(Counted { failures: 40, messages: 1_000 }, NORM, false)]
    #[case::over_ten_times(Counted { failures: 41, messages: 1_000 }, NORM, true)]
    #[case::none_before(Counted { failures: 21, messages: 100_000 }, Counted { failures: 0, messages: 500 }, true)]
    fn both_limits_must_be_passed(#[case] on: Counted, #[case] norm: Counted, #[case] want: bool) {
        assert_eq!(is_incident(on, norm, &Policy::default()), want);
    }

    #[test]
    fn a_small_group_goes_by_the_base() {
        let small = Counted { failures: 9, messages: 99 };
        assert_eq!(norm(small, NORM), (NormOf::Base, NORM));
        assert_eq!(norm(NORM, small).0, NormOf::Group);
        assert_eq!(norm(small, small).0, NormOf::Usual);
    }

    proptest! {
        /// More failures of as many messages never end an incident, and a worse norm never makes one.
        #[test]
        fn it_is_monotone(failures in 0u64..500, messages in 500u64..2_000, usual in 0u64..100, more in 0u64..100) {
            let of = |failures| Counted { failures, messages };
            let norm = |failures| Counted { failures, messages: 1_000 };
            let p = Policy::default();
            if is_incident(of(failures), norm(usual), &p) {
                prop_assert!(is_incident(of(failures + more), norm(usual), &p));
            } else {
                prop_assert!(!is_incident(of(failures), norm(usual + more), &p));
            }
        }
    }
}
