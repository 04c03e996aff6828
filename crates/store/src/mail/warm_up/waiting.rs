//! Who waits for their day under a warm-up, and on which day they go.

use super::{Names, WarmUp, letterheads, of_letterhead, on_day, open, room};
use crate::Result;
use crate::send_state::{UNTRIED, WAITING};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::delivery::warm_up::{Room, Waiting, places, rank};
use rinse_core::id::{ContactId, LetterheadId};
use rinse_core::load::Answer;
use rinse_core::segment::evaluate::day_of;
use rusqlite::{Connection, params};
use std::collections::HashMap;

/// People of each group: a key, their turn, who they are.
type ByGroup = HashMap<String, Vec<(i64, Instant, i64)>>;

/// How somebody answers, by the cell of their mail load.
fn answer(cell: Option<u8>) -> Option<Answer> {
    Answer::ALL.get(usize::from(cell? % 5)).copied()
}

/// Marketing messages of a warmed-up sender that wait for their first try: `(send, at, domain, contact)` is what `take` gets.
fn each(c: &Connection, w: &WarmUp, mut take: impl FnMut(i64, Instant, i64, i64) -> Result<()>) -> Result<()> {
    let heads = serde_json::to_string(&letterheads(c, &w.domain)?)?;
    let mut s = c.prepare_cached(formatcp!(
        "SELECT s.id, s.at, k.domain_id, s.contact_id FROM send s INDEXED BY send_due CROSS JOIN contact k ON k.id = s.contact_id
         WHERE s.state IN ({WAITING}) AND s.state IN ({UNTRIED}) AND s.class = 1 AND s.channel = 1 AND s.tries = 0
            AND s.mailing_id IN (SELECT id FROM mailing WHERE letterhead_id IN (SELECT value FROM json_each(?1)))
         ORDER BY s.at, s.priority, s.mailing_id, s.id"
    ))?;
    let mut rows = s.query([heads])?;
    while let Some(r) = rows.next()? {
        take(r.get(0)?, Instant::of(r.get(1)?), r.get(2)?, r.get(3)?)?;
    }
    Ok(())
}

/// How many wait in each group, by the day of their turn.
///
/// # Errors
/// When the database fails.
pub fn waiting(c: &Connection, w: &WarmUp) -> Result<HashMap<String, HashMap<i64, u32>>> {
    let (mut out, mut names) = (HashMap::<String, HashMap<i64, u32>>::new(), Names::default());
    each(c, w, |_, at, domain, _| {
        let name = names.of(c, domain)?;
        let by = match out.get_mut(name) {
            Some(by) => by,
            None => out.entry(name.to_owned()).or_default(),
        };
        *by.entry(day_of(at)).or_default() += 1;
        Ok(())
    })?;
    Ok(out)
}

/// Who answers how, of everybody: asked for only where somebody has to wait.
struct Ranks(Option<HashMap<ContactId, u8>>);

impl Ranks {
    fn of(&mut self, c: &Connection, contact: ContactId) -> Result<u8> {
        let cells = match &mut self.0 {
            Some(cells) => cells,
            none => {
                let mut s = c.prepare_cached("SELECT contact_id, cell FROM mail_load")?;
                none.insert(s.query_map([], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
            }
        };
        Ok(rank(answer(cells.get(&contact).copied())))
    }
}

/// Those of a group's people who have to go on another day than theirs, and when: each by a key, with their turn and who they are.
fn later(c: &Connection, room: &Room, people: &[(i64, Instant, i64)], ranks: &mut Ranks, now: Instant) -> Result<Vec<(i64, Instant)>> {
    if room.ceiling.is_none() {
        return Ok(Vec::new());
    }
    let mut wait = Vec::with_capacity(people.len());
    for (_, at, contact) in people {
        wait.push(Waiting { day: day_of((*at).max(now)), rank: ranks.of(c, ContactId(*contact))? });
    }
    let placed = people.iter().zip(places(&wait, |d| room.on(d))).map(|((key, at, _), day)| (*key, (*at).max(now), day));
    Ok(placed.filter(|(_, at, day)| day_of(*at) != *day).map(|(key, at, day)| (key, on_day(at, day))).collect())
}

/// Which of a mailing's people go on another day than theirs, since there is no room on it: their places in `people`, and when. Who answers most
/// goes first. `people`: their domains, who they are, and their turns (none: they get nothing).
///
/// # Errors
/// When the database fails.
pub(crate) fn placed(
    c: &Connection,
    letterhead: LetterheadId,
    people: &[(i64, ContactId, Option<Instant>)],
    now: Instant,
) -> Result<Vec<(usize, Instant)>> {
    let Some(w) = of_letterhead(c, letterhead)? else { return Ok(Vec::new()) };
    let mut taken = waiting(c, &w)?;
    let (mut by, mut names) = (ByGroup::default(), Names::default());
    for ((domain, contact, turn), i) in people.iter().zip(0..) {
        if let Some(turn) = turn {
            by.entry(names.of(c, *domain)?.to_owned()).or_default().push((i, *turn, contact.0));
        }
    }
    let (mut ranks, mut out) = (Ranks(None), Vec::new());
    for (group, of) in by {
        let room = room(c, &w, &group, now, taken.remove(&group).unwrap_or_default())?;
        out.extend(later(c, &room, &of, &mut ranks, now)?.into_iter().map(|(i, at)| (usize::try_from(i).unwrap_or(0), at)));
    }
    Ok(out)
}

/// Messages whose day has to move: a day's ceiling is less than was hoped when they were placed. Beside the writer; [`put`] moves them.
///
/// # Errors
/// When the database fails.
pub fn moved(c: &Connection, now: Instant) -> Result<Vec<(i64, Instant)>> {
    let (mut out, mut ranks) = (Vec::new(), Ranks(None));
    for w in open(c)? {
        let (mut by, mut names) = (ByGroup::default(), Names::default());
        each(c, &w, |send, at, domain, contact| {
            by.entry(names.of(c, domain)?.to_owned()).or_default().push((send, at, contact));
            Ok(())
        })?;
        for (group, of) in by {
            out.extend(later(c, &room(c, &w, &group, now, HashMap::new())?, &of, &mut ranks, now)?);
        }
    }
    Ok(out)
}

/// Moves messages that still wait.
///
/// # Errors
/// When the database fails.
pub fn put(c: &Connection, moved: &[(i64, Instant)]) -> Result<()> {
    let mut s = c.prepare_cached(formatcp!("UPDATE send SET at = ?2 WHERE id = ?1 AND state IN ({UNTRIED}) AND tries = 0"))?;
    moved.iter().try_for_each(|(send, at)| Ok(s.execute(params![send, at.millis()]).map(drop)?))
}
