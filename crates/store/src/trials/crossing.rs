//! People of a trial that another system sent, who got the message of another arm than the one they were drawn to.

use crate::Result;
use rinse_core::history::CROSSED_AT_MOST;
use rinse_core::id::{MailingId, TrialId};
use rinse_core::words::thousands;
use rusqlite::{Connection, params};

/// What crossing comes to in a trial: why it is void, or what is to be said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Crossing {
    None,
    /// They are read in the arm that they were drawn to.
    Some(String),
    Void(String),
}

/// How many of a trial's people got the message of another arm. Who did is read in the arm that they were drawn to, which brings the arms
/// nearer to each other by twice their share: a hundredth is lost in the noise, more isn't.
pub(super) fn crossing(c: &Connection, trial: TrialId, mailing: MailingId) -> Result<Crossing> {
    let any = c.prepare_cached("SELECT 1 FROM log_crossed LIMIT 1")?.exists([])?;
    if !any {
        return Ok(Crossing::None);
    }
    let mut s = c.prepare_cached(
        "SELECT r.arm, count(s.handed_at), count(x.send_id) FROM roster r JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.phase = 1
         LEFT JOIN log_crossed x ON x.send_id = s.id WHERE r.trial_id = ?1 GROUP BY 1 ORDER BY 1",
    )?;
    let arms: Vec<(i64, i64, i64)> =
        s.query_map(params![trial.0, mailing.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?;
    let n = |n: i64| thousands(n.unsigned_abs());
    let words = |(arm, told, crossed): &(i64, i64, i64)| {
        format!("{} of {} people of arm {}", n(*crossed), n(*told), rinse_core::trial::letter(usize::try_from(*arm).unwrap_or(0)))
    };
    if let Some(arm) = arms.iter().find(|(_, told, crossed)| crossed * CROSSED_AT_MOST > *told) {
        return Ok(Crossing::Void(format!(
            "{} got the message of another arm from the other sender: more than 1 in {CROSSED_AT_MOST}.",
            words(arm)
        )));
    }
    let some: Vec<String> = arms.iter().filter(|a| a.2 > 0).map(words).collect();
    Ok(if some.is_empty() {
        Crossing::None
    } else {
        Crossing::Some(format!(
            "{} got the message of another arm from the other sender; they are read in the arm they were drawn to.",
            some.join(", ")
        ))
    })
}
