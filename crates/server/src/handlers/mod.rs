//! The handlers, by resource.

pub(crate) mod addresses;
pub(crate) mod base_check;
pub(crate) mod changes;
pub(crate) mod clearance;
pub(crate) mod consent;
pub(crate) mod contacts;
pub(crate) mod course;
pub(crate) mod delivery;
pub(crate) mod domains;
pub(crate) mod doors;
pub(crate) mod evidence;
pub(crate) mod findings;
pub(crate) mod goals;
pub(crate) mod guides;
pub(crate) mod history;
pub(crate) mod hour_trials;
pub(crate) mod imports;
pub(crate) mod letterheads;
pub(crate) mod machines;
pub(crate) mod mailings;
pub(crate) mod memory;
pub(crate) mod messages;
pub(crate) mod number;
pub(crate) mod people;
pub(crate) mod reactions;
pub(crate) mod readings;
pub(crate) mod record_system;
pub(crate) mod rules;
pub(crate) mod scores;
pub(crate) mod segments;
pub(crate) mod series;
pub(crate) mod silence;
pub(crate) mod suppression;
pub(crate) mod team;
pub(crate) mod today;
pub(crate) mod trials;
pub(crate) mod upkeep;
pub(crate) mod webhooks;

use crate::error::ApiError;
use crate::state::App;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;

/// The acting person, recorded with every change.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Acting(pub(crate) i64);

impl FromRequestParts<App> for Acting {
    type Rejection = ApiError;
    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, ApiError> {
        let named = parts.headers.get("x-acting-person").and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
        let id = named.ok_or(ApiError::NobodyActing)?;
        // Somebody who isn't on the list can be put on no record.
        if app.store.read(move |c| rinse_store::team::is_person(c, id)).await? { Ok(Self(id)) } else { Err(ApiError::NobodyActing) }
    }
}
