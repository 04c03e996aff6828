//! Messages put together by what they have in common, from the sums that are kept as things happen: no send is walked.

use crate::figures::{self, Sums};
use crate::stored::As;
use crate::{Result, StoreError};
use rinse_core::DAY;
use rinse_core::channel::Channel;
use rinse_core::figure::Figure;
use rinse_core::findings::best::Part;
use rinse_core::findings::{By, Clock};
use rinse_core::id::{LetterheadId, ListId, MailingId, SegmentId, SeriesId};
use rinse_core::stats::Arm;
use rusqlite::types::Value;
use rusqlite::{Connection, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use utoipa::{IntoParams, ToSchema};

/// Which messages. Whatever is absent leaves nothing out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, IntoParams, ToSchema)]
#[schema(as = FindingsFilter)]
#[into_params(parameter_in = Query)]
pub struct Filter {
    /// Handed over in the last so many days …
    pub days: Option<i64>,
    /// … or from an instant on, and before one.
    pub from: Option<i64>,
    pub to: Option<i64>,
    pub mailing: Option<MailingId>,
    pub topic: Option<i64>,
    pub letterhead: Option<LetterheadId>,
    pub label: Option<i64>,
    /// 1 marketing, 2 service.
    pub class: Option<i64>,
    /// 1 email, 2 text messages.
    pub channel: Option<i64>,
    pub list: Option<ListId>,
    pub segment: Option<SegmentId>,
    pub series: Option<SeriesId>,
    /// 0: all domains of few people.
    pub domain: Option<i64>,
    pub country: Option<String>,
    pub source: Option<String>,
    /// A cell of mail load, as `5 × mail + answer`; -1: not known then.
    pub load: Option<i64>,
}

impl Filter {
    /// The same with the period as instants, whole hours by UTC.
    #[must_use]
    pub fn at(mut self, now: i64) -> Self {
        if let Some(days) = self.days.take() {
            self.from = Some(now.div_euclid(DAY) * DAY - days.clamp(1, 36_500) * DAY);
        }
        self
    }

    fn is_of_places(&self) -> bool {
        self.domain.is_some() || self.country.is_some() || self.source.is_some()
    }

    /// The days of its period, by UTC.
    pub(super) fn days(&self) -> (i64, i64) {
        let day = |at: Option<i64>, or: i64| at.map_or(or, |at| at.div_euclid(DAY));
        (day(self.from, i64::MIN), day(self.to, i64::MAX))
    }

    /// Its conditions on mailings, in SQL over `mailing m`, each with an AND before it; what it says of recipients is left aside.
    pub(super) fn of_mailings(&self) -> (String, Vec<Value>) {
        let of_mailings = Self { from: None, to: None, domain: None, country: None, source: None, load: None, ..self.clone() };
        let (conditions, values) = of_mailings.conditions();
        (conditions.into_iter().map(|c| format!(" AND {c}")).collect(), values)
    }

    /// Its conditions, in SQL over `mailing m`, `figure_cell f` and `place p`, and what they ask for.
    fn conditions(&self) -> (Vec<&'static str>, Vec<Value>) {
        let number = |sql: &'static str, of: Option<i64>| of.map(|n| (sql, Value::Integer(n)));
        let text = |sql: &'static str, of: &Option<String>| of.clone().map(|t| (sql, Value::Text(t)));
        [
            number("f.hour >= ? / 3600000", self.from),
            number("f.hour < ? / 3600000", self.to),
            number("m.id = ?", self.mailing.map(|id| id.0)),
            number("coalesce(m.topic_id, 0) = ?", self.topic),
            number("m.letterhead_id = ?", self.letterhead.map(|id| id.0)),
            number("m.id IN (SELECT mailing_id FROM labelled WHERE label_id = ?)", self.label),
            number("m.class = ?", self.class),
            number("m.channel = ?", self.channel),
            number("m.id IN (SELECT mailing_id FROM went_to WHERE kind = 'list' AND ref = ?)", self.list.map(|id| id.0)),
            number("m.id IN (SELECT mailing_id FROM went_to WHERE kind = 'segment' AND ref = ?)", self.segment.map(|id| id.0)),
            number("coalesce(m.series_id, 0) = ?", self.series.map(|id| id.0)),
            number("p.domain_id = ?", self.domain),
            text("p.country = ?", &self.country),
            text("p.source = ?", &self.source),
            number("f.load = ?", self.load),
        ]
        .into_iter()
        .flatten()
        .unzip()
    }
}

/// The lists and segments that mailings went to.
pub(super) const WENT_TO: &str = "WITH went_to(mailing_id, kind, ref) AS (
    SELECT id, 'list', list_id FROM mailing WHERE list_id IS NOT NULL UNION SELECT id, 'segment', segment_id FROM mailing WHERE segment_id IS NOT NULL
    UNION SELECT mailing_id, kind, ref FROM audience_part WHERE side = 'also')";

/// What mailings sent in a period, from and to a day.
pub(super) const IN_PERIOD: &str =
    "f AS (SELECT mailing_id, sum(sent) AS sent, sum(delivered) AS delivered FROM mailing_figure WHERE day >= ? AND day < ?
    GROUP BY mailing_id HAVING sum(sent) > 0)";

/// What puts a message in its group, in SQL, and what has to be joined for it.
pub(super) fn group(by: By, clock: Clock, alias: char) -> (String, String) {
    let t = match clock {
        Clock::Recipients => "f.local_hour",
        Clock::Utc => "f.hour",
    };
    let went_to = |kind: &str| {
        (
            format!("coalesce({alias}.ref, 0)"),
            format!(" LEFT JOIN went_to {alias} ON {alias}.mailing_id = m.id AND {alias}.kind = '{kind}'"),
        )
    };
    let plain = match by {
        By::Mailing => "f.mailing_id".to_owned(),
        By::Day => format!("{t} / 24"),
        // 1970-01-01 was a Thursday.
        By::Week => format!("({t} / 24 + 3) / 7"),
        By::Month => format!("strftime('%Y-%m', {t} * 3600, 'unixepoch')"),
        By::Weekday => format!("({t} / 24 + 3) % 7"),
        By::PartOfDay => format!("{t} % 24 / 6"),
        By::Hour => format!("{t} % 24"),
        By::Topic => "coalesce(m.topic_id, 0)".into(),
        By::Letterhead => "m.letterhead_id".into(),
        By::Class => "m.class".into(),
        By::Channel => "m.channel".into(),
        By::Series => "coalesce(m.series_id, 0)".into(),
        By::Step => "iif(m.series_id IS NULL, 0, m.id)".into(),
        By::Load => "f.load".into(),
        By::Arm => "iif(EXISTS (SELECT 1 FROM trial WHERE mailing_id = m.id), f.arm, -1)".into(),
        By::Domain => "p.domain_id".into(),
        By::Country => "p.country".into(),
        By::Source => "p.source".into(),
        By::List => return went_to("list"),
        By::Segment => return went_to("segment"),
        By::Label => {
            return (format!("coalesce({alias}.label_id, 0)"), format!(" LEFT JOIN labelled {alias} ON {alias}.mailing_id = m.id"));
        }
    };
    (plain, String::new())
}

/// The part of a mailing in a group.
#[derive(Debug, Clone)]
pub struct Piece {
    pub key: String,
    /// In the second grouping, where there is one.
    pub across: String,
    pub mailing: MailingId,
    pub channel: Channel,
    /// The day it began, by the clock that was asked for.
    pub day: i64,
    pub sums: Sums,
}

/// A group's key, as text.
pub(super) fn key(v: Value) -> String {
    match v {
        Value::Integer(n) => n.to_string(),
        Value::Text(t) => t,
        _ => String::new(),
    }
}

/// The parts of mailings in each group, or in each pair of groups, with all their figures. A mailing with two labels is in the groups of both.
///
/// # Errors
/// When the database fails.
pub fn pieces(c: &Connection, by: By, across: Option<By>, clock: Clock, filter: &Filter) -> Result<Vec<Piece>> {
    pieces_of(c, (by, across), clock, filter, &Figure::ALL)
}

/// The same with some of their figures.
///
/// # Errors
/// When the database fails.
pub fn pieces_of(c: &Connection, (by, across): (By, Option<By>), clock: Clock, filter: &Filter, figures: &[Figure]) -> Result<Vec<Piece>> {
    let (a, join_a) = group(by, clock, 'x');
    let (b, join_b) = across.map_or_else(|| ("''".to_owned(), String::new()), |b| group(b, clock, 'y'));
    let (conditions, values) = filter.conditions();
    let conditions: String = conditions.into_iter().map(|c| format!(" AND {c}")).collect();
    let t = if clock == Clock::Utc { "f.hour" } else { "f.local_hour" };
    // Only what asks where messages went needs the many cells of that.
    let asked = [Some(by), across];
    let of_places = filter.is_of_places() || asked.into_iter().flatten().any(By::of_place);
    if of_places && (filter.load.is_some() || asked.contains(&Some(By::Load))) {
        return Err(StoreError::Refused(
            "Mail load can’t be told together with mailbox domain, country or source: their sums are kept apart. Ask for one of them, and take the other’s filter away.".into(),
        ));
    }
    let cells = if of_places {
        "figure_cell f ON f.mailing_id = m.id JOIN place p ON p.id = f.place_id"
    } else {
        "figure_hour f ON f.mailing_id = m.id"
    };
    let mut s = c.prepare_cached(&format!(
        "{WENT_TO} SELECT {a}, {b}, m.id, m.channel, min({t}) / 24, {sums} FROM mailing m JOIN {cells}{join_a}{join_b}
         WHERE f.sent > 0{conditions} GROUP BY 1, 2, 3",
        sums = figures::added_up_of(figures)
    ))?;
    let rows = s.query_map(params_from_iter(values), |r| {
        Ok(Piece {
            key: key(r.get(0)?),
            across: key(r.get(1)?),
            mailing: MailingId(r.get(2)?),
            channel: r.get::<_, As<Channel>>(3)?.0,
            day: r.get(4)?,
            sums: figures::sums(r, 5)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A group, or all of them together.
#[derive(Debug, Clone, Default)]
pub struct Group {
    pub key: String,
    all: Sums,
    email: Sums,
    pub pieces: Vec<(MailingId, Channel, Sums)>,
    days: BTreeSet<i64>,
}

impl Group {
    fn put(&mut self, piece: &Piece) {
        self.all.add(&piece.sums);
        if piece.channel == Channel::Email {
            self.email.add(&piece.sums);
        }
        self.days.insert(piece.day);
        match self.pieces.last_mut() {
            Some((mailing, _, sums)) if *mailing == piece.mailing => sums.add(&piece.sums),
            _ => self.pieces.push((piece.mailing, piece.channel, piece.sums.clone())),
        }
    }

    /// Its sums as far as a figure can be known of them.
    #[must_use]
    pub fn sums_for(&self, figure: Figure) -> &Sums {
        if figure.definition().email_only { &self.email } else { &self.all }
    }

    /// A figure of each of its mailings of which it can be known.
    #[must_use]
    pub fn part(&self, figure: Figure) -> Part {
        let known = self.pieces.iter().filter(|p| figure.can_be_known(p.1));
        let mailings: BTreeMap<MailingId, Arm> = known.map(|(mailing, _, sums)| (*mailing, sums.arm(figure))).collect();
        Part { mailings, days: self.days.len() }
    }

    #[must_use]
    pub fn mailings(&self) -> usize {
        self.pieces.len()
    }

    #[must_use]
    pub fn days(&self) -> usize {
        self.days.len()
    }
}

/// Pieces put together by their keys, in the order of the keys; pieces of one mailing must stand together within a key.
#[must_use]
pub fn together(pieces: &[Piece]) -> Vec<Group> {
    let mut out: BTreeMap<&str, Group> = BTreeMap::new();
    let mut sorted: Vec<&Piece> = pieces.iter().collect();
    sorted.sort_by_key(|p| p.mailing);
    for p in sorted {
        out.entry(&p.key).or_insert_with(|| Group { key: p.key.clone(), ..Group::default() }).put(p);
    }
    out.into_values().collect()
}

/// The names of groups that are told by a number.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection, by: By) -> Result<HashMap<String, String>> {
    let sql = match by {
        By::Mailing => "SELECT id, name FROM mailing",
        By::Topic => "SELECT id, name FROM topic UNION ALL SELECT 0, 'no topic'",
        By::Letterhead => "SELECT id, name FROM letterhead",
        By::Label => "SELECT id, name FROM label UNION ALL SELECT 0, 'no label'",
        By::List => "SELECT id, name FROM list UNION ALL SELECT 0, 'no list'",
        By::Segment => "SELECT id, name FROM segment UNION ALL SELECT 0, 'no segment'",
        By::Series => "SELECT id, name FROM series UNION ALL SELECT 0, 'no series'",
        By::Step => {
            "SELECT m.id, s.name || ': ' || m.name FROM mailing m JOIN series s ON s.id = m.series_id UNION ALL SELECT 0, 'no series'"
        }
        By::Domain => {
            "SELECT id, name FROM domain WHERE id IN (SELECT domain_id FROM place) UNION ALL SELECT 0, 'domains of fewer than 20 people'"
        }
        _ => return Ok(HashMap::new()),
    };
    let mut s = c.prepare_cached(sql)?;
    Ok(s.query_map([], |r| Ok((r.get::<_, i64>(0)?.to_string(), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// A mailing as the norm looks at it.
#[derive(Debug, Clone)]
pub struct Sent {
    pub id: MailingId,
    pub name: String,
    pub started_at: i64,
    pub topic: Option<i64>,
    pub letterhead: LetterheadId,
    pub channel: Channel,
    pub sums: Sums,
}

/// All mailings that went out, in the order in which they began; a series' messages have no beginning and are none of them.
///
/// # Errors
/// When the database fails.
pub fn sent(c: &Connection) -> Result<Vec<Sent>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT m.id, m.name, m.started_at, m.topic_id, m.letterhead_id, m.channel, {} FROM mailing m JOIN mailing_figure f ON f.mailing_id = m.id
         WHERE m.started_at IS NOT NULL AND m.series_id IS NULL GROUP BY m.id HAVING sum(f.sent) > 0 ORDER BY m.started_at, m.id",
        figures::added_up()
    ))?;
    let rows = s.query_map([], |r| {
        Ok(Sent {
            id: MailingId(r.get(0)?),
            name: r.get(1)?,
            started_at: r.get(2)?,
            topic: r.get(3)?,
            letterhead: LetterheadId(r.get(4)?),
            channel: r.get::<_, As<Channel>>(5)?.0,
            sums: figures::sums(r, 6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
