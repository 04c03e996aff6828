//! Answers that are costly to work out and hardly change are kept in memory for a while: what past mailings make usual, whom a forecast meets.
//!
//! An answer is good for a hundred times as long as it took, so that no more than one part in a hundred of a core goes into it however often it is asked
//! for. What takes less than [`COSTLY`] is never kept: on a base of ordinary size every answer is of now. Whoever asks while it is worked out waits for
//! that and asks nothing again.

use super::kept::{Watches, found, lock};
use crate::Result;
use rinse_core::{HOUR, Instant};
use rusqlite::Connection;
use std::any::Any;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant as Moment};

/// What takes less is worked out each time.
const COSTLY: Duration = Duration::from_millis(500);
/// So many times what it took an answer is good.
const GOOD: u32 = 100;
/// So many are kept at once.
const MOST: usize = 64;

struct Worked {
    answer: Arc<dyn Any + Send + Sync>,
    at: Moment,
    took: Duration,
}

impl Worked {
    fn is_good(&self) -> bool {
        self.at.elapsed() < self.took * GOOD
    }
}

/// One question: its answer, and who works it out.
type Place = Arc<Mutex<Option<Worked>>>;

/// Is its answer good, or being worked out?
fn stays(place: &Place) -> bool {
    place.try_lock().map_or(true, |w| w.as_ref().is_some_and(Worked::is_good))
}

/// What is kept for one data file.
#[derive(Default)]
pub(crate) struct Costly(Mutex<HashMap<String, Place>>);

impl Watches for Costly {
    fn changed(&self, _: &str, _: i64, _: bool) {}

    fn finished(&self, _: bool) {}

    fn rest(&self) {
        lock(&self.0).retain(|_, place| stays(place));
    }
}

impl Costly {
    fn place(&self, question: String) -> Option<Place> {
        let mut all = lock(&self.0);
        if all.len() >= MOST && !all.contains_key(&question) {
            all.retain(|_, place| stays(place));
        }
        (all.len() < MOST || all.contains_key(&question)).then(|| Arc::clone(all.entry(question).or_default()))
    }

    fn answer<T: Clone + Send + Sync + 'static>(&self, question: String, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let Some(place) = self.place(question) else { return work() };
        let mut kept = lock(&place);
        if let Some(answer) = kept.as_ref().filter(|w| w.is_good()).and_then(|w| w.answer.downcast_ref::<T>()) {
            return Ok(answer.clone());
        }
        *kept = None;
        let began = Moment::now();
        let answer = work()?;
        let took = began.elapsed();
        if took >= COSTLY {
            *kept = Some(Worked { answer: Arc::new(answer.clone()), at: Moment::now(), took });
        }
        Ok(answer)
    }
}

/// The answer to a question whose rows hardly change: once an hour of the clock at least it is worked out again.
///
/// # Errors
/// When `work` fails; nothing is kept of it.
pub fn of_the_hour<T: Clone + Send + Sync + 'static>(
    c: &Connection,
    now: Instant,
    question: &str,
    work: impl FnOnce() -> Result<T>,
) -> Result<T> {
    costly(c, format!("{question}, hour {}", now.millis().div_euclid(HOUR)), work)
}

/// The same of what the team's own changes bear on: after any of them it is worked out again.
///
/// # Errors
/// When the database or `work` fails.
pub fn until_changed<T: Clone + Send + Sync + 'static>(
    c: &Connection,
    now: Instant,
    question: &str,
    work: impl FnOnce() -> Result<T>,
) -> Result<T> {
    let change: i64 = c.prepare_cached("SELECT coalesce(max(id), 0) FROM audit")?.query_row([], |r| r.get(0))?;
    of_the_hour(c, now, &format!("{question}, change {change}"), work)
}

/// The answer to a question about a data file. The question says all that the answer depends on but the rows: what is asked, of which day, by which rules.
///
/// # Errors
/// When `work` fails; nothing is kept of it.
fn costly<T: Clone + Send + Sync + 'static>(c: &Connection, question: String, work: impl FnOnce() -> Result<T>) -> Result<T> {
    // Inside a write it is asked of what nobody else sees, and may be taken back; and the writer waits for no reader.
    match found::<Costly>(c).filter(|_| c.is_autocommit()) {
        Some(kept) => kept.answer(question, work),
        None => work(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};

    #[test]
    fn what_is_costly_is_worked_out_once_by_whoever_asks_first() {
        let (kept, worked) = (Costly::default(), AtomicU32::new(0));
        let ask = |question: &str, long: Duration| {
            kept.answer(question.to_owned(), || {
                std::thread::sleep(long);
                Ok(worked.fetch_add(1, Ordering::Relaxed))
            })
        };
        std::thread::scope(|s| {
            for _ in 0..5 {
                s.spawn(|| assert_eq!(ask("forecast", COSTLY).unwrap(), 0));
            }
        });
        assert_eq!(ask("another", Duration::ZERO).unwrap(), 1, "another question");
        assert_eq!(ask("another", Duration::ZERO).unwrap(), 2, "what is quick is asked again");
        assert!(kept.answer::<u32>("failed".into(), || Err(crate::StoreError::Stopped)).is_err());
        assert_eq!(ask("failed", Duration::ZERO).unwrap(), 3, "nothing is kept of what failed");
        kept.rest();
        assert_eq!(lock(&kept.0).len(), 1, "only what is good stays");
    }
}
