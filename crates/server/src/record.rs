//! The record of a trial as a zip: all that led to its verdict, and the few lines of Python and of R that work it out
//! again from the files beside them.

pub(crate) mod hours;

use crate::csv_out::{csv_bytes, iso};
use crate::zipped::zipped;
use rinse_core::trial::assign::Enrolled;
use rinse_core::trial::letter;
use rinse_core::trial::reading::{ArmCounts, Reading};
use rinse_store::trials::Trial;
use rinse_store::trials::enrol::Stretch;
use std::io::Result;

/// Needs nothing but Python 3.
const PYTHON: &str = include_str!("record/recompute.py");
/// Needs nothing but R.
const R: &str = include_str!("record/recompute.R");
const WORDS: &str = include_str!("record/README.txt");

const COUNTED: [&str; 12] =
    ["assigned", "unknown", "handed_over", "accepted", "bounced", "primary", "reported", "clicked", "left", "complained", "sum", "squares"];

fn counted(c: &ArmCounts) -> Vec<String> {
    let of = [c.assigned, c.unknown, c.handed_over, c.accepted, c.bounced, c.primary, c.reported, c.clicked, c.left, c.complained];
    of.map(|n| n.to_string()).into_iter().chain([c.sum, c.squares].map(|n| n.to_string())).collect()
}

/// What was counted of each stretch, arm by arm; none of a trial whose people were drawn at once.
fn by_stretch(t: &Trial, stretches: &[Stretch]) -> Result<Option<Vec<u8>>> {
    let Some(beside) = t.beside.as_ref().filter(|b| !b.stretches.is_empty()) else { return Ok(None) };
    let rows = beside.stretches.iter().zip(stretches).zip(1..).flat_map(|((s, began), n)| {
        s.counts.iter().zip(&s.parts).zip(0..).map(move |((c, parts), arm)| {
            let first = [n.to_string(), iso(began.began_at), letter(arm).to_string(), parts.to_string()];
            first.into_iter().chain(counted(c)).collect()
        })
    });
    let header: Vec<&str> = ["stretch", "began_at", "arm", "parts"].into_iter().chain(COUNTED).collect();
    Ok(Some(csv_bytes(&header, rows)?))
}

/// Of revenue since version 5 of the rule: the people of each stratum and arm, and what was brought.
fn brought(t: &Trial) -> Result<Option<(Vec<u8>, Vec<u8>)>> {
    let Some(amounts) = t.beside.as_ref().map(|b| &b.amounts).filter(|a| !a.is_empty()) else { return Ok(None) };
    let people = amounts.iter().zip(1..).flat_map(|(s, n)| {
        s.people
            .iter()
            .zip(0..)
            .map(move |(people, arm)| vec![(s.stretch + 1).to_string(), n.to_string(), letter(arm).to_string(), people.to_string()])
    });
    let strata = csv_bytes(&["stretch", "stratum", "arm", "people"], people)?;
    let each = amounts.iter().zip(1..).flat_map(|(s, n)| {
        s.brought
            .iter()
            .zip(0..)
            .flat_map(move |(of, arm)| of.iter().map(move |v| vec![n.to_string(), letter(arm).to_string(), v.to_string()]))
    });
    Ok(Some((strata, csv_bytes(&["stratum", "arm", "amount"], each)?)))
}

/// Where the plan uses what people did before: the people of each arm by that, with those who have the primary.
fn before(t: &Trial) -> Result<Option<Vec<u8>>> {
    let Some(before) = t.beside.as_ref().map(|b| &b.before).filter(|b| !b.is_empty()) else { return Ok(None) };
    let rows = before.iter().zip(0..).flat_map(|(groups, arm)| {
        groups.iter().map(move |g| vec![letter(arm).to_string(), g.share.to_string(), g.people.to_string(), g.primary.to_string()])
    });
    Ok(Some(csv_bytes(&["arm", "share", "people", "primary"], rows)?))
}

/// The files of the record.
pub(crate) fn zip(
    t: &Trial,
    subjects: &[String],
    reading: &Reading,
    counts: &[ArmCounts],
    roster: &[Enrolled],
    stretches: &[Stretch],
) -> Result<Vec<u8>> {
    let header: Vec<&str> = ["arm", "subject"].into_iter().chain(COUNTED).collect();
    let rows = counts.iter().zip(0..).map(|(c, i)| {
        let subject = subjects.get(i).cloned().unwrap_or_else(|| "no mail".into());
        [letter(i).to_string(), subject].into_iter().chain(counted(c)).collect()
    });
    let arms = csv_bytes(&header, rows)?;
    let people = roster.iter().map(|e| {
        let known = if e.opens_unknown { "no" } else { "yes" };
        vec![e.contact.to_string(), e.stratum.to_string(), letter(e.arm).to_string(), known.to_owned()]
    });
    let assignments = csv_bytes(&["contact", "stratum", "arm", "opens_known"], people)?;
    let json = |v: serde_json::Value| serde_json::to_vec_pretty(&v).unwrap_or_default();
    let verdict = json(serde_json::to_value(reading)?);
    let plan = json(serde_json::to_value(&t.plan)?);
    let seal = json(serde_json::json!({
        "question": t.plan.question, "mailing": t.mailing, "seed": t.seed.map(i64::cast_unsigned), "sealed_at": t.sealed_at.map(iso),
        "read_at": t.read_at.map(iso), "seal": t.seal, "stopped": t.stopped, "opened_early_at": t.opened_at.map(iso),
        "design": t.beside.as_ref().map(|b| &b.design),
        "called_at_look": t.called_at_look, "decided_at": t.beside.as_ref().and_then(|b| b.at_look).map(|l| l.level),
        "ended_on_sight": t.beside.as_ref().is_some_and(|b| b.ended_on_sight),
    }));
    let of_stretches = by_stretch(t, stretches)?;
    let (strata, amounts) = brought(t)?.unzip();
    let before = before(t)?;
    let files = [
        ("README.txt", WORDS.as_bytes()),
        ("plan.json", &plan),
        ("seal.json", &seal),
        ("arms.csv", &arms),
        ("assignments.csv", &assignments),
        ("verdict.json", &verdict),
        ("recompute.py", PYTHON.as_bytes()),
        ("recompute.R", R.as_bytes()),
    ]
    .into_iter()
    .chain(of_stretches.as_deref().map(|bytes| ("stretches.csv", bytes)))
    .chain(before.as_deref().map(|bytes| ("before.csv", bytes)))
    .chain(strata.as_deref().map(|bytes| ("strata.csv", bytes)))
    .chain(amounts.as_deref().map(|bytes| ("amounts.csv", bytes)));
    zipped(files)
}
