//! Who is held by a rule or a pause is asked again when that changes.

use crate::send_state::{HELD, NEVER, WAITING};
use crate::{Result, settings};
use const_format::formatcp;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};

/// So many messages that wait are looked at in the change itself: nobody notices, and on a base of ordinary size that is all.
const AT_ONCE: usize = 20_000;
/// While the writer is idle, so many for each person that other idle work takes at once.
const FOR_EACH: usize = 20;
/// Under this and a domain's number (0: all) stands how far a look has come.
const AGAIN: &str = "held-again-";

/// A place in the order of those that wait: the columns of `send_due`.
type Place = [i64; 4];

/// A look that isn't done.
#[derive(Serialize, Deserialize)]
struct Look {
    domain: Option<i64>,
    /// When what they were held for changed.
    changed_at: i64,
    upto: Place,
}

impl Look {
    fn key(&self) -> String {
        format!("{AGAIN}{}", self.domain.unwrap_or(0))
    }
}

/// What somebody was held for has changed: the rules, or (`domain`) their mail domain's pause. Anybody who is held is asked again
/// at once, or at their turn by the mailing's own schedule where that is to come still: an instant that was found under what
/// held then would keep people waiting for nothing. Where a rate spreads a mailing they keep their places, so that a host
/// doesn't get all of them at once. Of very many, the rest follows some at a time ([`some`]).
///
/// # Errors
/// When the database fails.
pub(crate) fn clear_anew(c: &Connection, domain: Option<i64>, now: Instant) -> Result<()> {
    // A look at the same that isn't done begins again: what it would have found is found now.
    go_on(c, Look { domain, changed_at: now.millis(), upto: [now.millis(), i64::MAX, i64::MAX, i64::MAX] }, AT_ONCE).map(drop)
}

/// Goes on with a look that isn't done, for who waits for it; true when something is left.
///
/// # Errors
/// When the database fails.
pub fn more(c: &Connection) -> Result<bool> {
    next(c, AT_ONCE)
}

/// Goes on with one while the writer is idle, in people as other idle work takes them; true when something is left.
pub(crate) fn some(c: &Connection, most: usize) -> Result<bool> {
    next(c, most * FOR_EACH)
}

fn next(c: &Connection, most: usize) -> Result<bool> {
    let look: Option<String> = c
        .prepare_cached("SELECT value FROM setting WHERE key >= ?1 AND key < ?1 || ':' LIMIT 1")?
        .query_row([AGAIN], |r| r.get(0))
        .optional()?;
    look.map_or(Ok(false), |look| go_on(c, serde_json::from_str(&look)?, most))
}

fn go_on(c: &Connection, look: Look, most: usize) -> Result<bool> {
    let [at, priority, mailing, id] = look.upto;
    // The last that is looked at now; none: there are no more after it.
    let last: Option<Place> = c
        .prepare_cached(formatcp!(
            "SELECT at, priority, mailing_id, id FROM send INDEXED BY send_due
             WHERE state IN ({WAITING}) AND (at, priority, mailing_id, id) > (?1, ?2, ?3, ?4) ORDER BY at, priority, mailing_id, id LIMIT 1 OFFSET ?5"
        ))?
        .query_row(params![at, priority, mailing, id, i64::try_from(most).unwrap_or(i64::MAX)], |r| {
            Ok([r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?])
        })
        .optional()?;
    let [to_at, to_priority, to_mailing, to_id] = last.unwrap_or([i64::MAX; 4]);
    // Their turn is what the limit of holding is counted from.
    c.prepare_cached(formatcp!(
        "UPDATE send SET at = max(?1, turn) FROM (
            SELECT s.id, s.give_up_at - iif(m.series_id IS NULL, m.hold_days * ?3, ?4) AS turn FROM send s INDEXED BY send_due
            JOIN mailing m ON m.id = s.mailing_id JOIN contact k ON k.id = s.contact_id
            WHERE s.state = {HELD} AND s.state IN ({WAITING}) AND (s.at, s.priority, s.mailing_id, s.id) > (?5, ?6, ?7, ?8)
                AND (s.at, s.priority, s.mailing_id, s.id) <= (?9, ?10, ?11, ?12) AND (?2 IS NULL OR k.domain_id = ?2)
                AND coalesce(json_array_length(m.schedule, '$.rates'), 0) = 0
         ) held WHERE held.id = send.id AND send.at > max(?1, turn)"
    ))?
    .execute(params![look.changed_at, look.domain, DAY, NEVER, at, priority, mailing, id, to_at, to_priority, to_mailing, to_id])?;
    match last {
        Some(upto) => {
            let look = Look { upto, ..look };
            settings::set(c, &look.key(), &serde_json::to_string(&look)?)?;
        }
        None => settings::remove(c, &look.key())?,
    }
    Ok(last.is_some())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Store;
    use crate::send_state::DUE;
    use proptest::prelude::*;

    const NOW: Instant = Instant::of(1_700_000_000_000);

    /// Messages that wait: when they are asked again, when their turn was, how urgent, held or due.
    type Waiting = (i64, i64, i64, bool);

    fn asked_at(c: &Connection) -> Vec<i64> {
        c.prepare("SELECT at FROM send ORDER BY id").unwrap().query_map([], |r| r.get(0)).unwrap().collect::<rusqlite::Result<_>>().unwrap()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]
        #[test]
        fn a_few_at_a_time_comes_to_the_same_as_all_at_once(
            waiting in prop::collection::vec((-2..8_i64, -8..8_i64, 1..4_i64, any::<bool>()), 1..40),
            most in 1..6_usize,
            of_domain in any::<bool>(),
        ) {
            let folder = tempfile::tempdir().unwrap();
            drop(Store::open(folder.path(), false).unwrap());
            let c = Connection::open(folder.path().join("rinse.db")).unwrap();
            c.execute_batch("PRAGMA foreign_keys = OFF; INSERT INTO mailing (id, name, letterhead_id, made_at, hold_days) VALUES (1, 'm', 1, 0, 7), (2, 'n', 1, 0, 3)").unwrap();
            let put = |all: &[Waiting]| for (i, (at, turn, priority, held)) in all.iter().enumerate() {
                let (id, mailing) = (i64::try_from(i).unwrap() + 1, i64::try_from(i % 2).unwrap() + 1);
                let hold = if mailing == 1 { 7 } else { 3 } * DAY;
                c.execute("INSERT OR IGNORE INTO contact (id, address, address_key, domain_id, added_at) VALUES (?1, ?1, ?1, ?2, 0)", [id, id % 2]).unwrap();
                c.execute(
                    "INSERT OR REPLACE INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, priority) VALUES (?1, ?2, ?1, 0, ?3, ?4, ?5, ?6)",
                    params![id, mailing, if *held { HELD } else { DUE }, NOW.millis() + at, NOW.millis() + turn + hold, priority],
                ).unwrap();
            };
            let look = || Look { domain: of_domain.then_some(1), changed_at: NOW.millis(), upto: [NOW.millis(), i64::MAX, i64::MAX, i64::MAX] };
            put(&waiting);
            prop_assert!(!go_on(&c, look(), 1_000).unwrap());
            let whole = asked_at(&c);
            put(&waiting);
            let mut left = go_on(&c, look(), most).unwrap();
            while left {
                // As idle work goes on, from what is written down.
                let text: String = c.query_row("SELECT value FROM setting WHERE key LIKE 'held-again-%'", [], |r| r.get(0)).unwrap();
                left = go_on(&c, serde_json::from_str(&text).unwrap(), most).unwrap();
            }
            prop_assert_eq!(asked_at(&c), whole);
            prop_assert!(!some(&c, 1).unwrap(), "nothing is left to do");
        }
    }
}
