//! Do several arms have the same rate? And stratum by stratum, two of them.

use super::goodness_of_fit::ChiSquare;
use super::special::chi_square_sf;
use super::two_proportions::{Comparison, newcombe, two_proportions};
use super::{Arm, StatsError, z_of_level};
use serde::{Deserialize, Serialize};

/// Pearson's chi-square of the k x 2 table, without continuity correction. Where nothing varies there is nothing to
/// find: 0, with p = 1.
///
/// # Errors
/// Fewer than two arms, or one without trials.
#[allow(clippy::cast_possible_truncation)]
pub fn chi_square_homogeneity(arms: &[Arm]) -> Result<ChiSquare, StatsError> {
    if arms.len() < 2 {
        return Err(StatsError::Arguments("there is nothing to compare with fewer than two arms".into()));
    }
    let counts: Vec<(f64, f64)> = arms.iter().map(|a| a.checked()).collect::<Result<_, _>>()?;
    let (x, n) = counts.iter().fold((0.0, 0.0), |sum, c| (sum.0 + c.0, sum.1 + c.1));
    let df = arms.len() as u32 - 1;
    if x == 0.0 || x == n {
        return Ok(ChiSquare { statistic: 0.0, df, p_value: 1.0 });
    }
    let pooled = x / n;
    let variance = pooled * ((n - x) / n);
    let statistic = counts.iter().map(|(x, n)| (x - n * pooled).powi(2) / (n * variance)).sum();
    Ok(ChiSquare { statistic, df, p_value: chi_square_sf(statistic, f64::from(df)) })
}

/// Tests of strata as one: their statistics and degrees of freedom add up.
#[must_use]
pub fn summed(tests: &[ChiSquare]) -> ChiSquare {
    let (statistic, df) = tests.iter().fold((0.0, 0), |sum, t| (sum.0 + t.statistic, sum.1 + t.df));
    ChiSquare { statistic, df, p_value: if df == 0 { 1.0 } else { chi_square_sf(statistic, f64::from(df)) } }
}

/// `b` against `a` over strata: the Mantel-Haenszel difference with the test of Cochran, Mantel and Haenszel. Its limits are
/// each stratum's limits by Newcombe, put together by their weights (MOVER: Zou and Donner 2008, Stat Med 27:1693-1702), so
/// that they stay honest where next to nobody responds. There is no exact test and no risk ratio over strata. One stratum
/// alone is compared as [`two_proportions`] does.
///
/// # Errors
/// As [`two_proportions`]; no stratum at all.
#[allow(clippy::cast_precision_loss)]
pub fn compare_strata(strata: &[(Arm, Arm)], level: f64) -> Result<Comparison, StatsError> {
    if let [(a, b)] = strata {
        return two_proportions(*a, *b, level);
    }
    let found = mantel_haenszel_difference(&strata.iter().map(|&(a, b)| Stratum { a, b }).collect::<Vec<_>>(), level)?;
    let weight = |(a, b): &(Arm, Arm)| a.trials as f64 * b.trials as f64 / (a.trials + b.trials) as f64;
    let all: f64 = strata.iter().map(weight).sum();
    let (mut below, mut above) = (0.0f64, 0.0f64);
    for s in strata {
        let (w, (a, b)) = (weight(s) / all, s);
        let difference = b.successes as f64 / b.trials as f64 - a.successes as f64 / a.trials as f64;
        let (lower, upper) = newcombe(*a, *b, level)?;
        (below, above) = (below.hypot(w * (difference - lower)), above.hypot(w * (upper - difference)));
    }
    Ok(Comparison {
        difference: found.difference,
        lower: (found.difference - below).max(-1.0),
        upper: (found.difference + above).min(1.0),
        z: found.cmh_statistic.sqrt().copysign(found.difference),
        p_value: found.cmh_p_value,
        fisher_p: found.cmh_p_value,
        risk_ratio: None,
        risk_ratio_lower: None,
        risk_ratio_upper: None,
    })
}

/// Two arms within one stratum; either may be empty.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Stratum {
    pub a: Arm,
    pub b: Arm,
}

/// A common difference over strata.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = StratifiedDifference)]
pub struct Stratified {
    /// `b` less `a`.
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    pub cmh_statistic: f64,
    pub cmh_p_value: f64,
}

/// The Mantel-Haenszel difference with the variance of Sato (Greenland and Robins 1989), and the test of Cochran, Mantel
/// and Haenszel without continuity correction. A stratum with an empty arm says nothing.
///
/// # Errors
/// More successes than trials, or no stratum with both arms.
#[allow(clippy::cast_precision_loss)]
pub fn mantel_haenszel_difference(strata: &[Stratum], level: f64) -> Result<Stratified, StatsError> {
    let z = z_of_level(level)?;
    let (mut weight, mut numerator, mut p_sum, mut q_sum) = (0.0, 0.0, 0.0, 0.0);
    let mut variance = 0.0;
    for s in strata {
        for arm in [s.a, s.b] {
            if arm.successes > arm.trials {
                return Err(StatsError::Arm { successes: arm.successes, trials: arm.trials });
            }
        }
        if s.a.trials == 0 || s.b.trials == 0 {
            continue;
        }
        let (c, n0, x, n1) = (s.a.successes as f64, s.a.trials as f64, s.b.successes as f64, s.b.trials as f64);
        let n = n0 + n1;
        weight += n1 * n0 / n;
        // Also x - (x+c) n1/N, the excess that the test asks of, without its cancellation.
        numerator += (x * n0 - c * n1) / n;
        p_sum += (n1 * n1 * c - n0 * n0 * x + n1 * n0 * (n0 - n1) / 2.0) / (n * n);
        q_sum += (x * (n0 - c) + c * (n1 - x)) / (2.0 * n);
        if n > 1.0 {
            variance += n0 / n * (n1 / n) * (x + c) * ((n - x - c) / (n - 1.0));
        }
    }
    if weight == 0.0 {
        return Err(StatsError::Arguments("no stratum has people in both arms".into()));
    }
    let difference = numerator / weight;
    let half = z * ((difference * p_sum + q_sum).max(0.0)).sqrt() / weight;
    let (statistic, p) =
        if variance == 0.0 { (0.0, 1.0) } else { (numerator * numerator / variance, chi_square_sf(numerator * numerator / variance, 1.0)) };
    Ok(Stratified { difference, lower: difference - half, upper: difference + half, cmh_statistic: statistic, cmh_p_value: p })
}
