//! Off the threads that answer everybody: whatever happens here, they go on.
//!
//! Each request to the API is worked on by a thread of its own ([`Threads`]), so that no handler can hold one that others need: it asks
//! the store, counts and writes tables there without a further thought. Work on what comes from outside has a big stack, too, and a
//! deadline, a few at a time ([`Apart`]).

use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::{Builder, Handle, Runtime};
use tokio::sync::{Semaphore, oneshot};

/// Deep enough for whatever the bounds let through, many times over.
const STACK: usize = 64 << 20;
/// At once; one that is late still holds its place until it ends.
const AT_ONCE: usize = 4;

/// Why there is no result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Unfinished {
    #[error("it takes longer than {0} s")]
    Late(u64),
    #[error("it failed inside Rinse")]
    Broke,
}

/// The threads; cheap to clone.
#[derive(Clone)]
pub(crate) struct Apart(Arc<Semaphore>);

impl Default for Apart {
    fn default() -> Self {
        Self(Arc::new(Semaphore::new(AT_ONCE)))
    }
}

impl Apart {
    /// Runs something, and waits no longer than `patience`, a turn included.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        patience: Duration,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Unfinished> {
        let late = |_| Unfinished::Late(patience.as_secs());
        let place = Arc::clone(&self.0);
        let done = async {
            let place = place.acquire_owned().await.map_err(|_| Unfinished::Broke)?;
            let (tell, told) = oneshot::channel();
            let spawned = std::thread::Builder::new().name("rinse-apart".into()).stack_size(STACK).spawn(move || {
                give_way();
                let _place = place;
                let _ = tell.send(work());
            });
            spawned.map_err(|_| Unfinished::Broke)?;
            // One that panics tells nothing.
            told.await.map_err(|_| Unfinished::Broke)
        };
        tokio::time::timeout(patience, done).await.map_err(late)?
    }
}

/// How far these threads stand back: at a tenth of a share of the processors each, where others want them.
const STANDS_BACK: i32 = 10;

/// Anybody who writes, sends or answers the public comes first: a crowd that reads pages must not keep a withdrawal waiting. Linux keeps this
/// for each thread; elsewhere it would be the whole process that stands back, which helps nobody.
fn give_way() {
    #[cfg(target_os = "linux")]
    if let Err(e) = rustix::process::nice(STANDS_BACK) {
        tracing::debug!("a thread keeps its priority: {e}");
    }
}

/// Requests that are worked on at once; each may have a second thread for what it asks of the store.
const REQUESTS: usize = 64;

/// The threads of requests; cheap to clone.
#[derive(Clone)]
pub(crate) struct Threads {
    places: Arc<Semaphore>,
    pool: Arc<Pool>,
}

/// Threads that stand back behind all others; a runtime only by its pool.
struct Pool(Option<Runtime>);

impl Pool {
    fn handle(&self) -> Option<&Handle> {
        self.0.as_ref().map(Runtime::handle)
    }
}

impl Drop for Pool {
    /// It may be let go of on a worker, which must not wait for it.
    fn drop(&mut self) {
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

impl Threads {
    /// None is started before it is wanted. Fails where the system refuses a pool.
    pub(crate) fn open() -> io::Result<Self> {
        let pool =
            Builder::new_current_thread().thread_name("rinse-request").max_blocking_threads(REQUESTS).on_thread_start(give_way).build()?;
        Ok(Self { places: Arc::new(Semaphore::new(REQUESTS)), pool: Arc::new(Pool(Some(pool))) })
    }

    /// Works on a request for as long as somebody waits for it: a page that is closed takes back what it asked.
    pub(crate) async fn ask<F>(&self, work: F) -> Result<F::Output, Unfinished>
    where
        F: Future<Output: Send> + Send + 'static,
    {
        let place = Arc::clone(&self.places).acquire_owned().await.map_err(|_| Unfinished::Broke)?;
        // Dropped with the one who waits.
        let (_waits, gone) = oneshot::channel::<()>();
        // What the request waits for is driven by the runtime it came from.
        let runtime = Handle::current();
        let done = self.pool.handle().ok_or(Unfinished::Broke)?.spawn_blocking(move || {
            let _place = place;
            runtime.block_on(async {
                tokio::select! {
                    done = work => Some(done),
                    _ = gone => None,
                }
            })
        });
        done.await.ok().flatten().ok_or(Unfinished::Broke)
    }

    /// As [`Threads::ask`], to its end, no matter who closed their page meanwhile.
    pub(crate) async fn change<F>(&self, work: F) -> Result<F::Output, Unfinished>
    where
        F: Future<Output: Send> + Send + 'static,
    {
        let threads = self.clone();
        tokio::spawn(async move { threads.ask(work).await }).await.unwrap_or(Err(Unfinished::Broke))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_is_late_or_breaks_keeps_nobody_waiting() {
        let apart = Apart::default();
        let (go, stop) = std::sync::mpsc::channel::<()>();
        let late = apart.run(Duration::from_millis(20), move || stop.recv().is_ok()).await;
        assert_eq!(late, Err(Unfinished::Late(0)));
        assert_eq!(apart.run(Duration::from_secs(60), || panic!("on purpose")).await.map(|(): ()| ()), Err(Unfinished::Broke));
        assert_eq!(apart.run(Duration::from_secs(60), || 7).await, Ok(7));
        drop(go);
    }

    /// More requests that block than there are workers: others are answered meanwhile.
    #[tokio::test]
    async fn a_request_that_blocks_holds_no_worker() {
        let threads = Threads::open().unwrap();
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let held = tokio::spawn({
            let threads = threads.clone();
            async move { threads.ask(async move { wait.recv().is_ok() }).await }
        });
        assert_eq!(threads.ask(async { 7 }).await, Ok(7));
        go.send(()).unwrap();
        assert_eq!(held.await.unwrap(), Ok(true));
    }

    /// What nobody waits for ends where it waits; a change doesn't.
    #[tokio::test]
    async fn what_nobody_waits_for_is_left() {
        let threads = Threads::open().unwrap();
        let (tell, told) = oneshot::channel::<()>();
        let asked = threads.ask(async move {
            let _tell = tell;
            std::future::pending::<()>().await;
        });
        assert!(tokio::time::timeout(Duration::from_millis(5), asked).await.is_err());
        assert!(told.await.is_err(), "it was dropped");
        let (tell, told) = oneshot::channel::<()>();
        let (go, wait) = oneshot::channel::<()>();
        let change = threads.change(async move {
            let _ = wait.await;
            let _ = tell.send(());
        });
        assert!(tokio::time::timeout(Duration::from_millis(5), change).await.is_err());
        go.send(()).unwrap();
        assert_eq!(told.await, Ok(()));
    }
}
