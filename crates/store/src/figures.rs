//! The figures of mailings, by the catalogue in `rinse_core::figure`: sums that triggers keep as sends change, and the rows behind
//! them. Both are written from the catalogue; when it changes, the sums are counted again as the file is opened.

use crate::{Result, StoreError};
use rinse_core::bounce::{Category, FailureClass};
use rinse_core::figure::{Fact, Figure, Literal};
use rinse_core::report::Rate;
use rinse_core::response::Machine;
use rusqlite::{Connection, OptionalExtension, params};
use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;

/// The days on which a report of failure may still come (RULES of bounces: 5 days).
pub const TOO_NEW_DAYS: i64 = 5;

/// What a row of `send` says of a fact.
enum Told {
    /// It came at the instant in the column, when there is one.
    At(&'static str),
    /// It failed, and in this way.
    By(FailureClass),
    OpensUnknown,
    /// The column names the rule.
    Ruled(&'static str, Machine),
}

fn told(fact: Fact) -> Told {
    match fact {
        Fact::HandedOver => Told::At("handed_at"),
        Fact::Accepted => Told::At("accepted_at"),
        Fact::Failed => Told::At("failed_at"),
        Fact::Permanent => Told::By(FailureClass::Permanent),
        Fact::Temporary => Told::By(FailureClass::Temporary),
        Fact::Block => Told::By(FailureClass::Block),
        Fact::OpensUnknown => Told::OpensUnknown,
        Fact::HumanOpen => Told::At("open_at"),
        Fact::HumanClick => Told::At("click_at"),
        Fact::Reply => Told::At("reply_at"),
        Fact::Left => Told::At("left_at"),
        Fact::LeftTopic => Told::At("topic_left_at"),
        Fact::LeftSeries => Told::At("series_left_at"),
        Fact::Paused => Told::At("paused_at"),
        Fact::Withdrew => Told::At("withdrew_at"),
        Fact::Complained => Told::At("complained_at"),
        Fact::ReportedOpen => Told::At("any_open_at"),
        Fact::ReportedClick => Told::At("any_click_at"),
        Fact::OpenTooSoon => Told::Ruled("open_rule", Machine::TooSoon),
        Fact::OpenByAgent => Told::Ruled("open_rule", Machine::ProxyAgent),
        Fact::OpenByNetwork => Told::Ruled("open_rule", Machine::ProxyNetwork),
        Fact::OpenByDomain => Told::Ruled("open_rule", Machine::FetchingDomain),
        Fact::OpenByHead => Told::Ruled("open_rule", Machine::HeadRequest),
        Fact::ClickTooSoon => Told::Ruled("click_rule", Machine::TooSoon),
        Fact::ClickByAgent => Told::Ruled("click_rule", Machine::ProxyAgent),
        Fact::ClickByNetwork => Told::Ruled("click_rule", Machine::ProxyNetwork),
        Fact::ManyClicks => Told::Ruled("click_rule", Machine::ManyLinks),
        Fact::ClickByHead => Told::Ruled("click_rule", Machine::HeadRequest),
    }
}

fn instant(fact: Fact) -> Option<&'static str> {
    if let Told::At(column) = told(fact) { Some(column) } else { None }
}

fn of_class(class: FailureClass) -> String {
    let codes: Vec<String> = Category::ALL.into_iter().filter(|c| c.class() == class).map(|c| (c as i64).to_string()).collect();
    codes.join(", ")
}

/// What holds of a row of `send`, in SQL; `of`: the row's name there. Never null.
fn holds(l: Literal, of: &str) -> String {
    let not = |holds: bool| if holds { "NOT " } else { "" };
    match told(l.fact) {
        Told::At(column) => format!("{of}.{column} IS {}NULL", not(l.holds)),
        Told::By(class) => format!("coalesce({of}.category, 0) {}IN ({})", not(!l.holds), of_class(class)),
        Told::OpensUnknown => format!("{of}.opens_unknown = {}", u8::from(l.holds)),
        Told::Ruled(column, rule) => format!("coalesce({of}.{column}, 0) {} {}", if l.holds { "=" } else { "<>" }, rule as i64),
    }
}

/// Whether a row of `send` is counted, in SQL; `of`: the row's name there.
#[must_use]
pub fn counted(figure: Figure, of: &str) -> String {
    let all: Vec<String> = figure.condition().into_iter().map(|l| holds(l, of)).collect();
    format!("({})", all.join(" AND "))
}

/// The columns of `send` that figures look at.
fn columns() -> Vec<&'static str> {
    Fact::ALL.into_iter().filter_map(instant).collect()
}

/// The sums and what keeps them, in SQL.
///
/// A send comes without any of these instants, so nothing has to happen then: a trigger on INSERT would have SQLite keep a copy of
/// every page it touches, for each row. For the same reason the triggers can't fail: the columns may be null, and a row that is there
/// already is no error.
fn kept_by() -> String {
    let each = |f: &dyn Fn(Figure) -> String, between: &str| Figure::ALL.map(f).join(between);
    let mut sql = format!(
        "CREATE TABLE mailing_figure (mailing_id INTEGER, day INTEGER, class INTEGER, {}, UNIQUE (mailing_id, day, class));
         CREATE INDEX mailing_figure_day ON mailing_figure (day);\n",
        each(&|f| format!("{} INTEGER DEFAULT 0", f.key()), ", ")
    );
    let came: Vec<String> = columns().iter().map(|c| format!("(new.{c} IS NULL) <> (old.{c} IS NULL)")).collect();
    let row = |of: &str| format!("mailing_id = {of}.mailing_id AND day = {of}.at / 86400000 AND class = {of}.class");
    let there = "INSERT OR IGNORE INTO mailing_figure (mailing_id, day, class) VALUES (new.mailing_id, new.at / 86400000, new.class);";
    let _ = write!(
        sql,
        "-- Only a value that comes or goes changes a count.
         CREATE TRIGGER send_figures AFTER UPDATE OF {columns}, category, opens_unknown, open_rule, click_rule ON send
         WHEN new.at / 86400000 = old.at / 86400000 AND new.class = old.class AND ({came} OR new.category IS NOT old.category OR new.opens_unknown <> old.opens_unknown
            OR new.open_rule IS NOT old.open_rule OR new.click_rule IS NOT old.click_rule)
         BEGIN {there} UPDATE mailing_figure SET {changes} WHERE {row}; END;\n",
        columns = columns().join(", "),
        came = came.join(" OR "),
        changes = each(&|f| format!("{key} = {key} + {} - {}", counted(f, "new"), counted(f, "old"), key = f.key()), ", "),
        row = row("new"),
    );
    let _ = write!(
        sql,
        "-- A retry on another day, or another class: the whole send goes from one sum to another.
         CREATE TRIGGER send_figures_moved AFTER UPDATE OF at, class ON send
         WHEN (new.at / 86400000 <> old.at / 86400000 OR new.class <> old.class) AND coalesce(old.handed_at, new.handed_at) IS NOT NULL
         BEGIN UPDATE mailing_figure SET {goes} WHERE {old}; {there} UPDATE mailing_figure SET {comes} WHERE {new}; END;\n",
        goes = each(&|f| format!("{key} = {key} - {}", counted(f, "old"), key = f.key()), ", "),
        comes = each(&|f| format!("{key} = {key} + {}", counted(f, "new"), key = f.key()), ", "),
        old = row("old"),
        new = row("new"),
    );
    sql
}

/// The sums counted from the sends, in SQL: mailing, day, class, and each figure.
#[must_use]
pub fn counted_again() -> String {
    let sums = Figure::ALL.map(|f| format!("sum({}) AS {}", counted(f, "s"), f.key()));
    format!("SELECT s.mailing_id, s.at / 86400000, s.class, {} FROM send s WHERE s.handed_at IS NOT NULL GROUP BY 1, 2, 3", sums.join(", "))
}

/// Counts all sums again.
///
/// # Errors
/// When the database fails.
pub fn count_again(c: &Connection) -> Result<()> {
    c.execute("DELETE FROM mailing_figure", [])?;
    c.execute(&format!("INSERT INTO mailing_figure {}", counted_again()), [])?;
    Ok(())
}

/// Sees to it that the sums are those of the catalogue: of a file that an earlier catalogue kept they are counted again.
///
/// # Errors
/// When the database fails.
pub(crate) fn keep(c: &Connection) -> Result<()> {
    let text = kept_by();
    let was: Option<String> = c.query_row("SELECT made_by FROM kept_sums WHERE name = 'mailing_figure'", [], |r| r.get(0)).optional()?;
    if was.as_deref() == Some(text.as_str()) {
        return Ok(());
    }
    let work = c.unchecked_transaction()?;
    work.execute_batch(
        "DROP TRIGGER IF EXISTS send_figures; DROP TRIGGER IF EXISTS send_figures_moved; DROP TABLE IF EXISTS mailing_figure;",
    )?;
    work.execute_batch(&text)?;
    count_again(&work)?;
    work.execute("INSERT INTO kept_sums VALUES ('mailing_figure', ?1) ON CONFLICT (name) DO UPDATE SET made_by = ?1", [text])?;
    Ok(work.commit()?)
}

/// What one mailing adds up to, figure by figure.
#[derive(Debug, Clone, Default)]
pub struct Sums(BTreeMap<Figure, u64>);

impl Sums {
    #[must_use]
    pub fn of(&self, figure: Figure) -> u64 {
        self.0.get(&figure).copied().unwrap_or(0)
    }

    /// A figure over what it is of.
    #[must_use]
    pub fn rate(&self, figure: Figure) -> Rate {
        Rate::new(self.of(figure), figure.of().map_or_else(|| self.of(figure), |of| self.of(of)))
    }
}

/// The columns of the sums, added up, for a query over `mailing_figure`.
pub(crate) fn added_up() -> String {
    Figure::ALL.map(|f| format!("coalesce(sum({}), 0)", f.key())).join(", ")
}

/// Reads them, from column `from` on.
pub(crate) fn sums(r: &rusqlite::Row<'_>, from: usize) -> rusqlite::Result<Sums> {
    let one = |(f, i): (Figure, usize)| Ok((f, r.get::<_, i64>(from + i)?.unsigned_abs()));
    Figure::ALL.into_iter().zip(0..).map(one).collect::<rusqlite::Result<_>>().map(Sums)
}

/// What each of some mailings adds up to; of a mailing that isn't there nothing was sent.
///
/// # Errors
/// When the database fails.
pub fn of_mailings(c: &Connection, mailings: &[i64]) -> Result<HashMap<i64, Sums>> {
    let mut s = c.prepare_cached(&format!("SELECT {} FROM mailing_figure WHERE mailing_id = ?1", added_up()))?;
    mailings.iter().map(|m| Ok((*m, s.query_row([m], |r| sums(r, 0))?))).collect()
}

/// The source rows of a figure: sends of a mailing that are counted, as (address, arm, instant).
///
/// # Errors
/// An unknown figure, or when the database fails.
pub fn rows(c: &Connection, mailing: i64, figure: &str) -> Result<Vec<(String, i64, i64)>> {
    let figure = Figure::parse(figure).ok_or(StoreError::Missing("figure"))?;
    // Dated by what a counted message came to last.
    let at = figure.condition().into_iter().rev().filter(|l| l.holds).find_map(|l| instant(l.fact)).unwrap_or("handed_at");
    let mut s = c.prepare(&format!(
        "SELECT c.address, s.arm, s.{at} FROM send s JOIN contact c ON c.id = s.contact_id WHERE s.mailing_id = ?1 AND {} ORDER BY s.{at}, s.id",
        counted(figure, "s")
    ))?;
    Ok(s.query_map(params![mailing], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}
