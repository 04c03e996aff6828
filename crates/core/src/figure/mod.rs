//! The catalogue of figures: what each counts, of what, and in which words. Queries, the sums that triggers keep, rows, CSV, the
//! workings on screen and the API's description all come from here, so that a figure is defined once.
//!
//! A figure narrows another one: anybody who is counted is counted in what it is of. So no numerator can be larger than its
//! denominator, whatever comes in which order.

mod catalogue;
mod fact;

pub use catalogue::Definition;
pub use fact::{Fact, Literal};

use crate::channel::Channel;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A figure of a mailing, over its messages to people.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Figure {
    Sent,
    Accepted,
    Bounced,
    BouncedPermanently,
    BouncedTemporarily,
    Blocked,
    Delivered,
    OpensKnown,
    HumanOpens,
    HumanClicks,
    ClickToOpen,
    Replies,
    Leaving,
    LeftTopic,
    LeftSeries,
    Paused,
    Withdrew,
    Complaints,
    ReportedOpens,
    ReportedClicks,
    /// Opens that aren't a person's, by what explains them …
    OpensOfUnknown,
    OpensTooSoon,
    OpensByAgent,
    OpensByNetwork,
    OpensByDomain,
    OpensByHead,
    /// … and such clicks.
    ClicksTooSoon,
    ClicksByAgent,
    ClicksByNetwork,
    ClicksMany,
    ClicksByHead,
}

impl Figure {
    /// All of them, in the order in which they are told.
    pub const ALL: [Self; 31] = [
        Self::Sent,
        Self::Accepted,
        Self::Bounced,
        Self::BouncedPermanently,
        Self::BouncedTemporarily,
        Self::Blocked,
        Self::Delivered,
        Self::OpensKnown,
        Self::HumanOpens,
        Self::HumanClicks,
        Self::ClickToOpen,
        Self::Replies,
        Self::Leaving,
        Self::LeftTopic,
        Self::LeftSeries,
        Self::Paused,
        Self::Withdrew,
        Self::Complaints,
        Self::ReportedOpens,
        Self::ReportedClicks,
        Self::OpensOfUnknown,
        Self::OpensTooSoon,
        Self::OpensByAgent,
        Self::OpensByNetwork,
        Self::OpensByDomain,
        Self::OpensByHead,
        Self::ClicksTooSoon,
        Self::ClicksByAgent,
        Self::ClicksByNetwork,
        Self::ClicksMany,
        Self::ClicksByHead,
    ];

    /// The figure's key in addresses, columns and files.
    #[must_use]
    pub fn key(self) -> &'static str {
        self.definition().key
    }

    #[must_use]
    pub fn parse(key: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|f| f.key() == key)
    }

    /// What it is of; the first of all is of nothing.
    #[must_use]
    pub fn of(self) -> Option<Self> {
        self.definition().of
    }

    /// Everything that holds of a message that is counted: what it is of, and its own.
    #[must_use]
    pub fn condition(self) -> Vec<Literal> {
        let mut all = self.of().map_or_else(Vec::new, Self::condition);
        all.extend_from_slice(self.definition().own);
        all
    }

    /// Can it be known of messages of a channel?
    #[must_use]
    pub fn can_be_known(self, channel: Channel) -> bool {
        channel == Channel::Email || !self.definition().email_only
    }

    /// Is a message counted of which these facts hold?
    #[must_use]
    pub fn counts(self, holds: impl Fn(Fact) -> bool) -> bool {
        self.condition().into_iter().all(|l| holds(l.fact) == l.holds)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_figure_is_told_once_and_ends_at_what_was_sent() {
        let mut keys: Vec<&str> = Figure::ALL.iter().map(|f| f.key()).collect();
        keys.sort_unstable();
        keys.dedup();
        assert_eq!(keys.len(), Figure::ALL.len());
        for f in Figure::ALL {
            assert_eq!(Figure::parse(f.key()), Some(f));
            assert_eq!(serde_json::to_value(f).unwrap(), f.key(), "the API and the columns call it the same");
            assert_eq!(f.condition()[0], Literal { fact: Fact::HandedOver, holds: true });
            assert!(f.definition().parts.iter().all(|p| p.of() == f.of()), "{f:?}: parts are of the same as the whole");
            assert!(f.definition().reported.is_none_or(|r| r.of() == Some(Figure::Delivered)));
            assert_eq!(f.definition().reported.is_some(), !f.definition().taken_out.is_empty());
            let said = f.definition();
            assert!(said.counted.ends_with('.') && (said.left_out.is_empty() || said.left_out.ends_with('.')));
        }
    }

    const RULES: [[Fact; 5]; 2] = [
        [Fact::OpenTooSoon, Fact::OpenByAgent, Fact::OpenByNetwork, Fact::OpenByDomain, Fact::OpenByHead],
        [Fact::ClickTooSoon, Fact::ClickByAgent, Fact::ClickByNetwork, Fact::ManyClicks, Fact::ClickByHead],
    ];

    proptest! {
        #[test]
        fn a_numerator_is_part_of_its_denominator(facts in prop::collection::vec(any::<bool>(), Fact::ALL.len())) {
            // A failure is of one class, and anybody who left in some way left.
            let any = |of: &[Fact]| of.iter().any(|f| facts[*f as usize]);
            let holds = |f: Fact| match f {
                Fact::Block => any(&[f]) && !any(&[Fact::Permanent, Fact::Temporary]),
                // What isn't a person's is explained by one rule, its first.
                _ if RULES.iter().any(|r| r.contains(&f)) => {
                    let rules = RULES.iter().find(|r| r.contains(&f)).unwrap();
                    rules.iter().find(|r| any(&[**r])).unwrap_or(&rules[0]) == &f
                }
                Fact::ReportedOpen => any(&[f, Fact::HumanOpen]),
                Fact::ReportedClick => any(&[f, Fact::HumanClick]),
                Fact::Left => any(&[f, Fact::LeftTopic, Fact::LeftSeries, Fact::Paused, Fact::Withdrew, Fact::Complained]),
                _ => any(&[f]),
            };
            for f in Figure::ALL {
                prop_assert!(!f.counts(holds) || f.of().is_none_or(|of| of.counts(holds)));
                let parts = f.definition().parts.iter().filter(|p| p.counts(holds)).count();
                prop_assert!(parts == 0 || f.counts(holds), "{f:?}: a part is part of its whole");
                // Anybody who is reported and isn't a person is taken out for one reason.
                if let Some(reported) = f.definition().reported {
                    let out = f.definition().taken_out.iter().filter(|p| p.counts(holds)).count();
                    prop_assert_eq!(out, usize::from(reported.counts(holds) && !f.counts(holds)));
                }
            }
        }
    }
}
