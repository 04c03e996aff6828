//! Progress of long work: one stream tells of all that runs, however many pages look; a page that is reloaded picks it up again.

use axum::response::sse::{Event, KeepAlive, Sse};
use futures::Stream;
use serde::Serialize;
use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
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

/// How some work stands, by its name: `clock`, `import-7`, `change-7`, `cleaning-7`.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct JobProgress {
    job: String,
    #[serde(flatten)]
    progress: Progress,
}

/// Work that can be followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Job {
    /// `clock`
    Clock,
    /// `import-7`
    Import(i64),
    /// Past mailings that are looked through, applied or taken back: `history-7`.
    History(i64),
    /// A run that is taken back: `change-7`.
    Change(i64),
    /// What is stored, judged by other machine rules: `machines`.
    Machines,
    /// Machine rules tried on the past: `machines-tried`.
    MachinesTried,
    /// A cleaning run that is proposed, applied or undone: `cleaning-7`.
    Cleaning(i64),
}

impl std::fmt::Display for Job {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Clock => f.write_str("clock"),
            Self::Machines => f.write_str("machines"),
            Self::MachinesTried => f.write_str("machines-tried"),
            Self::Import(id) => write!(f, "import-{id}"),
            Self::History(id) => write!(f, "history-{id}"),
            Self::Change(id) => write!(f, "change-{id}"),
            Self::Cleaning(id) => write!(f, "cleaning-{id}"),
        }
    }
}

/// Work that ended is remembered for pages that come back to it; of that, so many.
const REMEMBERED: usize = 200;

#[derive(Default)]
struct State {
    /// Each with the number of its newest change.
    jobs: HashMap<Job, (u64, Progress)>,
    changes: u64,
    /// The order in which they ended.
    ended: VecDeque<Job>,
}

struct Inner {
    state: Mutex<State>,
    changed: watch::Sender<u64>,
}

/// The work there is; cheap to clone.
#[derive(Clone)]
pub(crate) struct Jobs(Arc<Inner>);

impl Default for Jobs {
    fn default() -> Self {
        Self(Arc::new(Inner { state: Mutex::default(), changed: watch::channel(0).0 }))
    }
}

/// One piece of work, to say how far it is.
#[derive(Clone)]
pub(crate) struct Told {
    jobs: Jobs,
    job: Job,
}

impl Told {
    pub(crate) fn now(&self) -> Progress {
        self.jobs.state().jobs.get(&self.job).map(|j| j.1.clone()).unwrap_or_default()
    }

    /// Begins the work, unless it runs already; true when it began.
    pub(crate) fn begin(&self, begin: impl FnOnce(&mut Progress)) -> bool {
        let mut began = false;
        self.send_modify(|p| {
            if !p.running {
                *p = Progress { ended: p.ended, running: true, ..Progress::default() };
                begin(p);
                began = true;
            }
        });
        began
    }

    pub(crate) fn send_modify(&self, change: impl FnOnce(&mut Progress)) {
        let mut state = self.jobs.state();
        state.changes += 1;
        let n = state.changes;
        let entry = state.jobs.entry(self.job).or_default();
        let ended = entry.1.ended;
        change(&mut entry.1);
        entry.0 = n;
        if entry.1.ended > ended {
            state.ended.push_back(self.job);
            if state.ended.len() > REMEMBERED
                && let Some(old) = state.ended.pop_front()
                && !state.ended.contains(&old)
                && state.jobs.get(&old).is_some_and(|j| !j.1.running)
            {
                state.jobs.remove(&old);
            }
        }
        drop(state);
        self.jobs.0.changed.send_replace(n);
    }
}

impl Jobs {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn sender(&self, job: Job) -> Told {
        Told { jobs: self.clone(), job }
    }

    /// All work that runs or ran lately.
    pub(crate) fn all(&self) -> Vec<JobProgress> {
        self.since(0).1
    }

    /// What changed after a change, and the newest one.
    fn since(&self, seen: u64) -> (u64, Vec<JobProgress>) {
        let state = self.state();
        let mut new: Vec<_> = state.jobs.iter().filter(|(_, (n, _))| *n > seen).collect();
        new.sort_by_key(|(_, (n, _))| *n);
        (state.changes, new.into_iter().map(|(job, (_, p))| JobProgress { job: job.to_string(), progress: p.clone() }).collect())
    }

    /// Tells of all work at once, and then of each change, until Rinse ends.
    pub(crate) fn stream(&self, closing: watch::Receiver<bool>) -> Sse<impl Stream<Item = Result<Event, Infallible>> + use<>> {
        let (jobs, mut seen) = (self.clone(), 0);
        let stream = WatchStream::new(self.0.changed.subscribe()).map(move |_| {
            let (upto, new) = jobs.since(seen);
            seen = upto;
            Ok(Event::default().json_data(new).unwrap_or_default())
        });
        Sse::new(crate::listen::ends_with(stream, closing)).keep_alive(KeepAlive::default())
    }
}
