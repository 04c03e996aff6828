//! The dry run: what would become of each row, what the file knows and what it doesn't, before anything is changed.

use super::{LogFile, Mapping, one, outside, taking};
use crate::codes::{FILE_CHANGEABLE, FILE_CHECKED};
use crate::response_kinds;
use crate::tombstones::Tombstones;
use crate::{Result, Store, StoreError, contacts};
use const_format::formatcp;
use rinse_core::history::columns::EventColumn;
use rinse_core::history::course::Step;
use rinse_core::history::proposed::{APART, Gathering, MOST, Proposal};
use rinse_core::history::{self, Event, Kind};
use rinse_core::id::SendId;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use utoipa::ToSchema;

/// Refused rows that a dry run keeps …
pub(super) const LOOKED_AT: usize = 1_000;
/// … reasons and mailings that it tells …
const TOLD: usize = 30;
/// … and people and messages that it tells apart, by 8 bytes each.
const TELLS_APART: usize = 5_000_000;

/// A mailing that events speak of and nobody told of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = UnknownMailing)]
pub struct Unknown {
    pub key: String,
    pub rows: i64,
    pub first_at: i64,
}

/// What was found in a file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
#[schema(as = HistoryFound)]
pub struct Found {
    /// Rows by kind.
    pub kinds: BTreeMap<String, i64>,
    pub new: i64,
    pub known: i64,
    pub refused: i64,
    /// Refused rows by why.
    pub reasons: BTreeMap<String, i64>,
    /// Addresses in it …
    pub people: i64,
    /// … and those of nobody in the base.
    pub missing_people: i64,
    pub unknown_mailings: Vec<Unknown>,
    /// The first of the mailings that its subjects and hours come to, where it names none …
    pub proposed: Vec<Proposal>,
    /// … and how many there are.
    pub proposed_in_all: usize,
    pub first_at: Option<i64>,
    pub last_at: Option<i64>,
    /// It says what was accepted.
    pub accepts: bool,
    /// Its opens say which program fetched.
    pub agents: bool,
    /// It is so large that answers to messages never sent are found only as it is applied.
    pub unchecked: bool,
}

fn hash(parts: &[&str]) -> u64 {
    let mut h = DefaultHasher::new();
    parts.hash(&mut h);
    h.finish()
}

/// A reason without what stood in the row: the same for all such rows.
pub(super) fn reason(why: &str) -> String {
    let mut out = String::new();
    for (i, part) in why.split('"').enumerate() {
        out.push_str(if i % 2 == 0 { part } else { "…" });
    }
    out.chars().take(120).collect()
}

struct Look<'a> {
    c: &'a Connection,
    file: &'a LogFile,
    found: Found,
    refused: Vec<(i64, String)>,
    tombstones: Tombstones,
    people: HashSet<u64>,
    missing: HashSet<u64>,
    mailings: HashMap<String, Option<i64>>,
    unknown: HashMap<String, (i64, i64)>,
    /// The keys of those that its subjects and hours come to, and that somebody took so.
    proposed: HashSet<String>,
    /// Messages that the file itself says were sent; none: too many.
    sent: Option<HashSet<u64>>,
}

impl Look<'_> {
    fn refuse(&mut self, row: i64, why: String) {
        self.found.refused += 1;
        let short = reason(&why);
        if self.found.reasons.len() < TOLD || self.found.reasons.contains_key(&short) {
            *self.found.reasons.entry(short).or_default() += 1;
        }
        if self.refused.len() < LOOKED_AT {
            self.refused.push((row, why));
        }
    }

    fn count(&mut self, known: bool) {
        if known {
            self.found.known += 1;
        } else {
            self.found.new += 1;
        }
    }

    /// Notes an event of a mailing that nobody told of; true: it is refused.
    fn knows_not(&mut self, row: i64, e: &Event) -> bool {
        let (rows, first) = self.unknown.entry(e.mailing.clone()).or_insert((0, e.at.millis()));
        (*rows, *first) = (*rows + 1, e.at.millis().min(*first));
        let refused = !self.file.unnamed || e.mailing.is_empty();
        if refused {
            self.refuse(row, "no mailing sent elsewhere has this key or name".into());
        }
        refused
    }

    fn event(&mut self, row: i64, e: &Event, steps: bool) -> Result<()> {
        if taking::is_step(e.kind) != steps {
            return Ok(());
        }
        let f = &mut self.found;
        *f.kinds.entry(e.kind.words().to_owned()).or_default() += 1;
        f.first_at = Some(f.first_at.map_or(e.at.millis(), |at| at.min(e.at.millis())));
        f.last_at = Some(f.last_at.map_or(e.at.millis(), |at| at.max(e.at.millis())));
        f.accepts |= e.kind == Kind::Accepted;
        f.agents |= e.kind == Kind::Opened && !e.agent.is_empty();
        let who = hash(&[&e.address.key]);
        if self.people.len() < TELLS_APART {
            self.people.insert(who);
        }
        let contact = contacts::id_of(self.c, &e.address.key)?;
        if contact.is_none() {
            if self.tombstones.has(self.c, &e.address.key)? {
                self.refuse(row, crate::tombstones::WAS_DELETED.into());
                return Ok(());
            }
            if self.missing.len() < TELLS_APART {
                self.missing.insert(who);
            }
            if !self.file.newcomers {
                self.refuse(row, "nobody in the base has this address".into());
                return Ok(());
            }
        }
        if e.kind == Kind::Bought {
            let known = !e.key.is_empty() && self.c.prepare_cached("SELECT 1 FROM purchase WHERE key = ?1")?.exists([&e.key])?;
            self.count(known);
            return Ok(());
        }
        if e.mailing.is_empty() && !e.subject.is_empty() {
            self.refuse(row, "it names no mailing, and none of its subject was proposed; take the mailings as proposed".into());
            return Ok(());
        }
        let mailing = match self.mailings.get(&e.mailing) {
            Some(found) => *found,
            None => {
                let found = outside::known(self.c, &e.mailing)?.map(|to| to.mailing);
                self.mailings.insert(e.mailing.clone(), found.map(|id| id.0));
                found.map(|id| id.0)
            }
        };
        // One that was proposed is made as the file is taken in.
        if mailing.is_none() && !self.proposed.contains(&e.mailing) && self.knows_not(row, e) {
            return Ok(());
        }
        let message = hash(&[&e.mailing, &e.address.key]);
        let send: Option<SendId> = match (mailing, contact) {
            (Some(m), Some(k)) => self
                .c
                .prepare_cached("SELECT id FROM send WHERE mailing_id = ?1 AND contact_id = ?2 AND handed_at IS NOT NULL")?
                .query_row([m, k.0], |r| r.get(0).map(SendId))
                .optional()?,
            _ => None,
        };
        if steps {
            if self.sent.as_ref().is_some_and(|s| s.len() >= TELLS_APART) {
                (self.sent, self.found.unchecked) = (None, true);
            }
            if let Some(sent) = &mut self.sent {
                sent.insert(message);
            }
        } else if send.is_none() && self.sent.as_ref().is_some_and(|s| !s.contains(&message)) {
            self.refuse(row, "no log says that this mailing was sent to this address; bring the one that does first".into());
            return Ok(());
        }
        let known = match send {
            Some(send) => self.known(send, e)?,
            None => false,
        };
        self.count(known);
        Ok(())
    }

    /// Is an event of a message there already?
    fn known(&self, send: SendId, e: &Event) -> Result<bool> {
        let kind = match e.kind {
            Kind::Opened => response_kinds::OPEN,
            Kind::Clicked => response_kinds::CLICK,
            Kind::Replied => response_kinds::REPLY,
            Kind::Left => response_kinds::UNSUBSCRIBE,
            Kind::Complained => response_kinds::COMPLAINT,
            _ => {
                let step = match e.kind {
                    Kind::Accepted => [Step::Accepted; 2],
                    Kind::Deferred => [Step::Deferred; 2],
                    Kind::Bounced => [Step::Bounced; 2],
                    _ => [Step::Sent, Step::Taken],
                };
                let mut s = self.c.prepare_cached("SELECT 1 FROM log_step WHERE send_id = ?1 AND step IN (?2, ?3) AND at = ?4")?;
                return Ok(s.exists(params![send.0, step[0].code(), step[1].code(), e.at.millis()])?);
            }
        };
        Ok(self.c.prepare_cached("SELECT 1 FROM response WHERE send_id = ?1 AND kind = ?2 AND at = ?3")?.exists(params![
            send.0,
            kind,
            e.at.millis()
        ])?)
    }
}

/// The mailings of a file that names none, by its subjects and hours. One that is there already, of the same subject at about the same time, keeps
/// its key: the next part of a log goes on with it.
fn proposals(c: &Connection, store: &Store, file: &LogFile) -> Result<Vec<Proposal>> {
    let Mapping::Events(columns) = &file.mapping else { return Ok(Vec::new()) };
    if !columns.contains(&Some(EventColumn::Subject)) {
        return Ok(Vec::new());
    }
    let (times, mut gathering) = (file.times(), Gathering::default());
    let (mut records, mut record) = (file.rows(store, 0)?, csv::StringRecord::new());
    while records.read_record(&mut record)? {
        if let Ok(e) = history::event(&record.iter().collect::<Vec<_>>(), columns, &times) {
            gathering.see(&e);
        }
    }
    if gathering.is_full() {
        return Err(StoreError::Refused(format!(
            "Its subjects and hours come to over {MOST} mailings. Say which column holds the mailing’s key or name."
        )));
    }
    let mut found = gathering.proposals();
    for p in &mut found {
        if let Some(key) = outside::near(c, &p.subject, p.from - APART, p.until + APART)? {
            p.key = key;
        }
    }
    Ok(found)
}

fn look(c: &Connection, store: &Store, file: &LogFile, step: &mut impl FnMut(i64)) -> Result<(Found, Vec<Proposal>, Vec<(i64, String)>)> {
    let proposals = proposals(c, store, file)?;
    let named = file.names(&proposals);
    let mut l = Look {
        c,
        file,
        found: Found::default(),
        refused: Vec::new(),
        tombstones: Tombstones::load(c)?,
        people: HashSet::new(),
        missing: HashSet::new(),
        mailings: HashMap::new(),
        unknown: HashMap::new(),
        proposed: proposals.iter().filter(|_| file.by_subject).map(|p| p.key.clone()).collect(),
        sent: Some(HashSet::new()),
    };
    let times = file.times();
    let mut done = 0;
    for steps in [true, false] {
        let (mut records, mut record, mut row) = (file.rows(store, 0)?, csv::StringRecord::new(), 0);
        while records.read_record(&mut record)? {
            (row, done) = (row + 1, done + 1);
            if done % 10_000 == 0 {
                step(done);
            }
            let cells: Vec<&str> = record.iter().collect();
            match &file.mapping {
                Mapping::Events(columns) => match history::event(&cells, columns, &times) {
                    Ok(mut e) => {
                        named.name(&mut e);
                        l.event(row, &e, steps)?;
                    }
                    Err(why) if steps => l.refuse(row, why),
                    Err(_) => {}
                },
                Mapping::Mailings(columns) if steps => match history::mailing(&cells, columns, &times) {
                    Ok(m) => {
                        let at = m.sent_at.millis();
                        (l.found.first_at, l.found.last_at) =
                            (Some(l.found.first_at.map_or(at, |f| f.min(at))), Some(l.found.last_at.map_or(at, |f| f.max(at))));
                        let known = outside::by_key(c, &m.key)?.is_some();
                        l.count(known);
                    }
                    Err(why) => l.refuse(row, why),
                },
                Mapping::Mailings(_) => {}
            }
        }
    }
    let mut found = l.found;
    found.people = i64::try_from(l.people.len()).unwrap_or(i64::MAX);
    found.missing_people = i64::try_from(l.missing.len()).unwrap_or(i64::MAX);
    let mut unknown: Vec<Unknown> = l.unknown.into_iter().map(|(key, (rows, first_at))| Unknown { key, rows, first_at }).collect();
    unknown.sort_by(|a, b| b.rows.cmp(&a.rows).then_with(|| a.key.cmp(&b.key)));
    unknown.truncate(TOLD);
    found.unknown_mailings = unknown;
    found.proposed_in_all = proposals.len();
    found.proposed = proposals.iter().take(TOLD).cloned().collect();
    Ok((found, proposals, l.refused))
}

/// Looks through a file without changing anything: what would become of each row, and why rows would be refused.
///
/// # Errors
/// When it was applied already, or can't be read.
pub async fn check(store: &Store, id: i64, mut step: impl FnMut(i64) + Send + 'static) -> Result<LogFile> {
    let file = store.read(move |c| one(c, id)).await?;
    if !file.state.can_be_changed() {
        return Err(StoreError::Refused("This file was applied already.".into()));
    }
    let s = store.clone();
    let (found, proposed, refused) =
        tokio::task::spawn_blocking(move || s.read_now(|c| look(c, &s, &file, &mut step))).await.map_err(|_| StoreError::Stopped)??;
    store
        .write(move |c| {
            c.execute("DELETE FROM log_refused WHERE log_id = ?1", [id])?;
            for (row, why) in &refused {
                c.prepare_cached("INSERT INTO log_refused VALUES (?1, ?2, ?3)")?.execute(params![id, row, why])?;
            }
            c.execute(
                formatcp!(
                    "UPDATE log_file SET state = {FILE_CHECKED}, found = ?2, proposed = ?3 WHERE id = ?1 AND state IN ({FILE_CHANGEABLE})"
                ),
                params![id, serde_json::to_string(&found)?, serde_json::to_string(&proposed)?],
            )?;
            one(c, id)
        })
        .await
}
