//! Is our mail let in? What a share of accepted mail says of a host, by marks, and what a DMARC record says of a source.

pub mod ahead;
pub mod alert;
pub mod authentication;
pub mod blocklist;
pub mod junk;
pub mod operator;
pub mod pause;
pub mod placement;
pub mod throttle;
pub mod told;
pub mod warm_up;

use crate::report::Rate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Accepted mail under this share is looked at …
pub const WARN: f64 = 0.97;
/// … and under this one something is wrong.
pub const ACT: f64 = 0.95;

/// How a host lets our mail in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = LetIn)]
pub enum LetIn {
    AsEver,
    /// Too few messages to tell.
    Few,
    /// For certain under the first mark.
    Less,
    /// For certain under the second.
    Little,
}

/// What a share of accepted mail says: a mark is passed only where the whole interval lies under it, so that a small host isn't accused by chance.
#[must_use]
pub fn let_in(accepted: &Rate) -> LetIn {
    match accepted.upper {
        _ if accepted.thin => LetIn::Few,
        Some(upper) if upper < ACT => LetIn::Little,
        Some(upper) if upper < WARN => LetIn::Less,
        Some(_) => LetIn::AsEver,
        None => LetIn::Few,
    }
}

/// Whom it is about when less is let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = RefusedFor)]
pub enum About {
    /// Most of what was refused was blocked.
    Us,
    /// Most of it failed for the addresses' reasons: full, gone.
    Addresses,
}

/// Is what a host refused about us, or about its addresses?
#[must_use]
pub fn about(blocked: u64, bounced: u64) -> About {
    if blocked > bounced { About::Us } else { About::Addresses }
}

/// Does a DMARC record say that its messages came from us, or from somebody who may use our name: DKIM or SPF passed for an address of the domain
/// (RFC 7489, section 4.2)?
#[must_use]
pub fn aligned(dkim: Option<&str>, spf: Option<&str>) -> bool {
    let passed = |r: Option<&str>| r.is_some_and(|r| r.eq_ignore_ascii_case("pass"));
    passed(dkim) || passed(spf)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(9_990, 10_000, LetIn::AsEver)]
    #[case(9_600, 10_000, LetIn::Less)]
    #[case(8_000, 10_000, LetIn::Little)]
    #[case(95, 100, LetIn::AsEver)]
    #[case(50, 99, LetIn::Few)]
    fn a_mark_is_passed_for_certain(#[case] count: u64, #[case] of: u64, #[case] said: LetIn) {
        assert_eq!(let_in(&Rate::new(count, of)), said);
    }

    proptest! {
        /// The less is let in, the worse it is told.
        #[test]
        fn less_is_never_told_better(of in 100u64..5_000, a in 0.0f64..1.0, b in 0.0f64..1.0) {
            let rate = |share: f64| Rate::new((share * of as f64) as u64, of);
            let (low, high) = (a.min(b), a.max(b));
            prop_assert!(let_in(&rate(low)) >= let_in(&rate(high)));
        }
    }

    #[test]
    fn either_is_enough() {
        assert!(aligned(Some("pass"), Some("fail")) && aligned(None, Some("PASS")));
        assert!(!aligned(Some("fail"), None) && !aligned(None, None));
    }
}
