//! How one simulated person behaves: fixed traits drawn from the address, fresh draws per message.

use siphasher::sip::SipHasher13;
use std::hash::Hasher;

/// A stream of numbers that depends on nothing but the seed and the key.
#[derive(Debug, Clone)]
pub struct Draws {
    seed: u64,
    key: u64,
    n: u64,
}

impl Draws {
    #[must_use]
    pub fn new(seed: u64, key: &str) -> Self {
        let mut h = SipHasher13::new_with_keys(seed, 1);
        h.write(key.as_bytes());
        Self { seed, key: h.finish(), n: 0 }
    }

    /// What is drawn for a message to somebody. Its number up to the first dot is the sender's count, and what follows proves whose
    /// it is with a key that each installation makes for itself: drawn by the count alone, the same steps lead to the same world.
    #[must_use]
    pub fn of_message(seed: u64, number: &str, to: &str) -> Self {
        Self::new(seed, &format!("{} to {to}", number.split('.').next().unwrap_or(number)))
    }

    /// The next number in [0, 1).
    #[allow(clippy::cast_precision_loss)]
    pub fn unit(&mut self) -> f64 {
        self.n += 1;
        let mut h = SipHasher13::new_with_keys(self.seed, self.key);
        h.write_u64(self.n);
        (h.finish() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// A normal deviate (Box and Muller).
    pub fn normal(&mut self) -> f64 {
        let (u, v) = (self.unit().max(1e-12), self.unit());
        (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos()
    }

    pub fn chance(&mut self, p: f64) -> bool {
        self.unit() < p
    }

    pub fn below(&mut self, n: usize) -> usize {
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_precision_loss)]
        let i = (self.unit() * n as f64) as usize;
        i.min(n.saturating_sub(1))
    }
}

/// A person's lasting traits.
#[derive(Debug, Clone, Copy)]
pub struct Traits {
    /// Log-odds of opening an ordinary message.
    pub open: f64,
    /// Chance to click once opened.
    pub click: f64,
    /// Median delay before acting, in hours.
    pub delay_hours: f64,
    /// Chance to leave per message.
    pub leave: f64,
    /// Chance to complain per message.
    pub complain: f64,
    /// When, in the year from the scenario's start, the mailbox is given up (0 to 1); above 1 never.
    pub gone_at: f64,
}

/// Draws the traits of an address at a domain where `gone` of the mailboxes are given up in a year.
#[must_use]
pub fn traits(seed: u64, address: &str, gone: f64) -> Traits {
    let mut d = Draws::new(seed, address);
    let open = -1.25 + 1.1 * d.normal();
    Traits {
        open,
        click: 0.05 + 0.18 * d.unit(),
        delay_hours: (1.6 + 0.7 * d.normal()).exp(),
        leave: 0.0012 * (0.8 * d.normal()).exp(),
        complain: 0.00025 * d.normal().exp(),
        gone_at: if gone <= 0.0 { 2.0 } else { d.unit() / gone },
    }
}
