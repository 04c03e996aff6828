//! Who is held by a rule or a pause is asked again when that changes.

use crate::Result;
use crate::send_state::{HELD, NEVER, WAITING};
use const_format::formatcp;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};

/// What somebody was held for has changed: the rules, or (`domain`) their mail domain's pause. Anybody who is held is asked again
/// at once, or at their turn by the mailing's own schedule where that is to come still: an instant that was found under what
/// held then would keep people waiting for nothing. Where a rate spreads a mailing they keep their places, so that a host
/// doesn't get all of them at once.
///
/// # Errors
/// When the database fails.
pub(crate) fn clear_anew(c: &Connection, domain: Option<i64>, now: Instant) -> Result<usize> {
    // Their turn is what the limit of holding is counted from.
    Ok(c.prepare_cached(formatcp!(
        "UPDATE send SET at = max(?1, turn) FROM (
            SELECT s.id, s.give_up_at - iif(m.series_id IS NULL, m.hold_days * ?3, ?4) AS turn FROM send s INDEXED BY send_due
            JOIN mailing m ON m.id = s.mailing_id JOIN contact k ON k.id = s.contact_id
            WHERE s.state = {HELD} AND s.state IN ({WAITING}) AND s.at > ?1 AND (?2 IS NULL OR k.domain_id = ?2)
                AND coalesce(json_array_length(m.schedule, '$.rates'), 0) = 0
         ) held WHERE held.id = send.id AND send.at > max(?1, turn)"
    ))?
    .execute(params![now.millis(), domain, DAY, NEVER])?)
}
