//! One door to the statistics for scripts: a function name and JSON arguments in, JSON out.

use super::proportion::{Method, proportion_interval};
use super::{Arm, StatsError, goodness_of_fit, sample_size, two_proportions, welch};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

#[derive(Deserialize)]
struct IntervalArgs {
    successes: u64,
    trials: u64,
    level: f64,
    method: Method,
}

#[derive(Deserialize)]
struct CompareArgs {
    a: Arm,
    b: Arm,
    level: f64,
}

#[derive(Deserialize)]
struct SizeArgs {
    baseline: f64,
    effect_abs: f64,
    alpha: f64,
    power: f64,
    ratio: f64,
    sides: u32,
}

#[derive(Deserialize)]
struct PowerArgs {
    baseline: f64,
    effect_abs: f64,
    n_a: f64,
    n_b: f64,
    alpha: f64,
    sides: u32,
}

#[derive(Deserialize)]
struct EffectArgs {
    baseline: f64,
    n_a: f64,
    n_b: f64,
    alpha: f64,
    power: f64,
    sides: u32,
}

#[derive(Deserialize)]
struct WelchArgs {
    a: welch::Sample,
    b: welch::Sample,
    level: f64,
}

#[derive(Deserialize)]
struct RatioArgs {
    observed: Vec<u64>,
    planned_shares: Vec<f64>,
}

fn read<T: DeserializeOwned>(args: Value) -> Result<T, StatsError> {
    serde_json::from_value(args).map_err(|e| StatsError::Arguments(format!("the arguments can't be read: {e}")))
}

fn written<T: serde::Serialize>(answer: T) -> Result<Value, StatsError> {
    serde_json::to_value(answer).map_err(|e| StatsError::Arguments(e.to_string()))
}

/// Runs the statistic called `name`.
///
/// # Errors
/// An unknown name, arguments that don't fit, or whatever the function itself refuses.
pub fn call(name: &str, args: Value) -> Result<Value, StatsError> {
    match name {
        "proportion_interval" => {
            let a: IntervalArgs = read(args)?;
            written(proportion_interval(Arm { successes: a.successes, trials: a.trials }, a.level, a.method)?)
        }
        "two_proportions" => {
            let c: CompareArgs = read(args)?;
            written(two_proportions::two_proportions(c.a, c.b, c.level)?)
        }
        "sample_size_two_proportions" => {
            let s: SizeArgs = read(args)?;
            written(sample_size::sample_size_two_proportions(s.baseline, s.effect_abs, s.alpha, s.power, s.ratio, s.sides)?)
        }
        "power_two_proportions" => {
            let p: PowerArgs = read(args)?;
            let power = sample_size::power_two_proportions(p.baseline, p.effect_abs, p.n_a, p.n_b, p.alpha, p.sides)?;
            Ok(json!({ "power": power }))
        }
        "minimum_detectable_effect" => {
            let e: EffectArgs = read(args)?;
            let effect = sample_size::minimum_detectable_effect(e.baseline, e.n_a, e.n_b, e.alpha, e.power, e.sides)?;
            Ok(json!({ "effect_abs": effect }))
        }
        "welch" => {
            let w: WelchArgs = read(args)?;
            written(welch::welch(w.a, w.b, w.level)?)
        }
        "sample_ratio_mismatch" => {
            let r: RatioArgs = read(args)?;
            written(goodness_of_fit::sample_ratio_mismatch(&r.observed, &r.planned_shares)?)
        }
        other => Err(StatsError::Arguments(format!("there is no function called {other:?}"))),
    }
}

/// Answers one line of `rinse calc`: `{"id","fn","args"}` in, `{"id","ok"}` or `{"id","error"}` out.
#[must_use]
pub fn answer_line(line: &str) -> Value {
    let Ok(mut request) = serde_json::from_str::<Value>(line) else {
        return json!({ "id": null, "error": "this line is not a JSON object" });
    };
    let id = request["id"].take();
    let args = request["args"].take();
    match request["fn"].as_str() {
        None => json!({ "id": id, "error": "the line has no \"fn\"" }),
        Some(name) => match call(name, args) {
            Ok(ok) => json!({ "id": id, "ok": ok }),
            Err(e) => json!({ "id": id, "error": e.to_string() }),
        },
    }
}
