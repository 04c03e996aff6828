//! The consent view, and sign-ups by the API.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::kept_answers::AsOf;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_core::address::Address;
use rinse_core::id::LetterheadId;
use rinse_core::report::Rate;
use rinse_store::consent::{self, ConsentBeside, ConsentSource, InState, MonthOfConsent};
use rinse_store::guides::{self, FaringByConsent};
use rinse_store::holdout::HoldoutReadout;
use rinse_store::ledger::{self, Seals};
use rinse_store::signups::{self, Form, Waiting};
use rinse_store::{StoreError, findings, per_person, settings, topics};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

#[derive(Serialize, ToSchema)]
pub(crate) struct ConsentView {
    states: Vec<InState>,
    months: Vec<MonthOfConsent>,
    /// Confirmed, of the invitations that were accepted and are old enough to tell.
    confirmation: Rate,
    sources: Vec<ConsentSource>,
    /// Sign-ups that nobody confirmed yet.
    waiting: Vec<Waiting>,
    /// To anything but email of the first legal entity.
    beside: Vec<ConsentBeside>,
}

/// Where everybody's consent stands, how it came about, and what waits.
#[utoipa::path(get, path = "/api/consent", responses((status = 200, body = ConsentView)))]
pub(crate) async fn view(State(app): State<App>) -> Answer<ConsentView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                Ok(ConsentView {
                    states: findings::by_consent(c)?.into_iter().map(|(state, people)| InState { state, people }).collect(),
                    months: consent::months(c, now)?,
                    confirmation: signups::confirmation_rate(c, now)?,
                    sources: consent::sources(c)?,
                    waiting: signups::waiting(c, now)?,
                    beside: consent::beside(c)?,
                })
            })
            .await?,
    ))
}

/// How mail fared by the recipients' consent, and by what it came by.
#[utoipa::path(get, path = "/api/consent/faring", responses((status = 200, body = FaringByConsent)))]
pub(crate) async fn faring(State(app): State<App>) -> Result<AsOf<FaringByConsent>, ApiError> {
    let now = app.now();
    let (sums, as_of) = app.store.read(move |c| per_person::shown(c, now)).await?;
    Ok(AsOf(guides::faring(&sums, as_of.unwrap_or(now)), as_of))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct Noted {
    /// A link that was noted earlier, to look for in the chain.
    link: Option<String>,
}

/// Holds every entry of the ledger against its seal and the one before it.
#[utoipa::path(get, path = "/api/consent/seals", params(Noted), responses((status = 200, body = Seals)))]
pub(crate) async fn seals(State(app): State<App>, Query(n): Query<Noted>) -> Answer<Seals> {
    Ok(Json(app.store.read(move |c| ledger::seals(c, n.link.as_deref())).await?))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct ReadoutOf {
    /// What counts as a conversion; none: any purchase.
    goal: Option<i64>,
}

/// What the global holdout shows; null when there is none.
#[utoipa::path(get, path = "/api/holdout", params(ReadoutOf), responses((status = 200, body = Option<HoldoutReadout>)))]
pub(crate) async fn holdout(State(app): State<App>, Query(q): Query<ReadoutOf>) -> Answer<Option<HoldoutReadout>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| rinse_store::holdout::readout(c, q.goal, now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewTopic {
    name: String,
}

/// Makes a topic: something people can leave without leaving the rest.
#[utoipa::path(post, path = "/api/topics", request_body = NewTopic, responses((status = 200, body = i64)))]
pub(crate) async fn make_topic(State(app): State<App>, who: Acting, Json(n): Json<NewTopic>) -> Answer<i64> {
    let name = n.name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(ApiError::Refused("A topic needs a name of at most 60 characters.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                if topics::names(c)?.iter().any(|t| t.name.to_lowercase() == name.to_lowercase()) {
                    return Err(StoreError::Refused(format!("There is a topic named {name} already: give another name.")));
                }
                let id = topics::named(c, &name)?;
                settings::audit(c, now, Some(who.0), "topic made", "topic", id, &name)?;
                Ok(id)
            })
            .await?,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSignUp {
    letterhead_id: LetterheadId,
    address: String,
    given_name: Option<String>,
    /// The topics they chose; none: all there are.
    #[serde(default)]
    topics: Vec<i64>,
}

/// Takes a sign-up in from your own form. Where the letterhead asks for it, an invitation to
/// confirm is sent; the same limits hold as for the public form.
#[utoipa::path(post, path = "/api/sign-ups", request_body = NewSignUp, responses((status = 200, body = i64)))]
pub(crate) async fn sign_up(State(app): State<App>, who: Acting, Json(n): Json<NewSignUp>) -> Answer<i64> {
    let address = Address::parse(&n.address).map_err(|e| ApiError::Malformed(format!("{:?} is no address: {e}.", n.address)))?;
    let now = app.now();
    let form = Form {
        letterhead: n.letterhead_id,
        address,
        given_name: n.given_name.filter(|g| !g.trim().is_empty()),
        topics: n.topics,
        came_by: "API",
        came_from: None,
    };
    let id = app
        .store
        .write(move |c| {
            let id = signups::sign_up(c, &form, now)?;
            settings::audit(c, now, Some(who.0), "sign-up by the API", "sign-up", id, "")?;
            Ok(id)
        })
        .await?;
    app.engine.wake();
    Ok(Json(id))
}
