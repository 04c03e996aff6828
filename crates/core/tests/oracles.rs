//! The statistics against reference answers of independent programs; each line names its source.

use rinse_core::stats::calc;
use rstest::rstest;
use serde_json::Value;

/// `None` when `got` agrees with `want` within `abs + rel * |want|`.
fn differs(got: &Value, want: &Value, rel: f64, abs: f64, path: &str) -> Option<String> {
    match want {
        Value::Object(keys) => keys.iter().find_map(|(k, w)| differs(&got[k], w, rel, abs, &format!("{path}.{k}"))),
        Value::Number(w) => {
            let w = w.as_f64().unwrap();
            match got.as_f64() {
                Some(g) if g.is_finite() && (g - w).abs() <= abs + rel * w.abs() => None,
                other => Some(format!("{path}: expected {w:e}, got {other:?}")),
            }
        }
        Value::Array(items) => {
            if got.as_array().map(Vec::len) != Some(items.len()) {
                return Some(format!("{path}: expected {want}, got {got}"));
            }
            items.iter().enumerate().find_map(|(i, w)| differs(&got[i], w, rel, abs, &format!("{path}[{i}]")))
        }
        _ => (got != want).then(|| format!("{path}: expected {want}, got {got}")),
    }
}

#[rstest]
#[case(include_str!("oracles/proportion_interval.jsonl"))]
#[case(include_str!("oracles/two_proportions.jsonl"))]
#[case(include_str!("oracles/sample_size_two_proportions.jsonl"))]
#[case(include_str!("oracles/power_two_proportions.jsonl"))]
#[case(include_str!("oracles/minimum_detectable_effect.jsonl"))]
#[case(include_str!("oracles/sample_ratio_mismatch.jsonl"))]
#[case(include_str!("oracles/welch.jsonl"))]
#[case(include_str!("oracles/chi_square_homogeneity.jsonl"))]
#[case(include_str!("oracles/adjust_p_values.jsonl"))]
#[case(include_str!("oracles/beta_binomial.jsonl"))]
#[case(include_str!("oracles/spending_bounds.jsonl"))]
#[case(include_str!("oracles/ratio_of_means_delta.jsonl"))]
#[case(include_str!("oracles/mantel_haenszel_difference.jsonl"))]
#[case(include_str!("oracles/noninferiority.jsonl"))]
#[case(include_str!("oracles/omnibus_power.jsonl"))]
#[case(include_str!("oracles/omnibus_sample_size.jsonl"))]
#[case(include_str!("oracles/test_and_roll.jsonl"))]
#[case(include_str!("oracles/shrink_effects.jsonl"))]
#[case(include_str!("oracles/p_chart.jsonl"))]
#[case(include_str!("oracles/odds_information.jsonl"))]
#[case(include_str!("oracles/hour_profile.jsonl"))]
#[case(include_str!("oracles/calibration.jsonl"))]
#[case(include_str!("oracles/p_prime_chart.jsonl"))]
#[case(include_str!("oracles/midp_two_proportions.jsonl"))]
#[case(include_str!("oracles/hour_reading.jsonl"))]
#[case(include_str!("oracles/best_set_constant.jsonl"))]
#[case(include_str!("oracles/own_hour_spread.jsonl"))]
#[case(include_str!("oracles/cluster_rate.jsonl"))]
#[case(include_str!("oracles/adjusted_difference.jsonl"))]
#[case(include_str!("oracles/shrink_effects_averaged.jsonl"))]
#[case(include_str!("oracles/randomization_test.jsonl"))]
fn agrees_with_reference_answers(#[case] lines: &str) {
    let mut wrong = Vec::new();
    for line in lines.lines().filter(|l| !l.trim().is_empty()) {
        let want: Value = serde_json::from_str(line).unwrap();
        let got = calc::answer_line(line);
        let problem = if want["expect"]["error"] == true {
            got.get("error").is_none().then(|| format!("expected an error, got {got}"))
        } else if let Some(e) = got.get("error") {
            Some(format!("unexpected error {e}"))
        } else {
            let tolerance = |k: &str| want["tol"][k].as_f64().unwrap();
            differs(&got["ok"], &want["expect"], tolerance("rel"), tolerance("abs"), "")
        };
        wrong.extend(problem.map(|p| format!("{}: {p}", want["id"])));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
