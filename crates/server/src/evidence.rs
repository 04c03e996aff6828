//! The evidence pack: a zip with a PDF that an operator reads, the tables behind it as CSV, and everything as JSON. Addresses are masked.

use crate::csv_out::{csv_bytes, iso};
use crate::zipped::zipped;
use rinse_core::Instant;
use rinse_core::report::Rate;
use rinse_core::upkeep::evidence::{Course, Measure};
use rinse_core::words::thousands;
use rinse_paper::{Chart, Mark, Paper, PaperError, Point, number, words};
use rinse_store::blocklists::{Blocklist, Listing};
use rinse_store::upkeep::evidence::Evidence;
use std::io;

const README: &str = include_str!("evidence/README.txt");
/// Removed addresses on paper; all are in the CSV.
const ON_PAPER: usize = 40;

fn day(ms: i64) -> String {
    // "Thu 16 Apr 2026, 18:40" without the hour.
    Instant::of(ms).words().split(',').next().unwrap_or_default().to_owned()
}

fn percent(p: Option<f64>, digits: usize) -> String {
    p.map_or_else(|| "–".to_owned(), |p| format!("{:.digits$}%", p * 100.0))
}

fn rate(r: &Rate, digits: usize) -> String {
    if r.of == 0 {
        return "–".to_owned();
    }
    let bare = |p: Option<f64>| p.map_or_else(|| "–".to_owned(), |p| format!("{:.digits$}", p * 100.0));
    let counts = format!("{} of {}", thousands(r.count), thousands(r.of));
    format!("{} ({} to {}; {counts})", percent(r.rate, digits), bare(r.lower), bare(r.upper))
}

fn digits(m: Measure) -> usize {
    if m == Measure::Complaints { 3 } else { 2 }
}

/// What a course says, in a sentence.
fn finding(c: &Course) -> String {
    let outside: Vec<String> = c.points.iter().filter(|p| p.outside).map(|p| day(p.day * rinse_core::DAY)).collect();
    let beyond = c.points.iter().filter(|p| p.beyond_mark).count();
    let told = match outside.as_slice() {
        [] if c.baseline == 0 => "too few weeks say how far they spread".to_owned(),
        [] => "no week lies outside its own limits".to_owned(),
        [one] => format!("the week from {one} lies outside its own limits"),
        some if some.len() > 4 => format!("{} weeks lie outside their own limits", some.len()),
        some => format!("outside their own limits: the weeks from {}", some.join(", ")),
    };
    let marked = if beyond > 0 { format!("; {beyond} beyond the mark at which we act") } else { String::new() };
    format!("{}: {}. Of {} weeks drawn, {told}{marked}.", c.words, rate(&c.all, digits(c.measure)), c.points.len())
}

fn chart(c: &Course, e: &Evidence) -> Chart {
    Chart {
        title: c.words.clone(),
        points: c
            .points
            .iter()
            .filter_map(|p| {
                let label = day(p.day * rinse_core::DAY).split_once(' ').map_or_else(String::new, |(_, date)| date.to_owned());
                Some(Point { label, rate: p.rate.rate?, limits: p.low.zip(p.high), signal: p.outside })
            })
            .collect(),
        marks: c.measure.marks(&e.marks).into_iter().map(|(name, rate)| Mark { name: format!("{name} {}%", rate * 100.0), rate }).collect(),
    }
}

/// The PDF.
///
/// # Errors
/// When it can't be written.
pub(crate) fn pdf(e: &Evidence) -> Result<Vec<u8>, PaperError> {
    let who = e.senders.join(", ");
    let mut p = Paper::new("How this base is kept clean", &format!("{who} · made {}", Instant::of(e.made_at).words()), e.made_at / 1000)?;
    p.text(&format!("Mail of {who}, {} to {}. All rates have 95% intervals (Wilson).", day(e.since), day(e.made_at)));
    for c in &e.courses {
        p.text(&finding(c));
    }
    for n in &e.notes {
        p.text(&format!("{}, {}: {}", day(n.at), n.person.as_deref().unwrap_or("Rinse"), n.text));
    }
    p.heading("Week by week");
    p.soft("A point is a week (from Monday, UTC) with at least 100 messages. The band holds the limits that the base’s own weeks give, by Laney’s p-prime chart (2002); a large point lies outside. Dashed lines are marks that we set.");
    for c in &e.courses {
        p.chart(&chart(c, e));
    }
    p.heading("Month by month");
    let months: Vec<Vec<String>> = e
        .months
        .iter()
        .map(|m| {
            let n = thousands;
            let s = |x: i64| n(x.unsigned_abs());
            vec![
                m.month.clone(),
                n(m.sent),
                n(m.accepted),
                n(m.bounced_permanently),
                n(m.bounced_temporarily),
                n(m.blocked),
                n(m.complaints),
                s(m.retired),
                s(m.sunset),
                s(m.deleted),
                s(m.withdrew),
            ]
        })
        .collect();
    let columns = [
        words("Month", 1.2),
        number("Sent", 1.1),
        number("Accepted", 1.2),
        number("Failed for good", 1.0),
        number("For a time", 0.9),
        number("Blocked", 1.0),
        number("Complaints", 1.3),
        number("Retired", 1.0),
        number("Sunset", 1.0),
        number("Deleted", 1.0),
        number("Withdrew", 1.1),
    ];
    p.table(&columns, &months);
    p.heading("The rules in force");
    p.soft(&format!(
        "Version {}{}.",
        e.policy_version,
        if e.policy_at > 0 { format!(", since {}", day(e.policy_at)) } else { String::new() }
    ));
    for sentence in e.policy.sentences() {
        p.text(&sentence);
    }
    p.heading("Who is not mailed any more");
    let mut reasons: Vec<Vec<String>> =
        e.retired_by.iter().map(|r| vec![format!("Retired: {}", r.reason), thousands(r.people.unsigned_abs())]).collect();
    reasons.push(vec!["Sunset: silent, asked, and let it pass".into(), thousands(e.sunset.unsigned_abs())]);
    reasons.push(vec!["Deleted after they were retired".into(), thousands(e.deleted.unsigned_abs())]);
    p.table(&[words("Reason", 4.0), number("People", 1.0)], &reasons);
    if !e.runs.is_empty() {
        p.heading("Cleaning runs");
        let runs: Vec<Vec<String>> = e
            .runs
            .iter()
            .map(|r| {
                let changed: i64 = r.groups.iter().map(|g| g.applied).sum();
                let back: i64 = r.groups.iter().map(|g| g.put_back).sum();
                vec![
                    r.id.to_string(),
                    r.applied_at.map(day).unwrap_or_default(),
                    r.state.to_string(),
                    thousands(changed.unsigned_abs()),
                    thousands(back.unsigned_abs()),
                    r.note.clone(),
                ]
            })
            .collect();
        let columns = [
            words("Run", 0.5),
            words("Applied", 1.4),
            words("State", 0.9),
            number("People", 0.8),
            number("Put back", 0.8),
            words("Note", 3.0),
        ];
        p.table(&columns, &runs);
    }
    if !e.incidents.is_empty() {
        p.heading("Hosts that failed, and what we decided");
        let rows: Vec<Vec<String>> = e
            .incidents
            .iter()
            .map(|i| {
                let decided = match i.counts {
                    None => "waits for a decision",
                    Some(true) => "counted against the addresses",
                    Some(false) => "not counted: the host’s fault",
                };
                vec![
                    day(i.at),
                    i.place.clone(),
                    format!("{} of {}", thousands(i.failures), thousands(i.messages)),
                    decided.to_owned(),
                    i.reason.clone(),
                ]
            })
            .collect();
        p.table(&[words("Day", 1.2), words("At", 1.6), words("Failed", 1.2), words("Decision", 1.9), words("Why", 2.0)], &rows);
    }
    if !e.blocklists.is_empty() {
        p.heading("Blocklists that we ask");
        p.soft("Each is asked once a day, and when a mailbox group begins to block us (RFC 5782).");
        let rows: Vec<Vec<String>> = e.blocklists.iter().flat_map(listings).collect();
        p.table(&[words("List", 2.4), words("Asked", 1.2), words("Of ours", 1.8), words("Listed", 1.2), words("Off again", 1.2)], &rows);
    }
    p.heading("Addresses retired last");
    p.soft(&format!(
        "The newest {} of {}, masked; more are in removed.csv.",
        ON_PAPER.min(e.removed.len()),
        thousands(e.retired_by.iter().map(|r| r.people.unsigned_abs()).sum())
    ));
    let rows: Vec<Vec<String>> =
        e.removed.iter().take(ON_PAPER).map(|r| vec![r.at.map(day).unwrap_or_default(), r.address.clone(), r.why.clone()]).collect();
    p.table(&[words("Since", 1.2), words("Address", 1.7), words("Why", 4.0)], &rows);
    p.finish()
}

/// A blocklist with what of ours it had, a row each; one row where it never had anything.
fn listings(b: &Blocklist) -> Vec<Vec<String>> {
    let asked = b.asked_at.map(day).unwrap_or_default();
    if b.listings.is_empty() {
        return vec![vec![b.list.zone.clone(), asked, "nothing".into(), String::new(), String::new()]];
    }
    let off = |l: &Listing| l.off_at.map_or_else(|| "still listed".to_owned(), day);
    b.listings.iter().map(|l| vec![b.list.zone.clone(), asked.clone(), l.subject.clone(), day(l.listed_at), off(l)]).collect()
}

/// The pack.
///
/// # Errors
/// When one of its files can't be written.
pub(crate) fn zip(e: &Evidence) -> io::Result<Vec<u8>> {
    let weeks = e.courses.iter().flat_map(|c| {
        c.points.iter().map(move |p| {
            let x = |v: Option<f64>| v.map_or_else(String::new, |v| format!("{v:.6}"));
            let yes = |b: bool| if b { "yes" } else { "no" }.to_owned();
            let measure = format!("{:?}", c.measure).to_lowercase();
            let monday = iso(p.day * rinse_core::DAY).chars().take(10).collect();
            vec![
                measure,
                monday,
                p.rate.count.to_string(),
                p.rate.of.to_string(),
                x(p.rate.rate),
                x(p.rate.lower),
                x(p.rate.upper),
                x(p.low),
                x(p.high),
                yes(p.outside),
                yes(p.beyond_mark),
            ]
        })
    });
    let weeks = csv_bytes(
        &[
            "measure",
            "week_from",
            "count",
            "of",
            "rate",
            "lower_95",
            "upper_95",
            "own_limit_low",
            "own_limit_high",
            "outside_own_limits",
            "beyond_mark",
        ],
        weeks,
    )?;
    let months = e.months.iter().map(|m| {
        let counts =
            [m.sent, m.accepted, m.bounced_permanently, m.bounced_temporarily, m.blocked, m.delivered, m.complaints].map(|n| n.to_string());
        let people = [m.retired, m.rested, m.sunset, m.deleted, m.withdrew, m.complained].map(|n| n.to_string());
        [m.month.clone()].into_iter().chain(counts).chain(people).collect()
    });
    let months = csv_bytes(
        &[
            "month",
            "sent",
            "accepted",
            "bounced_permanently",
            "bounced_temporarily",
            "blocked",
            "delivered",
            "complaints",
            "people_retired",
            "people_rested",
            "people_sunset",
            "people_deleted",
            "people_withdrew",
            "people_complained",
        ],
        months,
    )?;
    let blocklists = csv_bytes(&["list", "asked", "of_ours", "listed", "off_again"], e.blocklists.iter().flat_map(listings))?;
    let removed = e.removed.iter().map(|r| vec![r.at.map(iso).unwrap_or_default(), r.address.clone(), r.reason.clone(), r.why.clone()]);
    let removed = csv_bytes(&["since", "address_masked", "reason", "evidence"], removed)?;
    let runs = e.runs.iter().flat_map(|r| {
        r.groups.iter().map(move |g| {
            let ns = [g.people, g.taken_out, g.applied, g.put_back].map(|n| n.to_string());
            [
                r.id.to_string(),
                r.applied_at.map(iso).unwrap_or_default(),
                r.state.to_string(),
                g.words.clone(),
                g.before.words().to_owned(),
                g.after.words().to_owned(),
            ]
            .into_iter()
            .chain(ns)
            .collect()
        })
    });
    let runs = csv_bytes(&["run", "applied_at", "state", "reason", "from", "to", "people", "taken_out", "changed", "put_back"], runs)?;
    let incidents = e.incidents.iter().map(|i| {
        let counts = i.counts.map_or("undecided", |c| if c { "counted" } else { "not counted" });
        vec![
            iso(i.at),
            i.place.clone(),
            i.mailing.clone(),
            i.failures.to_string(),
            i.messages.to_string(),
            counts.to_owned(),
            i.reason.clone(),
        ]
    });
    let incidents = csv_bytes(&["at", "group", "mailing", "failures", "messages", "decision", "why"], incidents)?;
    let notes = e.notes.iter().map(|n| vec![iso(n.at), n.person.clone().unwrap_or_default(), n.text.clone()]);
    let notes = csv_bytes(&["at", "who", "note"], notes)?;
    zipped([
        ("README.txt", README.as_bytes()),
        ("summary.pdf", &pdf(e).map_err(io::Error::other)?),
        ("weeks.csv", &weeks),
        ("months.csv", &months),
        ("blocklists.csv", &blocklists),
        ("removed.csv", &removed),
        ("runs.csv", &runs),
        ("incidents.csv", &incidents),
        ("notes.csv", &notes),
        ("evidence.json", &serde_json::to_vec_pretty(e)?),
    ])
}
