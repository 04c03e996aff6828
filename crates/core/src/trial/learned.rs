//! What past trials teach the next one: how far variants usually lie apart.

use crate::stats::shrink::Effect;

/// The spread of true differences over past trials, as a variance: which of two arms is named first says nothing, so
/// their mean is 0, and by moments E Σ y²/s² = k + τ² Σ 1/s². `None` with fewer than three trials.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn spread(effects: &[Effect]) -> Option<f64> {
    if effects.len() < 3 {
        return None;
    }
    let weight: f64 = effects.iter().map(|e| e.standard_error.powi(-2)).sum();
    let q: f64 = effects.iter().map(|e| (e.estimate / e.standard_error).powi(2)).sum();
    Some(((q - effects.len() as f64) / weight).max(0.0))
}

/// The size of difference that half of them stay under: the median of a half-normal with that variance.
#[must_use]
pub fn typical(spread: f64) -> f64 {
    0.674_489_750_196_081_7 * spread.sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand::rngs::StdRng;
    use rand_distr::{Distribution, Normal};

    #[test]
    fn the_spread_that_made_them_is_found_again() {
        let (mut rng, truth) = (StdRng::seed_from_u64(5), 0.02);
        let apart = Normal::new(0.0, truth).unwrap();
        let effects: Vec<Effect> = (0..4_000)
            .map(|i| {
                let se = 0.005 + 0.00001 * f64::from(i % 1000);
                Effect { estimate: apart.sample(&mut rng) + Normal::new(0.0, se).unwrap().sample(&mut rng), standard_error: se }
            })
            .collect();
        let found = spread(&effects).unwrap();
        assert!((found.sqrt() / truth - 1.0).abs() < 0.05, "{}", found.sqrt());
        let noise: Vec<Effect> =
            effects.iter().map(|e| Effect { estimate: Normal::new(0.0, e.standard_error).unwrap().sample(&mut rng), ..*e }).collect();
        assert!(spread(&noise).unwrap().sqrt() < 0.004, "noise alone has no spread");
        assert!(spread(&effects[..2]).is_none() && typical(0.0) == 0.0);
    }
}
