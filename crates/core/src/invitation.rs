//! Invitations: the message that asks the owner of an address to confirm their own sign-up.
//!
//! It answers a sign-up and nothing else, holds no advertising, and its link lives for 14 days. Anybody
//! can type anybody's address into a form, so the form is limited per address and per sender: a
//! mailbox can't be flooded through it.

use crate::{DAY, HOUR, Instant};

/// How long an invitation can be confirmed.
pub const LIVES: i64 = 14 * DAY;
/// An invitation answers a sign-up of this age at most.
pub const ANSWERS_WITHIN: i64 = DAY;
/// Invitations to one address in 24 hours.
pub const PER_ADDRESS: usize = 3;
/// Sign-ups from one sender in an hour.
pub const PER_SENDER: usize = 20;

/// How far a sign-up is with its invitation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(i64)]
pub enum State {
    /// None goes: it needs none, or must get none.
    None = 0,
    Waiting = 1,
    HandingOver = 2,
    /// A host took it.
    Invited = 3,
    /// It was refused, came back, or waited for too long.
    Ended = 5,
}

/// Why none goes, in words for the record; `None`: it goes.
///
/// `to_address` and `from_sender` are the instants of earlier sign-ups.
#[must_use]
pub fn limited(to_address: &[Instant], from_sender: &[Instant], now: Instant) -> Option<&'static str> {
    let recent = |all: &[Instant], within: i64| all.iter().filter(|t| now - **t < within).count();
    if recent(to_address, DAY) >= PER_ADDRESS {
        return Some("this address was invited three times in a day");
    }
    (recent(from_sender, HOUR) >= PER_SENDER).then_some("too many sign-ups from one sender in an hour")
}

/// May it still be confirmed?
#[must_use]
pub fn alive(invited: Option<Instant>, now: Instant) -> bool {
    invited.is_some_and(|t| now - t < LIVES)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_is_flooded_and_old_sign_ups_are_forgotten() {
        let now = Instant::of(100 * DAY);
        let ago = |hours: i64| now + -hours * HOUR;
        assert_eq!(limited(&[ago(1), ago(5), ago(24)], &[], now), None);
        assert!(limited(&[ago(1), ago(5), ago(23)], &[], now).unwrap().contains("three times"));
        assert!(limited(&[], &[ago(0); PER_SENDER], now).unwrap().contains("one sender"));
        assert_eq!(limited(&[], &[ago(1); PER_SENDER], now), None);
        assert!(alive(Some(now + -LIVES + 1), now) && !alive(Some(now + -LIVES), now) && !alive(None, now));
    }
}
