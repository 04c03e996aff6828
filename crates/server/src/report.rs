//! A view of findings on paper.

mod sheets;

use crate::grouped::{self, Asked, FindingsBy, Row};
use axum::extract::Query;
use axum::http::Uri;
use rinse_core::Instant;
use rinse_core::figure::Definition;
use rinse_core::findings::By;
use rinse_core::findings::best::Best;
use rinse_core::report::Rate;
use rinse_core::words::thousands;
use rinse_paper::{Chart, Column, Paper, PaperError, Point, number, words};
use rinse_store::findings::views;
use rinse_store::{Connection, Store, StoreError, settings};
use sheets::Sheet;
use std::path::Path;

/// So many figures a table has room for.
const MOST_COLUMNS: usize = 8;
/// Rows on paper; the CSV has all.
const ON_PAPER: usize = 200;
/// A view that says nothing of its period is of so many days, as its page is.
const USUAL_DAYS: i64 = 365;

fn percent_of(p: Option<f64>, decimals: u8) -> String {
    p.map_or_else(|| "–".to_owned(), |p| format!("{:.1$}%", p * 100.0, usize::from(decimals)))
}

fn percent(p: Option<f64>, d: &Definition) -> String {
    percent_of(p, d.decimals)
}

fn rate(r: Option<&Rate>, d: &Definition) -> String {
    match r {
        Some(r) if r.thin => format!("{} (thin)", percent(r.rate, d)),
        Some(r) => percent(r.rate, d),
        None => "–".into(),
    }
}

/// What the chosen figure says of all that is shown.
fn sentence(f: &FindingsBy) -> String {
    let d = &f.figure;
    let Some(r) = f.total.figures.get(&d.figure).filter(|r| r.of > 0) else {
        return format!("{} can’t be known of what went out.", d.name);
    };
    let mut text =
        format!("{}: {} of {} {}.", d.name, percent(r.rate, d), thousands(r.of), d.of_words.split(':').next().unwrap_or_default());
    if let Some(o) = f.total.over_mailings {
        let (lower, upper) = (percent(Some(o.lower), d), percent(Some(o.upper), d));
        text.push_str(&format!(" {lower} to {upper} with the mailing as the unit."));
    }
    text
}

fn best(f: &FindingsBy) -> Option<String> {
    let asked = f.rows.iter().any(|r| r.best.is_some());
    let better: Vec<&str> = f.rows.iter().filter(|r| r.best.is_some_and(Best::is_better)).map(|r| r.name.as_str()).collect();
    let said = if better.is_empty() {
        format!("Which {} is best this can’t tell.", f.by_words)
    } else {
        format!("Better than the others together (p under 0.05 by Holm, the mailing as the unit): {}.", better.join(", "))
    };
    asked.then(|| format!("{said} Not an experiment: who got mail in which group was not left to chance."))
}

fn chart(f: &FindingsBy) -> Option<Chart> {
    let mut rows: Vec<(&Row, i64)> = match f.by {
        By::Mailing => f.rows.iter().filter_map(|r| Some((r, r.started_at?))).collect(),
        By::Day | By::Week | By::Month => f.rows.iter().map(|r| (r, 0)).collect(),
        _ => return None,
    };
    rows.sort_by_key(|r| r.1);
    // "Thu 16 Apr 2026, 18:40" without weekday, year and hour.
    let date = |at: i64| Instant::of(at).words().split(' ').skip(1).take(2).collect::<Vec<_>>().join(" ");
    let label = |r: &Row, at: i64| if f.by == By::Mailing { date(at) } else { r.name.trim_start_matches("week of ").to_owned() };
    let points = rows
        .into_iter()
        .filter_map(|(r, at)| {
            let rate = r.figures.get(&f.figure.figure)?.rate?;
            Some(Point { label: label(r, at), rate, limits: r.norm.map(|n| (n.lower, n.upper)), signal: r.norm.is_some_and(|n| n.outside) })
        })
        .collect();
    Some(Chart { title: f.figure.name.into(), points, marks: Vec::new() })
}

/// The PDF of what was found.
///
/// # Errors
/// When it can't be written.
pub(crate) fn pdf(name: &str, f: &FindingsBy, columns: &[Definition], now: i64) -> Result<Vec<u8>, PaperError> {
    let mut p = Paper::new(name, &format!("Rinse · made {}", Instant::of(now).words()), now / 1000)?;
    p.text(&sentence(f));
    p.text(&format!(
        "{} of {} mailings, {} messages handed over, by {}.",
        thousands(f.total.mailings as u64),
        thousands(f.total.all_mailings as u64),
        thousands(f.total.sent),
        f.by_words
    ));
    if let Some(hidden) = &f.total.newest_hidden {
        p.text(&format!("The newest mailing, {hidden}, isn’t among them."));
    }
    if let Some(said) = best(f) {
        p.text(&said);
    }
    if let Some(chart) = chart(f) {
        p.heading("Over time");
        p.chart(&chart);
        p.soft("The band: the norm of its own kind, by the 20 mailings before (Laney’s p' chart). Red: outside it.");
    }
    p.heading(&format!("By {}", f.by_words));
    let (told, more) = columns.split_at(columns.len().min(MOST_COLUMNS));
    let mut heads: Vec<Column> = vec![words("", 3.0), number("Sent", 1.1)];
    heads.extend(told.iter().map(|d| number(d.name, 1.35)));
    let rows = f.rows.iter().take(ON_PAPER).map(|r| {
        let mut line = vec![r.name.clone(), thousands(r.sent)];
        line.extend(told.iter().map(|d| rate(r.figures.get(&d.figure), d)));
        line
    });
    p.table(&heads, &rows.collect::<Vec<_>>());
    if f.rows.len() > ON_PAPER {
        p.soft(&format!("The first {ON_PAPER} of {}; the CSV has all.", f.rows.len()));
    }
    if !more.is_empty() {
        p.soft(&format!("There is room for {MOST_COLUMNS} figures; the CSV has all."));
    }
    p.soft("Rates of fewer than 100 messages are thin. What each figure counts, and of what, stands in the guide.");
    p.finish()
}

fn on_sheet(name: &str, sheet: &Sheet, now: i64) -> Result<Vec<u8>, PaperError> {
    let mut p = Paper::new(name, &format!("Rinse · made {}", Instant::of(now).words()), now / 1000)?;
    p.text(&sheet.sentence);
    let shown = &sheet.rows[..sheet.rows.len().min(ON_PAPER)];
    p.table(&sheet.columns, shown);
    if sheet.rows.len() > ON_PAPER {
        p.soft(&format!("The first {ON_PAPER} of {}; the CSV has all.", sheet.rows.len()));
    }
    p.soft(sheet.foot);
    p.finish()
}

/// A saved view as a PDF, from a data folder.
///
/// # Errors
/// There is no such view, it isn't one that can be put on paper, or the folder can't be read.
pub fn of_view(data: &Path, name: &str) -> anyhow::Result<Vec<u8>> {
    let c = Store::look(data)?;
    let views = views::all(&c)?;
    let Some(view) = views.iter().find(|v| v.name.eq_ignore_ascii_case(name)) else {
        let there: Vec<&str> = views.iter().map(|v| v.name.as_str()).collect();
        anyhow::bail!("There is no saved view “{name}”. There are: {}.", if there.is_empty() { "none".into() } else { there.join(", ") });
    };
    anyhow::ensure!(view.fits_paper(), "“{}” is drawn only: it has no table that could be put on paper.", view.name);
    // A demo's folder has a clock of its own.
    let clock = settings::get(&c, "clock")?.and_then(|t| t.parse().ok());
    let now = clock.unwrap_or_else(|| Instant::of_machine(std::time::SystemTime::now()).millis());
    Ok(of_path(&c, &view.name, &view.path, now)?.1)
}

/// What a view's address asks for, as a sentence and as a PDF.
///
/// # Errors
/// The address can't be read, or the database fails.
pub(crate) fn of_path(c: &Connection, name: &str, path: &str, now: i64) -> Result<(String, Vec<u8>), StoreError> {
    let refused = |e: &dyn std::fmt::Display| StoreError::Refused(format!("The view “{name}” can’t be read any more: {e}."));
    let uri: Uri = path.parse().map_err(|e| refused(&e))?;
    if let Some(sheet) = sheets::of(c, &uri, now) {
        let sheet = sheet?;
        let pdf = on_sheet(name, &sheet, now).map_err(|e| refused(&e))?;
        return Ok((sheet.sentence, pdf));
    }
    let asked = Query::<Asked>::try_from_uri(&uri).map_err(|e| refused(&e))?.0;
    let found = grouped::told(c, &asked, &sheets::filter(&uri, now)?)?;
    let pdf = pdf(name, &found, &asked.columns(), now).map_err(|e| refused(&e))?;
    Ok((sentence(&found), pdf))
}
