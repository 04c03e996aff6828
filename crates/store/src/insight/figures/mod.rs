//! The figures of mailings, by the catalogue in `rinse_core::figure`: what counts in SQL, the sums of it, and the rows behind them. `kept` has
//! the sums kept as sends change; `place` says where a message went.

pub(crate) mod kept;
pub mod place;

pub use kept::{count_again, counted_again, local_hour};

use crate::{Result, StoreError};
use rinse_core::bounce::{Category, FailureClass};
use rinse_core::figure::{Fact, Figure, Literal};
use rinse_core::id::MailingId;
use rinse_core::report::Rate;
use rinse_core::response::Machine;
use rinse_core::stats::Arm;
use rusqlite::{Connection, params};
use std::collections::HashMap;

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

/// The column that says it, and whether only its being there counts.
fn column(fact: Fact) -> (&'static str, bool) {
    match told(fact) {
        Told::At(column) => (column, true),
        Told::By(_) => ("category", false),
        Told::OpensUnknown => ("opens_unknown", false),
        Told::Ruled(column, _) => (column, false),
    }
}

/// The categories of a class as bits. A list would have SQLite make a table of it, in each trigger and for each message.
fn of_class(class: FailureClass) -> i64 {
    Category::ALL.into_iter().filter(|c| c.class() == class).map(|c| 1 << (c as i64)).sum()
}

/// What holds of a row of `send`, in SQL; `of`: the name of the row that has a column's value. Never null.
fn holds<'a>(l: Literal, of: impl Fn(&str) -> &'a str) -> String {
    let not = |holds: bool| if holds { "NOT " } else { "" };
    let of = of(column(l.fact).0);
    match told(l.fact) {
        Told::At(column) => format!("{of}.{column} IS {}NULL", not(l.holds)),
        Told::By(class) => format!("({} >> coalesce({of}.category, 0)) & 1 = {}", of_class(class), u8::from(l.holds)),
        Told::OpensUnknown => format!("{of}.opens_unknown = {}", u8::from(l.holds)),
        Told::Ruled(column, rule) => format!("coalesce({of}.{column}, 0) {} {}", if l.holds { "=" } else { "<>" }, rule as i64),
    }
}

/// Whether a row of `send` is counted, in SQL; `of`: the row's name there.
#[must_use]
pub fn counted(figure: Figure, of: &str) -> String {
    counted_of(figure, |_| of)
}

/// The same of a row that is made of several; `of`: the name of the one that a column's value is taken from.
fn counted_of<'a>(figure: Figure, of: impl Fn(&str) -> &'a str) -> String {
    let all: Vec<String> = figure.condition().into_iter().map(|l| holds(l, &of)).collect();
    format!("({})", all.join(" AND "))
}

/// What messages add up to, figure by figure.
#[derive(Debug, Clone, Default)]
pub struct Sums([u64; Figure::ALL.len()]);

impl Sums {
    #[must_use]
    pub fn of(&self, figure: Figure) -> u64 {
        self.0[figure as usize]
    }

    /// Adds others'.
    pub fn add(&mut self, other: &Self) {
        self.0.iter_mut().zip(other.0).for_each(|(sum, n)| *sum += n);
    }

    /// A figure and what it is of.
    #[must_use]
    pub fn arm(&self, figure: Figure) -> Arm {
        Arm { successes: self.of(figure), trials: figure.of().map_or_else(|| self.of(figure), |of| self.of(of)) }
    }

    /// A figure over what it is of.
    #[must_use]
    pub fn rate(&self, figure: Figure) -> Rate {
        let Arm { successes, trials } = self.arm(figure);
        Rate::new(successes, trials)
    }
}

/// The columns of the sums, added up, for a query over `mailing_figure`.
pub(crate) fn added_up() -> String {
    Figure::ALL.map(|f| format!("coalesce(sum({}), 0)", f.key())).join(", ")
}

/// The same of some figures alone; the others are told as nothing.
pub(crate) fn added_up_of(figures: &[Figure]) -> String {
    Figure::ALL.map(|f| if figures.contains(&f) { format!("coalesce(sum({}), 0)", f.key()) } else { "0".into() }).join(", ")
}

/// Reads them, from column `from` on.
pub(crate) fn sums(r: &rusqlite::Row<'_>, from: usize) -> rusqlite::Result<Sums> {
    let mut sums = Sums::default();
    for figure in Figure::ALL {
        sums.0[figure as usize] = r.get::<_, i64>(from + figure as usize)?.unsigned_abs();
    }
    Ok(sums)
}

/// What each of some mailings adds up to; of a mailing that isn't there nothing was sent.
///
/// # Errors
/// When the database fails.
pub fn of_mailings(c: &Connection, mailings: &[MailingId]) -> Result<HashMap<MailingId, Sums>> {
    let mut s = c.prepare_cached(&format!("SELECT {} FROM mailing_figure WHERE mailing_id = ?1", added_up()))?;
    mailings.iter().map(|m| Ok((*m, s.query_row([m.0], |r| sums(r, 0))?))).collect()
}

/// The source rows of a figure: sends of a mailing that are counted, as (address, arm, instant).
///
/// # Errors
/// An unknown figure, or when the database fails.
pub fn rows(c: &Connection, mailing: MailingId, figure: &str) -> Result<Vec<(String, i64, i64)>> {
    let figure = Figure::parse(figure).ok_or(StoreError::Missing("figure"))?;
    // Dated by what a counted message came to last.
    let at = figure.condition().into_iter().rev().filter(|l| l.holds).map(|l| column(l.fact)).find(|c| c.1).map_or("handed_at", |c| c.0);
    let mut s = c.prepare(&format!(
        "SELECT c.address, s.arm, s.{at} FROM send s JOIN contact c ON c.id = s.contact_id WHERE s.mailing_id = ?1 AND {} ORDER BY s.{at}, s.id",
        counted(figure, "s")
    ))?;
    Ok(s.query_map(params![mailing.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}
