//! Does the hour matter? The score test of independence from the hour within strata, with people as clusters, and the same by drawing again.

use super::fit::{dropped, singular};
use super::{Design, Row, refuse};
use crate::stats::StatsError;
use crate::stats::special::chi_square_sf;
use nalgebra::{DMatrix, DVector};

/// A test over hours.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ScoreTest {
    pub statistic: f64,
    pub df: usize,
    pub p_value: f64,
}

pub(super) const TOO_FEW: &str = "too few people answered at some hour: the variances can't be told";

/// `UᵀV⁻¹U` with one hour dropped; none where V is as good as singular.
fn statistic((u, products): (DVector<f64>, DMatrix<f64>), correction: f64) -> Option<f64> {
    let v = dropped(&(products * correction));
    if singular(&v) {
        return None;
    }
    let u = u.rows(0, v.nrows()).into_owned();
    v.lu().solve(&u).map(|x| u.dot(&x))
}

#[allow(clippy::cast_precision_loss)]
fn correction(d: &Design) -> f64 {
    let n = d.persons as f64;
    n / (n - 1.0)
}

/// The score test: people's sums of what their answers have beyond their stratum's mean, by hour, against how those vary from person to person
/// (Boos 1992, The American Statistician 46:327-333). It holds where the same people are drawn again and again, and differ in how they answer.
///
/// # Errors
/// Fewer than two hours or persons, hours that no strata link, answers that don't vary within strata, or too few persons for the variances.
pub fn score_test(d: &Design) -> Result<ScoreTest, StatsError> {
    if d.persons < 2 || d.hours.len() < 2 {
        return refuse("fewer than two people answered, or fewer than two hours occur");
    }
    d.linked()?;
    let e = d.within()?;
    let df = d.hours.len() - 1;
    let Some(statistic) = statistic(d.clustered(&d.shares(), e.iter().copied()), correction(d)) else { return refuse(TOO_FEW) };
    #[allow(clippy::cast_precision_loss)]
    let p_value = chi_square_sf(statistic, df as f64);
    Ok(ScoreTest { statistic, df, p_value })
}

/// The same statistic with its p by drawing the hours again: `again` gives each row an hour as the draw could have given it, `draws` times.
/// What was seen counts as one of the draws.
///
/// # Errors
/// As [`score_test`].
#[allow(clippy::cast_precision_loss)]
pub fn redrawn_test(d: &Design, draws: usize, mut again: impl FnMut(&mut [Row])) -> Result<ScoreTest, StatsError> {
    if d.persons < 2 || d.hours.len() < 2 {
        return refuse("fewer than two people answered, or fewer than two hours occur");
    }
    d.linked()?;
    let e = d.within()?;
    let shares = d.shares();
    let of = |d: &Design| statistic(d.clustered(&shares, e.iter().copied()), correction(d));
    let Some(seen) = of(d) else { return refuse(TOO_FEW) };
    let mut drawn = d.clone();
    let mut as_far = 1;
    for _ in 0..draws {
        again(&mut drawn.rows);
        // One that can't be judged counts against finding something.
        as_far += usize::from(of(&drawn).is_none_or(|s| s >= seen * (1.0 - 1e-9)));
    }
    Ok(ScoreTest { statistic: seen, df: d.hours.len() - 1, p_value: as_far as f64 / (1 + draws) as f64 })
}
