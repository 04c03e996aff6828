//! Work on what comes from outside: on threads of its own with a big stack, a few at a time, each with a deadline. Whatever such work
//! does, the threads that answer everybody else go on.

use std::sync::Arc;
use std::time::Duration;
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
}
