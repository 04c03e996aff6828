//! The writer thread: takes jobs in their order, those of people who leave first, and answers each after the commit.

use crate::StoreError;
use crate::kept::Kept;
use crate::readers::Closed;
use rusqlite::Connection;
use rustix::time::{ClockId, clock_gettime};
use std::cell::Cell;
use std::collections::VecDeque;
use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant as Moment};

/// Jobs that may share one transaction, hence one wait for the disk.
const GROUP: usize = 1_000;
/// Events are small: more of them share one.
const GROUP_OF_EVENTS: usize = 4_000;
/// Idle work before the writer looks for jobs again, in people: some 10 ms.
const AT_ONCE: usize = 200;
/// A hold that is said in the log (microseconds).
const LONG: u64 = 1_000_000;
/// Readers may hold up emptying the log; it is tried again after so long.
const AGAIN: Duration = Duration::from_millis(200);
/// The thread's name: nothing that works on text may run there ([`is_this_thread`]).
const NAME: &str = "rinse-writer";

/// Is this the writer's thread? What works on text asks, and refuses: everybody's unsubscribing would wait for it.
#[must_use]
pub fn is_this_thread() -> bool {
    std::thread::current().name() == Some(NAME)
}

thread_local! {
    /// Somebody was deleted by this thread since the log was last emptied.
    static ERASED: Cell<bool> = const { Cell::new(false) };
}

/// Somebody was deleted: the log is to be emptied of them once that is committed.
pub(crate) fn has_erased() {
    ERASED.set(true);
}

/// Has the last word in each transaction: what must be somewhere else before the database says so. When it fails, nothing is committed.
pub(crate) trait OnCommit: Send {
    fn before_commit(&mut self, c: &Connection) -> rusqlite::Result<()>;
}

/// Work for when nobody waits: at most so much of it at once; true when there is more.
pub(crate) type Idle = fn(&Connection, usize) -> crate::Result<bool>;

/// What the writer does besides its jobs.
pub(crate) struct Around {
    pub(crate) on_commit: Box<dyn OnCommit>,
    pub(crate) kept: Arc<Kept>,
    pub(crate) idle: &'static [Idle],
}

/// Work for the writer thread: run inside a transaction, answered after it.
pub(crate) trait Job: Send {
    /// Runs; false when it failed.
    fn run(&mut self, c: &Connection) -> bool;
    /// May it be run again after a rollback?
    fn repeatable(&self) -> bool;
    /// Tells the one who waits.
    fn answer(self: Box<Self>, committed: bool);
}

pub(crate) struct Task<F, T, const REPEATABLE: bool> {
    work: Option<F>,
    result: Option<crate::Result<T>>,
    tell: tokio::sync::oneshot::Sender<crate::Result<T>>,
}

impl<F, T, const REPEATABLE: bool> Task<F, T, REPEATABLE> {
    /// A task, and where its answer comes.
    pub(crate) fn new(work: F) -> (Self, Answer<T>) {
        let (tell, told) = tokio::sync::oneshot::channel();
        (Self { work: Some(work), result: None, tell }, told)
    }

    fn tell(self, committed: bool) {
        let result = self.result.filter(|r| committed || r.is_err()).unwrap_or(Err(StoreError::Unkept));
        let _ = self.tell.send(result);
    }
}

type Answer<T> = tokio::sync::oneshot::Receiver<crate::Result<T>>;

/// A change that panics fails alone: the writer goes on.
fn caught<T>(f: impl FnOnce() -> crate::Result<T>) -> crate::Result<T> {
    std::panic::catch_unwind(AssertUnwindSafe(f)).unwrap_or(Err(StoreError::Broke))
}

impl<F: FnOnce(&Connection) -> crate::Result<T> + Send, T: Send> Job for Task<F, T, false> {
    fn run(&mut self, c: &Connection) -> bool {
        self.result = self.work.take().map(|f| caught(|| f(c)));
        matches!(self.result, Some(Ok(_)))
    }
    fn repeatable(&self) -> bool {
        false
    }
    fn answer(self: Box<Self>, committed: bool) {
        (*self).tell(committed);
    }
}

impl<F: Fn(&Connection) -> crate::Result<T> + Send, T: Send> Job for Task<F, T, true> {
    fn run(&mut self, c: &Connection) -> bool {
        self.result = self.work.as_ref().map(|f| caught(|| f(c)));
        matches!(self.result, Some(Ok(_)))
    }
    fn repeatable(&self) -> bool {
        true
    }
    fn answer(self: Box<Self>, committed: bool) {
        (*self).tell(committed);
    }
}

/// Which jobs go first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lane {
    /// People who leave.
    First,
    Usual,
}

#[derive(Default)]
struct Lanes {
    first: VecDeque<Box<dyn Job>>,
    usual: VecDeque<Box<dyn Job>>,
    /// Nobody can queue any more …
    closed: bool,
    /// … or nobody takes.
    stopped: bool,
}

#[derive(Default)]
struct Queue {
    lanes: Mutex<Lanes>,
    ready: Condvar,
    longest_hold: AtomicU64,
}

impl Queue {
    fn lanes(&self) -> MutexGuard<'_, Lanes> {
        self.lanes.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The way in: when the last handle to it is gone, what was queued is written and the file is closed.
pub(crate) struct Entrance {
    queue: Arc<Queue>,
    writes: Option<JoinHandle<()>>,
}

impl Entrance {
    pub(crate) fn queue(&self, lane: Lane, job: Box<dyn Job>) -> crate::Result<()> {
        let mut lanes = self.queue.lanes();
        if lanes.stopped {
            return Err(StoreError::Stopped);
        }
        match lane {
            Lane::First => lanes.first.push_back(job),
            Lane::Usual => lanes.usual.push_back(job),
        }
        drop(lanes);
        self.queue.ready.notify_one();
        Ok(())
    }

    pub(crate) fn longest_hold(&self) -> Duration {
        Duration::from_micros(self.queue.longest_hold.load(Ordering::Relaxed))
    }
}

impl Drop for Entrance {
    fn drop(&mut self) {
        self.queue.lanes().closed = true;
        self.queue.ready.notify_one();
        // A job may have held the last handle: the writer doesn't wait for itself.
        if let Some(writes) = self.writes.take().filter(|w| w.thread().id() != std::thread::current().id()) {
            let _ = writes.join();
        }
    }
}

/// Whatever ends the writer, those who wait are told.
struct Ends<'a>(&'a Queue);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        let mut lanes = self.0.lanes();
        lanes.stopped = true;
        lanes.first.clear();
        lanes.usual.clear();
    }
}

/// Starts the thread. It closes the file when nobody reads it any more.
///
/// # Errors
/// When the system gives none.
pub(crate) fn start(conn: Connection, mut around: Around, others: Closed) -> std::io::Result<Entrance> {
    let queue = Arc::new(Queue::default());
    let own = Arc::clone(&queue);
    let writes = std::thread::Builder::new().name(NAME.into()).spawn(move || {
        {
            let _ends = Ends(&own);
            Writer { c: &conn, queue: &own, around: &mut around }.run();
        }
        others.wait();
    })?;
    Ok(Entrance { queue, writes: Some(writes) })
}

/// Runs one job so that nothing of it stays when it fails.
fn in_savepoint(c: &Connection, job: &mut dyn Job) -> rusqlite::Result<()> {
    c.prepare_cached("SAVEPOINT job")?.execute([])?;
    if !job.run(c) {
        c.prepare_cached("ROLLBACK TO job")?.execute([])?;
    }
    c.prepare_cached("RELEASE job")?.execute([])?;
    Ok(())
}

/// Runs a group of repeatable jobs as they are; false when one failed after it had changed rows.
fn as_they_are(c: &Connection, jobs: &mut [Box<dyn Job>]) -> bool {
    jobs.iter_mut().all(|job| {
        let before = c.total_changes();
        job.run(c) || c.total_changes() == before
    })
}

/// One transaction; false when it could not be committed.
fn transaction(c: &Connection, jobs: &mut [Box<dyn Job>], repeatable: bool, on_commit: &mut dyn OnCommit) -> bool {
    let done = (|| {
        c.execute_batch("BEGIN IMMEDIATE")?;
        if let [job] = jobs {
            // Alone it needs no savepoint, for which every page it touches would be copied.
            if !job.run(c) {
                return c.execute_batch("ROLLBACK");
            }
        } else if repeatable && !as_they_are(c, jobs) {
            c.execute_batch("ROLLBACK; BEGIN IMMEDIATE")?;
            jobs.iter_mut().try_for_each(|job| in_savepoint(c, job.as_mut()))?;
        } else if !repeatable {
            jobs.iter_mut().try_for_each(|job| in_savepoint(c, job.as_mut()))?;
        }
        on_commit.before_commit(c)?;
        c.execute_batch("COMMIT")
    })();
    if let Err(e) = &done {
        tracing::error!("a commit failed: {e}");
        let _ = c.execute_batch("ROLLBACK");
    }
    done.is_ok()
}

/// The processor's time of this thread, in microseconds.
fn worked() -> u64 {
    let t = clock_gettime(ClockId::ThreadCPUTime);
    u64::try_from(t.tv_sec * 1_000_000 + t.tv_nsec / 1_000).unwrap_or_default()
}

struct Writer<'a> {
    c: &'a Connection,
    queue: &'a Queue,
    around: &'a mut Around,
}

impl Writer<'_> {
    /// Takes waiting jobs in their order, groups neighbours of the same kind, and answers after each commit.
    fn run(mut self) {
        while let Some(mut group) = self.next_group() {
            let (began, worked) = (Moment::now(), worked());
            let repeatable = group.first().is_some_and(|j| j.repeatable());
            let committed = transaction(self.c, &mut group, repeatable, self.around.on_commit.as_mut());
            let held = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
            self.queue.longest_hold.fetch_max(self::worked().saturating_sub(worked), Ordering::Relaxed);
            if held > LONG {
                tracing::warn!("one change of the data file took {} ms, and everybody else's waited for it", held / 1000);
            }
            self.around.kept.finished(committed);
            for job in group {
                job.answer(committed);
            }
        }
    }

    /// The next jobs for one transaction: of people who leave, when there are any. Until some come, idle work is done, a little at a time, and
    /// what a deletion left in the log is taken out of it.
    fn next_group(&mut self) -> Option<Vec<Box<dyn Job>>> {
        let mut left = true;
        loop {
            let mut lanes = self.queue.lanes();
            if let Some(group) = taken(&mut lanes.first).or_else(|| taken(&mut lanes.usual)) {
                return Some(group);
            }
            if lanes.closed {
                return None;
            }
            let erased = ERASED.get();
            if left || erased {
                drop(lanes);
                left = left && self.idle();
                if erased && !self.empty_log() {
                    let lanes = self.queue.lanes();
                    if lanes.first.is_empty() && lanes.usual.is_empty() && !lanes.closed {
                        drop(self.queue.ready.wait_timeout(lanes, AGAIN));
                    }
                }
                continue;
            }
            drop(self.queue.ready.wait(lanes).unwrap_or_else(PoisonError::into_inner));
            left = true;
        }
    }

    /// Does some of the idle work; true when there is more.
    fn idle(&self) -> bool {
        let c = self.c;
        if c.execute_batch("BEGIN IMMEDIATE").is_err() {
            return false;
        }
        let done = self.around.idle.iter().try_fold(false, |left, some| Ok::<_, StoreError>(some(c, AT_ONCE)? || left));
        let left = matches!(done, Ok(true));
        if c.execute_batch(if done.is_ok() { "COMMIT" } else { "ROLLBACK" }).is_err() {
            let _ = c.execute_batch("ROLLBACK");
        }
        if let Err(e) = done {
            tracing::warn!("responses could not be rolled up, and are counted one by one: {e}");
        }
        left
    }

    /// Moves the log into the file and cuts it, so that nothing of a deleted person stays there; false while a reader needs it.
    fn empty_log(&self) -> bool {
        let done = (|| {
            self.c.busy_timeout(Duration::ZERO)?;
            let busy: i64 = self.c.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |r| r.get(0))?;
            self.c.busy_timeout(Duration::from_secs(10))?;
            Ok::<_, rusqlite::Error>(busy == 0)
        })();
        let emptied = done.unwrap_or(false);
        if emptied {
            ERASED.set(false);
        }
        emptied
    }
}

/// Neighbours of one kind, from the front.
fn taken(lane: &mut VecDeque<Box<dyn Job>>) -> Option<Vec<Box<dyn Job>>> {
    let repeatable = lane.front()?.repeatable();
    let most = if repeatable { GROUP_OF_EVENTS } else { GROUP };
    let n = lane.iter().take(most).take_while(|j| j.repeatable() == repeatable).count();
    Some(lane.drain(..n).collect())
}
