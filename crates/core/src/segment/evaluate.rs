//! The answer of a tree for one person, and why. This is what decides; the store's SQL must agree.

use super::person::{Message, Value};
use super::words::{Names, condition};
use super::{Bought, DateTest, Did, Field, Person, SeriesPart, TextTest, Times, Tree, place, share};
use crate::upkeep::silence::Stage;
use crate::words::fold;
use crate::{DAY, Instant};
use serde::Serialize;
use utoipa::ToSchema;

/// Yes, no, or `None` for unknown.
#[must_use]
pub fn holds(tree: &Tree, p: &Person, now: Instant) -> Option<bool> {
    match tree {
        Tree::All { of } => of.iter().map(|t| holds(t, p, now)).fold(Some(true), and),
        Tree::Any { of } => of.iter().map(|t| holds(t, p, now)).fold(Some(false), or),
        Tree::Not { of } => holds(of, p, now).map(|yes| !yes),
        leaf => one(leaf, p, now),
    }
}

/// Kleene's and: no wins over unknown.
fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

/// Kleene's or: yes wins over unknown.
fn or(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    and(a.map(|x| !x), b.map(|x| !x)).map(|x| !x)
}

/// Is the instant within the last so many days of `now`? Without a limit, any past instant is.
fn within(at: Instant, now: Instant, days: Option<u32>) -> bool {
    at <= now && days.is_none_or(|d| now - at < i64::from(d) * DAY)
}

/// The UTC day of an instant, counted from 1970-01-01.
#[must_use]
pub fn day_of(at: Instant) -> i64 {
    at.millis().div_euclid(DAY)
}

fn one(leaf: &Tree, p: &Person, now: Instant) -> Option<bool> {
    match leaf {
        Tree::All { .. } | Tree::Any { .. } | Tree::Not { .. } => holds(leaf, p, now),
        Tree::Text { field, is, value } => {
            let (text, value) = (p.text(*field)?, fold(value));
            Some(match is {
                TextTest::Is => text == value,
                TextTest::IsNot => text != value,
                TextTest::Begins => text.starts_with(&value),
                TextTest::Contains => text.contains(&value),
            })
        }
        Tree::Number { field, is, value } => match p.own.get(field)?.value {
            Value::Number(n) => Some(is.holds(n, *value)),
            _ => None,
        },
        Tree::Date { field, is } => match p.own.get(field)?.value {
            Value::Date(day) => Some(match *is {
                DateTest::Before(d) => day < d,
                DateTest::From(d) => day >= d,
                DateTest::LastDays(n) => day <= day_of(now) && day > day_of(now) - i64::from(n),
                DateTest::NextDays(n) => day >= day_of(now) && day < day_of(now) + i64::from(n),
            }),
            _ => None,
        },
        Tree::YesNo { field, yes } => match p.own.get(field)?.value {
            Value::YesNo(v) => Some(v == *yes),
            _ => None,
        },
        Tree::Missing { field } => Some(p.is_missing(*field)),
        Tree::Dated { field, within_days } => {
            p.own.get(field)?.dated.map(|d| d <= day_of(now) && d > day_of(now) - i64::from(*within_days))
        }
        Tree::List { list } => Some(p.lists.contains(list)),
        Tree::Tag { tag } => Some(p.tags.contains(tag)),
        Tree::Topic { topic } => Some(!p.topics_left.contains(topic)),
        Tree::Segment { segment } => Some(p.segments.contains(segment)),
        Tree::Consent { states } => Some(states.contains(&p.consent)),
        Tree::Status { states } => Some(states.contains(&p.status)),
        Tree::Domain { domain, subdomains } => {
            let domain = fold(domain);
            Some(p.domain == domain || (*subdomains && p.domain.ends_with(&format!(".{domain}"))))
        }
        Tree::Near { latitude, longitude, km, .. } => p.position.map(|at| place::distance_km(at, (*latitude, *longitude)) <= *km),
        Tree::Did { did, human, times, .. } => {
            let n = answered(leaf, p, now);
            // Opens that can't be told from a machine's are missing: only those seen count.
            let blind = *did == Did::Opened && *human && p.open_blind;
            match times {
                Times::AtLeast(least) if blind && n < *least => None,
                Times::AtMost(most) if blind && n <= *most => None,
                _ => Some(times.holds(n)),
            }
        }
        Tree::Series { series, part } => Some(match (p.series.get(series), part) {
            (None, _) => false,
            (Some(inside), SeriesPart::Inside) => *inside,
            (Some(inside), SeriesPart::Before) => !inside,
            (Some(_), SeriesPart::Ever) => true,
        }),
        Tree::Received { times, .. } => Some(times.holds(received(leaf, p, now))),
        Tree::Event { times, .. } => Some(times.holds(happened(leaf, p, now))),
        Tree::Bought { is, value, .. } => Some(is.holds(bought(leaf, p, now), *value)),
        // A goal's condition was put in its place; one that is gone is met by nobody.
        Tree::Converted { .. } => None,
        Tree::Load { cells } => p.load_cell.map(|cell| cells.contains(&cell)),
        Tree::Silent { stages } => Some(p.silence.is_some_and(|s| stages.contains(&s))),
        Tree::Score { score, is, value } => Some(is.holds(p.score(*score, now), *value)),
        Tree::Added { within_days } => Some(within(p.added_at, now, Some(*within_days))),
        Tree::Share { percent, salt } => Some(share::draw(salt, p.id) < percent / 100.0),
    }
}

fn number(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

/// How many of the person's messages were answered as a `Did` condition asks.
fn answered(leaf: &Tree, p: &Person, now: Instant) -> u32 {
    let Tree::Did { did, human, within_days, mailing, link, series, .. } = leaf else { return 0 };
    let fits = |m: &Message| {
        mailing.is_none_or(|id| m.mailing == id)
            && (series.is_none() || m.series == *series)
            && m.answers
                .iter()
                .any(|a| a.did == *did && (a.human || !human) && within(a.at, now, *within_days) && link.is_none_or(|l| a.link == Some(l)))
    };
    number(p.messages.iter().filter(|m| fits(m)).count())
}

/// How often the event of the condition happened.
fn happened(leaf: &Tree, p: &Person, now: Instant) -> u32 {
    let Tree::Event { name, within_days, .. } = leaf else { return 0 };
    number(p.events.iter().filter(|(at, of)| fold(of) == fold(name) && within(*at, now, *within_days)).count())
}

fn received(leaf: &Tree, p: &Person, now: Instant) -> u32 {
    let Tree::Received { within_days, .. } = leaf else { return 0 };
    number(p.messages.iter().filter(|m| m.accepted_at.is_some_and(|at| within(at, now, *within_days))).count())
}

#[allow(clippy::cast_precision_loss)]
fn bought(leaf: &Tree, p: &Person, now: Instant) -> f64 {
    let Tree::Bought { what, product, category, within_days, .. } = leaf else { return 0.0 };
    let same = |asked: &Option<String>, given: &str| asked.as_ref().is_none_or(|a| fold(a) == fold(given));
    let fits = p.purchases.iter().filter(|b| within(b.at, now, *within_days) && same(product, &b.product) && same(category, &b.category));
    match what {
        Bought::Count => fits.filter(|b| b.cents >= 0).count() as f64,
        Bought::Value => fits.map(|b| b.cents).sum::<i64>() as f64 / 100.0,
    }
}

/// One line of the answer to "why is this person in it, or not?".
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Explained {
    /// How deep the condition stands in the tree.
    pub depth: usize,
    pub words: String,
    /// What is known of the person; empty for branches.
    pub value: String,
    /// Null: unknown.
    pub answer: Option<bool>,
}

/// Every condition of the tree with the person's value and answer, top to bottom.
#[must_use]
pub fn explain(tree: &Tree, p: &Person, now: Instant, names: &Names) -> Vec<Explained> {
    let mut out = Vec::new();
    lines(tree, p, now, names, 0, &mut out);
    out
}

fn lines(tree: &Tree, p: &Person, now: Instant, names: &Names, depth: usize, out: &mut Vec<Explained>) {
    let (words, value) = match tree {
        Tree::All { .. } => ("all of".to_owned(), String::new()),
        Tree::Any { .. } => ("any of".to_owned(), String::new()),
        Tree::Not { .. } => ("not".to_owned(), String::new()),
        leaf => (condition(leaf, names), known(leaf, p, now)),
    };
    out.push(Explained { depth, words, value, answer: holds(tree, p, now) });
    for branch in tree.branches() {
        lines(branch, p, now, names, depth + 1, out);
    }
}

/// A date as it is written: 2026-04-16.
#[must_use]
pub fn date_words(day: i64) -> String {
    jiff::civil::date(1970, 1, 1)
        .checked_add(jiff::Span::new().try_days(day).unwrap_or_default())
        .map_or_else(|_| "a date out of range".to_owned(), |d| d.to_string())
}

/// Reads a date as files carry it: 2026-04-16, days since 1970-01-01.
#[must_use]
pub fn parse_date(text: &str) -> Option<i64> {
    let date: jiff::civil::Date = text.trim().parse().ok()?;
    Some(i64::from(date.since(jiff::civil::date(1970, 1, 1)).ok()?.get_days()))
}

/// What is known of the person where the condition asks.
fn known(leaf: &Tree, p: &Person, now: Instant) -> String {
    let missing = || "missing".to_owned();
    let own = |field: &i64| {
        p.own.get(field).map_or_else(missing, |h| match &h.value {
            Value::Text(t) => t.clone(),
            Value::Number(n) => n.to_string(),
            Value::Date(d) => date_words(*d),
            Value::YesNo(yes) => if *yes { "yes" } else { "no" }.to_owned(),
        })
    };
    let yes_no = |yes: bool, is: &str, not: &str| if yes { is } else { not }.to_owned();
    match leaf {
        Tree::All { .. } | Tree::Any { .. } | Tree::Not { .. } => String::new(),
        Tree::Text { field: Field::Own(id), .. } | Tree::Missing { field: Field::Own(id) } => own(id),
        Tree::Missing { field: Field::Position } => p.position.map_or_else(missing, |(a, b)| format!("{a:.3}, {b:.3}")),
        Tree::Text { field, .. } | Tree::Missing { field } => p.texts.get(field).cloned().unwrap_or_else(missing),
        Tree::Number { field, .. } | Tree::Date { field, .. } | Tree::YesNo { field, .. } => own(field),
        Tree::Dated { field, .. } => p.own.get(field).and_then(|h| h.dated).map_or_else(missing, date_words),
        Tree::List { list } => yes_no(p.lists.contains(list), "on it", "not on it"),
        Tree::Tag { tag } => yes_no(p.tags.contains(tag), "tagged", "not tagged"),
        Tree::Topic { topic } => yes_no(p.topics_left.contains(topic), "left it", "not left"),
        Tree::Segment { segment } => yes_no(p.segments.contains(segment), "in it", "not in it"),
        Tree::Consent { .. } => p.consent.words().to_owned(),
        Tree::Status { .. } => p.status.words().to_owned(),
        Tree::Domain { .. } => p.domain.clone(),
        Tree::Near { latitude, longitude, miles, .. } => p.position.map_or_else(missing, |at| {
            let km = place::distance_km(at, (*latitude, *longitude));
            if *miles { format!("{:.0} miles away", km / place::KM_PER_MILE) } else { format!("{km:.0} km away") }
        }),
        Tree::Event { .. } => happened(leaf, p, now).to_string(),
        Tree::Did { did, human, .. } => {
            let blind = *did == Did::Opened && *human && p.open_blind;
            format!("{}{}", answered(leaf, p, now), if blind { "; opens of this domain can't be told from machines'" } else { "" })
        }
        Tree::Series { series, .. } => match p.series.get(series) {
            None => "never in it",
            Some(true) => "in it",
            Some(false) => "was in it",
        }
        .to_owned(),
        Tree::Received { .. } => received(leaf, p, now).to_string(),
        Tree::Bought { .. } => bought(leaf, p, now).to_string(),
        Tree::Converted { .. } => missing(),
        Tree::Silent { .. } => p.silence.map_or("not silent", Stage::words).to_owned(),
        Tree::Load { .. } => p.load_cell.map_or_else(missing, crate::load::cell_words),
        Tree::Score { score, .. } => format!("{:.1}", p.score(*score, now)),
        Tree::Added { .. } => date_words(day_of(p.added_at)),
        Tree::Share { salt, .. } => format!("drew {:.1}%", share::draw(salt, p.id) * 100.0),
    }
}
