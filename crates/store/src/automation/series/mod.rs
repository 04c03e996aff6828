//! Series: their outlines, and what happens to them from draft to end.
//!
//! * this file: the rows, saving, starting, changing, ending; [`entering`]: who comes in, and out by leaving a segment;
//!   [`walk`]: moving people on; [`view`]: counts, and the people behind them.

pub mod entering;
pub mod view;
pub mod walk;

use crate::codes::{MAILING_DRAFT, MAILING_SENT, MAILING_SERIES, SERIES_ENDED, SERIES_RUNNING};
use crate::mailings::draft::MailingDraft;
use crate::series_entry::read;
pub use crate::series_entry::{Kept, one};
use crate::settings::audit;
use crate::stored::Worded;
use crate::tags::Kind;
use crate::{Result, StoreError, deeds, fields, mailings, segments, series_entry};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::{LetterheadId, ListId, MailingId, SegmentId, SeriesId};
use rinse_core::reaction::Deed;
use rinse_core::segment::Tree;
use rinse_core::series::starters::{self, Starter};
use rinse_core::series::{Does, Entry, Exit, Happening, Named, Outline, Question};
use rinse_core::standing::{MailingState, SeriesEvent, SeriesState};
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// All of them: those that run first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Kept>> {
    read(c, formatcp!("1 ORDER BY CASE state WHEN {SERIES_RUNNING} THEN 0 WHEN {SERIES_ENDED} THEN 2 ELSE 1 END, id DESC"), [])
}

/// Those that move people on.
pub(crate) fn running(c: &Connection) -> Result<Vec<Kept>> {
    read(c, formatcp!("state = {SERIES_RUNNING} AND paused_at IS NULL ORDER BY id"), [])
}

/// Does any series run?
///
/// # Errors
/// When the database fails.
pub fn active(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached(formatcp!("SELECT EXISTS (SELECT 1 FROM series WHERE state = {SERIES_RUNNING} AND paused_at IS NULL)"))?
        .query_row([], |r| r.get(0))?)
}

/// The names that an outline's sentences need.
///
/// # Errors
/// When the database fails.
pub fn named(c: &Connection, outline: &Outline) -> Result<Named> {
    let deeds = deeds::names(c)?;
    let mail = outline.mailings().into_iter().filter_map(|(step, m)| Some((step, deeds.names.mailings.get(&m.0)?.clone()))).collect();
    Ok(Named { deeds, mail })
}

/// The series that do such a thing at a step, in words.
pub(crate) fn doing(c: &Connection, does: impl Fn(&Deed) -> bool) -> Result<Vec<String>> {
    let acts = |k: &Kept| k.outline.placed().iter().any(|p| matches!(&p.step.does, Does::Act { deed } if does(deed)));
    Ok(in_use(c)?.iter().filter(|k| acts(k)).map(|k| format!("series “{}”", k.name)).collect())
}

fn in_use(c: &Connection) -> Result<Vec<Kept>> {
    read(c, formatcp!("state <> {SERIES_ENDED} ORDER BY id"), [])
}

/// The segments that an outline asks about.
fn segments_of(o: &Outline) -> Vec<SegmentId> {
    let placed = o.placed();
    let forks = placed.iter().filter_map(|p| match &p.step.does {
        Does::Fork { on: Question::Segment { segment }, .. } => Some(*segment),
        _ => None,
    });
    let exits = o.exits.iter().filter_map(|e| if let Exit::SegmentLeft { segment } = e { Some(*segment) } else { None });
    let entry = if let Entry::Segment { segment, .. } = o.entry { Some(segment) } else { None };
    forks.chain(exits).chain(entry).collect()
}

/// The series that ask about a segment.
pub(crate) fn asking_segment(c: &Connection, segment: SegmentId) -> Result<Vec<String>> {
    Ok(in_use(c)?.iter().filter(|k| segments_of(&k.outline).contains(&segment)).map(|k| format!("series “{}”", k.name)).collect())
}

/// The series that ask about a goal, a topic or a field's date.
pub(crate) fn asking(c: &Connection, goal: Option<i64>, field: Option<i64>) -> Result<Vec<String>> {
    let asks = |o: &Outline| {
        o.happenings().iter().any(|h| matches!(h, Happening::Goal { goal: g } if Some(*g) == goal))
            || matches!(o.entry, Entry::Date { field: f, .. } if Some(f) == field)
    };
    Ok(in_use(c)?.iter().filter(|k| asks(&k.outline)).map(|k| format!("series “{}”", k.name)).collect())
}

/// Puts one tag or list in another's place, in every outline.
pub(crate) fn retag(c: &Connection, kind: Kind, from: i64, into: i64) -> Result<()> {
    fn put(steps: &mut [rinse_core::series::Step], kind: Kind, from: i64, into: i64) {
        for s in steps {
            match &mut s.does {
                Does::Act { deed: Deed::Tag { tag: id, .. } } if kind == Kind::Tag && *id == from => *id = into,
                Does::Act { deed: Deed::List { list: id, .. } } if kind == Kind::List && *id == ListId(from) => *id = ListId(into),
                Does::Fork { yes, no, .. } => {
                    put(yes, kind, from, into);
                    put(no, kind, from, into);
                }
                _ => {}
            }
        }
    }
    for k in in_use(c)? {
        let mut o = k.outline.clone();
        put(&mut o.steps, kind, from, into);
        if o != k.outline {
            c.execute("UPDATE series SET outline = ?2 WHERE id = ?1", params![k.id.0, serde_json::to_string(&o)?])?;
        }
    }
    Ok(())
}

/// Does everything exist that an outline refers to, and are its messages its own?
fn fits(c: &Connection, id: Option<SeriesId>, o: &Outline) -> Result<()> {
    o.check().map_err(StoreError::Refused)?;
    for p in o.placed() {
        match &p.step.does {
            Does::Mail { mailing } => {
                let m = mailings::one(c, *mailing)?;
                if m.series_id.is_some() && m.series_id != id {
                    return Err(StoreError::Refused(format!("“{}” belongs to another series: copy it.", m.draft.name)));
                }
                // A trial of its own audience can't be; one that enrols those who come can.
                let trial = match m.trial_id {
                    Some(t) => crate::trials::one(c, t)?.plan.per_arm.is_none(),
                    None => false,
                };
                if m.draft.template || trial || (m.state != MailingState::Draft && m.series_id.is_none()) {
                    return Err(StoreError::Refused(format!(
                        "“{}” is a template, has a trial, or is on its way: a step takes a draft. Copy it.",
                        m.draft.name
                    )));
                }
            }
            Does::Act { deed: Deed::Series { series, .. } } if Some(*series) == id => {
                return Err(StoreError::Refused("A series can't put people into itself, or out of it: use an exit.".into()));
            }
            Does::Act { deed } => deeds::fits(c, deed)?,
            _ => {}
        }
    }
    for segment in segments_of(o) {
        drop(segments::one(c, segment)?);
    }
    let names = segments::names(c)?;
    for what in o.happenings() {
        if let Happening::Goal { goal } = what
            && !names.goals.contains_key(goal)
        {
            return Err(StoreError::Missing("goal"));
        }
    }
    for exit in &o.exits {
        if let Exit::TopicLeft { topic } = exit
            && !names.topics.contains_key(topic)
        {
            return Err(StoreError::Missing("topic"));
        }
    }
    if let Entry::Date { field, .. } = o.entry
        && fields::one(c, field)?.kind != rinse_core::segment::FieldKind::Date
    {
        return Err(StoreError::Refused("People enter by a date: choose a field that holds one.".into()));
    }
    Ok(())
}

/// The name, when no other series in use has it.
fn free_name<'a>(c: &Connection, id: Option<SeriesId>, name: &'a str) -> Result<&'a str> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 {
        return Err(StoreError::Refused("Give the series a name of up to 100 characters.".into()));
    }
    let mut s = c.prepare_cached("SELECT 1 FROM series WHERE name = ?1 COLLATE NOCASE AND ended_at IS NULL AND id IS NOT ?2")?;
    if s.exists(params![name, id.map(|id| id.0)])? {
        return Err(StoreError::Refused(format!("There is a series “{name}” already: give this one another name.")));
    }
    Ok(name)
}

/// Keeps a series. One that runs is changed with [`change`].
///
/// # Errors
/// An outline that can't be meant, or refers to what is gone; a name that is taken; one that runs.
pub fn save(
    c: &Connection,
    id: Option<SeriesId>,
    name: &str,
    letterhead: LetterheadId,
    o: &Outline,
    now: Instant,
    person: Option<i64>,
) -> Result<SeriesId> {
    let name = free_name(c, id, name)?;
    crate::letterheads::one(c, letterhead)?;
    fits(c, id, o)?;
    let text = serde_json::to_string(o)?;
    let saved = match id {
        Some(id) => {
            if one(c, id)?.state != SeriesState::Draft {
                return Err(StoreError::Refused("This series runs, or has ended: change it as a running one, or make another.".into()));
            }
            c.execute(
                "UPDATE series SET name = ?2, letterhead_id = ?3, outline = ?4 WHERE id = ?1",
                params![id.0, name, letterhead.0, text],
            )?;
            id
        }
        None => c.query_row(
            "INSERT INTO series (name, letterhead_id, outline, made_at, person_id) VALUES (?1, ?2, ?3, ?4, ?5) RETURNING id",
            params![name, letterhead.0, text, now.millis(), person],
            |r| r.get(0).map(SeriesId),
        )?,
    };
    own(c, saved, o)?;
    if id.is_none() {
        crate::departed::named(c, name)?;
        audit(c, now, person, "series made", "series", saved.0, name)?;
    }
    Ok(saved)
}

/// Can an outline be this series'?
///
/// # Errors
/// An outline that can't be meant.
pub fn may_adopt(c: &Connection, id: SeriesId, o: &Outline) -> Result<()> {
    fits(c, Some(id), o)
}

/// Takes the drafts of an outline's steps for a series' own, before the outline is in force.
///
/// # Errors
/// An outline that can't be meant.
pub fn adopt(c: &Connection, id: SeriesId, o: &Outline) -> Result<()> {
    fits(c, Some(id), o)?;
    for mailing in o.mailings().into_values() {
        c.execute("UPDATE mailing SET series_id = ?2 WHERE id = ?1", [mailing.0, id.0])?;
    }
    Ok(())
}

/// Its mailings are its own; those that no step sends any more are drafts of nobody's again, or sent.
fn own(c: &Connection, id: SeriesId, o: &Outline) -> Result<()> {
    let mine: Vec<MailingId> = o.mailings().into_values().collect();
    let listed = serde_json::to_string(&mine)?;
    c.execute(
        formatcp!("UPDATE mailing SET series_id = CASE WHEN state = {MAILING_DRAFT} THEN NULL ELSE series_id END, state = CASE WHEN state = {MAILING_SERIES} THEN {MAILING_SENT} ELSE state END
         WHERE series_id = ?1 AND id NOT IN (SELECT value FROM json_each(?2))"),
        params![id.0, listed],
    )?;
    // One that was taken out of a running series and stands in it again goes out again.
    c.execute(
        formatcp!("UPDATE mailing SET series_id = ?1, state = iif(state = {MAILING_SENT}, {MAILING_SERIES}, state) WHERE id IN (SELECT value FROM json_each(?2))"),
        params![id.0, listed],
    )?;
    Ok(())
}

/// A series to begin with: its segment and its messages are made as drafts under the letterhead.
///
/// # Errors
/// When there is no such starter, or its name is taken.
pub fn from_starter(c: &Connection, key: &str, letterhead: LetterheadId, now: Instant, person: Option<i64>) -> Result<SeriesId> {
    let starter: Starter = starters::all().into_iter().find(|s| s.key == key).ok_or(StoreError::Missing("outline to begin with"))?;
    let mut name = starter.name.to_owned();
    for n in 2.. {
        if !c.prepare_cached("SELECT 1 FROM series WHERE name = ?1 COLLATE NOCASE AND ended_at IS NULL")?.exists([&name])? {
            break;
        }
        name = format!("{} {n}", starter.name);
    }
    let segment = match &starter.enters {
        None => None,
        Some((segment, tree)) => Some(segment_called(c, segment, tree, now, person)?),
    };
    let mut made = Vec::new();
    for m in starter.messages {
        let draft = MailingDraft {
            name: m.name.to_owned(),
            subjects: vec![m.subject.to_owned()],
            format: "markdown".into(),
            html: format!(
                "{}\n\n{{{{ sender_name }}}}, {{{{ postal_address }}}}\n\n[Leave this series]({{{{ leave_series_url }}}}), [choose what you get]({{{{ preferences_url }}}}), [stop these letters]({{{{ unsubscribe_url }}}})\n",
                m.text
            ),
            ..MailingDraft::under(letterhead, m.name)
        };
        made.push(mailings::save(c, None, &draft, now, person)?);
    }
    save(c, None, &name, letterhead, &starter.with(&made, segment), now, person)
}

fn segment_called(c: &Connection, name: &str, tree: &Tree, now: Instant, person: Option<i64>) -> Result<SegmentId> {
    if let Some(there) = segments::all(c)?.into_iter().find(|s| s.name.eq_ignore_ascii_case(name)) {
        return Ok(there.id);
    }
    segments::save(c, None, &segments::Draft { name: name.to_owned(), tree: tree.clone() }, now, person)
}

/// Starts a series: from now on people enter. Its messages were checked, and can't be changed any more: another text is
/// another mailing, so that figures never mix two.
///
/// # Errors
/// When it runs already, or nothing happens in it.
pub fn start(c: &Connection, id: SeriesId, now: Instant, person: Option<i64>) -> Result<()> {
    let k = one(c, id)?;
    let Some(running) = k.state.next(SeriesEvent::Started) else {
        return Err(StoreError::Refused("This series runs already, or has ended.".into()));
    };
    k.outline.ready().map_err(StoreError::Refused)?;
    fits(c, Some(id), &k.outline)?;
    if !c.prepare_cached(formatcp!("SELECT 1 FROM series WHERE state = {SERIES_RUNNING}"))?.exists([])? {
        // Nobody looked meanwhile, and nothing from before concerns it.
        c.execute(
            "UPDATE series_mark SET response = coalesce((SELECT max(id) FROM response), 0), purchase = coalesce((SELECT max(id) FROM purchase), 0),
                event = coalesce((SELECT max(id) FROM event), 0)",
            [],
        )?;
    }
    go_out(c, id, now)?;
    c.execute("UPDATE series SET state = ?3, started_at = ?2 WHERE id = ?1", params![id.0, now.millis(), Worded(running)])?;
    audit(c, now, person, "series started", "series", id.0, &k.outline.words(&named(c, &k.outline)?))
}

/// Its drafts become messages that go out.
fn go_out(c: &Connection, id: SeriesId, now: Instant) -> Result<()> {
    let drafts: Vec<i64> = c
        .prepare_cached(formatcp!("SELECT id FROM mailing WHERE series_id = ?1 AND state = {MAILING_DRAFT}"))?
        .query_map([id.0], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for mailing in drafts {
        c.execute(formatcp!("UPDATE mailing SET state = {MAILING_SERIES}, started_at = ?2 WHERE id = ?1"), [mailing, now.millis()])?;
        crate::letterheads::keep_as_sent(c, MailingId(mailing))?;
    }
    Ok(())
}

/// What becomes of those inside, where a step they are at is taken away.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct SeriesMove {
    pub people: i64,
    /// The step they are at, in words.
    pub from: String,
    /// The step they go on to; none: they are through.
    pub to: Option<String>,
}

/// What a changed outline does to those inside.
///
/// # Errors
/// An outline that can't be meant.
pub fn effects(c: &Connection, id: SeriesId, o: &Outline) -> Result<Vec<SeriesMove>> {
    let k = one(c, id)?;
    fits(c, Some(id), o)?;
    let (before, after) = (named(c, &k.outline)?, named(c, o)?);
    let words = |outline: &Outline, named: &Named, step: u32| {
        outline.placed().iter().find(|p| p.step.id == step).map_or_else(|| "a step that is gone".into(), |p| named.step(p.step))
    };
    let mut s =
        c.prepare_cached("SELECT step, count(*) FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL GROUP BY step ORDER BY step")?;
    let at: Vec<(u32, i64)> = s.query_map([id.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    Ok(at
        .into_iter()
        .filter(|(step, _)| k.outline.moved(*step, o) != Some(*step) || message_at(&k.outline, *step) != message_at(o, *step))
        .map(|(step, people)| SeriesMove {
            people,
            from: words(&k.outline, &before, step),
            to: k.outline.moved(step, o).map(|to| words(o, &after, to)),
        })
        .collect())
}

fn message_at(o: &Outline, step: u32) -> Option<i64> {
    o.mailings().get(&step).copied().map(|id| id.0)
}

/// Changes a running series. Those at a step that is still there stay at it, and what it says now holds for them; the others
/// go on where [`Outline::moved`] says. A message that waits at a step that is taken away, or sends another now, isn't sent.
///
/// # Errors
/// An outline that can't be meant; one that isn't running.
pub fn change(c: &Connection, id: SeriesId, name: &str, o: &Outline, now: Instant, person: Option<i64>) -> Result<()> {
    let k = one(c, id)?;
    if k.state != SeriesState::Running {
        return Err(StoreError::Refused("Only a running series is changed so.".into()));
    }
    let moves = effects(c, id, o)?;
    o.ready().map_err(StoreError::Refused)?;
    let name = free_name(c, Some(id), name)?;
    // Another entry begins now: who is in the segment already, or whose date has passed, doesn't enter for it.
    let looked: Option<i64> = match o.entry {
        _ if o.entry == k.outline.entry => c.query_row("SELECT looked_at FROM series WHERE id = ?1", [id.0], |r| r.get(0))?,
        Entry::Segment { .. } => None,
        _ => Some(now.millis()),
    };
    let text = serde_json::to_string(o)?;
    c.execute("UPDATE series SET outline = ?2, name = ?3, looked_at = ?4 WHERE id = ?1", params![id.0, text, name, looked])?;
    let mut s = c.prepare_cached("SELECT id, step FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL")?;
    let inside: Vec<(i64, u32)> = s.query_map([id.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    for (entry, step) in inside {
        let to = k.outline.moved(step, o);
        if message_at(&k.outline, step) != to.and_then(|t| message_at(o, t)).filter(|_| to == Some(step)) {
            series_entry::withdraw(c, entry)?;
        }
        match to {
            Some(to) if to == step => {
                c.execute("UPDATE series_entry SET due = ?2 WHERE id = ?1", [entry, now.millis()])?;
            }
            Some(to) => {
                c.execute("UPDATE series_entry SET step = ?2, came_at = ?3, due = ?3 WHERE id = ?1", params![entry, to, now.millis()])?;
            }
            None => series_entry::end(c, entry, now, "through")?,
        }
    }
    own(c, id, o)?;
    go_out(c, id, now)?;
    if !matches!(o.entry, Entry::Segment { .. }) {
        c.execute("DELETE FROM series_seen WHERE series_id = ?1", [id.0])?;
    }
    let moved: i64 = moves.iter().map(|m| m.people).sum();
    audit(
        c,
        now,
        person,
        "series changed",
        "series",
        id.0,
        &format!("{} moved. {}", rinse_core::words::people(moved as u64), o.words(&named(c, o)?)),
    )
}

/// Nobody moves on and nothing goes out until it is resumed.
///
/// # Errors
/// When it isn't running, or is as asked already.
pub fn pause(c: &Connection, id: SeriesId, pause: bool, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(
        formatcp!(
            "UPDATE series SET paused_at = iif(?2, ?3, NULL) WHERE id = ?1 AND state = {SERIES_RUNNING} AND (paused_at IS NULL) = ?2"
        ),
        params![id.0, pause, now.millis()],
    )?;
    if n == 0 {
        return Err(StoreError::Refused(if pause { "Only a series that runs can be paused." } else { "This series isn't paused." }.into()));
    }
    c.execute(
        formatcp!("UPDATE mailing SET paused_at = iif(?2, ?3, NULL) WHERE series_id = ?1 AND state = {MAILING_SERIES}"),
        params![id.0, pause, now.millis()],
    )?;
    audit(c, now, person, if pause { "series paused" } else { "series resumed" }, "series", id.0, "")
}

/// Ends a series for good: everyone inside is taken out, and what waits isn't sent. Returns how many that were.
///
/// # Errors
/// When it has ended.
pub fn end(c: &Connection, id: SeriesId, now: Instant, person: Option<i64>) -> Result<usize> {
    let k = one(c, id)?;
    if k.state == SeriesState::Draft {
        c.execute("UPDATE mailing SET series_id = NULL WHERE series_id = ?1", [id.0])?;
        c.execute("DELETE FROM series WHERE id = ?1", [id.0])?;
        audit(c, now, person, "series deleted", "series", id.0, &k.name)?;
        return Ok(0);
    }
    let Some(ended) = k.state.next(SeriesEvent::Ended) else {
        return Err(StoreError::Refused("This series has ended already.".into()));
    };
    let mut s = c.prepare_cached("SELECT id FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL")?;
    let inside: Vec<i64> = s.query_map([id.0], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    for entry in &inside {
        series_entry::end(c, *entry, now, "the series ended")?;
    }
    c.execute("UPDATE series SET state = ?3, ended_at = ?2, paused_at = NULL WHERE id = ?1", params![id.0, now.millis(), Worded(ended)])?;
    c.execute(
        formatcp!("UPDATE mailing SET state = {MAILING_SENT}, finished_at = ?2, paused_at = NULL WHERE series_id = ?1 AND state = {MAILING_SERIES}"),
        [id.0, now.millis()],
    )?;
    c.execute("DELETE FROM series_seen WHERE series_id = ?1", [id.0])?;
    audit(c, now, person, "series ended", "series", id.0, &format!("{} inside", rinse_core::words::people(inside.len() as u64)))?;
    Ok(inside.len())
}
