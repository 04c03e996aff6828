//! The states of a message as SQL writes them, and what else its row says of its way. States are made from the enum; a partial index is only met
//! by the very words that it was made with, so these are written into a query and not bound.

use const_format::formatcp;
use rinse_core::id::MailingId;
use rinse_core::segment::share::Salted;
use rinse_core::send::State;
use rinse_core::{DAY, HOUR, MINUTE};

pub(crate) const HELD: &str = formatcp!("{}", State::Held as i64);
pub(crate) const DUE: &str = formatcp!("{}", State::Due as i64);
pub(crate) const HANDING_OVER: &str = formatcp!("{}", State::HandingOver as i64);
pub(crate) const ACCEPTED: &str = formatcp!("{}", State::Accepted as i64);
pub(crate) const DEFERRED: &str = formatcp!("{}", State::Deferred as i64);
pub(crate) const FAILED: &str = formatcp!("{}", State::Failed as i64);
pub(crate) const NOT_SENT: &str = formatcp!("{}", State::NotSent as i64);
pub(crate) const IN_DOUBT: &str = formatcp!("{}", State::InDoubt as i64);

/// Those that may be claimed: the words of the index `send_due`.
pub(crate) const WAITING: &str = formatcp!("{HELD}, {DUE}, {DEFERRED}");
/// Those that a host may have or not: the words of the index `send_handing`.
pub(crate) const BETWEEN: &str = formatcp!("{HANDING_OVER}, {IN_DOUBT}");
/// Those whose place in a mailing is known: they wait for their turn, or for the next try.
pub(crate) const PLACED: &str = formatcp!("{DUE}, {DEFERRED}");
/// Those that were never handed over, and may be.
pub(crate) const UNTRIED: &str = formatcp!("{HELD}, {DUE}");
/// Those of which more is to come before the mailing is over.
pub(crate) const OPEN: &str = formatcp!("{WAITING}, {BETWEEN}");

/// Part of a trial that a send belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(i64)]
pub enum Phase {
    Whole = 0,
    Pilot = 1,
    Rollout = 2,
    RolloutCheck = 3,
}

/// Why a message ended that no rule barred.
pub(crate) const HOUR_PASSED: &str = "their hour had passed when the mailing began";
pub(crate) const CANCELLED: &str = "cancelled before it was their turn";

/// So long may a message of a series wait: it isn't given up.
pub(crate) const NEVER: i64 = 3_650 * DAY;

/// Where in a mailing's spread each person stands.
pub(crate) fn spread_of(mailing: MailingId) -> Salted {
    Salted::new(&format!("spread of mailing {mailing}"))
}

/// When a deferred message is tried again: soon, then ever less often; null when it is given up.
#[must_use]
pub(crate) fn next_try(tries: i64) -> Option<i64> {
    [10 * MINUTE, 30 * MINUTE, 2 * HOUR, 6 * HOUR, 12 * HOUR, DAY].get(usize::try_from(tries - 1).ok()?).copied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_core::code::{Code, Word};
    use rinse_core::send::Event;

    fn set(words: &str) -> Vec<State> {
        let mut states: Vec<State> = words.split(", ").map(|n| State::of_code(n.parse().unwrap()).unwrap()).collect();
        states.sort_by_key(|s| s.code());
        states
    }

    /// The sets are those in which something happens.
    #[test]
    fn the_sets_follow_from_the_events() {
        assert_eq!(set(WAITING), Event::Claimed.from().collect::<Vec<_>>());
        assert_eq!(set(WAITING), Event::HeldBack.from().collect::<Vec<_>>());
        assert_eq!(set(BETWEEN), Event::Accepted.from().collect::<Vec<_>>());
        let open = State::ALL.into_iter().filter(|s| Event::all().iter().any(|e| *e != Event::Failed && s.next(*e).is_some()));
        assert_eq!(set(OPEN), open.collect::<Vec<_>>());
    }

    /// Indexes and triggers were written by hand: what they say of states is what the enum says.
    #[test]
    fn indexes_and_triggers_say_the_same() {
        let folder = tempfile::tempdir().unwrap();
        drop(crate::Store::open(folder.path(), false).unwrap());
        let c = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
        let of = |name: &str| c.query_row("SELECT sql FROM sqlite_master WHERE name = ?1", [name], |r| r.get::<_, String>(0)).unwrap();
        assert!(of("send_due").contains(&format!("state IN ({WAITING})")), "{}", of("send_due"));
        assert!(of("send_handing").contains(&format!("state IN ({BETWEEN})")), "{}", of("send_handing"));
        let over = formatcp!("new.state IN ({ACCEPTED}, {FAILED}, {NOT_SENT})");
        assert!(of("send_of_series").contains(over), "{}", of("send_of_series"));
    }
}
