//! What all past trials add up to: how often one is called, how far variants truly lie apart, and whether rollouts bore out
//! what their pilots said.

use crate::self_check::{self, SelfCheck};
use crate::trials::{self, Trial};
use crate::{Result, StoreError};
use rinse_core::id::TrialId;
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rinse_core::stats::special::normal_upper_quantile;
use rinse_core::stats::two_proportions::two_proportions;
use rinse_core::trial::learned::{Contrast, shrink, spread, typical};
use rinse_core::trial::metric::{Change, Metric};
use rinse_core::trial::reading::Verdict;
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A past trial in the light of the others.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LearnedTrial {
    pub id: TrialId,
    pub question: String,
    pub metric: Metric,
    /// What differed, as the plan said.
    pub change: Option<Change>,
    pub verdict: Verdict,
    /// Which arm less which.
    pub base: usize,
    pub arm: usize,
    /// As it was found, and drawn towards what such trials find: differences of rates.
    pub difference: f64,
    pub shrunk: f64,
    pub lower: f64,
    pub upper: f64,
    pub rollout: Option<Held>,
}

/// A rollout held against its pilot: what was called less what was sealed for no call, which 5% of the rollout got.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
#[schema(as = HeldRollout)]
pub struct Held {
    pub people: u64,
    pub check: u64,
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    /// What the pilot had said, and whether its interval and the rollout's meet.
    pub pilot: f64,
    pub pilot_lower: f64,
    pub pilot_upper: f64,
    pub agrees: bool,
    /// Where the rollout was to be expected 95 times in 100, by the pilot in the light of all trials; and was it there?
    pub predicted_lower: f64,
    pub predicted_upper: f64,
    pub inside: bool,
}

/// All of it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Learned {
    pub read: u64,
    pub called: Rate,
    /// The size of difference that half of the trials of a metric truly stay under, in points of rate.
    pub typical: Vec<TypicalOf>,
    pub held: u64,
    pub agreed: u64,
    /// Rollouts inside their predicted intervals, which are to hold 95 in 100.
    pub calibration: Rate,
    pub by_change: Vec<ByChange>,
    /// The same against itself.
    pub self_checks: Vec<SelfCheck>,
    pub trials: Vec<LearnedTrial>,
}

/// The trials of one kind of change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ByChange {
    /// None: the plan didn't say.
    pub change: Option<Change>,
    pub called: Rate,
    /// Of each metric, the size of difference that half of them truly stay under.
    pub typical: Vec<TypicalOf>,
}

#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct TypicalOf {
    pub metric: Metric,
    pub trials: usize,
    pub effect: f64,
}

/// Counts a called rollout and the twentieth that got the no-call choice, once everyone's window is over.
/// `shrunk`: the pilot's difference in the light of all trials, turned as the rollout's is, with its standard error.
fn rollout(c: &Connection, t: &Trial, pilot: (f64, f64, f64), shrunk: (f64, f64), now: i64) -> Result<Option<Held>> {
    let Some((column, _)) = trials::columns(t.plan.metric) else { return Ok(None) };
    let (Some(Verdict::Called(arm) | Verdict::NoWorse(arm) | Verdict::Ahead(arm)), Some(on_no_call)) = (t.verdict, t.plan.on_no_call)
    else {
        return Ok(None);
    };
    if arm == on_no_call {
        return Ok(None);
    }
    let window = t.plan.window_hours * rinse_core::HOUR;
    let mut s = c.prepare_cached(&format!(
        "SELECT phase, count(*), coalesce(sum({column} < handed_at + ?2), 0), max(handed_at) FROM send
         WHERE mailing_id = ?1 AND phase IN (2, 3) AND handed_at IS NOT NULL GROUP BY phase"
    ))?;
    let (mut of, mut last) = ([Arm { successes: 0, trials: 0 }; 2], 0);
    let mut rows = s.query(params![t.mailing_id.0, window])?;
    while let Some(r) = rows.next()? {
        let n = |i| r.get::<_, i64>(i).map(|v| u64::try_from(v).unwrap_or(0));
        of[usize::from(r.get::<_, i64>(0)? == 2)] = Arm { successes: n(2)?, trials: n(1)? };
        last = last.max(r.get(3)?);
    }
    let [check, rest] = of;
    if check.trials == 0 || rest.trials == 0 || last + window > now {
        return Ok(None);
    }
    let d = two_proportions(check, rest, 0.95).map_err(|e| StoreError::Refused(e.to_string()))?;
    let (pilot, pilot_lower, pilot_upper) = pilot;
    let agrees = d.lower <= pilot_upper && d.upper >= pilot_lower;
    // What chance does to the rollout's own figure comes on top of what isn't known of the effect.
    let own = Contrast { base: check, arm: rest, control: false }.difference().map_or(0.0, |e| e.standard_error);
    let half = normal_upper_quantile(0.025) * own.hypot(shrunk.1);
    let (predicted_lower, predicted_upper) = (shrunk.0 - half, shrunk.0 + half);
    Ok(Some(Held {
        people: rest.trials,
        check: check.trials,
        difference: d.difference,
        lower: d.lower,
        upper: d.upper,
        pilot,
        pilot_lower,
        pilot_upper,
        agrees,
        predicted_lower,
        predicted_upper,
        inside: (predicted_lower..=predicted_upper).contains(&d.difference),
    }))
}

/// What past trials teach.
///
/// # Errors
/// When the database fails.
pub fn learned(c: &Connection, now: i64) -> Result<Learned> {
    let read: Vec<Trial> = trials::all(c)?.into_iter().filter(|t| t.verdict.is_some()).collect();
    let refused = |e: rinse_core::stats::StatsError| StoreError::Refused(e.to_string());
    let mut out = Learned {
        read: read.len() as u64,
        called: Rate::new(read.iter().filter(|t| matches!(t.verdict, Some(Verdict::Called(_)))).count() as u64, read.len() as u64),
        typical: Vec::new(),
        held: 0,
        agreed: 0,
        calibration: Rate::new(0, 0),
        by_change: Vec::new(),
        self_checks: self_check::all(c)?,
        trials: Vec::new(),
    };
    let mut found: Vec<(Option<Change>, Metric, Contrast)> = Vec::new();
    for metric in Metric::ALL {
        let of: Vec<(&Trial, usize, usize, Contrast)> = read
            .iter()
            // The same against itself stands apart, as a check of ourselves.
            .filter(|t| t.plan.metric == metric && t.plan.change != Some(Change::Nothing))
            .filter_map(|t| trials::contrast(t).map(|(base, arm, k)| (t, base, arm, k)))
            .collect();
        let contrasts: Vec<Contrast> = of.iter().map(|o| o.3).collect();
        found.extend(of.iter().map(|(t, _, _, k)| (t.plan.change, metric, *k)));
        if let Some(s) = spread(&contrasts).map_err(refused)? {
            out.typical.push(TypicalOf { metric, trials: of.len(), effect: typical(s) });
        }
        for ((t, base, arm, k), s) in of.iter().zip(shrink(&contrasts).map_err(refused)?) {
            let found = two_proportions(k.base, k.arm, 0.95).map_err(refused)?;
            // The rollout's contrast is the called arm less the no-call choice, whichever was named first.
            let turned = matches!(t.verdict, Some(Verdict::Called(a) | Verdict::NoWorse(a) | Verdict::Ahead(a)) if a == *base);
            let pilot = if turned { (-found.difference, -found.upper, -found.lower) } else { (found.difference, found.lower, found.upper) };
            // Only of two arms is the pilot's first contrast the one that the rollout repeats.
            let light = s.times(if turned { -k.slope() } else { k.slope() });
            let shrunk = (light.estimate, light.standard_error);
            let two = t.counts.as_ref().is_some_and(|n| n.len() == 2 + usize::from(t.plan.no_mail > 0));
            let rollout = if two { rollout(c, t, pilot, shrunk, now)? } else { None };
            if let Some(held) = rollout {
                out.held += 1;
                out.agreed += u64::from(held.agrees);
                out.calibration = Rate::new(out.calibration.count + u64::from(held.inside), out.held);
            }
            let s = s.times(k.slope());
            out.trials.push(LearnedTrial {
                id: t.id,
                question: t.plan.question.clone(),
                metric,
                change: t.plan.change,
                verdict: t.verdict.unwrap_or(Verdict::CantTell),
                base: *base,
                arm: *arm,
                difference: found.difference,
                shrunk: s.estimate,
                lower: s.lower,
                upper: s.upper,
                rollout,
            });
        }
    }
    for change in Change::ALL.into_iter().map(Some).chain([None]) {
        let of: Vec<&Trial> = read.iter().filter(|t| t.plan.change == change).collect();
        if of.is_empty() {
            continue;
        }
        let called = of.iter().filter(|t| matches!(t.verdict, Some(Verdict::Called(_)))).count() as u64;
        let mut typically = Vec::new();
        for metric in Metric::ALL {
            let of: Vec<Contrast> = found.iter().filter(|f| f.0 == change && f.1 == metric).map(|f| f.2).collect();
            if let Some(s) = spread(&of).map_err(refused)? {
                typically.push(TypicalOf { metric, trials: of.len(), effect: typical(s) });
            }
        }
        out.by_change.push(ByChange { change, called: Rate::new(called, of.len() as u64), typical: typically });
    }
    Ok(out)
}
