//! Who enters a series: by hand, by a reaction, by what happens to them, by joining a segment, by a date.

use crate::codes::SERIES_RUNNING;
use crate::series_entry::{enter, one};
use crate::settings::audit;
use crate::stored::ids_as;
use crate::{Result, StoreError, segments};
use const_format::formatcp;
use rinse_core::id::{ContactId, SeriesId};
use rinse_core::segment::Tree;
use rinse_core::series::walk::at_minute;
use rinse_core::series::{Entry, Exit, Outline};
use rinse_core::zone::{self, Wall};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use std::collections::HashSet;

/// Puts people in by hand; returns how many entered. The others are inside, were, left it, or are gone.
///
/// # Errors
/// When the series isn't open.
pub fn put_in(c: &Connection, id: SeriesId, contacts: &[ContactId], now: Instant, person: Option<i64>) -> Result<usize> {
    let k = one(c, id)?;
    if !k.open(now) {
        return Err(StoreError::Refused("Nobody can enter this series now: start it, or look at when it begins and ends.".into()));
    }
    let mut n = 0;
    for contact in contacts {
        n += usize::from(enter(c, &k, *contact, now, "put in by hand", now)?);
    }
    audit(c, now, person, "people put into a series", "series", id.0, &rinse_core::words::people(n as u64))?;
    Ok(n)
}

/// What a look at the base found for one series.
#[derive(Debug, Default)]
pub struct Found {
    series: SeriesId,
    /// Who enters, and when it was that they were due to.
    enters: Vec<(ContactId, Instant)>,
    /// Joined the segment, or left it, since the last look.
    joined: Vec<ContactId>,
    gone: Vec<ContactId>,
    /// Inside, and no longer in a segment that they have to be in.
    wake: Vec<ContactId>,
}

/// The series whose base is to be looked at, `every` so many milliseconds.
///
/// # Errors
/// When the database fails.
pub fn to_look(c: &Connection, now: Instant, every: i64) -> Result<Vec<SeriesId>> {
    let sql = formatcp!(
        "SELECT id FROM series WHERE state = {SERIES_RUNNING} AND paused_at IS NULL AND coalesce(looked_at, 0) + ?2 <= ?1 ORDER BY id"
    );
    ids_as(c, sql, [now.millis(), every], SeriesId)
}

/// Looks at the base for one series: it only reads, so that a large base holds up no write.
///
/// # Errors
/// When a segment is gone.
pub fn look(c: &Connection, id: SeriesId, now: Instant) -> Result<Found> {
    let k = one(c, id)?;
    let before: Option<i64> = c.query_row("SELECT looked_at FROM series WHERE id = ?1", [id.0], |r| r.get(0))?;
    let mut found = Found { series: id, ..Found::default() };
    match &k.outline.entry {
        Entry::Segment { segment, those_in_it } => {
            let people: HashSet<ContactId> = segments::people(c, &Tree::Segment { segment: *segment }, now)?.into_iter().collect();
            let seen: HashSet<ContactId> = ids_as(c, "SELECT contact_id FROM series_seen WHERE series_id = ?1", [id.0], ContactId)?;
            found.joined = people.difference(&seen).copied().collect();
            found.gone = seen.difference(&people).copied().collect();
            found.joined.sort_unstable();
            if before.is_some() || *those_in_it {
                found.enters = found.joined.iter().map(|contact| (*contact, now)).collect();
            }
        }
        Entry::Date { field, days, minute, yearly } => {
            let since = Instant::of(before.or(k.started_at).unwrap_or(now.millis()));
            // Whose clock isn't known goes by the letterhead's.
            let usual: String = c.query_row("SELECT zone FROM letterhead WHERE id = ?1", [k.letterhead_id.0], |r| r.get(0))?;
            let usual = zone::named(&usual).unwrap_or(zone::TimeZone::UTC);
            found.enters = due_by_date(c, (*field, *days, *minute, *yearly), (since, now), &usual)?;
        }
        _ => {}
    }
    for exit in &k.outline.exits {
        match exit {
            Exit::SegmentLeft { segment } => {
                let people: HashSet<ContactId> = segments::people(c, &Tree::Segment { segment: *segment }, now)?.into_iter().collect();
                let sql = "SELECT contact_id FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL";
                let inside: HashSet<ContactId> = ids_as(c, sql, [id.0], ContactId)?;
                found.wake.extend(inside.difference(&people));
            }
            Exit::TopicLeft { topic } => {
                let sql = "SELECT e.contact_id FROM series_entry e JOIN topic_left t ON t.contact_id = e.contact_id AND t.topic_id = ?2 WHERE e.series_id = ?1 AND e.ended_at IS NULL";
                found.wake.extend(ids_as::<_, Vec<_>>(c, sql, [id.0, *topic], ContactId)?);
            }
            Exit::Happened { .. } => {}
        }
    }
    Ok(found)
}

/// Those whose day and minute came after `since` and by `now`, each on their own clock.
fn due_by_date(
    c: &Connection,
    (field, days, minute, yearly): (i64, i32, u16, bool),
    (since, now): (Instant, Instant),
    usual: &zone::TimeZone,
) -> Result<Vec<(ContactId, Instant)>> {
    let mut s = c.prepare_cached(
        "SELECT v.contact_id, v.day, k.zone FROM field_value v JOIN contact k ON k.id = v.contact_id WHERE v.field_id = ?1 AND v.day IS NOT NULL AND k.gone IS NULL
         AND (?2 OR v.day BETWEEN ?3 AND ?4)",
    )?;
    // A day begins up to 14 hours before it does in UTC, and ends up to 12 after.
    let (first, last) = (since.millis().div_euclid(DAY) - 1, now.millis().div_euclid(DAY) + 1);
    let shift = i64::from(days);
    let mut rows = s.query(params![field, yearly, first - shift, last - shift])?;
    let mut zones: std::collections::HashMap<String, zone::TimeZone> = std::collections::HashMap::new();
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let Some(day) = Outline::entry_day(r.get(1)?, days, yearly, first).filter(|d| *d <= last) else { continue };
        let name = r.get::<_, Option<String>>(2)?.unwrap_or_default();
        let clock = zones.entry(name).or_insert_with_key(|n| zone::named(n).unwrap_or_else(|| usual.clone()));
        let at = at_minute(clock.first_of_day(day), minute, clock);
        if at > since && at <= now {
            out.push((ContactId(r.get(0)?), at));
        }
    }
    out.sort_unstable();
    Ok(out)
}

/// People whom a part of what was found concerns: written in one transaction.
const AT_ONCE: usize = 2_000;

impl Found {
    /// The parts in which it is written; the last one ends the look.
    #[must_use]
    pub fn parts(self) -> Vec<Found> {
        let series = self.series;
        let mut out = Vec::new();
        let mut part = |f: Found| out.push(Found { series, ..f });
        self.enters.chunks(AT_ONCE).for_each(|p| part(Found { enters: p.to_vec(), ..Found::default() }));
        self.joined.chunks(AT_ONCE).for_each(|p| part(Found { joined: p.to_vec(), ..Found::default() }));
        self.gone.chunks(AT_ONCE).for_each(|p| part(Found { gone: p.to_vec(), ..Found::default() }));
        self.wake.chunks(AT_ONCE).for_each(|p| part(Found { wake: p.to_vec(), ..Found::default() }));
        out
    }

    /// Writes a part. One that is written twice, since the process stopped in between, lets nobody enter twice.
    ///
    /// # Errors
    /// When the database fails.
    pub fn write(&self, c: &Connection, now: Instant) -> Result<()> {
        let k = one(c, self.series)?;
        let cause = match k.outline.entry {
            Entry::Date { .. } => "their date",
            _ => "joined the segment",
        };
        for (contact, at) in &self.enters {
            enter(c, &k, *contact, *at, cause, now)?;
        }
        let mut put = c.prepare_cached("INSERT INTO series_seen VALUES (?1, ?2) ON CONFLICT DO NOTHING")?;
        for contact in &self.joined {
            put.execute([k.id.0, contact.0])?;
        }
        let mut take = c.prepare_cached("DELETE FROM series_seen WHERE series_id = ?1 AND contact_id = ?2")?;
        for contact in &self.gone {
            take.execute([k.id.0, contact.0])?;
        }
        let mut wake =
            c.prepare_cached("UPDATE series_entry SET due = ?3 WHERE series_id = ?1 AND contact_id = ?2 AND ended_at IS NULL")?;
        for contact in &self.wake {
            wake.execute(params![k.id.0, contact.0, now.millis()])?;
        }
        Ok(())
    }
}

/// Writes down when a series' base was looked at.
///
/// # Errors
/// When the database fails.
pub fn looked(c: &Connection, id: SeriesId, now: Instant) -> Result<()> {
    c.prepare_cached("UPDATE series SET looked_at = ?2 WHERE id = ?1")?.execute([id.0, now.millis()])?;
    Ok(())
}
