//! The record of an hour trial as a zip: who was drawn to which hour, what came of it, and the scripts that work the reading out again.

use crate::csv_out::{csv_bytes, iso};
use crate::zipped::zipped;
use rinse_core::trial::hour::reading::{Answered, Reading};
use rinse_store::hour_trials::HourTrial;
use std::io::Result;

/// Needs nothing but Python 3.
const PYTHON: &str = include_str!("recompute_hours.py");
/// Needs nothing but R.
const R: &str = include_str!("recompute_hours.R");
const WORDS: &str = include_str!("README_hours.txt");

/// The files of the record.
pub(crate) fn zip(t: &HourTrial, reading: &Reading, answers: &[Answered]) -> Result<Vec<u8>> {
    let yes = |is: bool| if is { "yes" } else { "no" }.to_owned();
    let rows = answers.iter().map(|a| {
        let places = [a.contact.to_string(), (a.round + 1).to_string(), a.zone.to_string(), a.stratum.to_string(), a.hour.to_string()];
        places.into_iter().chain([yes(!a.opens_unknown), yes(a.lost), yes(a.machine), yes(a.did)]).collect()
    });
    let drawn = csv_bytes(&["contact", "round", "zone", "stratum", "hour", "opens_known", "lost", "machine", "did"], rows)?;
    let json = |v: serde_json::Value| serde_json::to_vec_pretty(&v).unwrap_or_default();
    let seal = json(serde_json::json!({
        "seed": t.seed.map(i64::cast_unsigned), "digest": t.digest, "rule_version": rinse_store::hour_trials::RULE_VERSION,
        "sealed_at": t.sealed_at.map(iso), "read_at": t.read_at.map(iso),
    }));
    zipped([
        ("README.txt", WORDS.as_bytes()),
        ("plan.json", &json(serde_json::to_value(&t.plan)?)),
        ("seal.json", &seal),
        ("drawn.csv", &drawn),
        ("reading.json", &json(serde_json::to_value(reading)?)),
        ("recompute.py", PYTHON.as_bytes()),
        ("recompute.R", R.as_bytes()),
    ])
}
