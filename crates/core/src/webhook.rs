//! Messages to other systems: how they are signed, and when a failed one is tried again.
//!
//! The signature is HMAC-SHA256 (RFC 2104) over the message's number, its Unix second and its body,
//! joined by full stops, so that neither can be changed nor an old message passed off as a new one.
//! It travels as `v1,` and base64 in the header `webhook-signature`, beside `webhook-id` and
//! `webhook-timestamp`. A message may come more than once (when the answer was lost), always with the
//! same number: the receiver keeps the numbers it has seen.

use crate::{HOUR, Instant, MINUTE};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use sha2::Sha256;

/// How far a message to another system is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(i64)]
pub enum State {
    Waiting = 0,
    Delivered = 1,
    GivenUp = 2,
}

impl State {
    pub const ALL: [Self; 3] = [Self::Waiting, Self::Delivered, Self::GivenUp];
}

crate::code::coded!(State, "state of a message to another system");

impl std::fmt::Display for State {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Waiting => "waiting",
            Self::Delivered => "delivered",
            Self::GivenUp => "given up",
        })
    }
}

/// The signature of a message, as its header carries it.
#[must_use]
pub fn sign(secret: &[u8], id: &str, second: i64, body: &str) -> String {
    format!("v1,{}", STANDARD.encode(mac(secret, id, second, body).finalize().into_bytes()))
}

fn mac(secret: &[u8], id: &str, second: i64, body: &str) -> Hmac<Sha256> {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).unwrap_or_else(|_| unreachable!("HMAC takes keys of any length"));
    for part in [id.as_bytes(), b".", second.to_string().as_bytes(), b".", body.as_bytes()] {
        mac.update(part);
    }
    mac
}

/// Is one of the signatures in the header (they are separated by spaces) the message's own, and is it
/// at most five minutes from the receiver's clock?
#[must_use]
pub fn verify(secret: &[u8], id: &str, second: i64, body: &str, header: &str, now: Instant) -> bool {
    let fresh = (now.millis() - second * 1_000).abs() <= 5 * MINUTE;
    fresh
        && header
            .split(' ')
            .filter_map(|s| s.strip_prefix("v1,"))
            .any(|s| STANDARD.decode(s).is_ok_and(|given| mac(secret, id, second, body).verify_slice(&given).is_ok()))
}

/// How long after its nth try a message is tried again; `None`: it is given up.
#[must_use]
pub fn again_after(tries: u32) -> Option<i64> {
    const WAITS: [i64; 7] = [10_000, MINUTE, 5 * MINUTE, 30 * MINUTE, 2 * HOUR, 6 * HOUR, 12 * HOUR];
    WAITS.get(usize::try_from(tries.max(1) - 1).ok()?).copied()
}

/// What an answer means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    Delivered,
    /// Tried again, or given up after the last try.
    Again,
    /// 410: the receiver wants no more.
    Gone,
}

/// `status`: the HTTP answer's, or none when there was no answer.
#[must_use]
pub fn outcome(status: Option<u16>) -> Outcome {
    match status {
        Some(200..=299) => Outcome::Delivered,
        Some(410) => Outcome::Gone,
        _ => Outcome::Again,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_verifies_and_nothing_else_does() {
        let (secret, now) = (b"a secret of the test", Instant::of(1_776_000_000_000));
        let second = now.millis() / 1_000;
        let header = sign(secret, "m-1", second, "{\"a\":1}");
        assert!(verify(secret, "m-1", second, "{\"a\":1}", &format!("v1,AAAA {header}"), now));
        for (id, at, body, secret) in [
            ("m-2", second, "{\"a\":1}", &secret[..]),
            ("m-1", second + 1, "{\"a\":1}", &secret[..]),
            ("m-1", second, "{\"a\":2}", &secret[..]),
            ("m-1", second, "{\"a\":1}", b"another"),
        ] {
            assert!(!verify(secret, id, at, body, &header, now));
        }
        assert!(!verify(secret, "m-1", second, "{\"a\":1}", &header, now + 6 * MINUTE), "an old one is played again");
    }

    #[test]
    fn waits_grow_and_end() {
        let waits: Vec<i64> = (1..).map_while(again_after).collect();
        assert!(waits.windows(2).all(|w| w[0] < w[1]) && waits.len() == 7);
        assert_eq!(
            (outcome(Some(204)), outcome(Some(500)), outcome(None), outcome(Some(410))),
            (Outcome::Delivered, Outcome::Again, Outcome::Again, Outcome::Gone)
        );
    }
}
