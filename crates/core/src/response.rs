//! Human or machine? One rule set, the same for all arms of a trial.

use crate::{Instant, MINUTE, SECOND};
use serde::{Deserialize, Serialize};

/// The version of the rules below, stored with each response they judged.
pub const RULES_VERSION: i64 = 1;

/// Why a response is taken for a machine's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Machine {
    /// Within 10 s of delivery.
    TooSoon = 1,
    /// From an agent on the proxy list.
    ProxyAgent = 2,
    /// From a domain that fetches images for over 80% of deliveries within 5 minutes.
    FetchingDomain = 3,
    /// Three or more different links followed within 3 s.
    ManyLinks = 4,
    /// A HEAD request.
    HeadRequest = 5,
}

impl Machine {
    #[must_use]
    pub fn words(code: i64) -> &'static str {
        match code {
            0 => "human",
            1 => "machine: within 10 s of delivery",
            2 => "machine: image proxy",
            3 => "machine: a domain that fetches images by itself",
            4 => "machine: many links within 3 s",
            _ => "machine: HEAD request",
        }
    }
}

const TOO_SOON: i64 = 10 * SECOND;
/// Within this long of delivery an open of a fetching domain counts towards its share.
pub const FETCH_WITHIN: i64 = 5 * MINUTE;
/// A domain is a fetching one above this share of its deliveries, given enough of them.
const FETCH_SHARE: f64 = 0.8;
const FETCH_LEAST_DELIVERIES: i64 = 50;
/// Its share is that of the messages of so many days.
pub const FETCH_DAYS: i64 = 90;
/// Clicks on this many different links within [`BURST_WITHIN`] are a scanner's.
pub const BURST_LINKS: usize = 3;
pub const BURST_WITHIN: i64 = 3 * SECOND;
const PROXY_AGENTS: &[&str] = &["imageproxy", "image-proxy", "linkscanner", "prefetch"];

/// Is a domain found out to fetch images by itself? `fetched` of the `delivered` messages of the last [`FETCH_DAYS`]; those whose images
/// may still be fetched among them, so that it is only ever found out too late.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn becomes_unknown(delivered: i64, fetched: i64) -> bool {
    delivered >= FETCH_LEAST_DELIVERIES && fetched as f64 > FETCH_SHARE * delivered as f64
}

/// Is a domain that fetched by itself still taken for one that does? `delivered`: messages of days that are over. Too few say nothing, so
/// that it stays what it was.
#[must_use]
pub fn stays_unknown(delivered: i64, fetched: i64) -> bool {
    delivered < FETCH_LEAST_DELIVERIES || becomes_unknown(delivered, fetched)
}

/// A hit on an open or click link.
#[derive(Debug, Clone, Copy)]
pub struct Hit<'a> {
    pub at: Instant,
    pub delivered_at: Instant,
    pub agent: &'a str,
    pub head: bool,
    /// The recipient's domain fetches images by itself (as known before this hit).
    pub fetching_domain: bool,
}

fn common(hit: &Hit<'_>) -> Option<Machine> {
    if hit.head {
        return Some(Machine::HeadRequest);
    }
    let agent = hit.agent.to_ascii_lowercase();
    if PROXY_AGENTS.iter().any(|p| agent.contains(p)) {
        return Some(Machine::ProxyAgent);
    }
    (hit.at - hit.delivered_at < TOO_SOON).then_some(Machine::TooSoon)
}

/// Judges an open; `None` is human.
#[must_use]
pub fn judge_open(hit: &Hit<'_>) -> Option<Machine> {
    common(hit).or_else(|| hit.fetching_domain.then_some(Machine::FetchingDomain))
}

/// Judges a click; `None` is human, so far: see [`is_burst`]. Trials count clicks by this alone, since how many links a
/// message has is the message's own doing, and variants may differ in it.
#[must_use]
pub fn judge_click(hit: &Hit<'_>) -> Option<Machine> {
    common(hit)
}

/// Do these clicks of one person on one message, `(instant, link)`, around `at` make a burst?
#[must_use]
pub fn is_burst(clicks: &[(Instant, i64)], at: Instant) -> bool {
    clicks.iter().any(|&(start, _)| {
        let within = |t: Instant| t >= start && t - start <= BURST_WITHIN;
        let mut links: Vec<i64> = clicks.iter().filter(|(t, _)| within(*t)).map(|c| c.1).collect();
        links.sort_unstable();
        links.dedup();
        links.len() >= BURST_LINKS && within(at)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(9, "Reader", false, false, Some(Machine::TooSoon))]
    #[case(10, "Reader", false, false, None)]
    #[case(600, "GullMail-ImageProxy/2", false, false, Some(Machine::ProxyAgent))]
    #[case(600, "Reader", true, false, Some(Machine::HeadRequest))]
    #[case(600, "Reader", false, true, Some(Machine::FetchingDomain))]
    fn opens(#[case] s: i64, #[case] agent: &str, #[case] head: bool, #[case] fetching: bool, #[case] want: Option<Machine>) {
        let hit = Hit { at: Instant(s * SECOND), delivered_at: Instant(0), agent, head, fetching_domain: fetching };
        assert_eq!(judge_open(&hit), want);
        if !fetching {
            assert_eq!(judge_click(&hit), want);
        }
    }

    #[test]
    fn a_burst_takes_three_links_in_three_seconds() {
        let clicks = [(Instant(0), 1), (Instant(1_000), 2), (Instant(3_000), 3), (Instant(60_000), 1)];
        assert!(is_burst(&clicks, Instant(1_000)) && !is_burst(&clicks, Instant(60_000)));
        assert!(!is_burst(&[(Instant(0), 1), (Instant(1), 1), (Instant(2), 2)], Instant(0)));
        assert!(!is_burst(&[(Instant(0), 1), (Instant(1), 2), (Instant(3_001), 3)], Instant(0)));
    }
}
