//! What each hour adds: least squares on stratum and hour, the covariance by person.

use super::score::TOO_FEW;
use super::{Design, refuse};
use crate::stats::best_set::best_set_constant;
use crate::stats::{StatsError, open_unit};
use chacha20::ChaCha12Rng;
use nalgebra::{DMatrix, DVector};
use rand::SeedableRng;
use rand_distr::{Distribution, StandardNormal};

/// Each hour less the mean of the hours, and how those vary together.
#[derive(Debug, Clone)]
pub struct Fit {
    pub estimates: DVector<f64>,
    pub covariance: DMatrix<f64>,
}

/// Is a covariance as good as singular, by the smallest eigenvalue of its correlations?
pub(super) fn singular(v: &DMatrix<f64>) -> bool {
    let scale: Vec<f64> = (0..v.nrows()).map(|i| v[(i, i)].sqrt()).collect();
    if scale.iter().any(|s| !(*s > 0.0 && s.is_finite())) {
        return true;
    }
    let correlations = DMatrix::from_fn(v.nrows(), v.ncols(), |i, j| v[(i, j)] / scale[i] / scale[j]);
    correlations.symmetric_eigenvalues().min() <= 1e-10
}

/// Without the last hour, which the others imply.
pub(super) fn dropped(v: &DMatrix<f64>) -> DMatrix<f64> {
    let k = v.nrows() - 1;
    v.view((0, 0), (k, k)).into_owned()
}

/// The estimates with their covariance (Liang and Zeger 1986, Biometrika 73:13-22).
///
/// # Errors
/// Answers that don't vary or that the hours tell exactly, or too few persons for the variances.
#[allow(clippy::cast_precision_loss)]
pub fn fit(d: &Design) -> Result<Fit, StatsError> {
    let (k, n) = (d.hours.len(), d.persons as f64);
    let e = d.within()?;
    let shares = d.shares();
    let of_stratum = |s: usize| &shares[s * k..][..k];
    // The information of a stratum: its people times what its shares leave to vary.
    let mut people = vec![0.0; d.strata];
    let mut score = DVector::<f64>::zeros(k);
    for ((_, s, h, _), e) in d.rows.iter().zip(&e) {
        people[*s] += 1.0;
        score[*h] += e;
    }
    let mut information = DMatrix::<f64>::zeros(k, k);
    for (s, people) in people.iter().enumerate() {
        let q = DVector::from_column_slice(of_stratum(s));
        information.ger(-people, &q, &q, 1.0);
        (0..k).for_each(|h| information[(h, h)] += people * q[h]);
    }
    let ones = DMatrix::from_element(k, k, 1.0 / k as f64);
    let inverse = (information + &ones).try_inverse().ok_or_else(|| StatsError::Arguments(TOO_FEW.into()))? - ones;
    let estimates = &inverse * score;
    let mean_of: Vec<f64> = (0..d.strata).map(|s| of_stratum(s).iter().zip(estimates.iter()).map(|(q, b)| q * b).sum()).collect();
    let rest: Vec<f64> = d.rows.iter().zip(&e).map(|((_, s, h, _), e)| e - estimates[*h] + mean_of[*s]).collect();
    let squares = |v: &[f64]| v.iter().map(|x| x * x).sum::<f64>();
    if squares(&rest) <= 1e-20 * squares(&e) {
        return refuse("the hours tell the answers exactly: there is no variation left to judge by");
    }
    let (_, scores) = d.clustered(&shares, rest.iter().copied());
    let covariance = &inverse * scores * &inverse * (n / (n - 1.0));
    if singular(&dropped(&covariance)) {
        return refuse(TOO_FEW);
    }
    Ok(Fit { estimates, covariance })
}

/// Draws for the largest of several t at once.
const DRAWS: usize = 20_000;

impl Fit {
    #[must_use]
    pub fn standard_errors(&self) -> Vec<f64> {
        (0..self.estimates.len()).map(|h| self.covariance[(h, h)].max(0.0).sqrt()).collect()
    }

    fn error_between(&self, g: usize, h: usize) -> f64 {
        let c = &self.covariance;
        (c[(g, g)] + c[(h, h)] - 2.0 * c[(g, h)]).max(0.0).sqrt()
    }

    /// The hours that may be the best: an hour stays unless another leads it by more than so many standard errors. Any one best hour is among
    /// them `1 - alpha` of the time; not all of those that are as good.
    ///
    /// # Errors
    /// As [`best_set_constant`].
    pub fn best_set(&self, hours: &[u32], alpha: f64) -> Result<Vec<u32>, StatsError> {
        let k = hours.len();
        let c = best_set_constant(u32::try_from(k).unwrap_or(2), alpha)?;
        let below = |h: usize, g: usize| self.estimates[g] - self.estimates[h] > c * self.error_between(g, h);
        Ok((0..k).filter(|h| !(0..k).any(|g| g != *h && below(*h, g))).map(|h| hours[h]).collect())
    }

    /// How many standard errors every hour's estimate lies within at once, `1 - alpha` of the time: the largest |t| of normals with this
    /// covariance, drawn with a seed of its own.
    ///
    /// # Errors
    /// An alpha outside 0 to 1.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_precision_loss)]
    pub fn largest_t(&self, alpha: f64) -> Result<f64, StatsError> {
        open_unit("alpha", alpha)?;
        let k = self.estimates.len();
        let eigen = self.covariance.clone().symmetric_eigen();
        let root = &eigen.eigenvectors * DMatrix::from_diagonal(&eigen.eigenvalues.map(|v| v.max(0.0).sqrt()));
        let errors = self.standard_errors();
        let mut rng = ChaCha12Rng::seed_from_u64(0x0007_1AE5);
        let mut largest: Vec<f64> = (0..DRAWS)
            .map(|_| {
                let z = DVector::from_fn(k, |_, _| StandardNormal.sample(&mut rng));
                let x: DVector<f64> = &root * z;
                (0..k).filter(|h| errors[*h] > 0.0).map(|h| (x[h] / errors[h]).abs()).fold(0.0, f64::max)
            })
            .collect();
        largest.sort_unstable_by(f64::total_cmp);
        Ok(largest[((1.0 - alpha) * DRAWS as f64).ceil() as usize - 1])
    }
}
