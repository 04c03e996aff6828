//! Mailings side by side, and when people answer.

use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_core::figure::{Definition, Figure};
use rinse_core::findings::Clock;
use rinse_core::id::MailingId;
use rinse_core::report::{LEVEL, Rate};
use rinse_core::stats::two_proportions::newcombe;
use rinse_store::StoreError;
use rinse_store::findings::answers::{self, Answers};
use rinse_store::findings::groups::{self, Filter};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// Mailings that stand side by side at most.
const MOST: usize = 6;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Two to six mailings, as in `3,5`: the others are held against the first.
    mailings: String,
}

/// A difference with its 95% limits (Newcombe).
#[derive(Serialize, ToSchema)]
#[schema(as = MailingDifference)]
pub(crate) struct Difference {
    estimate: f64,
    lower: f64,
    upper: f64,
}

#[derive(Serialize, ToSchema)]
#[schema(as = MailingBeside)]
pub(crate) struct Beside {
    id: i64,
    name: String,
    started_at: i64,
    sent: u64,
    figures: BTreeMap<Figure, Rate>,
    /// Less the first one's.
    differences: BTreeMap<Figure, Difference>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Compared {
    mailings: Vec<Beside>,
    catalogue: Vec<Definition>,
}

/// Two to six mailings side by side, every figure with its difference to the first. Who got which was not left to chance.
#[utoipa::path(get, path = "/api/findings/compare", params(Which), responses((status = 200, body = Compared)))]
pub(crate) async fn compare(State(app): State<App>, Query(which): Query<Which>) -> Answer<Compared> {
    let ids: Option<Vec<i64>> = which.mailings.split(',').filter(|t| !t.is_empty()).map(|t| t.trim().parse().ok()).collect();
    let ids = ids.filter(|i| (1..=MOST).contains(&i.len()));
    let ids = ids.ok_or_else(|| ApiError::Malformed(format!("Name one to {MOST} mailings by their numbers, as in 3,5.")))?;
    let sent = app.store.read(groups::sent).await?;
    let chosen =
        ids.iter().map(|id| sent.iter().find(|s| s.id == MailingId(*id)).ok_or_else(|| StoreError::Missing("mailing that went out")));
    let chosen = chosen.collect::<Result<Vec<_>, _>>()?;
    let first = chosen[0];
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
    Ok(Json(Compared { mailings, catalogue: Figure::ALL.map(Figure::definition).to_vec() }))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ByClock {
    /// Whose clock tells the hours.
    clock: Option<Clock>,
}

/// When people answer, by hour of the week.
#[utoipa::path(get, path = "/api/findings/answers", params(ByClock, Filter), responses((status = 200, body = Answers)))]
pub(crate) async fn when_answered(State(app): State<App>, Query(by): Query<ByClock>, Query(filter): Query<Filter>) -> Answer<Answers> {
    let (clock, filter) = (by.clock.unwrap_or_default(), filter.at(app.now().0));
    Ok(Json(app.store.read(move |c| answers::told(c, clock, &filter)).await?))
}
