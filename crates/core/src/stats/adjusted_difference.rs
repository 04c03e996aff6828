//! A difference of two means, sharpened by what was known of the people before.

use super::welch::{student_quantile, student_two_sided};
use super::{StatsError, open_unit};
use serde::{Deserialize, Serialize};

/// One arm: what was measured of each person, and the covariate from before the trial.
#[derive(Debug, Clone, Deserialize)]
pub struct Covaried {
    pub y: Vec<f64>,
    pub x: Vec<f64>,
}

/// The second arm less the first, adjusted and as it is.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct AdjustedDifference {
    pub difference: f64,
    pub standard_error: f64,
    pub lower: f64,
    pub upper: f64,
    /// Two-sided.
    pub p_value: f64,
    pub unadjusted_difference: f64,
    pub unadjusted_standard_error: f64,
    /// The adjusted variance in units of the other: 0.5 is as good as twice the people.
    pub variance_ratio: f64,
}

/// What one arm adds.
struct Adjusted {
    mean: f64,
    variance: f64,
    unadjusted: f64,
    unadjusted_variance: f64,
    /// Sums of squares about the mean and about the line.
    about_mean: f64,
    about_line: f64,
}

/// People who are alike in both: so many had this outcome and this covariate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Alike {
    pub y: f64,
    pub x: f64,
    pub people: f64,
}

fn adjusted(arm: &[Alike], x_mean: f64) -> Result<Adjusted, StatsError> {
    let refuse = |words: &str| StatsError::Arguments(words.to_owned());
    let n: f64 = arm.iter().map(|a| a.people).sum();
    let mean = |of: fn(&Alike) -> f64| arm.iter().map(|a| a.people * of(a)).sum::<f64>() / n;
    let (my, mx) = (mean(|a| a.y), mean(|a| a.x));
    let s: f64 = arm.iter().map(|a| a.people * (a.x - mx).powi(2)).sum();
    if arm.iter().all(|a| a.x == arm[0].x) || s == 0.0 {
        return Err(refuse("the covariate is the same for everybody of an arm: it can't adjust anything"));
    }
    let slope = arm.iter().map(|a| a.people * (a.x - mx) * (a.y - my)).sum::<f64>() / s;
    let (mut variance, mut about_mean, mut about_line) = (0.0, 0.0, 0.0);
    for Alike { y, x, people } in arm {
        let leverage = 1.0 / n + (x - mx).powi(2) / s;
        if 1.0 - leverage <= 1e-10 {
            return Err(refuse("one person alone carries the slope of an arm: nothing says how far it would be off"));
        }
        let weight = 1.0 / n + (x_mean - mx) * (x - mx) / s;
        let rest = y - my - slope * (x - mx);
        variance += people * (weight * rest).powi(2) / (1.0 - leverage);
        about_mean += people * (y - my).powi(2);
        about_line += people * rest * rest;
    }
    let unadjusted_variance = about_mean / (n - 1.0) / n;
    Ok(Adjusted { mean: my + slope * (x_mean - mx), variance, unadjusted: my, unadjusted_variance, about_mean, about_line })
}

/// Least squares with a slope of its own in each arm (Lin 2013, Annals of Applied Statistics 7:295-318), variances HC2 (MacKinnon and White 1985,
/// Journal of Econometrics 29:305-325), limits by Student's t with `n_a + n_b - 4` degrees of freedom. The claim is about these people: the
/// covariate's mean counts as fixed.
///
/// # Errors
/// Not two arms, fewer than three people in one, lists of different lengths, a value that isn't a number, a covariate that is the same for
/// everybody of an arm or moved by one person alone, no variation, or an exact fit.
pub fn adjusted_difference(arms: &[Covaried], level: f64) -> Result<AdjustedDifference, StatsError> {
    let refuse = |words: &str| Err(StatsError::Arguments(words.to_owned()));
    let [a, b] = arms else { return refuse("give two arms") };
    for arm in [a, b] {
        if arm.y.len() != arm.x.len() {
            return refuse("an arm has as many covariates as outcomes: one of each a person");
        }
        if !arm.y.iter().chain(&arm.x).all(|v| v.is_finite()) {
            return refuse("a value is no number");
        }
    }
    let each = |arm: &Covaried| arm.y.iter().zip(&arm.x).map(|(&y, &x)| Alike { y, x, people: 1.0 }).collect::<Vec<_>>();
    adjusted_of_groups([&each(a), &each(b)], level)
}

/// The same of people who are counted in groups.
///
/// # Errors
/// As [`adjusted_difference`].
pub fn adjusted_of_groups([a, b]: [&[Alike]; 2], level: f64) -> Result<AdjustedDifference, StatsError> {
    let refuse = |words: &str| Err(StatsError::Arguments(words.to_owned()));
    open_unit("level", level)?;
    let sums = |arm: &[Alike]| arm.iter().fold((0.0, 0.0), |s, g| (s.0 + g.people, s.1 + g.people * g.x));
    let ((na, xa), (nb, xb)) = (sums(a), sums(b));
    if na < 3.0 || nb < 3.0 {
        return refuse("an arm has fewer than three people");
    }
    let n = na + nb;
    let x_mean = (xa + xb) / n;
    let (one, other) = (adjusted(a, x_mean)?, adjusted(b, x_mean)?);
    let about_means = one.about_mean + other.about_mean;
    if about_means == 0.0 {
        return refuse("everybody of an arm has the same outcome: there is no variation to compare by");
    }
    if one.about_line + other.about_line <= 1e-20 * about_means {
        return refuse("the covariate tells the outcome exactly: there is no variation left to compare by");
    }
    let difference = other.mean - one.mean;
    let standard_error = (one.variance + other.variance).sqrt();
    let df = n - 4.0;
    let half = student_quantile(1.0 - level, df) * standard_error;
    let unadjusted_standard_error = (one.unadjusted_variance + other.unadjusted_variance).sqrt();
    Ok(AdjustedDifference {
        difference,
        standard_error,
        lower: difference - half,
        upper: difference + half,
        p_value: student_two_sided(difference / standard_error, df),
        unadjusted_difference: other.unadjusted - one.unadjusted,
        unadjusted_standard_error,
        variance_ratio: (standard_error / unadjusted_standard_error).powi(2),
    })
}
