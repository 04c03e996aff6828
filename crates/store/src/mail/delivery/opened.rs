//! What a mailbox group's people opened of each mailing, against what is expected of them there.

use crate::Result;
use rinse_core::Instant;
use rinse_core::delivery::junk::Expected;
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A mailing that can be judged in a group.
#[derive(Debug, Clone)]
pub(super) struct Judged {
    pub(super) group: String,
    pub(super) mailing: MailingId,
    pub(super) at: Instant,
    /// Of people whose opens can be known.
    pub(super) here: Arm,
    pub(super) expected: Expected,
}

/// Keeps what was judged in place of what was before.
pub(super) fn keep(c: &Connection, all: &[Judged]) -> Result<()> {
    c.execute("DELETE FROM delivery_opened", [])?;
    let mut s = c.prepare_cached("INSERT INTO delivery_opened VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    let n = |of: u64| i64::try_from(of).unwrap_or(i64::MAX);
    for j in all {
        let e = j.expected;
        s.execute(params![j.group, j.mailing.0, j.at.millis(), n(j.here.successes), n(j.here.trials), e.rate, e.lower, e.under])?;
    }
    Ok(())
}

/// Human opens of a mailing in a mailbox group.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = OpensOfGroup)]
pub struct Opened {
    pub mailing_id: MailingId,
    pub mailing: String,
    pub at: i64,
    /// Of people whose opens can be known.
    pub opened: Rate,
    /// The share that its opens elsewhere and the group's own past lead to expect.
    pub expected: f64,
    /// The lower 99% limit of what may be seen when nothing is amiss.
    pub lower: f64,
    /// It lies under that.
    pub under: bool,
}

/// The mailings since an instant that can be judged, of all senders or of one, by group, in the order of time.
///
/// # Errors
/// When the database fails.
pub fn since(c: &Connection, from: Instant, letterhead: Option<LetterheadId>) -> Result<BTreeMap<String, Vec<Opened>>> {
    let mut s = c.prepare_cached(
        "SELECT o.name, o.mailing_id, m.name, o.at, o.opened, o.known, o.expected, o.lower, o.under FROM delivery_opened o JOIN mailing m ON m.id = o.mailing_id
         WHERE o.at >= ?1 AND (?2 IS NULL OR m.letterhead_id = ?2) ORDER BY o.name, o.at",
    )?;
    let mut rows = s.query(params![from.millis(), letterhead.map(|l| l.0)])?;
    let mut out: BTreeMap<String, Vec<Opened>> = BTreeMap::new();
    while let Some(r) = rows.next()? {
        let count = |i: usize| -> rusqlite::Result<u64> { Ok(r.get::<_, i64>(i)?.unsigned_abs()) };
        out.entry(r.get(0)?).or_default().push(Opened {
            mailing_id: MailingId(r.get(1)?),
            mailing: r.get(2)?,
            at: r.get(3)?,
            opened: Rate::new(count(4)?, count(5)?),
            expected: r.get(6)?,
            lower: r.get(7)?,
            under: r.get(8)?,
        });
    }
    Ok(out)
}
