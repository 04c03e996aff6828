//! Trials: plan, outlook, seal, the running trial, the verdict, the rollout, the record.

use super::Acting;
use crate::actions;
use crate::error::{Answer, ApiError};
use crate::state::App;
use crate::zipped::zip_file;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::Instant;
use rinse_core::id::{ContactId, MailingId, SeriesId, TrialId};
use rinse_core::report::Rate;
use rinse_core::standing::{MailingState, TrialState};
use rinse_core::trial::looks::Look;
use rinse_core::trial::outlook::Outlook;
use rinse_core::trial::outside::{self, OutsideReading, Results};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{ArmCounts, Reading};
use rinse_core::trial::rehearsal::Rehearsal;
use rinse_core::trial::stretches::{days_left, least_open};
use rinse_store::learned::Learned;
use rinse_store::trials::course::{Course, LinkByArm};
use rinse_store::trials::enrol::{self, Stretch};
use rinse_store::trials::{Corrected, Trial};
use rinse_store::{Connection, StoreError, clearing, mailings, settings, tables, trials};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/trials", responses((status = 200, body = Vec<Trial>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Trial>> {
    Ok(Json(app.store.read(trials::all).await?))
}

/// What all past trials add up to.
#[utoipa::path(get, path = "/api/trials/learned", responses((status = 200, body = Learned)))]
pub(crate) async fn learned(State(app): State<App>) -> Answer<Learned> {
    let now = app.now().millis();
    Ok(Json(app.store.read(move |c| rinse_store::learned::learned(c, now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TableText {
    /// A table with a header: variant, sent, and counts.
    text: String,
}

/// A results table from any sender, read with the rigour of a trial of our own. Nothing is kept.
#[utoipa::path(post, path = "/api/verdict", request_body = TableText, responses((status = 200, body = OutsideReading)))]
pub(crate) async fn outside(State(app): State<App>, Json(t): Json<TableText>) -> Answer<OutsideReading> {
    if t.text.len() > 1_000_000 {
        return Err(ApiError::Malformed("The table has more than 1 MB: give a row for each variant.".into()));
    }
    let read = move || {
        let rows = tables::read_all(t.text.as_bytes(), 1_000)?;
        Results::read(&rows).and_then(|results| outside::read(&results)).map_err(|e| ApiError::Malformed(e.to_string()))
    };
    Ok(Json(app.compute(read).await??))
}

/// All arms together: all that is shown before the end.
#[derive(Serialize, ToSchema)]
pub(crate) struct Pooled {
    assigned: u64,
    handed_over: u64,
    accepted: u64,
    /// Of those who get mail.
    rate: Rate,
    /// Share of the window that has passed for the last person.
    elapsed: f64,
    maturity: Option<f64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct TrialView {
    trial: Trial,
    subjects: Vec<String>,
    /// Only while it runs.
    pooled: Option<Pooled>,
    /// Only after the end, or when somebody opened the arms early.
    reading: Option<Reading>,
    /// Of what was called: what is to be expected of it, in the light of all trials.
    corrected: Option<Corrected>,
    /// What comes out otherwise when it is read again by the rule that was sealed: something was changed since.
    differs: Option<String>,
    /// People the rollout would go to, cleared again now.
    rollout: Option<u64>,
    machine_share: Option<f64>,
    /// SHA-256 over all that was sealed.
    digest: Option<String>,
    looks: Vec<Look>,
    /// Of a trial in a series.
    enrolment: Option<Enrolment>,
}

/// How people are enrolled as they come to a message of a series.
#[derive(Serialize, ToSchema)]
pub(crate) struct Enrolment {
    series: SeriesId,
    series_name: String,
    /// Is the message a step of it still?
    in_place: bool,
    stretches: Vec<Stretch>,
    /// People in each arm, over all stretches.
    people: Vec<u64>,
    /// People in the smallest of the open arms.
    smallest: u64,
    /// How many come a day, over the last 28 days.
    a_day: Option<f64>,
    /// Days until every open arm is as large as planned, at that rate.
    days: Option<f64>,
}

fn enrolment(c: &Connection, t: &Trial, now: Instant) -> Result<Option<Enrolment>, StoreError> {
    let (Some(per_arm), m) = (t.plan.per_arm, mailings::one(c, t.mailing_id)?) else { return Ok(None) };
    let Some(series) = m.series_id else { return Ok(None) };
    let stretches = enrol::stretches(c, t)?;
    let people = enrol::enrolled(&stretches);
    let a_day = enrol::a_day(c, t.mailing_id, now)?;
    let enrolling = stretches.last().filter(|_| t.state == TrialState::Collecting && t.enrolled_at.is_none());
    let days = enrolling.and_then(|s| days_left(per_arm, &s.parts, &people, a_day?));
    let smallest = stretches.last().map_or(0, |s| least_open(&s.parts, &people));
    let series_name = rinse_store::series::one(c, series)?.name;
    Ok(Some(Enrolment { series, series_name, in_place: m.state == MailingState::Series, stretches, people, smallest, a_day, days }))
}

/// A trial's seal, looked at now.
#[derive(Serialize, ToSchema)]
pub(crate) struct SealView {
    /// What differs from what was sealed.
    broken: Option<String>,
    balance: Vec<trials::Balance>,
}

/// Does a trial stand as it was sealed? Everything that was is read again.
#[utoipa::path(get, path = "/api/trials/{id}/seal", params(("id" = i64, Path)), responses((status = 200, body = SealView)))]
pub(crate) async fn seal_holds(State(app): State<App>, Path(id): Path<TrialId>) -> Answer<SealView> {
    Ok(Json(
        app.store
            .read(move |c| {
                let t = trials::one(c, id)?;
                let balance = if t.sealed_at.is_some() { trials::balance(c, &t)? } else { Vec::new() };
                Ok(SealView { broken: trials::broken(c, &t)?, balance })
            })
            .await?,
    ))
}

/// One trial: its outlook while planned, pooled figures while it runs, the reading afterwards.
#[utoipa::path(get, path = "/api/trials/{id}", params(("id" = i64, Path)), responses((status = 200, body = TrialView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<TrialId>) -> Answer<TrialView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let trial = trials::one(c, id)?;
                let subjects = mailings::one(c, trial.mailing_id)?.draft.subjects;
                let past = trials::past(c, &trial.plan, now)?;
                // While it runs only all arms together are shown, unless somebody opened them: then as they stand.
                let running = if trial.state == TrialState::Collecting { Some(trials::counts(c, &trial)?) } else { None };
                let pooled = running.as_ref().map(|counts| {
                    let mailed = &counts[..subjects.len().min(counts.len())];
                    let sum = |f: fn(&ArmCounts) -> u64| mailed.iter().map(f).sum();
                    let window = (trial.plan.window_hours * rinse_core::HOUR).max(1);
                    #[allow(clippy::cast_precision_loss)]
                    let elapsed = trial.reading_due.map_or(0.0, |due| (1.0 - (due - now.millis()) as f64 / window as f64).clamp(0.0, 1.0));
                    Pooled {
                        assigned: sum(|c| c.assigned),
                        handed_over: sum(|c| c.handed_over),
                        accepted: sum(|c| c.accepted),
                        rate: Rate::new(sum(|c| c.primary), sum(ArmCounts::observed)),
                        elapsed,
                        maturity: past.maturity,
                    }
                });
                let opened = running.as_ref().filter(|_| trial.opened_at.is_some());
                let (reading, differs) = match opened {
                    _ if trial.counts.is_some() => trials::reading(c, &trial).map(|(reading, differs)| (Some(reading), differs))?,
                    opened => (opened.map(|counts| trials::read(c, &trial, counts)).transpose()?, None),
                };
                let digest = trial.seal.as_ref().map(|s| s.digest.clone());
                let looks = trial.seal.as_ref().map(|s| s.looks.clone()).unwrap_or_default();
                // Anybody who took part without mail isn't in the rollout either.
                let rollout = if trial.state == TrialState::Read && trial.plan.per_arm.is_none() {
                    let took_part: HashSet<ContactId> = trials::roster(c, id)?.iter().map(|e| e.contact).collect();
                    let cleared = clearing::audience(c, trial.mailing_id, now)?.people(None);
                    Some(cleared.iter().filter(|person| !took_part.contains(person)).count() as u64)
                } else {
                    None
                };
                let machine_share = past.machine_share;
                let enrolment = enrolment(c, &trial, now)?;
                let corrected = match &reading {
                    Some(reading) if trial.counts.is_some() => trials::corrected(c, &trial, reading)?,
                    _ => None,
                };
                Ok(TrialView { trial, subjects, pooled, reading, corrected, differs, rollout, machine_share, digest, looks, enrolment })
            })
            .await?,
    ))
}

/// The plan that a mailing's trial begins with.
#[utoipa::path(get, path = "/api/mailings/{id}/trial", params(("id" = i64, Path)), responses((status = 200, body = Plan)))]
pub(crate) async fn starting_plan(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Plan> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| actions::starting_plan(c, id, now)).await?))
}

/// Makes or changes the plan of a mailing's trial.
#[utoipa::path(put, path = "/api/mailings/{id}/trial", params(("id" = i64, Path)), request_body = Plan, responses((status = 200, body = i64)))]
pub(crate) async fn save_plan(State(app): State<App>, who: Acting, Path(id): Path<MailingId>, Json(plan): Json<Plan>) -> Answer<i64> {
    let now = app.now();
    let p = plan.clone();
    let arms = app.store.read(move |c| Ok(mailings::one(c, id)?.draft.subjects.len())).await?;
    p.check(arms)?;
    Ok(Json(
        (app.store
            .write(move |c| {
                let trial = trials::save_plan(c, id, &plan, now, Some(who.0))?;
                settings::audit(c, now, Some(who.0), "trial planned", "trial", trial.0, &plan.question)?;
                Ok(trial)
            })
            .await?)
            .0,
    ))
}

/// What a plan can find with the people there are; asked again as the plan changes.
#[utoipa::path(post, path = "/api/mailings/{id}/outlook", params(("id" = i64, Path)), request_body = Plan, responses((status = 200, body = Outlook)))]
pub(crate) async fn outlook(State(app): State<App>, Path(id): Path<MailingId>, Json(plan): Json<Plan>) -> Answer<Outlook> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| actions::outlook_of(c, id, &plan, now)).await?))
}

/// The plan run 10,000 times on simulated answers, under no effect, the wanted one, and the typical one of past trials.
#[utoipa::path(post, path = "/api/mailings/{id}/rehearsal", params(("id" = i64, Path)), request_body = Plan, responses((status = 200, body = Rehearsal)))]
pub(crate) async fn rehearse(State(app): State<App>, Path(id): Path<MailingId>, Json(plan): Json<Plan>) -> Answer<Rehearsal> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| actions::rehearse(c, id, &plan, now)).await?))
}

/// How the answers come in over the window, and which links each arm's people follow.
#[derive(Serialize, ToSchema)]
pub(crate) struct TrialCourseView {
    course: Course,
    /// Empty while the arms are closed.
    links: Vec<LinkByArm>,
}

/// How a trial's answers come in, on the band of past mailings; arm by arm once the arms are open.
#[utoipa::path(get, path = "/api/trials/{id}/course", params(("id" = i64, Path)), responses((status = 200, body = TrialCourseView)))]
pub(crate) async fn course(State(app): State<App>, Path(id): Path<TrialId>) -> Answer<TrialCourseView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let t = trials::one(c, id)?;
                Ok(TrialCourseView { course: trials::course::course(c, &t, now)?, links: trials::course::links(c, &t)? })
            })
            .await?,
    ))
}

/// Opens the arms before the end. It is recorded, and nothing is called.
#[utoipa::path(post, path = "/api/trials/{id}/open", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn open(State(app): State<App>, who: Acting, Path(id): Path<TrialId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            trials::open_early(c, id, now, Some(who.0))?;
            settings::audit(c, now, Some(who.0), "arms opened early", "trial", id.0, "")
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, Default, ToSchema)]
pub(crate) struct Sealing {
    /// Of a trial under its needed size: why it may go all the same. An approver says so.
    #[serde(default)]
    why_small: String,
}

/// Seals the plan; the pilot goes out.
#[utoipa::path(post, path = "/api/trials/{id}/seal", params(("id" = i64, Path)), request_body = Sealing, responses((status = 204)))]
pub(crate) async fn seal(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(s): Json<Sealing>,
) -> Result<impl IntoResponse, ApiError> {
    crate::sealing::seal(&app, TrialId(id), rand::random::<u64>() >> 1, Some(who.0), s.why_small).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewStretch {
    /// The parts that each arm has of those who come from now on; 0 closes it.
    parts: Vec<u32>,
    /// Why, in a sentence.
    why: String,
}

/// Changes the shares of a trial in a series, stops an arm or lets one in: a new stretch begins.
#[utoipa::path(post, path = "/api/trials/{id}/stretches", params(("id" = i64, Path)), request_body = NewStretch, responses((status = 204)))]
pub(crate) async fn stretch(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<TrialId>,
    Json(s): Json<NewStretch>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| enrol::change(c, id, &s.parts, &s.why, now, Some(who.0))).await?;
    actions::due_now(&app, now).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct EndOfEnrolment {
    /// Why, in a sentence.
    why: String,
}

/// Ends the enrolment before the arms are as large as planned; the reading follows once everyone's window is over.
#[utoipa::path(post, path = "/api/trials/{id}/enrolment/end", params(("id" = i64, Path)), request_body = EndOfEnrolment, responses((status = 204)))]
pub(crate) async fn end_enrolment(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<TrialId>,
    Json(e): Json<EndOfEnrolment>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| enrol::end(c, id, &e.why, now, Some(who.0))).await?;
    actions::due_now(&app, now).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Release {
    /// Now, rather than the next day at the pilot's hour.
    at_once: bool,
}

/// Releases the rollout, cleared again when it goes. Returns its instant.
#[utoipa::path(post, path = "/api/trials/{id}/release", params(("id" = i64, Path)), request_body = Release, responses((status = 200, body = i64)))]
pub(crate) async fn release(State(app): State<App>, who: Acting, Path(id): Path<TrialId>, Json(r): Json<Release>) -> Answer<i64> {
    Ok(Json(actions::release(&app, id, r.at_once, Some(who.0)).await?.millis()))
}

/// All that led to the verdict, to be recomputed elsewhere: a zip.
pub(crate) async fn record(State(app): State<App>, Path(id): Path<TrialId>) -> Result<Response, ApiError> {
    let zip = app
        .store
        .read(move |c| {
            let t = trials::one(c, id)?;
            let Some(counts) = &t.counts else {
                return Err(StoreError::Refused("The arms are opened at the end of the window. Until then there is no record.".into()));
            };
            let (reading, _) = trials::reading(c, &t)?;
            let subjects = mailings::one(c, t.mailing_id)?.draft.subjects;
            crate::record::zip(&t, &subjects, &reading, counts, &trials::roster(c, id)?, &enrol::stretches(c, &t)?).map_err(StoreError::Io)
        })
        .await?;
    Ok(zip_file(&format!("trial-{id}.zip"), zip))
}
