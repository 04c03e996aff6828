//! The record of a trial as a zip: all that led to its verdict, and the few lines of Python and of R that work it out
//! again from the files beside them.

use crate::csv_out::{csv_bytes, iso};
use rinse_core::trial::assign::Enrolled;
use rinse_core::trial::letter;
use rinse_core::trial::reading::{ArmCounts, Reading};
use rinse_store::trials::Trial;
use rinse_store::trials::enrol::Stretch;
use std::io::{Cursor, Result, Write};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

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
    }));
    let of_stretches = by_stretch(t, stretches)?;
    let mut out = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in [
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
    {
        out.start_file(name, SimpleFileOptions::default())?;
        out.write_all(bytes)?;
    }
    Ok(out.finish()?.into_inner())
}
