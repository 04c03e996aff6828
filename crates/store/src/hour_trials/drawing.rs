//! The draw of a round: who may take part is worked out beside the writer, put on the roster in parts, and in force by one short change.

use super::{Content, RoundOf, one, own};
use crate::clearing::{Clearance, Decided};
use crate::machines::opens;
use crate::{Result, load, mailings};
use rinse_core::Instant;
use rinse_core::clearance::Outcome;
use rinse_core::id::{ContactId, HourTrialId, MailingId};
use rinse_core::trial::assign::Person;
use rinse_core::trial::hour::draw::{Candidate, Drawn, GRACE, again, digest, drawn_at, instants, of_round};
use rinse_core::trial::hour::plan::{HourPlan, LEAST_PER_HOUR};
use rinse_core::words::people;
use rusqlite::{Connection, params};
use std::collections::{BTreeMap, HashMap};

/// Who was drawn, with when their hour comes.
pub struct Roster {
    pub seats: Vec<(Drawn, Instant)>,
    zones: BTreeMap<u32, String>,
}

/// Those of a clearance who could take part in a round on that day, each with when their hours come.
type Able<'a> = Vec<(Decided, &'a [Instant])>;

/// Everybody's hours on a day, by time zone; none where the clock changes on it.
fn hours_by_zone(done: &Clearance, day: i64, hours: &[u8]) -> HashMap<u16, Option<Vec<Instant>>> {
    let mut out = HashMap::new();
    for d in &done.decided {
        if let Some(clock) = done.zone_of(*d) {
            out.entry(d.zone).or_insert_with(|| instants(clock, day, hours));
        }
    }
    out
}

/// Of a trial of own hours, those alone who have one that differs; else everybody.
fn those<'a>(able: Able<'a>, own: Option<&HashMap<ContactId, u8>>) -> Able<'a> {
    match own {
        Some(own) => able.into_iter().filter(|(d, _)| own.contains_key(&d.contact)).collect(),
        None => able,
    }
}

/// Who may have all the hours: cleared by the first of them, with a known time zone whose clock doesn't change that day.
fn able<'a>(done: &Clearance, by_zone: &'a HashMap<u16, Option<Vec<Instant>>>) -> Able<'a> {
    let may = |d: &&Decided, first: Instant| match d.outcome {
        Outcome::Cleared => true,
        Outcome::Held(until, _) => until <= first,
        Outcome::Barred(_) => false,
    };
    done.decided
        .iter()
        .filter_map(|d| {
            let of = by_zone.get(&d.zone)?.as_ref()?;
            Some((*d, of.as_slice())).filter(|_| may(&d, of[0]))
        })
        .collect()
}

/// How many could take part on that day, and how many of them have opens that can be known.
///
/// # Errors
/// When the database fails.
pub fn could_take_part(c: &Connection, done: &Clearance, day: i64, plan: &HourPlan) -> Result<(u64, u64)> {
    let (by_zone, unknown) = (hours_by_zone(done, day, &plan.hours), opens::unknown_domains(c)?);
    let own = own::who_differ(c, plan)?;
    let able = those(able(done, &by_zone), own.as_ref());
    Ok((able.len() as u64, able.iter().filter(|(d, _)| !unknown.contains(&d.domain)).count() as u64))
}

/// Draws a round from those its mailing's clearance lets go; or says why it can't be drawn.
///
/// # Errors
/// When the database fails.
pub fn drawn(
    c: &Connection,
    round: &RoundOf,
    plan: &HourPlan,
    done: &Clearance,
    now: Instant,
) -> Result<std::result::Result<Roster, String>> {
    if drawn_at(round.day) + GRACE < now {
        return Ok(Err("its draw would have come after its date had begun somewhere".into()));
    }
    let t = one(c, round.trial)?;
    let m = mailings::one(c, round.mailing)?;
    let sealed: String =
        c.query_row("SELECT content FROM hour_round WHERE trial_id = ?1 AND mailing_id = ?2", [round.trial.0, round.mailing.0], |r| {
            r.get(0)
        })?;
    let sealed: Content = crate::stored::document(&sealed, "hour trial", round.trial.0)?;
    if sealed.subject != Content::of(&m)?.subject && !sealed.subject.is_empty() {
        return Ok(Err("its subject was changed after the seal".into()));
    }
    let by_zone = hours_by_zone(done, round.day, &plan.hours);
    let own = own::who_differ(c, plan)?;
    let able = those(able(done, &by_zone), own.as_ref());
    let unknown = opens::unknown_domains(c)?;
    let mut candidates = Vec::with_capacity(able.len());
    for (d, _) in &able {
        let domain = u32::try_from(d.domain).unwrap_or(0);
        let person = Person { contact: d.contact, domain, cell: load::cell_of(c, d.contact)?, opens_unknown: unknown.contains(&d.domain) };
        candidates.push(Candidate { person, zone: u32::from(d.zone), own: own.as_ref().and_then(|own| own.get(&d.contact).copied()) });
    }
    if (candidates.len() as u64) < LEAST_PER_HOUR * plan.compared().len() as u64 {
        return Ok(Err(format!("only {} could have all its hours", people(candidates.len() as u64))));
    }
    let seed = t.seed.unwrap_or(0).cast_unsigned();
    let seats = of_round(plan, seed, round.round, &candidates);
    let hours: HashMap<ContactId, &[Instant]> = able.iter().map(|(d, of)| (d.contact, *of)).collect();
    let schedule = m.draft.schedule;
    let share = crate::send_state::spread_of(round.mailing);
    let due = |d: &Drawn| {
        let place = plan.hours.iter().position(|h| *h == d.hour).unwrap_or(0);
        // Another system takes the people of an hour as one list.
        let spread = if round.handed_out { 0 } else { schedule.spread(share.draw(d.contact)) };
        hours[&d.contact][place] + spread
    };
    let seats: Vec<(Drawn, Instant)> = seats.into_iter().map(|d| (d, due(&d))).collect();
    let names = done.decided.iter().filter_map(|d| Some((u32::from(d.zone), done.zone_of(*d)?.iana_name()?.to_owned())));
    Ok(Ok(Roster { zones: names.collect(), seats }))
}

/// Takes everybody off the roster of a round that isn't drawn: an earlier try was cut off. How many.
///
/// # Errors
/// When the database fails.
pub fn take_off(c: &Connection, mailing: MailingId, most: usize) -> Result<usize> {
    Ok(c.prepare_cached(
        "DELETE FROM hour_roster WHERE mailing_id = ?1 AND contact_id IN (SELECT contact_id FROM hour_roster WHERE mailing_id = ?1 LIMIT ?2)
            AND NOT EXISTS (SELECT 1 FROM hour_round WHERE mailing_id = ?1 AND drawn_at IS NOT NULL)",
    )?
    .execute(params![mailing.0, i64::try_from(most).unwrap_or(i64::MAX)])?)
}

/// Puts some people on the roster of a round.
///
/// # Errors
/// When the database fails.
pub fn put_on(c: &Connection, mailing: MailingId, seats: &[(Drawn, Instant)]) -> Result<()> {
    let mut s = c.prepare_cached(
        "INSERT INTO hour_roster (mailing_id, contact_id, zone, stratum, hour, due, opens_unknown, own) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
    )?;
    for (d, due) in seats {
        s.execute(params![mailing.0, d.contact.0, d.zone, d.stratum, d.hour, due.millis(), d.opens_unknown, d.own])?;
    }
    Ok(())
}

/// The round is drawn: its roster is whole.
///
/// # Errors
/// When the database fails.
pub fn in_force(c: &Connection, mailing: MailingId, roster: &Roster, now: Instant) -> Result<()> {
    c.execute(
        "UPDATE hour_round SET drawn_at = ?2, digest = ?3, zones = ?4 WHERE mailing_id = ?1 AND missed IS NULL",
        params![mailing.0, now.millis(), digest(&roster.seats), serde_json::to_string(&roster.zones)?],
    )?;
    Ok(())
}

/// The roster of a drawn round.
///
/// # Errors
/// When the database fails.
pub fn roster(c: &Connection, mailing: MailingId) -> Result<Vec<(Drawn, Instant)>> {
    let mut s = c.prepare_cached(
        "SELECT contact_id, zone, stratum, hour, opens_unknown, due, own FROM hour_roster WHERE mailing_id = ?1 ORDER BY contact_id",
    )?;
    let rows = s.query_map([mailing.0], |r| {
        Ok((
            Drawn {
                contact: ContactId(r.get(0)?),
                zone: r.get(1)?,
                stratum: r.get(2)?,
                hour: r.get(3)?,
                opens_unknown: r.get(4)?,
                own: r.get(6)?,
            },
            Instant::of(r.get(5)?),
        ))
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// What the draw makes of each drawn round again: its number from 0, and its people.
///
/// # Errors
/// When there is no such trial.
pub fn drawn_again(c: &Connection, id: HourTrialId) -> Result<Vec<(usize, Vec<Drawn>)>> {
    let t = one(c, id)?;
    let seed = t.seed.unwrap_or(0).cast_unsigned();
    let rounds = sealed_rounds(c, id)?.into_iter().filter(|r| r.drawn);
    rounds.map(|r| Ok((r.round, again(&t.plan, seed, r.round, &people_of(&roster(c, r.mailing)?))))).collect()
}

fn people_of(seats: &[(Drawn, Instant)]) -> Vec<Drawn> {
    seats.iter().map(|s| s.0).collect()
}

/// A round with what was sealed of it.
struct SealedRound {
    round: usize,
    mailing: MailingId,
    content: String,
    digest: Option<String>,
    drawn: bool,
}

fn sealed_rounds(c: &Connection, id: HourTrialId) -> Result<Vec<SealedRound>> {
    let mut s = c.prepare_cached(
        "SELECT round, mailing_id, content, digest, drawn_at IS NOT NULL FROM hour_round WHERE trial_id = ?1 ORDER BY round",
    )?;
    let rows = s.query_map([id.0], |r| {
        let round = usize::try_from(r.get::<_, i64>(0)?).unwrap_or(0);
        Ok(SealedRound { round, mailing: MailingId(r.get(1)?), content: r.get(2)?, digest: r.get(3)?, drawn: r.get(4)? })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// What differs from what was sealed or drawn, in words; none when all holds.
///
/// # Errors
/// When the database fails.
pub fn broken(c: &Connection, id: HourTrialId) -> Result<Option<String>> {
    let t = one(c, id)?;
    let (Some(seed), Some(sealed)) = (t.seed, &t.digest) else { return Ok(None) };
    let seed = seed.cast_unsigned();
    let rounds = sealed_rounds(c, id)?;
    let contents: Vec<String> = rounds.iter().map(|r| r.content.clone()).collect();
    if super::digest_of(&t.text, seed, &contents) != *sealed {
        return Ok(Some("What was sealed is not what is here: the plan or its rounds were changed since.".into()));
    }
    for r in rounds.into_iter().filter(|r| r.drawn) {
        let seats = roster(c, r.mailing)?;
        let drawn = people_of(&seats);
        if r.digest.as_deref() != Some(digest(&seats).as_str()) || again(&t.plan, seed, r.round, &drawn) != drawn {
            return Ok(Some(format!("The roster of round {} isn't what the draw made: it was changed since.", r.round + 1)));
        }
    }
    Ok(None)
}
