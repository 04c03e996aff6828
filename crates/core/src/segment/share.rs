//! A random share of people that stays the same: by a keyed hash of the contact's number.

use crate::id::ContactId;
use siphasher::sip::SipHasher13;
use std::hash::Hasher;

/// A number in [0, 1) for this person and salt. Different salts give unrelated numbers.
#[must_use]
pub fn draw(salt: &str, contact: ContactId) -> f64 {
    Salted::new(salt).draw(contact)
}

/// A salt that many people are drawn under.
#[derive(Debug, Clone)]
pub struct Salted(SipHasher13);

impl Salted {
    #[must_use]
    pub fn new(salt: &str) -> Self {
        let mut h = SipHasher13::new_with_keys(0x52_494e_5345, 7);
        h.write(salt.as_bytes());
        h.write_u8(0xff);
        Self(h)
    }

    /// As [`draw`] under this salt.
    #[must_use]
    #[allow(clippy::cast_precision_loss, clippy::cast_sign_loss)]
    pub fn draw(&self, contact: ContactId) -> f64 {
        let mut h = self.0;
        h.write_u64(contact.0 as u64);
        (h.finish() >> 11) as f64 / (1u64 << 53) as f64
    }
}
