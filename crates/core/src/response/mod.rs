//! Human or machine? One rule set, the same for all arms of a trial. The rules have versions; which one judged a response is kept with it,
//! so that judging the stored hits again gives the same.

mod rules;

pub use rules::{Rules, RulesError};

use crate::{DAY, Instant, MINUTE, SECOND};
use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use utoipa::ToSchema;

/// Why a response is taken for a machine's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Machine {
    /// Too soon after delivery.
    TooSoon = 1,
    /// From an agent on the list.
    ProxyAgent = 2,
    /// From a domain that fetches images by itself.
    FetchingDomain = 3,
    /// Many different links followed within moments.
    ManyLinks = 4,
    /// A HEAD request (RFC 9110, section 9.3.2): nobody reads by one.
    HeadRequest = 5,
    /// From a network on the list.
    ProxyNetwork = 6,
}

impl Machine {
    pub const ALL: [Self; 6] =
        [Self::TooSoon, Self::ProxyAgent, Self::ProxyNetwork, Self::FetchingDomain, Self::ManyLinks, Self::HeadRequest];

    /// As it is stored; 0 is human.
    #[must_use]
    pub fn of_code(code: i64) -> Option<Self> {
        Self::ALL.into_iter().find(|m| *m as i64 == code)
    }

    /// Can it explain an open?
    #[must_use]
    pub fn of_opens(self) -> bool {
        self != Self::ManyLinks
    }

    /// Can it explain a click?
    #[must_use]
    pub fn of_clicks(self) -> bool {
        self != Self::FetchingDomain
    }
}

/// Within this long of delivery an open of a fetching domain counts towards its share. The shares are kept by the day as things happen, so
/// this one number is no version's to change.
pub const FETCH_WITHIN: i64 = 5 * MINUTE;
/// A domain's share is that of the messages of so many days.
pub const FETCH_DAYS: i64 = 90;
/// … in milliseconds.
pub const FETCH_SPAN: i64 = FETCH_DAYS * DAY;

/// Anybody who acts on a click waits for twice this: one that comes next may show it to be a scanner's.
pub const LONGEST_BURST: i64 = rules::LONGEST_BURST_SECONDS as i64 * SECOND;

/// What is kept of where a hit came from: the first 24 bits of an IPv4 address, the first 48 of an IPv6 address. Enough to tell a data
/// centre, too little to tell a person.
#[must_use]
pub fn network(of: IpAddr) -> IpNet {
    let short = match of.to_canonical() {
        IpAddr::V4(ip) => Ipv4Net::new(ip, 24).map(IpNet::V4),
        IpAddr::V6(ip) => Ipv6Net::new(ip, 48).map(IpNet::V6),
    };
    short.map_or_else(|_| IpNet::from(of), |n| n.trunc())
}

/// What a hit was on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum On {
    Picture,
    Link(i64),
    /// A button of ours, pressed by hand: nothing explains that away.
    Button,
}

/// A hit on a message.
#[derive(Debug, Clone, Copy)]
pub struct Hit<'a> {
    pub at: Instant,
    pub on: On,
    pub agent: &'a str,
    pub network: Option<IpNet>,
    pub head: bool,
}

/// What is known of the message that is hit.
#[derive(Debug, Clone, Copy)]
pub struct Message {
    pub delivered_at: Instant,
    /// The recipient's domain fetches images by itself.
    pub fetching_domain: bool,
}

/// What the hits on a message come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Standing {
    pub open_at: Option<Instant>,
    pub click_at: Option<Instant>,
    /// By the rules that don't depend on the message's own links: trials count by these.
    pub trial_click_at: Option<Instant>,
    /// What explains the first open that isn't a person's, and the first such click, in the order in which they came in.
    pub open_rule: Option<Machine>,
    pub click_rule: Option<Machine>,
}

/// What judged hits, in the order in which they came in, come to.
#[must_use]
pub fn standing(hits: &[(Hit<'_>, Option<Machine>)]) -> Standing {
    let mut s = Standing::default();
    let sooner = |was: &mut Option<Instant>, at: Instant| *was = Some(was.map_or(at, |w| w.min(at)));
    for (hit, judged) in hits {
        match (hit.on, judged) {
            (On::Picture, None) => sooner(&mut s.open_at, hit.at),
            (On::Picture, Some(m)) => s.open_rule = s.open_rule.or(Some(*m)),
            (_, None) => {
                sooner(&mut s.click_at, hit.at);
                sooner(&mut s.trial_click_at, hit.at);
            }
            (_, Some(m)) => {
                s.click_rule = s.click_rule.or(Some(*m));
                if *m == Machine::ManyLinks {
                    sooner(&mut s.trial_click_at, hit.at);
                }
            }
        }
    }
    s
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_an_address_only_its_network_is_kept() {
        let kept = |ip: &str| network(ip.parse().unwrap()).to_string();
        assert_eq!(kept("192.0.2.77"), "192.0.2.0/24");
        assert_eq!(kept("::ffff:192.0.2.77"), "192.0.2.0/24");
        assert_eq!(kept("2001:db8:1:2::3"), "2001:db8:1::/48");
    }

    #[test]
    fn codes_are_told_apart() {
        for m in Machine::ALL {
            assert_eq!(Machine::of_code(m as i64), Some(m));
            assert!(m.of_opens() || m.of_clicks());
        }
        assert_eq!(Machine::of_code(0), None);
    }
}
