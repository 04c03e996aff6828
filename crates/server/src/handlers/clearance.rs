//! Clearance: the cap and its switch, the suppression list, the sluice of a mailing.

use super::{Acting, csv_file};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::caps::Cap;
use rinse_core::clearance::{Reason, Sluice};
use rinse_core::consent::Consent;
use rinse_core::suppression::Entry;
use rinse_core::upkeep::MailStatus;
use rinse_core::{Instant, clearance};
use rinse_store::settings::{self, RulesVersion, SuppressionLine};
use rinse_store::{StoreError, clearing, contacts, findings, mailings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/rules", responses((status = 200, body = RulesVersion)))]
pub(crate) async fn rules(State(app): State<App>) -> Answer<RulesVersion> {
    Ok(Json(app.store.read(settings::rules).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct CapRule {
    limit: u32,
    window_hours: i64,
    in_force: bool,
}

/// Saves the cap as a new version of the rules.
#[utoipa::path(put, path = "/api/rules", request_body = CapRule, responses((status = 200, body = RulesVersion)))]
pub(crate) async fn save_rules(State(app): State<App>, who: Acting, Json(r): Json<CapRule>) -> Answer<RulesVersion> {
    let cap = Cap::new(r.limit, r.window_hours)?;
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let id = settings::save_rules(c, now, Some(who.0), cap, r.in_force)?;
                settings::audit(
                    c,
                    now,
                    Some(who.0),
                    "cap changed",
                    "rules",
                    id,
                    &format!("{}, {}", cap.words(), if r.in_force { "in force" } else { "not in force" }),
                )?;
                settings::rules(c)
            })
            .await?,
    ))
}

#[utoipa::path(get, path = "/api/suppression", responses((status = 200, body = Vec<SuppressionLine>)))]
pub(crate) async fn suppression(State(app): State<App>) -> Answer<Vec<SuppressionLine>> {
    Ok(Json(app.store.read(settings::suppression).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSuppression {
    /// Addresses or domains, one a line.
    lines: String,
    reason: String,
}

/// Adds lines to the suppression list: all of them, or none when one can't be read.
#[utoipa::path(post, path = "/api/suppression", request_body = NewSuppression, responses((status = 200, body = i64)))]
pub(crate) async fn suppress(State(app): State<App>, who: Acting, Json(n): Json<NewSuppression>) -> Answer<i64> {
    let entries: Vec<Entry> =
        n.lines.lines().map(str::trim).filter(|l| !l.is_empty()).map(Entry::parse).collect::<Result<_, _>>().map_err(ApiError::Refused)?;
    if entries.is_empty() {
        return Err(ApiError::Refused("Write at least one address or domain.".into()));
    }
    let now = app.now();
    let added = i64::try_from(entries.len()).unwrap_or(0);
    app.store
        .write(move |c| {
            for e in &entries {
                settings::suppress(c, &e.text(), &n.reason, now, Some(who.0))?;
            }
            settings::audit(
                c,
                now,
                Some(who.0),
                "suppressed",
                "suppression",
                0,
                &entries.iter().map(Entry::text).collect::<Vec<_>>().join(", "),
            )
        })
        .await?;
    Ok(Json(added))
}

/// Takes a line off the list.
#[utoipa::path(delete, path = "/api/suppression/{text}", params(("text" = String, Path)), responses((status = 204)))]
pub(crate) async fn unsuppress(State(app): State<App>, who: Acting, Path(text): Path<String>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            if !settings::unsuppress(c, &text)? {
                return Err(StoreError::Missing("line on the suppression list"));
            }
            settings::audit(c, now, Some(who.0), "no longer suppressed", "suppression", 0, &text)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// One step of the sluice with its words.
#[derive(Serialize, ToSchema)]
pub(crate) struct StepView {
    reason: Reason,
    words: &'static str,
    holds: bool,
    people: u64,
    without_it: u64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SluiceView {
    mailing: String,
    state: String,
    list: Option<String>,
    at: i64,
    selected: u64,
    cleared: u64,
    held: u64,
    last_release: Option<Instant>,
    steps: Vec<StepView>,
    rules: RulesVersion,
    cap_words: String,
}

fn instant_for(m: &mailings::Mailing, now: Instant) -> Instant {
    m.planned_at.map_or(now, Instant).max(now)
}

/// The sluice of a mailing at its planned instant (now, when it has none).
#[utoipa::path(get, path = "/api/mailings/{id}/sluice", params(("id" = i64, Path)), responses((status = 200, body = SluiceView)))]
pub(crate) async fn sluice(State(app): State<App>, Path(id): Path<i64>) -> Answer<SluiceView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let m = mailings::one(c, id)?;
                let at = instant_for(&m, now);
                let (s, rules): (Sluice, _) = clearing::sluice(c, id, at)?;
                let steps = s
                    .steps
                    .iter()
                    .map(|x| StepView {
                        reason: x.reason,
                        words: x.reason.words(),
                        holds: x.reason.holds(),
                        people: x.people,
                        without_it: x.without_it,
                    })
                    .collect();
                let cap_words = Cap::new(rules.cap_limit, rules.cap_window_hours).map_or_else(|_| String::new(), Cap::words);
                Ok(SluiceView {
                    mailing: m.name,
                    state: m.state,
                    list: m.list,
                    at: at.0,
                    selected: s.selected,
                    cleared: s.cleared,
                    held: s.held,
                    last_release: s.last_release,
                    steps,
                    rules,
                    cap_words,
                })
            })
            .await?,
    ))
}

fn reason(step: &str) -> Result<Option<Reason>, StoreError> {
    if step == "cleared" {
        return Ok(None);
    }
    serde_json::from_value(serde_json::Value::String(step.to_owned())).map(Some).map_err(|_| StoreError::Missing("step"))
}

fn step_people(c: &rinse_store::Connection, id: i64, step: &str, now: Instant) -> rinse_store::Result<Vec<i64>> {
    let m = mailings::one(c, id)?;
    Ok(clearing::audience(c, id, instant_for(&m, now))?.people(reason(step)?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct StepPeople {
    people: u64,
    /// The first 200, by address.
    first: Vec<contacts::ContactRow>,
}

/// The people of a step.
#[utoipa::path(get, path = "/api/mailings/{id}/sluice/{step}", params(("id" = i64, Path), ("step" = String, Path)), responses((status = 200, body = StepPeople)))]
pub(crate) async fn step(State(app): State<App>, Path((id, step)): Path<(i64, String)>) -> Answer<StepPeople> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let ids = step_people(c, id, &step, now)?;
                Ok(StepPeople { people: ids.len() as u64, first: contacts::by_ids(c, &ids)? })
            })
            .await?,
    ))
}

/// The people of a step as CSV.
pub(crate) async fn step_csv(State(app): State<App>, Path((id, step)): Path<(i64, String)>) -> Result<Response, ApiError> {
    let (now, name) = (app.now(), format!("{step}.csv"));
    let rows = app
        .store
        .read(move |c| {
            let ids = step_people(c, id, &step, now)?;
            let mut rows = Vec::with_capacity(ids.len());
            for chunk in ids.chunks(200) {
                rows.extend(contacts::by_ids(c, chunk)?);
            }
            Ok(rows)
        })
        .await?;
    csv_file(
        &name,
        &["address", "given_name", "family_name", "country"],
        rows.into_iter()
            .map(|r| vec![r.address, r.given_name.unwrap_or_default(), r.family_name.unwrap_or_default(), r.country.unwrap_or_default()]),
    )
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Standing {
    consent: Vec<ConsentCount>,
    status: Vec<StatusCount>,
    hold_limit_days: i64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct ConsentCount {
    state: Consent,
    people: i64,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct StatusCount {
    status: MailStatus,
    people: i64,
}

/// People by consent state and mail status.
#[utoipa::path(get, path = "/api/standing", responses((status = 200, body = Standing)))]
pub(crate) async fn standing(State(app): State<App>) -> Answer<Standing> {
    let (consent, status) = app.store.read(findings::standing_counts).await?;
    Ok(Json(Standing {
        consent: consent.into_iter().map(|(s, people)| ConsentCount { state: Consent::from_code(s), people }).collect(),
        status: status.into_iter().map(|(s, people)| StatusCount { status: MailStatus::from_code(s), people }).collect(),
        hold_limit_days: clearance::HOLD_LIMIT / rinse_core::DAY,
    }))
}
