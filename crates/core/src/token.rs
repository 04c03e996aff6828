//! Signed links: what they carry and how they are told from forged ones.
//!
//! A token is a kind, a send and a number, with 128 bits of HMAC-SHA-256 over them. It reveals no
//! address, never expires, and can't be changed into another.

use crate::id::SendId;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, Mac};
use sha2::Sha256;

/// What a token is for; one kind is never taken for another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Kind {
    Open = 1,
    Click = 2,
    Unsubscribe = 3,
    /// Return path: delivery reports and complaints come back to it.
    Return = 4,
    /// Reply address.
    Reply = 5,
    /// Confirms a sign-up; carries its number instead of a send's.
    Confirm = 6,
    /// Preferences, from a message.
    Preferences = 7,
    /// Preferences, from a confirmed sign-up: carries the person's number and the letterhead's.
    Person = 8,
    /// A message as anybody may see it: carries the mailing's number and the variant's, nothing of a person.
    Share = 9,
    /// Goes on getting mail, from a message that asks whether to go on.
    GoOn = 10,
}

const LENGTH: usize = 1 + 8 + 4 + 16;
const ALPHABET: &[u8; 32] = b"abcdefghijklmnopqrstuvwxyz234567";

/// Bytes in lower-case hexadecimal.
#[must_use]
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write;
    bytes.iter().fold(String::with_capacity(2 * bytes.len()), |mut out, b| {
        let _ = write!(out, "{b:02x}");
        out
    })
}

/// Makes and reads tokens with one secret key.
#[derive(Clone)]
pub struct Signer {
    key: Vec<u8>,
}

impl std::fmt::Debug for Signer {
    /// The key stays out of logs.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Signer")
    }
}

impl Signer {
    #[must_use]
    pub fn new(key: &[u8]) -> Self {
        Self { key: key.to_vec() }
    }

    fn mac(&self, body: &[u8]) -> Hmac<Sha256> {
        // HMAC takes a key of any length (RFC 2104), so this can't fail.
        let mut mac = <Hmac<Sha256> as Mac>::new_from_slice(&self.key).unwrap_or_else(|_| unreachable!());
        mac.update(body);
        mac
    }

    /// The keyed hash that keeps a deleted address from coming back: it can be compared with, and
    /// not be read.
    #[must_use]
    pub fn tombstone(&self, address_key: &str) -> [u8; 32] {
        self.mac(format!("tombstone\0{address_key}").as_bytes()).finalize().into_bytes().into()
    }

    fn bytes(&self, kind: Kind, send: SendId, number: u32) -> Vec<u8> {
        let mut out = vec![kind as u8];
        out.extend(send.0.to_be_bytes());
        out.extend(number.to_be_bytes());
        let tag = self.mac(&out).finalize().into_bytes();
        out.extend(&tag[..16]);
        out
    }

    fn open(&self, kind: Kind, bytes: &[u8]) -> Option<(i64, u32)> {
        if bytes.len() != LENGTH || bytes[0] != kind as u8 {
            return None;
        }
        let (body, tag) = bytes.split_at(LENGTH - 16);
        self.mac(body).verify_truncated_left(tag).ok()?;
        let send = i64::from_be_bytes(body[1..9].try_into().ok()?);
        Some((send, u32::from_be_bytes(body[9..].try_into().ok()?)))
    }

    /// A token for a link.
    #[must_use]
    pub fn link(&self, kind: Kind, send: SendId, number: u32) -> String {
        URL_SAFE_NO_PAD.encode(self.bytes(kind, send, number))
    }

    /// Reads a link's token: the send and the number, when it is one of ours and of this kind.
    #[must_use]
    pub fn read_link(&self, kind: Kind, token: &str) -> Option<(i64, u32)> {
        self.open(kind, &URL_SAFE_NO_PAD.decode(token).ok()?)
    }

    /// A token for a local part: lower-case base 32, since hosts may fold the case.
    #[must_use]
    pub fn mailbox(&self, kind: Kind, send: SendId) -> String {
        let (mut out, mut bits, mut held) = (String::new(), 0u32, 0);
        for byte in self.bytes(kind, send, 0) {
            bits = (bits << 8) | u32::from(byte);
            held += 8;
            while held >= 5 {
                held -= 5;
                out.push(ALPHABET[(bits >> held) as usize & 31] as char);
            }
        }
        if held > 0 {
            out.push(ALPHABET[(bits << (5 - held)) as usize & 31] as char);
        }
        out
    }

    /// Reads a mailbox token: the send.
    #[must_use]
    pub fn read_mailbox(&self, kind: Kind, token: &str) -> Option<i64> {
        let (mut out, mut bits, mut held) = (Vec::new(), 0u32, 0);
        for c in token.bytes() {
            let value = ALPHABET.iter().position(|a| *a == c.to_ascii_lowercase())?;
            bits = (bits << 5) | u32::try_from(value).ok()?;
            held += 5;
            if held >= 8 {
                held -= 8;
                out.push(u8::try_from((bits >> held) & 255).ok()?);
            }
        }
        self.open(kind, &out).map(|(send, _)| send)
    }

    /// The number by which others know a send's message: the send's own, then what proves that we gave it.
    #[must_use]
    pub fn message(&self, send: SendId) -> String {
        format!("{send}.{}", self.mailbox(Kind::Return, send))
    }

    /// Reads such a number, when it is one of ours: the send.
    #[must_use]
    pub fn read_message(&self, number: &str) -> Option<i64> {
        self.read_mailbox(Kind::Return, number.rsplit_once('.')?.1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn tokens_round_trip_and_resist_change(send in 0i64..i64::MAX, n in any::<u32>(), at in 0usize..38, other in any::<u8>()) {
            let s = Signer::new(b"lamp");
            let token = s.link(Kind::Click, SendId(send), n);
            prop_assert_eq!(s.read_link(Kind::Click, &token), Some((send, n)));
            prop_assert_eq!(s.read_link(Kind::Open, &token), None);
            prop_assert_eq!(Signer::new(b"oil").read_link(Kind::Click, &token), None);
            let mailbox = s.mailbox(Kind::Return, SendId(send));
            prop_assert_eq!(s.read_mailbox(Kind::Return, &mailbox.to_uppercase()), Some(send));
            prop_assert_eq!(s.read_message(&s.message(SendId(send))), Some(send));
            prop_assert_eq!(s.read_message(&Signer::new(b"oil").message(SendId(send))), None);
            let mut forged = token.clone().into_bytes();
            forged[at] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"[other as usize % 64];
            let forged = String::from_utf8(forged).unwrap();
            if forged != token {
                prop_assert_eq!(s.read_link(Kind::Click, &forged), None);
            }
        }
    }
}
