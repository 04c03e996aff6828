//! One door to the statistics for scripts: a function name and JSON arguments in, JSON out.

use super::proportion::{Method, proportion_interval};
use super::{
    Arm, StatsError, adjust, adjusted_difference, best_set, beta_binomial, calibration, cluster_rate, goodness_of_fit, homogeneity,
    hour_trial, hours, midp, noninferiority, omnibus, planning, randomization, ratio_of_means, sample_size, shrink, shrink_averaged,
    spending, two_proportions, welch,
};
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

#[derive(Deserialize)]
struct ArmsArgs {
    arms: Vec<Arm>,
}

#[derive(Deserialize)]
struct AdjustArgs {
    p_values: Vec<f64>,
    method: adjust::Adjustment,
}

#[derive(Deserialize)]
struct BestArgs {
    arms: Vec<Arm>,
    prior: beta_binomial::Prior,
}

#[derive(Deserialize)]
struct BoundsArgs {
    alpha: f64,
    sides: u32,
    information_fractions: Vec<f64>,
    spending: spending::Spending,
}

#[derive(Deserialize)]
struct RatiosArgs {
    a: ratio_of_means::Sums,
    b: ratio_of_means::Sums,
    level: f64,
}

#[derive(Deserialize)]
struct StrataArgs {
    strata: Vec<homogeneity::Stratum>,
    level: f64,
}

#[derive(Deserialize)]
struct MarginArgs {
    control: Arm,
    treatment: Arm,
    margin: f64,
    alpha: f64,
    bad_when: noninferiority::BadWhen,
}

#[derive(Deserialize)]
struct ProfileArgs {
    profile: Vec<f64>,
    #[serde(default)]
    trials_per_hour: f64,
    alpha: f64,
    #[serde(default)]
    power: f64,
}

#[derive(Deserialize)]
struct RollArgs {
    audience: f64,
    response_sd: f64,
    prior_sd: f64,
}

#[derive(Deserialize)]
struct EffectsArgs {
    effects: Vec<shrink::Effect>,
}

#[derive(Deserialize)]
struct ChartArgs {
    points: Vec<Arm>,
    baseline_points: usize,
}

#[derive(Deserialize)]
struct HoursArgs {
    hours: Vec<hours::Hour>,
}

#[derive(Deserialize)]
struct CalibrationArgs {
    n_per_arm: usize,
    rate: f64,
    alpha: f64,
    looks: usize,
    bounds: calibration::Looks,
}

#[derive(Deserialize)]
struct PairArgs {
    a: Arm,
    b: Arm,
}

#[derive(Deserialize)]
struct AnswersArgs {
    responses: Vec<hour_trial::Answer>,
    alpha: Option<f64>,
}

#[derive(Deserialize)]
struct ConstantArgs {
    k: u32,
    alpha: f64,
}

#[derive(Deserialize)]
struct GroupsArgs {
    groups: Vec<Arm>,
    level: f64,
}

#[derive(Deserialize)]
struct CovariedArgs {
    arms: Vec<adjusted_difference::Covaried>,
    level: f64,
}

#[derive(Deserialize)]
struct AveragedArgs {
    effects: Vec<shrink::Effect>,
    mean: shrink_averaged::Mean,
    scale: f64,
}

#[derive(Deserialize)]
struct RedrawArgs {
    arms: Vec<Vec<f64>>,
    draws: u64,
    seed: Option<u64>,
}

#[derive(Deserialize)]
struct OddsArgs {
    p_t: f64,
    p_final: f64,
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
        "chi_square_homogeneity" => written(homogeneity::chi_square_homogeneity(&read::<ArmsArgs>(args)?.arms)?),
        "adjust_p_values" => {
            let a: AdjustArgs = read(args)?;
            Ok(json!({ "adjusted": adjust::adjust_p_values(&a.p_values, a.method)? }))
        }
        "beta_binomial" => {
            let b: BestArgs = read(args)?;
            written(beta_binomial::beta_binomial(&b.arms, b.prior)?)
        }
        "spending_bounds" => {
            let b: BoundsArgs = read(args)?;
            written(spending::spending_bounds(b.alpha, b.sides, &b.information_fractions, b.spending)?)
        }
        "ratio_of_means_delta" => {
            let r: RatiosArgs = read(args)?;
            written(ratio_of_means::ratio_of_means_delta(r.a, r.b, r.level)?)
        }
        "mantel_haenszel_difference" => {
            let s: StrataArgs = read(args)?;
            written(homogeneity::mantel_haenszel_difference(&s.strata, s.level)?)
        }
        "noninferiority" => {
            let m: MarginArgs = read(args)?;
            written(noninferiority::noninferiority(m.control, m.treatment, m.margin, m.alpha, m.bad_when)?)
        }
        "omnibus_power" => {
            let p: ProfileArgs = read(args)?;
            written(omnibus::omnibus_power(&p.profile, p.trials_per_hour, p.alpha)?)
        }
        "omnibus_sample_size" => {
            let p: ProfileArgs = read(args)?;
            Ok(json!({ "trials_per_hour": omnibus::omnibus_sample_size(&p.profile, p.alpha, p.power)? }))
        }
        "test_and_roll" => {
            let r: RollArgs = read(args)?;
            Ok(json!({ "pilot_per_arm": planning::test_and_roll(r.audience, r.response_sd, r.prior_sd)? }))
        }
        "shrink_effects" => written(shrink::shrink_effects(&read::<EffectsArgs>(args)?.effects)?),
        "p_chart" => {
            let c: ChartArgs = read(args)?;
            written(planning::p_chart(&c.points, c.baseline_points)?)
        }
        "odds_information" => {
            let o: OddsArgs = read(args)?;
            Ok(json!({ "fraction": planning::odds_information(o.p_t, o.p_final)? }))
        }
        "hour_profile" => written(hours::hour_profile(&read::<HoursArgs>(args)?.hours)?),
        "calibration" => {
            let c: CalibrationArgs = read(args)?;
            Ok(json!({ "false_positive_rate": calibration::calibration(c.n_per_arm, c.rate, c.alpha, c.looks, c.bounds)? }))
        }
        "p_prime_chart" => {
            let c: ChartArgs = read(args)?;
            written(planning::p_prime_chart(&c.points, c.baseline_points)?)
        }
        "midp_two_proportions" => {
            let p: PairArgs = read(args)?;
            written(midp::midp_two_proportions(p.a, p.b)?)
        }
        "hour_reading" => {
            let a: AnswersArgs = read(args)?;
            written(hour_trial::reading::hour_reading(&a.responses, a.alpha.unwrap_or(0.05))?)
        }
        "best_set_constant" => {
            let c: ConstantArgs = read(args)?;
            Ok(json!({ "constant": best_set::best_set_constant(c.k, c.alpha)? }))
        }
        "own_hour_spread" => written(hour_trial::own_hours::own_hour_spread(&read::<AnswersArgs>(args)?.responses)?),
        "cluster_rate" => {
            let g: GroupsArgs = read(args)?;
            written(cluster_rate::cluster_rate(&g.groups, g.level)?)
        }
        "adjusted_difference" => {
            let c: CovariedArgs = read(args)?;
            written(adjusted_difference::adjusted_difference(&c.arms, c.level)?)
        }
        "shrink_effects_averaged" => {
            let e: AveragedArgs = read(args)?;
            written(shrink_averaged::shrink_effects_averaged(&e.effects, e.mean, e.scale)?)
        }
        "randomization_test" => {
            let r: RedrawArgs = read(args)?;
            written(randomization::randomization_test(&r.arms, r.draws, r.seed.unwrap_or(1))?)
        }
        other => Err(StatsError::Arguments(format!("there is no function called {other:?}"))),
    }
}

/// Answers one line of `rinse calc`: `{"id","fn","args"}` in, `{"id","ok"}` or `{"id","error"}` out.
#[must_use]
pub fn answer_line(line: &str) -> Value {
    let Ok(mut request) = serde_json::from_str::<serde_json::Map<String, Value>>(line) else {
        return json!({ "id": null, "error": "this line is not a JSON object" });
    };
    let id = request.remove("id").unwrap_or_default();
    let args = request.remove("args").unwrap_or_default();
    match request.get("fn").and_then(Value::as_str) {
        None => json!({ "id": id, "error": "the line has no \"fn\"" }),
        Some(name) => match call(name, args) {
            Ok(ok) => json!({ "id": id, "ok": ok }),
            Err(e) => json!({ "id": id, "error": e.to_string() }),
        },
    }
}
