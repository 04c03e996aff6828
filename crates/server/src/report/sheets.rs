//! What the other pages of findings say, as a table on paper: revenue, links, cohorts, what reactions did.

use super::{USUAL_DAYS, percent_of};
use axum::extract::Query;
use axum::http::Uri;
use rinse_core::findings::By;
use rinse_core::report::Rate;
use rinse_core::words::thousands;
use rinse_paper::{Column, number, words};
use rinse_store::cohorts::Months;
use rinse_store::findings::groups::Filter;
use rinse_store::findings::revenue::Towards;
use rinse_store::findings::{links, revenue};
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
        _ => return None,
    })
}

#[allow(clippy::cast_precision_loss)]
fn of_revenue(c: &Connection, uri: &Uri, now: i64) -> Result<Sheet, StoreError> {
    let goals = goals::all(c)?;
    // A page that names no goal shows the first.
    let towards: Option<Towards> = asked(uri).ok();
    let goal = towards.as_ref().map_or_else(|| goals.first(), |t| goals.iter().find(|g| g.id == t.goal));
    let goal = goal.ok_or_else(|| StoreError::Refused("There is no such goal any more.".into()))?;
    let by = towards.and_then(|t| t.by).unwrap_or(By::Mailing);
    let found = revenue::by(c, goal.id, by, &filter(uri, now)?)?;
    let total = &found.total;
    let worth =
        if goal.goal.currency.is_empty() { String::new() } else { format!(", worth {} {}", money(total.cents as f64), goal.goal.currency) };
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
        sentence: format!(
            "{}: {} conversions by {} people{worth}, refunds off.",
            goal.name,
            whole(total.conversions),
            thousands(total.people)
        ),
        rows: rows.collect(),
        columns: vec![
            words("", 3.0),
            number("Sent", 1.1),
            number("People", 1.1),
            number("Conversions", 1.3),
            number("Value", 1.3),
            number("Per thousand delivered", 1.7),
        ],
        foot: "Put down by the rule of attribution in force: what followed a click, not what mail caused.",
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
