//! The record of a trial as a zip: all that led to its verdict, and the few lines of Python and of R that work it out
//! again from the files beside them.

use rinse_core::trial::assign::Enrolled;
use rinse_core::trial::letter;
use rinse_core::trial::reading::{ArmCounts, Reading};
use rinse_store::trials::Trial;
use std::io::{Cursor, Result, Write};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// Needs nothing but Python 3.
const PYTHON: &str = include_str!("record/recompute.py");
/// Needs nothing but R.
const R: &str = include_str!("record/recompute.R");
const WORDS: &str = include_str!("record/README.txt");

/// The files of the record.
pub(crate) fn zip(t: &Trial, subjects: &[String], reading: &Reading, counts: &[ArmCounts], roster: &[Enrolled]) -> Result<Vec<u8>> {
    let mut arms = String::from("arm,subject,assigned,handed_over,accepted,bounced,primary,reported,clicked,left,complained\n");
    for (i, c) in counts.iter().enumerate() {
        let subject = subjects.get(i).map(|s| s.replace('"', "\"\"")).unwrap_or_default();
        let [a, b, d, e, f, g, h, j, k] =
            [c.assigned, c.handed_over, c.accepted, c.bounced, c.primary, c.reported, c.clicked, c.left, c.complained];
        arms.push_str(&format!("{},\"{subject}\",{a},{b},{d},{e},{f},{g},{h},{j},{k}\n", letter(i)));
    }
    let mut assignments = String::from("contact,stratum,arm\n");
    for e in roster {
        assignments.push_str(&format!("{},{},{}\n", e.contact, e.stratum, letter(e.arm)));
    }
    let json = |v: serde_json::Value| serde_json::to_string_pretty(&v).unwrap_or_default();
    let verdict = json(serde_json::to_value(reading)?);
    let plan = json(serde_json::to_value(&t.plan)?);
    let seal = json(serde_json::json!({
        "question": t.plan.question, "mailing": t.mailing, "seed": t.seed.map(i64::cast_unsigned), "sealed_at": t.sealed_at.map(super::handlers::iso),
        "read_at": t.read_at.map(super::handlers::iso), "seal": t.seal, "stopped": t.stopped, "opened_early_at": t.opened_at.map(super::handlers::iso),
    }));
    let mut out = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in [
        ("README.txt", WORDS),
        ("plan.json", &plan),
        ("seal.json", &seal),
        ("arms.csv", &arms),
        ("assignments.csv", &assignments),
        ("verdict.json", &verdict),
        ("recompute.py", PYTHON),
        ("recompute.R", R),
    ] {
        out.start_file(name, SimpleFileOptions::default())?;
        out.write_all(text.as_bytes())?;
    }
    Ok(out.finish()?.into_inner())
}
