//! What would become of a row: new, changed, unchanged or refused; and the dry run over all of them.

use super::row::{self, Row};
use super::{FileFindings, Fixes, Run, findings_path, path, refused_path, run, sample};
use crate::base_check::{self, Hosts};
use crate::codes::{FILE_CHANGEABLE, FILE_CHECKED};
use crate::contacts;
use crate::departed::Departed;
use crate::fields;
use crate::ledger::{self, Grant};
use crate::letterheads;
use crate::numbers;
use crate::tags::{self, Kind};
use crate::tombstones::{Tombstones, WAS_DELETED};
use crate::{Result, Store, StoreError, tables};
use const_format::formatcp;
use rinse_core::address::Address;
use rinse_core::base_check::{Finding, Frequent, Rules, findings, mailbox};
use rinse_core::consent::{Consent, import_may_raise};
use rinse_core::id::{ContactId, ListId};
use rinse_core::table::{self, Field};
use rusqlite::{Connection, params};
use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::Path;

pub(super) enum Fate {
    New,
    /// Somebody who is here, with the consent they have.
    Changed(ContactId),
    Unchanged,
    Refused(String),
    /// Refused: who has this keyed hash was deleted here.
    CameBack([u8; 32]),
}

impl Fate {
    /// Why a row isn't taken.
    pub(super) fn refusal(self) -> Option<String> {
        match self {
            Self::New | Self::Changed(_) | Self::Unchanged => None,
            Self::Refused(why) => Some(why),
            Self::CameBack(_) => Some(WAS_DELETED.into()),
        }
    }
}

pub(super) struct Judged {
    pub fate: Fate,
    pub row: Option<Row>,
    pub findings: Vec<(Finding, String)>,
}

/// The addresses, numbers and mailboxes of the rows before, as hashes: a million take 30 MB.
#[derive(Default)]
pub(super) struct Seen {
    addresses: HashSet<u64>,
    phones: HashSet<u64>,
    /// Numbers of people here to whom an earlier row gives another: somebody else may have them now.
    freed: HashSet<u64>,
    mailboxes: HashSet<u64>,
}

fn hash(parts: &[&str]) -> u64 {
    let mut h = DefaultHasher::new();
    parts.hash(&mut h);
    h.finish()
}

fn mailbox_hash(a: &Address) -> u64 {
    hash(&[mailbox(&a.key), &a.domain])
}

/// What makes a row the same as an earlier one: its address; a score has a row for each of its days.
fn row_hash(row: &Row) -> u64 {
    match &row.score {
        Some(s) => hash(&[&row.address.key, &s.day.to_string(), &s.source]),
        None => hash(&[&row.address.key]),
    }
}

pub(super) struct Judge {
    pub mapping: Vec<Option<Field>>,
    file: String,
    /// Per column: the custom field that it fills, when there is one already.
    pub fields: Vec<Option<i64>>,
    width: usize,
    pub consent: bool,
    /// The rows come with consent to text messages.
    pub texts: bool,
    home: Option<String>,
    /// The legal entity that consent is given to; empty: the first.
    pub entity: String,
    pub list: Option<ListId>,
    pub tag: Option<i64>,
    /// The field that a file of scores fills.
    pub score: Option<i64>,
    scores: bool,
    fixes: Fixes,
    /// The tags that fixes put people in, when they are there already.
    tags: HashMap<Finding, i64>,
    rules: Rules,
    tombstones: Tombstones,
    departed: Departed,
    /// Mailboxes of people whose address has a detail after a plus.
    detailed: HashSet<u64>,
}

impl Judge {
    /// Prepares for a run; `rules` are of the base and the file together.
    pub(super) fn new(c: &Connection, r: &Run, file: &Path, rules: Rules) -> Result<Self> {
        let (list, tag) = c.query_row("SELECT list_id, tag_id FROM import_run WHERE id = ?1", [r.id], |x| {
            Ok((x.get::<_, Option<i64>>(0)?.map(ListId), x.get(1)?))
        })?;
        let width = sample(file, r.delimiter.as_bytes()[0])?.first().map_or(0, Vec::len);
        let there = fields::names(c)?;
        let field_of = |name: &str, kind| match there.iter().find(|f| f.name.to_lowercase() == name.trim().to_lowercase()) {
            Some(f) if f.kind == kind => Ok(Some(f.id)),
            Some(f) => Err(StoreError::Refused(format!(
                "There is a field “{}” that holds another kind of value. Map the column to that field.",
                f.name
            ))),
            None => Ok(None),
        };
        let fields = r
            .mapping
            .iter()
            .map(|m| if let Some(Field::Own { name, kind }) = m { field_of(name, *kind) } else { Ok(None) })
            .collect::<Result<_>>()?;
        let score = r.score().map(|name| field_of(name, rinse_core::segment::FieldKind::Number)).transpose()?.flatten();
        let mut tags = HashMap::new();
        for named in tags::names(c, Kind::Tag)? {
            for f in Finding::ALL.into_iter().filter(|f| f.tag().is_some_and(|t| t.eq_ignore_ascii_case(&named.name))) {
                tags.insert(f, named.id);
            }
        }
        let mut s = c.prepare("SELECT address_key FROM contact WHERE instr(address_key, '+') > 0")?;
        let mut detailed = HashSet::new();
        for key in s.query_map([], |x| x.get::<_, String>(0))? {
            let key = key?;
            detailed.insert(hash(&[mailbox(&key), key.rsplit_once('@').map_or("", |(_, d)| d)]));
        }
        Ok(Self {
            mapping: r.mapping.clone(),
            file: r.file_name.clone(),
            fields,
            width,
            consent: r.consent,
            texts: r.texts,
            home: letterheads::home(c)?,
            entity: r.entity.clone(),
            list,
            tag,
            score,
            scores: r.score().is_some(),
            fixes: r.fixes,
            tags,
            rules,
            tombstones: Tombstones::load(c)?,
            departed: Departed::load(c)?,
            detailed,
        })
    }

    fn layout(&self) -> row::Layout<'_> {
        row::Layout { mapping: &self.mapping, width: self.width, file: &self.file, home: self.home.as_deref() }
    }

    /// Remembers a row that was applied before a restart.
    pub(super) fn remember(&self, seen: &mut Seen, cells: &csv::StringRecord) {
        let cells: Vec<&str> = cells.iter().collect();
        if let Ok(mut row) = row::read(&cells, self.layout()) {
            self.correct(&mut row);
            seen.addresses.insert(row_hash(&row));
            seen.mailboxes.insert(mailbox_hash(&row.address));
            seen.phones.extend(row.phone.as_ref().map(|p| hash(&[p.as_str()])));
        }
    }

    fn correct(&self, row: &mut Row) {
        if !self.fixes.domains {
            return;
        }
        if let Some(meant) = self.rules.near_misses.get(&row.address.domain)
            && let Some((local, _)) = row.address.normal.rsplit_once('@')
            && let Ok(right) = Address::parse(&format!("{local}@{meant}"))
        {
            row.address = right;
            row.corrected = true;
        }
    }

    /// The tags a row's person is put in: the chosen one, and those of fixed findings.
    pub(super) fn tags_for(&self, findings: &[(Finding, String)]) -> Vec<Option<i64>> {
        let fixed = findings.iter().filter(|(f, _)| self.fixes.tags && f.tag().is_some()).map(|(f, _)| self.tags.get(f).copied());
        self.tag.map(Some).into_iter().chain(fixed).collect()
    }

    pub(super) fn judge(&self, c: &Connection, seen: &mut Seen, cells: &csv::StringRecord) -> Result<Judged> {
        let cells: Vec<&str> = cells.iter().collect();
        let refused = |why: String, findings| Ok(Judged { fate: Fate::Refused(why), row: None, findings });
        let mut row = match row::read(&cells, self.layout()) {
            Ok(row) => row,
            Err(why) => return refused(why, vec![]),
        };
        let mut found = findings(&row.address.key, &row.address.domain, &self.rules);
        self.correct(&mut row);
        if !seen.addresses.insert(row_hash(&row)) {
            let what = if row.score.is_some() { "the same address, day and source stand" } else { "the same address stands" };
            return refused(format!("{what} in an earlier row"), found);
        }
        if let Some(hash) = self.tombstones.of(c, &row.address.key)? {
            return Ok(Judged { fate: Fate::CameBack(hash), row: None, findings: found });
        }
        if let Some(phone) = &row.phone {
            if !seen.phones.insert(hash(&[phone.as_str()])) {
                return refused("the same phone number stands in an earlier row".into(), found);
            }
            if self.tombstones.has(c, phone.as_str())? {
                return refused(WAS_DELETED.into(), found);
            }
        }
        let there = contacts::find(c, &row.address.key)?;
        if let Some(phone) = &row.phone
            && !seen.freed.contains(&hash(&[phone.as_str()]))
            && numbers::owner(c, phone.as_str())?.is_some_and(|o| there.as_ref().is_none_or(|t| t.0 != o))
        {
            return refused("the phone number is another person's already".into(), found);
        }
        let same = !seen.mailboxes.insert(mailbox_hash(&row.address));
        if there.is_none() && (same || self.shares_a_mailbox(c, &row.address)?) {
            found.push((Finding::Duplicate, format!("{}@{}", mailbox(&row.address.key), row.address.domain)));
            if self.fixes.duplicates {
                return refused("somebody else has the same mailbox, up to what follows the plus sign".into(), found);
            }
        }
        let Some((id, consent, stored)) = there else {
            if self.scores {
                return refused("nobody here has this address".into(), found);
            }
            // Nobody here has the address, and the journal knows that its owner left.
            if let Some(consent) =
                self.departed.ended(c, &row.address.key, Grant::email(&self.entity))?.filter(|_| self.consent && !row.corrected)
            {
                return refused(no_way_back(consent), found);
            }
            if self.texts && row.phone.is_some() && self.departed.ended(c, &row.address.key, Grant::texts(&self.entity))?.is_some() {
                return refused(ENDED_TEXTS.into(), found);
            }
            return Ok(Judged { fate: Fate::New, row: Some(row), findings: found });
        };
        if let Some(score) = &row.score {
            let known = match self.score {
                Some(field) => fields::scored(c, id, field, score.day, &score.source)? == Some(score.number),
                None => false,
            };
            let fate = if known { Fate::Unchanged } else { Fate::Changed(id) };
            return Ok(Judged { fate, row: Some(row), findings: vec![] });
        }
        let consent = if self.entity.is_empty() { consent } else { ledger::stated_for(c, id, Grant::email(&self.entity))?.consent };
        if self.consent && !row.corrected && !import_may_raise(consent) {
            return refused(no_way_back(consent), found);
        }
        let agrees = self.consent && !row.corrected && matches!(consent, Consent::None | Consent::Invited);
        let number = if row.phone.is_some() { numbers::of(c, id)? } else { None };
        let (new_number, texts) = match &row.phone {
            Some(phone) => (
                number.as_deref() != Some(phone.as_str()),
                Some(ledger::stated_for(c, id, Grant::texts(&self.entity))?.consent).filter(|_| self.texts),
            ),
            None => (false, None),
        };
        if texts.is_some_and(|t| !import_may_raise(t)) {
            return refused(ENDED_TEXTS.into(), found);
        }
        if let Some(number) = number.filter(|_| new_number) {
            seen.freed.insert(hash(&[&number]));
        }
        let changes = contacts::differs(&stored, &row.profile)
            || new_number
            || texts.is_some_and(|t| matches!(t, Consent::None | Consent::Invited))
            || agrees
            || self.list.map_or(Ok(false), |list| missing(c, Kind::List, list.0, id))?
            || self.own_differs(c, id, &row)?
            || self
                .tags_for(&found)
                .into_iter()
                .try_fold(false, |any, tag| Ok::<_, StoreError>(any || tag.map_or(Ok(true), |tag| missing(c, Kind::Tag, tag, id))?))?;
        Ok(Judged { fate: if changes { Fate::Changed(id) } else { Fate::Unchanged }, row: Some(row), findings: found })
    }

    /// Does somebody here have this mailbox under another address?
    fn shares_a_mailbox(&self, c: &Connection, a: &Address) -> Result<bool> {
        let plain = mailbox(&a.key);
        if self.detailed.contains(&mailbox_hash(a)) {
            return Ok(true);
        }
        let is_plain = plain.len() + 1 + a.domain.len() == a.key.len();
        Ok(!is_plain && contacts::id_of(c, &format!("{plain}@{}", a.domain))?.is_some())
    }

    fn own_differs(&self, c: &Connection, contact: ContactId, row: &Row) -> Result<bool> {
        for (column, value) in &row.own {
            let stored = match self.fields.get(*column).copied().flatten() {
                Some(field) => fields::get(c, contact, field)?,
                None => None,
            };
            if stored.as_ref() != Some(value) {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

const ENDED_TEXTS: &str = "this person ended text messages; an import can't bring their consent back";

fn no_way_back(consent: Consent) -> String {
    let what = if consent == Consent::Complained { "complained" } else { "withdrew" };
    format!("this person {what}; an import can't bring their consent back")
}

pub(super) fn missing(c: &Connection, kind: Kind, id: i64, contact: ContactId) -> Result<bool> {
    let sql = match kind {
        Kind::List => "SELECT 1 FROM list_member WHERE list_id = ?1 AND contact_id = ?2",
        Kind::Tag | Kind::Label => "SELECT 1 FROM contact_tag WHERE tag_id = ?1 AND contact_id = ?2",
    };
    Ok(!c.prepare_cached(sql)?.exists([id, contact.0])?)
}

/// The base's rules with the file's own domains counted in: in the first file of an empty base they
/// are all there is.
fn rules_with(c: &Connection, r: &Run, file: &Path, hosts: Hosts<'_>) -> Result<Rules> {
    let mut rules = base_check::rules(c, hosts)?;
    let Some(column) = r.mapping.iter().position(|m| *m == Some(Field::Address)) else { return Ok(rules) };
    let mut counts: HashMap<String, u64> = HashMap::new();
    let mut rows = tables::records(file, r.delimiter.as_bytes()[0])?;
    let mut record = csv::StringRecord::new();
    while rows.read_record(&mut record)? {
        if let Some(a) = record.get(column).and_then(|cell| Address::parse(cell).ok()) {
            *counts.entry(a.domain).or_default() += 1;
        }
    }
    let mut base: HashMap<String, u64> = c
        .prepare_cached("SELECT d.name, count(*) FROM contact k JOIN domain d ON d.id = k.domain_id GROUP BY k.domain_id")?
        .query_map([], |x| Ok((x.get(0)?, x.get::<_, i64>(1)?.unsigned_abs())))?
        .collect::<rusqlite::Result<_>>()?;
    let known: HashSet<String> = base.keys().cloned().collect();
    for (domain, n) in &counts {
        *base.entry(domain.clone()).or_default() += n;
    }
    rules.frequent = Frequent::new(base.iter().map(|(d, n)| (d.clone(), *n)));
    for domain in counts.keys() {
        // A domain of the base that is no near-miss there is right; only new ones are judged here.
        if !known.contains(domain)
            && let Some(meant) = rules.frequent.meant_by(domain, base[domain])
        {
            rules.near_misses.insert(domain.clone(), meant.to_owned());
        }
        if !rules.without_host.contains_key(domain) && hosts(domain) == Some(false) {
            rules.without_host.insert(domain.clone(), "the DNS names no mail host for it".into());
        }
    }
    rules.near_misses.retain(|d, _| counts.contains_key(d));
    rules.without_host.retain(|d, _| counts.contains_key(d));
    Ok(rules)
}

/// The rules that a run was checked under.
pub(super) fn rules_of(c: &Connection, r: &Run) -> Result<Rules> {
    Ok(Rules {
        near_misses: r.findings.domains.clone().into_iter().collect(),
        without_host: r.findings.without_host.clone().into_iter().collect(),
        disposable: base_check::disposable(c)?,
        frequent: Frequent::default(),
    })
}

/// How many rows became what.
#[derive(Default, Clone, Copy)]
pub(super) struct Counts {
    pub new: i64,
    pub changed: i64,
    pub unchanged: i64,
    pub refused: i64,
    /// Of those refused: people who were deleted here.
    pub came_back: i64,
}

impl Counts {
    pub(super) fn count(&mut self, fate: &Fate) {
        match fate {
            Fate::New => self.new += 1,
            Fate::Changed(_) => self.changed += 1,
            Fate::Unchanged => self.unchanged += 1,
            Fate::Refused(_) => self.refused += 1,
            Fate::CameBack(_) => {
                self.refused += 1;
                self.came_back += 1;
            }
        }
    }
}

/// The dry run: counts what applying would do, writes the refused rows with their reasons, and the
/// rows that the base check has something to say of.
///
/// # Errors
/// When the file can't be read.
pub async fn check(
    store: &Store,
    id: i64,
    hosts: impl Fn(&str) -> Option<bool> + Send + Sync + 'static,
    mut progress: impl FnMut(i64) + Send + 'static,
) -> Result<Run> {
    let s = store.clone();
    let (records, n, found) = tokio::task::spawn_blocking(move || -> Result<_> {
        s.read_now(|c| {
            let r = run(c, id)?;
            let file = path(&s, id, "");
            let rules = rules_with(c, &r, &file, &hosts)?;
            let mut found = FileFindings {
                domains: rules.near_misses.clone().into_iter().collect(),
                without_host: rules.without_host.clone().into_iter().collect(),
                ..FileFindings::default()
            };
            let judge = Judge::new(c, &r, &file, rules)?;
            let (mut n, mut records, mut seen) = (Counts::default(), 0, Seen::default());
            let mut refused = csv::WriterBuilder::new().flexible(true).from_path(refused_path(&s, id))?;
            let mut noted = csv::WriterBuilder::new().flexible(true).from_path(findings_path(&s, id))?;
            let mut rows = tables::records(&file, r.delimiter.as_bytes()[0])?;
            let mut record = csv::StringRecord::new();
            if r.header && rows.read_record(&mut record)? {
                refused.write_record(record.iter().map(table::neutral_cell).chain(["reason".to_owned(), "line".to_owned()]))?;
            }
            noted.write_record(["line", "finding", "about", "row"])?;
            while rows.read_record(&mut record)? {
                records += 1;
                let line = record.position().map_or(0, csv::Position::line).saturating_sub(u64::from(r.ndjson));
                let judged = judge.judge(c, &mut seen, &record)?;
                for (finding, about) in &judged.findings {
                    found.count(*finding);
                    let row = record.iter().collect::<Vec<_>>().join(" ");
                    noted.write_record([
                        line.to_string(),
                        finding.code().to_owned(),
                        table::neutral_cell(about),
                        table::neutral_cell(&row),
                    ])?;
                }
                n.count(&judged.fate);
                match judged.fate.refusal() {
                    None => {}
                    Some(why) => {
                        refused.write_record(record.iter().map(table::neutral_cell).chain([why, line.to_string()]))?;
                    }
                }
                if records % 10_000 == 0 {
                    progress(records);
                }
            }
            refused.flush()?;
            noted.flush()?;
            Ok((records, n, serde_json::to_string(&found)?))
        })
    })
    .await
    .map_err(|_| StoreError::Stopped)??;
    store.write(move |c| {
        c.execute(
            formatcp!("UPDATE import_run SET state = {FILE_CHECKED}, records = ?2, new = ?3, changed = ?4, unchanged = ?5, refused = ?6, findings = ?7, came_back = ?8 WHERE id = ?1 AND state IN ({FILE_CHANGEABLE})"),
            params![id, records, n.new, n.changed, n.unchanged, n.refused, found, n.came_back],
        )?;
        run(c, id)
    }).await
}
