//! What the other pages of findings say, as a table on paper: revenue, links, cohorts, what reactions did, mailings side by side, when people
//! answer.

use super::{USUAL_DAYS, percent_of};
use crate::compared::{self, Beside};
use axum::extract::Query;
use axum::http::Uri;
use rinse_core::findings::{By, Clock, WEEKDAYS};
use rinse_core::report::Rate;
use rinse_core::words::thousands;
use rinse_paper::{Column, number, words};
use rinse_store::cohorts::Months;
use rinse_store::findings::groups::Filter;
use rinse_store::findings::revenue::Towards;
use rinse_store::findings::{answers, links, revenue};
use rinse_store::reactions::done;
use rinse_store::{Connection, StoreError, cohorts, goals};

/// A table with its sentence.
pub(super) struct Sheet {
    pub(super) sentence: String,
    pub(super) columns: Vec<Column>,
    pub(super) rows: Vec<Vec<String>>,
    pub(super) foot: &'static str,
}

fn asked<T: serde::de::DeserializeOwned>(uri: &Uri) -> Result<T, StoreError> {
    Ok(Query::<T>::try_from_uri(uri).map_err(|e| StoreError::Refused(format!("The view can’t be read any more: {e}.")))?.0)
}

/// What an address narrows a page to; as its page is, of a year where it says nothing of its period.
pub(super) fn filter(uri: &Uri, now: i64) -> Result<Filter, StoreError> {
    let mut filter: Filter = asked(uri)?;
    if filter.days.is_none() && filter.from.is_none() && filter.to.is_none() {
        filter.days = Some(USUAL_DAYS);
    }
    Ok(filter.at(now))
}

/// Hundredths, with their decimals.
#[allow(clippy::cast_precision_loss)]
fn money(cents: f64) -> String {
    format!("{:.2}", cents / 100.0).replace('-', "−")
}

fn whole(n: i64) -> String {
    let sign = if n < 0 { "−" } else { "" };
    format!("{sign}{}", thousands(n.unsigned_abs()))
}

fn rate(r: &Rate) -> String {
    if r.thin { format!("{} (thin)", percent_of(r.rate, 1)) } else { percent_of(r.rate, 1) }
}

/// The page of an address; none of one that has no table for paper.
pub(super) fn of(c: &Connection, uri: &Uri, now: i64) -> Option<Result<Sheet, StoreError>> {
    Some(match uri.path() {
        "/findings/revenue" => of_revenue(c, uri, now),
        "/findings/links" => of_links(c, uri, now),
        "/findings/cohorts" => of_cohorts(c, uri),
        "/findings/reactions" => of_reactions(c, uri, now),
        "/findings/compare" => of_compared(c, uri),
        "/findings/answers" => of_answers(c, uri, now),
        _ => return None,
    })
}

#[derive(serde::Deserialize)]
struct Revenue {
    goal: Option<i64>,
    by: Option<By>,
    across: Option<By>,
}

/// What stands under a table of revenue.
const REVENUE_FOOT: &str = "Put down by the rule of attribution in force: what followed a click, not what mail caused.";

#[allow(clippy::cast_precision_loss)]
fn of_revenue(c: &Connection, uri: &Uri, now: i64) -> Result<Sheet, StoreError> {
    let goals = goals::all(c)?;
    let asked: Revenue = asked(uri)?;
    // A page that names no goal shows the first.
    let goal = asked.goal.map_or_else(|| goals.first(), |goal| goals.iter().find(|g| g.id == goal));
    let goal = goal.ok_or_else(|| StoreError::Refused("There is no such goal any more.".into()))?;
    let towards = Towards { goal: goal.id, by: asked.by, across: asked.across };
    let found = revenue::told(c, towards, &filter(uri, now)?)?;
    let total = &found.total;
    let worth =
        if goal.goal.currency.is_empty() { String::new() } else { format!(", worth {} {}", money(total.cents as f64), goal.goal.currency) };
    let sentence =
        format!("{}: {} conversions by {} people{worth}, refunds off.", goal.name, whole(total.conversions), thousands(total.people));
    if let Some(cells) = &found.cells {
        let row = |x: &revenue::RevenueCell| vec![x.when_name.clone(), x.name.clone(), whole(x.conversions), money(x.cents as f64)];
        let columns = vec![words("Bought", 1.5), words("", 3.0), number("Conversions", 1.3), number("Value", 1.3)];
        return Ok(Sheet { sentence, rows: cells.iter().map(row).collect(), columns, foot: REVENUE_FOOT });
    }
    let rows = found.rows.iter().map(|r| {
        vec![
            r.name.clone(),
            thousands(r.sent),
            thousands(r.people),
            whole(r.conversions),
            money(r.cents as f64),
            r.per_thousand.map_or_else(|| "–".into(), money),
        ]
    });
    Ok(Sheet {
        sentence,
        rows: rows.collect(),
        columns: vec![
            words("", 3.0),
            number("Sent", 1.1),
            number("People", 1.1),
            number("Conversions", 1.3),
            number("Value", 1.3),
            number("Per thousand delivered", 1.7),
        ],
        foot: REVENUE_FOOT,
    })
}

fn of_links(c: &Connection, uri: &Uri, now: i64) -> Result<Sheet, StoreError> {
    let found = links::told(c, &filter(uri, now)?)?;
    let sentence = found.first().map_or_else(
        || "Nobody followed a link in this period.".into(),
        |l| format!("“{}” was followed by {} of those it was sent to, more than any other link.", l.name, rate(&l.people)),
    );
    let row = |l: &links::LinkRow| {
        vec![
            l.name.clone(),
            l.place.to_string(),
            l.mailings.to_string(),
            thousands(l.people.count),
            rate(&l.people),
            whole(l.clicks),
            whole(l.machine),
        ]
    };
    Ok(Sheet {
        sentence,
        rows: found.iter().map(row).collect(),
        columns: vec![
            words("Link", 3.0),
            number("Place", 0.8),
            number("Mailings", 1.1),
            number("People", 1.1),
            number("Share", 1.3),
            number("Clicks", 1.1),
            number("Machines alone", 1.4),
        ],
        foot: "People who followed it themselves, of those the mailings were sent to.",
    })
}

fn of_cohorts(c: &Connection, uri: &Uri) -> Result<Sheet, StoreError> {
    let found = cohorts::told(c, asked::<Months>(uri)?.shown())?;
    let sentence = found.together.iter().find(|x| x.since == 3).map_or_else(
        || "No cohort is three months old yet.".into(),
        |x| {
            format!(
                "Three months after joining {} of {} people could still be mailed, and {} answered in that month.",
                rate(&x.mailable),
                thousands(x.mailable.of),
                rate(&x.answered)
            )
        },
    );
    let rows = found.cohorts.iter().map(|group| {
        let at = |since: i32| group.cells.iter().find(|x| x.since == since);
        let told = |since: i32, of: fn(&cohorts::Cell) -> Rate| at(since).map_or_else(|| "–".into(), |x| rate(&of(x)));
        let mut row = vec![group.name.clone(), thousands(group.people)];
        row.extend([3, 6, 12].map(|since| told(since, |x| x.mailable)));
        row.extend([3, 6, 12].map(|since| told(since, |x| x.answered)));
        row
    });
    Ok(Sheet {
        sentence,
        rows: rows.collect(),
        columns: vec![
            words("Joined", 1.5),
            number("People", 1.1),
            number("Mailable after 3 months", 1.5),
            number("after 6", 1.1),
            number("after 12", 1.1),
            number("Answered in month 3", 1.5),
            number("6", 1.1),
            number("12", 1.1),
        ],
        foot: "By months since the one of joining. Who joined when was not left to chance.",
    })
}

fn of_reactions(c: &Connection, uri: &Uri, now: i64) -> Result<Sheet, StoreError> {
    let period = filter(uri, now)?;
    let found = done::told(c, period.from, period.to)?;
    let row = |d: &done::Done| {
        vec![
            d.deed.clone(),
            d.mailing.clone().unwrap_or_else(|| "any".into()),
            whole(d.changed),
            whole(d.taken_back),
            d.points.map_or_else(String::new, |p| format!("{p:.0}").replace('-', "−")),
        ]
    };
    Ok(Sheet {
        sentence: format!("Reactions acted {} times.", whole(found.acted)),
        rows: found.deeds.iter().map(row).collect(),
        columns: vec![words("Deed", 4.0), words("Mailing", 2.0), number("Changed", 1.2), number("Taken back", 1.2), number("Points", 1.1)],
        foot: "Counted where a deed changed something, by the day it was done (UTC).",
    })
}

#[derive(serde::Deserialize)]
struct Which {
    #[serde(default)]
    mailings: String,
}

fn points(x: f64, decimals: u8) -> String {
    format!("{:+.1$}", 100.0 * x, usize::from(decimals)).replace('-', "−")
}

fn of_compared(c: &Connection, uri: &Uri) -> Result<Sheet, StoreError> {
    let found = compared::told(c, &compared::numbers(&asked::<Which>(uri)?.mailings)?)?;
    let known = found.catalogue.iter().filter(|d| found.mailings.iter().any(|m| m.figures.get(&d.figure).is_some_and(|r| r.count > 0)));
    let rows: Vec<Vec<String>> = known
        .map(|d| {
            let told = |m: &Beside| {
                let Some(r) = m.figures.get(&d.figure) else { return "–".to_owned() };
                let rate = percent_of(r.rate, d.decimals);
                m.differences.get(&d.figure).map_or_else(
                    || rate.clone(),
                    |of| {
                        let [by, low, high] = [of.estimate, of.lower, of.upper].map(|x| points(x, d.decimals));
                        format!("{rate}, {by} ({low} to {high})")
                    },
                )
            };
            std::iter::once(d.name.to_owned()).chain(found.mailings.iter().map(told)).collect()
        })
        .collect();
    let Some((first, others)) = found.mailings.split_first() else { return Err(StoreError::Missing("mailing that went out")) };
    let apart = |m: &Beside| format!("{} differs from {} in {} of {} figures", m.name, first.name, m.apart(), rows.len());
    Ok(Sheet {
        sentence: match others {
            [] => format!("{} went to {} people.", first.name, thousands(first.sent)),
            _ => format!("{}.", others.iter().map(apart).collect::<Vec<_>>().join("; ")),
        },
        columns: std::iter::once(words("Figure", 1.6)).chain(found.mailings.iter().map(|m| number(m.name.clone(), 2.0))).collect(),
        rows,
        foot: "Differences are to the first, in points, with 95% limits (Newcombe). Not an experiment: who got which mailing was not left to chance. Of so many figures one in twenty would look different by chance alone.",
    })
}

#[derive(serde::Deserialize)]
struct WhichAnswers {
    #[serde(default)]
    kind: String,
    #[serde(default)]
    clock: Clock,
}

fn of_answers(c: &Connection, uri: &Uri, now: i64) -> Result<Sheet, StoreError> {
    let which: WhichAnswers = asked(uri)?;
    let found = answers::told(c, which.clock, &filter(uri, now)?)?;
    // As its page is, of clicks where nothing else is asked for.
    let (kind, week) = match which.kind.as_str() {
        "opens" => ("opens", found.opens),
        "replies" => ("replies", found.replies),
        _ => ("clicks", found.clicks),
    };
    let day = week.by_hour_of_day();
    let whose = if which.clock == Clock::Utc { "UTC" } else { "the recipients’ clock" };
    let most = (0..week.hours.len()).max_by_key(|h| (week.hours[*h], std::cmp::Reverse(*h))).filter(|_| week.all > 0);
    #[allow(clippy::cast_precision_loss)]
    let share = |n: i64| (week.all > 0).then(|| n as f64 / week.all as f64);
    let rows = (0..24).map(|hour| {
        let of_day = (0..7).map(|d| whole(week.hours[d * 24 + hour]));
        std::iter::once(format!("{hour:02}:00")).chain(of_day).chain([percent_of(share(day[hour]), 1)]).collect()
    });
    Ok(Sheet {
        sentence: most.map_or_else(
            || format!("Nobody answered by {kind} in this period."),
            |h| {
                let (half, of) = (week.half_in(), WEEKDAYS[h / 24]);
                format!(
                    "Half of {} {kind} came in {half} {} of the day, most on {of} at {:02}:00, by {whose}.",
                    whole(week.all),
                    if half == 1 { "hour" } else { "hours" },
                    h % 24
                )
            },
        ),
        rows: rows.collect(),
        columns: std::iter::once(words("Hour", 1.0))
            .chain(WEEKDAYS.map(|d| number(d, 1.1)))
            .chain([number("Share of the day", 1.2)])
            .collect(),
        foot: "The first of each message that a person made. When mail is answered says when mail was sent, too: not an experiment.",
    })
}
