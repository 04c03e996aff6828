//! Is a trial sound: is everyone in the arm that they were assigned, were as many lost in each before handover, and were
//! machines' responses taken out alike? One that isn't is void, whatever its arms show.

use super::decide::arm;
use super::metric::Metric;
use super::plan::Plan;
use super::reading::{ArmCounts, Beside};
use super::stretches::Counted;
use crate::stats::goodness_of_fit::{ChiSquare, sample_ratio_mismatch};
use crate::stats::homogeneity::{chi_square_homogeneity, summed};
use crate::stats::{Arm, StatsError};

/// Under this p a difference in losses, or in arm sizes, makes the trial void.
const VOID_P: f64 = 0.001;

/// Under this p machines' responses weren't taken out alike: a warning.
pub(super) const REMOVED_P: f64 = 0.01;

pub(super) struct Soundness {
    /// Are the arms as large as their parts say?
    pub sizes: ChiSquare,
    /// The p that as many were lost before handover in every arm.
    pub loss_p: f64,
    /// The p that machines' responses were taken out alike; none where the metric has none.
    pub removed_p: Option<f64>,
    /// Why the trial is void, in words.
    pub broken: Option<String>,
}

/// `quiet`: the arm without mail, which isn't among those counted.
///
/// # Errors
/// When an arm is empty, or there is only one.
pub(super) fn soundness(plan: &Plan, counted: Counted<'_>, quiet: Option<&ArmCounts>, beside: &Beside) -> Result<Soundness, StatsError> {
    let parts = plan.parts(counted.all.len());
    let open = counted.open(&parts[..counted.all.len()]);
    let loss_p = alike(&open, |c| arm(c, |c| c.assigned - c.handed_over.min(c.assigned)))?;
    let sizes = if counted.stretches.is_empty() {
        size_test(&counted.all.iter().chain(quiet).zip(parts.iter().copied()).collect::<Vec<_>>())?
    } else {
        summed(&open.iter().map(|s| size_test(s)).collect::<Result<Vec<_>, _>>()?)
    };
    let broken = if !beside.assignment_holds {
        Some("The roster differs from its recomputation from the seed.".to_owned())
    } else if let Some(words) = &beside.broken {
        Some(words.clone())
    } else if loss_p < VOID_P {
        Some(format!("More people were lost before handover in one arm than another (p {loss_p:.2e})."))
    } else if sizes.p_value < VOID_P {
        Some(format!("The arms are not as large as planned (chi-square p {:.2e}).", sizes.p_value))
    } else {
        None
    };
    Ok(Soundness { sizes, loss_p, removed_p: removed_p(plan.metric, &open)?, broken })
}

/// The open arms of each stretch, with their parts.
type Open<'a> = Vec<Vec<(&'a ArmCounts, u32)>>;

fn size_test(arms: &[(&ArmCounts, u32)]) -> Result<ChiSquare, StatsError> {
    let (people, parts): (Vec<u64>, Vec<f64>) = arms.iter().map(|(c, part)| (c.assigned, f64::from(*part))).unzip();
    sample_ratio_mismatch(&people, &parts)
}

/// The p that something happened to as many in all arms, over the stretches.
fn alike(open: &Open<'_>, of: fn(&ArmCounts) -> Arm) -> Result<f64, StatsError> {
    // A stretch may have just begun, with nobody in some arm yet.
    let came = |s: &Vec<(&ArmCounts, u32)>| s.iter().map(|(c, _)| of(c)).filter(|arm| arm.trials > 0).collect::<Vec<_>>();
    let tests = open.iter().map(came).filter(|arms| arms.len() > 1).map(|arms| chi_square_homogeneity(&arms));
    Ok(summed(&tests.collect::<Result<Vec<_>, _>>()?).p_value)
}

/// Those whose own came first aren't counted, however many machines followed, so that what people do doesn't show in it.
fn removed_p(metric: Metric, open: &Open<'_>) -> Result<Option<f64>, StatsError> {
    if !metric.has_machines() {
        return Ok(None);
    }
    alike(open, |c| Arm { successes: c.removed.min(c.observed()), trials: c.observed() }).map(Some)
}
