//! Mailings side by side: every figure of each, with its difference to the first. Who got which was not left to chance.

use rinse_core::figure::{Definition, Figure};
use rinse_core::id::MailingId;
use rinse_core::report::{LEVEL, Rate};
use rinse_core::stats::two_proportions::newcombe;
use rinse_store::findings::groups;
use rinse_store::{Connection, StoreError};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Mailings that stand side by side at most.
const MOST: usize = 6;

/// A difference with its 95% limits (Newcombe).
#[derive(Serialize, ToSchema)]
#[schema(as = MailingDifference)]
pub(crate) struct Difference {
    pub(crate) estimate: f64,
    pub(crate) lower: f64,
    pub(crate) upper: f64,
}

#[derive(Serialize, ToSchema)]
#[schema(as = MailingBeside)]
pub(crate) struct Beside {
    id: i64,
    pub(crate) name: String,
    started_at: i64,
    pub(crate) sent: u64,
    pub(crate) figures: BTreeMap<Figure, Rate>,
    /// Less the first one's.
    pub(crate) differences: BTreeMap<Figure, Difference>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Compared {
    pub(crate) mailings: Vec<Beside>,
    pub(crate) catalogue: Vec<Definition>,
}

impl Beside {
    /// The figures whose limits exclude no difference to the first.
    pub(crate) fn apart(&self) -> usize {
        self.differences.values().filter(|d| d.lower > 0.0 || d.upper < 0.0).count()
    }
}

/// The numbers of mailings, as in `3,5`.
///
/// # Errors
/// When they aren't, or too many.
pub(crate) fn numbers(text: &str) -> Result<Vec<MailingId>, StoreError> {
    let ids: Option<Vec<MailingId>> = text.split(',').filter(|t| !t.is_empty()).map(|t| t.trim().parse().ok().map(MailingId)).collect();
    let ids = ids.filter(|i| (1..=MOST).contains(&i.len()));
    ids.ok_or_else(|| StoreError::Refused(format!("Name one to {MOST} mailings by their numbers, as in 3,5.")))
}

/// The mailings side by side, in the order in which they are named.
///
/// # Errors
/// When one of them never went out.
pub(crate) fn told(c: &Connection, ids: &[MailingId]) -> Result<Compared, StoreError> {
    let sent = groups::sent(c)?;
    let chosen = ids.iter().map(|id| sent.iter().find(|s| s.id == *id).ok_or_else(|| StoreError::Missing("mailing that went out")));
    let chosen = chosen.collect::<Result<Vec<_>, _>>()?;
    let Some(first) = chosen.first() else { return Ok(Compared { mailings: Vec::new(), catalogue: Vec::new() }) };
    let mailings = chosen
        .iter()
        .map(|s| {
            let known = |f: &Figure| f.of().is_some() && f.can_be_known(s.channel);
            let against = |f: Figure| {
                let (lower, upper) = newcombe(first.sums.arm(f), s.sums.arm(f), LEVEL).ok()?;
                let estimate = s.sums.rate(f).rate? - first.sums.rate(f).rate?;
                Some((f, Difference { estimate, lower, upper }))
            };
            Beside {
                id: s.id.0,
                name: s.name.clone(),
                started_at: s.started_at,
                sent: s.sums.of(Figure::Sent),
                figures: Figure::ALL.into_iter().filter(known).map(|f| (f, s.sums.rate(f))).collect(),
                differences: if s.id == first.id {
                    BTreeMap::new()
                } else {
                    Figure::ALL.into_iter().filter(|f| known(f) && f.can_be_known(first.channel)).filter_map(against).collect()
                },
            }
        })
        .collect();
    Ok(Compared { mailings, catalogue: Figure::ALL.map(Figure::definition).to_vec() })
}
