//! The system of record: its files, and the lines by which it learns whom it must not bring back.

use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use rinse_store::Connection;
use rinse_store::imports::records::{self, RecordFile};
use rinse_store::upkeep::policy;
use rinse_store::upkeep::return_lines::{self, ReturnLine};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Lines, and files, on a page.
const PAGE: u32 = 100;
/// Lines of a CSV file.
const ALL: u32 = 1_000_000;

#[derive(Serialize, ToSchema)]
pub(crate) struct RecordSystem {
    lines: i64,
    /// Those whose address waits to be handed over.
    waiting: i64,
    /// The webhook that is told of each at once.
    webhook: Option<i64>,
    /// After so many days retired addresses are deleted; null: never.
    delete_after_days: Option<u32>,
    rows: Vec<ReturnLine>,
    /// People whom files would have brought back, and how often in all.
    came_back: i64,
    came_back_times: i64,
    /// Its newest files.
    files: Vec<RecordFile>,
    /// Where it puts them.
    folder: String,
}

/// The system of record: the newest lines for it, and its newest files.
#[utoipa::path(get, path = "/api/upkeep/record-system", responses((status = 200, body = RecordSystem)))]
pub(crate) async fn view(State(app): State<App>) -> Answer<RecordSystem> {
    let folder = records::folder(&app.store).display().to_string();
    let page = move |c: &Connection| {
        let (lines, waiting) = return_lines::counts(c)?;
        let (came_back, came_back_times) = records::came_back(c)?;
        Ok(RecordSystem {
            lines,
            waiting,
            webhook: return_lines::webhook(c)?,
            delete_after_days: policy::current(c)?.policy.delete_after_days,
            rows: return_lines::all(c, false, None, PAGE)?,
            came_back,
            came_back_times,
            files: records::files(c, None, PAGE)?,
            folder,
        })
    };
    Ok(Json(app.store.read(page).await?))
}

/// The lines that wait, with their addresses, as CSV.
pub(crate) async fn lines_csv(State(app): State<App>) -> Result<Response, ApiError> {
    let rows = app.store.read(|c| return_lines::all(c, true, None, ALL)).await?;
    let each = rows.into_iter().map(|r| vec![r.id.to_string(), r.address.unwrap_or_default(), r.hash, r.reason, iso(r.at)]);
    csv_file("do-not-return.csv", &["line", "address", "address_hash", "reason", "date"], each)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Handed {
    /// The newest line that they have.
    #[schema(minimum = 1)]
    upto: i64,
}

/// The system of record has the lines up to this one: their addresses are forgotten here.
#[utoipa::path(post, path = "/api/upkeep/record-system/handed", request_body = Handed, responses((status = 204)))]
pub(crate) async fn handed(State(app): State<App>, who: Acting, Json(h): Json<Handed>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| return_lines::handed(c, h.upto, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TellWhom {
    /// Null: nobody; lines wait to be taken as a file.
    webhook: Option<i64>,
}

/// Chooses the webhook that is told of each line at once.
#[utoipa::path(post, path = "/api/upkeep/record-system/webhook", request_body = TellWhom, responses((status = 204)))]
pub(crate) async fn tell(State(app): State<App>, who: Acting, Json(t): Json<TellWhom>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| return_lines::tell(c, t.webhook, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
