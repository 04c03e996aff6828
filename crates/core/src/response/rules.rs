//! The rules in one version: their numbers, how they judge, and how they are said.

use super::{Hit, Machine, Message, On};
use crate::{Instant, SECOND};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use utoipa::ToSchema;

/// All numbers and lists, each with its unit in its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = MachineRules)]
pub struct Rules {
    /// What comes within so long of delivery is a machine's; 0: nothing is.
    pub too_soon_seconds: u32,
    /// Parts of the names by which proxies and scanners call themselves, in small letters.
    pub agents: Vec<String>,
    /// Networks of proxies and scanners (CIDR, RFC 4632). No narrower than what is kept of an address.
    #[schema(value_type = Vec<String>)]
    pub networks: Vec<IpNet>,
    /// A domain fetches images by itself when over so much of its messages, in percent, have them fetched within five minutes of delivery …
    pub fetch_percent: u32,
    /// … and there are so many messages in the last 90 days.
    pub fetch_messages: u32,
    /// So many different links …
    pub burst_links: u32,
    /// … followed within so long are a scanner's.
    pub burst_seconds: u32,
}

/// The longest time within which links followed can be a scanner's: whatever acts on responses waits for it.
pub(super) const LONGEST_BURST_SECONDS: u32 = 10;
const MOST_AGENTS: usize = 200;
const MOST_NETWORKS: usize = 500;

#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RulesError {
    #[error("{what} is {given}; it can be {lowest} to {highest}.")]
    Outside { what: &'static str, given: u32, lowest: u32, highest: u32 },
    #[error("“{0}” would be looked for in the name of every mail program. Give 4 to 60 letters of the name, in ASCII.")]
    Agent(String),
    #[error("{0} stands in the list twice.")]
    Twice(String),
    #[error("There are {given} {what}; {most} can be told.")]
    TooMany { what: &'static str, given: usize, most: usize },
    #[error(
        "The network {0} is too narrow: of a visitor’s address only the first 24 bits (IPv4) or 48 bits (IPv6) are kept. Give a wider one."
    )]
    Narrow(IpNet),
    #[error("The network {0} is nearly everybody’s. Give 8 bits (IPv4) or 16 bits (IPv6) or more.")]
    Wide(IpNet),
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            too_soon_seconds: 10,
            agents: ["imageproxy", "image-proxy", "linkscanner", "prefetch"].map(str::to_owned).to_vec(),
            networks: Vec::new(),
            fetch_percent: 80,
            fetch_messages: 50,
            burst_links: 3,
            burst_seconds: 3,
        }
    }
}

impl Rules {
    /// Reads what was typed: agents in small letters, networks by their first address.
    #[must_use]
    pub fn tidied(mut self) -> Self {
        self.agents = self.agents.iter().map(|a| a.trim().to_ascii_lowercase()).filter(|a| !a.is_empty()).collect();
        self.networks = self.networks.iter().map(IpNet::trunc).collect();
        self
    }

    /// Can they be meant?
    ///
    /// # Errors
    /// Names the number or line that can't.
    pub fn check(&self) -> Result<(), RulesError> {
        let bounds = [
            ("The time after delivery that is too soon, in seconds,", self.too_soon_seconds, 0, 600),
            ("The share of fetched messages, in percent,", self.fetch_percent, 50, 100),
            ("The number of messages that tell of a domain", self.fetch_messages, 20, 100_000),
            ("The number of links", self.burst_links, 2, 50),
            ("The time within which links are followed, in seconds,", self.burst_seconds, 1, LONGEST_BURST_SECONDS),
        ];
        for (what, given, lowest, highest) in bounds {
            if !(lowest..=highest).contains(&given) {
                return Err(RulesError::Outside { what, given, lowest, highest });
            }
        }
        for (what, given, most) in [("agents", self.agents.len(), MOST_AGENTS), ("networks", self.networks.len(), MOST_NETWORKS)] {
            if given > most {
                return Err(RulesError::TooMany { what, given, most });
            }
        }
        for (i, a) in self.agents.iter().enumerate() {
            if !(4..=60).contains(&a.len()) || !a.bytes().all(|b| (b' '..=b'~').contains(&b) && !b.is_ascii_uppercase()) {
                return Err(RulesError::Agent(a.clone()));
            }
            if self.agents[..i].contains(a) {
                return Err(RulesError::Twice(a.clone()));
            }
        }
        for (i, n) in self.networks.iter().enumerate() {
            let (least, most) = if matches!(n, IpNet::V4(_)) { (8, 24) } else { (16, 48) };
            if n.prefix_len() > most {
                return Err(RulesError::Narrow(*n));
            }
            if n.prefix_len() < least {
                return Err(RulesError::Wide(*n));
            }
            if self.networks[..i].contains(n) {
                return Err(RulesError::Twice(n.to_string()));
            }
        }
        Ok(())
    }

    /// Is a domain found out to fetch images by itself? `fetched` of the `delivered` messages of the last [`super::FETCH_DAYS`]; those whose
    /// images may still be fetched among them, so that it is only ever found out too late.
    #[must_use]
    pub fn becomes_unknown(&self, delivered: i64, fetched: i64) -> bool {
        delivered >= self.fetch_messages.into() && 100 * fetched > i64::from(self.fetch_percent) * delivered
    }

    /// Is a domain that fetched by itself still taken for one that does? `delivered`: messages of days that are over. Too few say nothing,
    /// so that it stays what it was.
    #[must_use]
    pub fn stays_unknown(&self, delivered: i64, fetched: i64) -> bool {
        delivered < self.fetch_messages.into() || self.becomes_unknown(delivered, fetched)
    }

    /// Judges one hit by itself; `None` is human, of a click so far: see [`Self::is_burst`].
    #[must_use]
    pub fn judge(&self, hit: &Hit<'_>, message: &Message) -> Option<Machine> {
        if hit.on == On::Button {
            return None;
        }
        if hit.head {
            return Some(Machine::HeadRequest);
        }
        let agent = hit.agent.to_ascii_lowercase();
        if self.agents.iter().any(|a| agent.contains(a.as_str())) {
            return Some(Machine::ProxyAgent);
        }
        if hit.network.is_some_and(|n| self.networks.iter().any(|listed| listed.contains(&n))) {
            return Some(Machine::ProxyNetwork);
        }
        if hit.at - message.delivered_at < i64::from(self.too_soon_seconds) * SECOND {
            return Some(Machine::TooSoon);
        }
        (hit.on == On::Picture && message.fetching_domain).then_some(Machine::FetchingDomain)
    }

    /// How long clicks can be apart and make one burst, in milliseconds.
    #[must_use]
    pub fn burst_within(&self) -> i64 {
        i64::from(self.burst_seconds) * SECOND
    }

    /// Do these clicks of one person on one message, `(instant, link)`, around `at` make a burst? Trials don't count by it, since how many
    /// links a message has is the message's own doing, and variants may differ in it.
    #[must_use]
    pub fn is_burst(&self, clicks: &[(Instant, i64)], at: Instant) -> bool {
        clicks.iter().any(|&(start, _)| {
            let within = |t: Instant| t >= start && t - start <= self.burst_within();
            let mut links: Vec<i64> = clicks.iter().filter(|(t, _)| within(*t)).map(|c| c.1).collect();
            links.sort_unstable();
            links.dedup();
            links.len() >= self.burst_links as usize && within(at)
        })
    }

    /// Judges all hits on a message, in the order in which they came in.
    #[must_use]
    pub fn judge_all<'a>(&self, hits: &[Hit<'a>], message: &Message) -> Vec<(Hit<'a>, Option<Machine>)> {
        let link = |h: &Hit<'_>| if let On::Link(l) = h.on { Some((h.at, l)) } else { None };
        let clicks: Vec<(Instant, i64)> = hits.iter().filter_map(link).collect();
        let many = clicks.len() >= self.burst_links as usize;
        let one = |h: &Hit<'a>| {
            let alone = self.judge(h, message);
            let burst = || (many && link(h).is_some() && self.is_burst(&clicks, h.at)).then_some(Machine::ManyLinks);
            (*h, alone.or_else(burst))
        };
        hits.iter().map(one).collect()
    }

    /// What a rule says, in words.
    #[must_use]
    pub fn words(&self, rule: Machine) -> String {
        match rule {
            Machine::TooSoon => format!("within {} s of delivery", self.too_soon_seconds),
            Machine::ProxyAgent => "a proxy’s or scanner’s agent".into(),
            Machine::ProxyNetwork => "a proxy’s or scanner’s network".into(),
            Machine::FetchingDomain => "a domain that fetches images by itself".into(),
            Machine::ManyLinks => format!("{} links within {} s", self.burst_links, self.burst_seconds),
            Machine::HeadRequest => "a HEAD request".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::response::standing;
    use proptest::prelude::*;
    use rstest::rstest;

    const AT_ONCE: Message = Message { delivered_at: Instant::of(0), fetching_domain: false };

    fn hit(ms: i64, on: On) -> Hit<'static> {
        Hit { at: Instant::of(ms), on, agent: "Reader", network: None, head: false }
    }

    #[rstest]
    #[case(9, "Reader", None, false, false, Some(Machine::TooSoon))]
    #[case(10, "Reader", None, false, false, None)]
    #[case(600, "GullMail-ImageProxy/2", None, false, false, Some(Machine::ProxyAgent))]
    #[case(600, "Reader", Some("198.51.100.0/24"), false, false, Some(Machine::ProxyNetwork))]
    #[case(600, "Reader", Some("198.51.200.0/24"), false, false, None)]
    #[case(600, "Reader", None, true, false, Some(Machine::HeadRequest))]
    #[case(600, "Reader", None, false, true, Some(Machine::FetchingDomain))]
    fn opens(
        #[case] s: i64,
        #[case] agent: &str,
        #[case] network: Option<&str>,
        #[case] head: bool,
        #[case] fetching_domain: bool,
        #[case] want: Option<Machine>,
    ) {
        let rules = Rules { networks: vec!["198.51.100.0/22".parse().unwrap()], ..Rules::default() };
        let h = Hit { agent, network: network.map(|n| n.parse().unwrap()), head, ..hit(s * SECOND, On::Picture) };
        let message = Message { fetching_domain, ..AT_ONCE };
        assert_eq!(rules.judge(&h, &message), want);
        let click = Hit { on: On::Link(1), ..h };
        assert_eq!(rules.judge(&click, &message), want.filter(|m| m.of_clicks()));
        assert_eq!(rules.judge(&Hit { on: On::Button, ..h }, &message), None);
    }

    #[test]
    fn a_burst_takes_three_links_in_three_seconds() {
        let r = Rules::default();
        let clicks = [(Instant::of(0), 1), (Instant::of(1_000), 2), (Instant::of(3_000), 3), (Instant::of(60_000), 1)];
        assert!(r.is_burst(&clicks, Instant::of(1_000)) && !r.is_burst(&clicks, Instant::of(60_000)));
        assert!(!r.is_burst(&[(Instant::of(0), 1), (Instant::of(1), 1), (Instant::of(2), 2)], Instant::of(0)));
        assert!(!r.is_burst(&[(Instant::of(0), 1), (Instant::of(1), 2), (Instant::of(3_001), 3)], Instant::of(0)));
    }

    #[rstest]
    #[case(|r: &mut Rules| r.too_soon_seconds = 601, "600")]
    #[case(|r: &mut Rules| r.burst_seconds = 11, "1 to 10")]
    #[case(|r: &mut Rules| r.agents.push("a".into()), "every mail program")]
    #[case(|r: &mut Rules| r.agents.push("prefetch".into()), "twice")]
    #[case(|r: &mut Rules| r.networks.push("192.0.2.0/25".parse().unwrap()), "too narrow")]
    #[case(|r: &mut Rules| r.networks.push("0.0.0.0/0".parse().unwrap()), "everybody")]
    fn what_cant_be_meant_is_named(#[case] change: fn(&mut Rules), #[case] says: &str) {
        let mut r = Rules::default();
        r.check().unwrap();
        change(&mut r);
        let why = r.check().unwrap_err().to_string();
        assert!(why.contains(says), "{why}");
    }

    fn hits() -> impl Strategy<Value = Vec<Hit<'static>>> {
        let on = prop_oneof![Just(On::Picture), (0i64..4).prop_map(On::Link), Just(On::Button)];
        let agent = prop_oneof![3 => Just("Reader/5.1"), 1 => Just("GullPost-ImageProxy/2")];
        prop::collection::vec((0i64..30_000, on, agent, prop::bool::weighted(0.1)), 0..12)
            .prop_map(|all| all.into_iter().map(|(ms, on, agent, head)| Hit { agent, head, ..hit(ms, on) }).collect())
    }

    proptest! {
        /// Stricter numbers only take more out, and what is taken out of a trial is never more than what is taken out elsewhere.
        #[test]
        fn stricter_rules_take_out_what_laxer_ones_do(hits in hits(), seconds in 0u32..20, more in 0u32..20, fetching_domain: bool) {
            let message = Message { fetching_domain, ..AT_ONCE };
            let lax = Rules { too_soon_seconds: seconds, ..Rules::default() };
            let strict = Rules { too_soon_seconds: seconds + more, agents: [lax.agents.clone(), vec!["reader/9".into()]].concat(), ..lax.clone() };
            let (l, s) = (lax.judge_all(&hits, &message), strict.judge_all(&hits, &message));
            prop_assert!(l.iter().zip(&s).all(|(l, s)| l.1.is_none() || s.1.is_some()));
            let by = standing(&s);
            prop_assert!(by.click_at.is_none() || by.trial_click_at.is_some_and(|t| Some(t) <= by.click_at));
            prop_assert!(s.iter().all(|(h, m)| h.on != On::Button || m.is_none()));
        }

        /// In which order hits came in changes nobody's being human.
        #[test]
        fn their_order_changes_nothing_but_the_first_rule(hits in hits(), fetching_domain: bool) {
            let message = Message { fetching_domain, ..AT_ONCE };
            let rules = Rules::default();
            let there = standing(&rules.judge_all(&hits, &message));
            let back: Vec<Hit<'_>> = hits.into_iter().rev().collect();
            let again = standing(&rules.judge_all(&back, &message));
            prop_assert_eq!((there.open_at, there.click_at, there.trial_click_at), (again.open_at, again.click_at, again.trial_click_at));
            prop_assert_eq!((there.open_rule.is_some(), there.click_rule.is_some()), (again.open_rule.is_some(), again.click_rule.is_some()));
        }

        #[test]
        fn what_is_kept_reads_back(seconds in 0u32..600, percent in 50u32..=100) {
            let r = Rules { too_soon_seconds: seconds, fetch_percent: percent, networks: vec!["2001:db8::/32".parse().unwrap()], ..Rules::default() };
            prop_assert_eq!(serde_json::from_str::<Rules>(&serde_json::to_string(&r).unwrap()).unwrap(), r);
        }
    }
}
