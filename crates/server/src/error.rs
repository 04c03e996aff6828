//! Errors as RFC 9457 problem documents, with a sentence that says what to do.

use crate::apart::Unfinished;
use axum::Json;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rinse_core::clearance::RuleError;
use rinse_core::trial::plan::PlanError;
use rinse_store::StoreError;
use serde::Serialize;
use utoipa::ToSchema;

/// What can go wrong in a request.
#[derive(Debug, thiserror::Error)]
pub enum ApiError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Plan(#[from] PlanError),
    #[error(transparent)]
    Rules(#[from] RuleError),
    #[error("{0}")]
    Refused(String),
    #[error("Choose who is acting, at the top right, and try again.")]
    NobodyActing,
    #[error("The request can't be read: {0}")]
    Malformed(String),
    #[error("The request can't be read: {1}")]
    Unreadable(StatusCode, String),
    #[error("{0}")]
    Broken(String),
    #[error("This was given up: {0}. Make it smaller and try again.")]
    Unfinished(#[from] Unfinished),
}

/// An RFC 9457 problem document.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Problem {
    pub(crate) title: String,
    pub(crate) status: u16,
    pub(crate) detail: String,
}

impl ApiError {
    fn status(&self) -> StatusCode {
        match self {
            Self::Store(e) => match e {
                StoreError::Refused(_) => StatusCode::CONFLICT,
                StoreError::Stale(_) => StatusCode::PRECONDITION_FAILED,
                StoreError::Unkept | StoreError::Late => StatusCode::SERVICE_UNAVAILABLE,
                StoreError::Missing(_) => StatusCode::NOT_FOUND,
                StoreError::Csv(_) => StatusCode::UNPROCESSABLE_ENTITY,
                StoreError::Io(e) if e.kind() == std::io::ErrorKind::InvalidData => StatusCode::UNPROCESSABLE_ENTITY,
                StoreError::Folder { .. }
                | StoreError::Newer(_)
                | StoreError::Unreadable(_)
                | StoreError::Sqlite(_)
                | StoreError::Migration(_)
                | StoreError::Pool(_)
                | StoreError::Io(_)
                | StoreError::Json(_)
                | StoreError::Stopped
                | StoreError::Broke => StatusCode::INTERNAL_SERVER_ERROR,
            },
            Self::Plan(_) | Self::Rules(_) | Self::Malformed(_) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::Refused(_) => StatusCode::CONFLICT,
            Self::Unreadable(status, _) => *status,
            Self::NobodyActing => StatusCode::BAD_REQUEST,
            Self::Unfinished(Unfinished::Late(_)) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::Broken(_) | Self::Unfinished(Unfinished::Broke) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let status = self.status();
        if status.is_server_error() {
            tracing::error!("{self}");
        }
        let problem =
            Problem { title: status.canonical_reason().unwrap_or("Error").to_owned(), status: status.as_u16(), detail: self.to_string() };
        (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(problem)).into_response()
    }
}

pub(crate) type Answer<T> = Result<Json<T>, ApiError>;
