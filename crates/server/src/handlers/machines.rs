//! The rules that tell machines' responses from people's: their versions, other ones tried on the past, and where responses come from.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::progress::Job;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use axum::http::StatusCode;
use rinse_core::figure::{Definition, Figure};
use rinse_core::report::Rate;
use rinse_core::response::{Machine, Rules};
use rinse_store::machines::origins::{self, Origin};
use rinse_store::machines::past::{self, Tried};
use rinse_store::machines::{self, Version};
use rinse_store::{StoreError, findings};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// A rule, as the version in force has it.
#[derive(Serialize, ToSchema)]
#[schema(as = MachineRule)]
pub(crate) struct Said {
    rule: Machine,
    words: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct MachineRulesPage {
    current: Version,
    versions: Vec<Version>,
    rules: Vec<Said>,
    /// The days that the figures are of, to today.
    days: i64,
    /// Opens and clicks of email in these days, people's and as reported, and what was taken out by each rule.
    figures: BTreeMap<Figure, Rate>,
    catalogue: Vec<Definition>,
}

/// The figures that people's opens and clicks are told with.
fn told() -> impl Iterator<Item = Figure> {
    [Figure::HumanOpens, Figure::HumanClicks].into_iter().flat_map(|f| {
        let d = f.definition();
        [Some(f), d.reported].into_iter().flatten().chain(d.taken_out.iter().copied())
    })
}

/// The version in force, earlier ones with what each changed, and what is taken out by which rule.
#[utoipa::path(get, path = "/api/upkeep/machine-rules", responses((status = 200, body = MachineRulesPage)))]
pub(crate) async fn page(State(app): State<App>) -> Answer<MachineRulesPage> {
    let now = app.now().millis();
    let page = app.store.read(move |c| {
        let current = machines::current(c)?;
        let sums = findings::of_days(c, origins::DAYS, now)?;
        let rules = Machine::ALL.into_iter().map(|rule| Said { rule, words: current.rules.words(rule) }).collect();
        Ok(MachineRulesPage {
            versions: machines::all(c)?,
            rules,
            days: origins::DAYS,
            figures: told().map(|f| (f, sums.rate(f))).collect(),
            catalogue: told().map(Figure::definition).collect(),
            current,
        })
    });
    Ok(Json(page.await?))
}

/// Networks and agents whose responses count as people's, and of which many came within two minutes of delivery, in the last 90 days.
#[utoipa::path(get, path = "/api/upkeep/machine-rules/origins", responses((status = 200, body = Vec<Origin>)))]
pub(crate) async fn come_from(State(app): State<App>) -> Answer<Vec<Origin>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| origins::told(c, now)).await?))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct Back {
    /// How many days back.
    #[param(minimum = 1, maximum = 1_100)]
    days: Option<i64>,
}

fn fit(rules: Rules) -> Result<Rules, ApiError> {
    let rules = rules.tidied();
    rules.check().map_err(|e| ApiError::Refused(e.to_string()))?;
    Ok(rules)
}

/// Tries rules on what was opened and followed in the last days (90 when absent): what they would take out, and what they would bring back.
/// Nothing changes. Watch `machines-tried` in the progress stream.
#[utoipa::path(post, path = "/api/upkeep/machine-rules/try", params(Back), request_body = Rules, responses((status = 200, body = Tried)))]
pub(crate) async fn try_on(State(app): State<App>, Query(back): Query<Back>, Json(rules): Json<Rules>) -> Answer<Tried> {
    let (rules, days, now) = (fit(rules)?, back.days.unwrap_or(origins::DAYS).clamp(1, 1_100), app.now());
    let progress = app.jobs.sender(Job::MachinesTried);
    progress.begin(|p| p.words = "Judging the past by them".into());
    let (told, ending) = (progress.clone(), app.closing());
    let step = move |done: u64, total: u64| {
        if *ending.borrow() {
            return Err(StoreError::Stopped);
        }
        told.send_modify(|p| (p.done, p.total) = (i64::try_from(done).unwrap_or(0), i64::try_from(total).unwrap_or(0)));
        Ok(())
    };
    let tried = app.store.read(move |c| past::try_on(c, &rules, days, now, step)).await;
    progress.send_modify(|p| p.end(tried.as_ref().err().map(ToString::to_string)));
    Ok(Json(tried?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ProposedMachineRules {
    rules: Rules,
    /// Why they change.
    note: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct InForce {
    version: i64,
}

/// Puts rules in force. What comes in from now on is judged by them, and what is stored is judged again: watch `machines` in the progress
/// stream. Messages in sealed trials keep the rules of their seal.
#[utoipa::path(post, path = "/api/upkeep/machine-rules", request_body = ProposedMachineRules, responses((status = 201, body = InForce)))]
pub(crate) async fn put_in_force(
    State(app): State<App>,
    who: Acting,
    Json(p): Json<ProposedMachineRules>,
) -> Result<(StatusCode, Json<InForce>), ApiError> {
    let (rules, note, now) = (fit(p.rules)?, p.note.trim().to_owned(), app.now());
    if note.is_empty() {
        return Err(ApiError::Malformed("Say why the rules change: it stands in their history.".into()));
    }
    let version = app.store.write(move |c| machines::put_in_force(c, now, Some(who.0), &rules, &note)).await?;
    app.engine.judge_beside();
    Ok((StatusCode::CREATED, Json(InForce { version })))
}
