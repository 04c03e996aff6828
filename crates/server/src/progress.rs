//! Progress of long work, as server-sent events; a page that is reloaded picks it up again.

use axum::response::sse::{Event, KeepAlive, Sse};
use futures::Stream;
use serde::Serialize;
use std::collections::HashMap;
use std::convert::Infallible;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::watch;
use tokio_stream::StreamExt;
use tokio_stream::wrappers::WatchStream;
use utoipa::ToSchema;

#[derive(Debug, Clone, Serialize, Default, ToSchema)]
pub(crate) struct Progress {
    pub(crate) running: bool,
    pub(crate) done: i64,
    pub(crate) total: i64,
    pub(crate) words: String,
    pub(crate) error: Option<String>,
    /// How often this work has ended. A watcher is told the newest state only, so work that is done
    /// at once may never be seen running: this is what shows that it ran.
    pub(crate) ended: u64,
}

impl Progress {
    /// The work is over, for good or with a reason.
    pub(crate) fn end(&mut self, error: Option<String>) {
        self.running = false;
        self.error = error;
        self.ended += 1;
    }
}

/// The work there is, by name (`clock`, `import-7`).
#[derive(Clone, Default)]
pub(crate) struct Jobs(Arc<Mutex<HashMap<String, watch::Sender<Progress>>>>);

impl Jobs {
    pub(crate) fn sender(&self, name: &str) -> watch::Sender<Progress> {
        let mut jobs = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        jobs.entry(name.to_owned()).or_insert_with(|| watch::channel(Progress::default()).0).clone()
    }

    pub(crate) fn stream(&self, name: &str) -> Sse<impl Stream<Item = Result<Event, Infallible>> + use<>> {
        let stream = WatchStream::new(self.sender(name).subscribe()).map(|p| Ok(Event::default().json_data(p).unwrap_or_default()));
        Sse::new(stream).keep_alive(KeepAlive::default())
    }
}
