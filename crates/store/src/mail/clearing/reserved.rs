//! Trials that keep their people for themselves: until their window ends, no other marketing mailing goes to anybody of their rosters,
//! so that what is read there is theirs alone.

use crate::Result;
use crate::codes::TRIAL_COLLECTING;
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::{ContactId, MailingId, SeriesId, TrialId};
use rusqlite::{Connection, params};

/// A trial that reserves its people at an instant.
pub(super) struct Reserving {
    pub(super) trial: TrialId,
    /// The mailing that it tries.
    pub(super) mailing: String,
    /// Its window's end, once that is known: when the last of the pilot has been handed over.
    pub(super) until: Option<Instant>,
}

/// Those that a mailing meets at an instant, as they were then: of other mailings than itself, and than the steps of its own series,
/// which go on for those who are in it.
pub(super) fn met(c: &Connection, mailing: MailingId, series: Option<SeriesId>, at: Instant) -> Result<Vec<Reserving>> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT t.id, m.name, t.reading_due FROM trial t JOIN mailing m ON m.id = t.mailing_id
         WHERE t.sealed_at <= ?3 AND t.mailing_id <> ?1 AND (?2 IS NULL OR m.series_id IS NOT ?2)
           AND (t.state = {TRIAL_COLLECTING} OR t.read_at > ?3) AND (t.reading_due IS NULL OR t.reading_due > ?3)
           AND json_extract(t.plan, '$.reserves') ORDER BY t.id"
    ))?;
    let rows = s.query_map(params![mailing.0, series.map(|id| id.0), at.millis()], |r| {
        Ok(Reserving { trial: TrialId(r.get(0)?), mailing: r.get(1)?, until: r.get::<_, Option<i64>>(2)?.map(Instant::of) })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

impl Reserving {
    /// Is somebody on its roster?
    pub(super) fn holds(&self, c: &Connection, contact: ContactId) -> Result<bool> {
        Ok(c.prepare_cached("SELECT 1 FROM roster WHERE trial_id = ?1 AND contact_id = ?2")?.exists([self.trial.0, contact.0])?)
    }

    pub(super) fn words(&self) -> String {
        match self.until {
            Some(until) => format!("by the trial of {} until {}", self.mailing, until.words()),
            None => format!("by the trial of {}, which is still going out", self.mailing),
        }
    }
}

/// The first that holds somebody.
pub(super) fn holding<'a>(c: &Connection, met: &'a [Reserving], contact: ContactId) -> Result<Option<&'a Reserving>> {
    for trial in met {
        if trial.holds(c, contact)? {
            return Ok(Some(trial));
        }
    }
    Ok(None)
}
