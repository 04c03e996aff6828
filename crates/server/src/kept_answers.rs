//! Answers about everybody that take seconds are kept: anybody who asks again gets what was said last, with its instant, and it is counted again beside.
//!
//! An answer is fresh for a hundred times as long as it took, so that no more than one part in a hundred of a core goes into it, however often it is
//! asked. What takes less than two seconds is never kept: on a base of ordinary size every answer is of now.

use axum::Json;
use axum::body::Bytes;
use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use rinse_store::kept_answers::Answer;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// What takes less is counted each time: of an ordinary base, of a large one.
const COSTLY: [Duration; 2] = [Duration::from_secs(2), Duration::from_millis(100)];
/// Of a large base it is counted again after so long though nobody asks.
const AGED: i64 = rinse_core::DAY;
/// So many times what it took an answer is fresh.
const FRESH: u32 = 100;
/// So many different requests are kept.
const MOST: usize = 200;

/// The instant of a kept answer, in milliseconds.
pub(crate) const AS_OF: HeaderName = HeaderName::from_static("x-as-of");

/// What was worked out beside, with the instant that it is of; none: now.
pub(crate) struct AsOf<T>(pub(crate) T, pub(crate) Option<rinse_core::Instant>);

impl<T: Serialize> IntoResponse for AsOf<T> {
    fn into_response(self) -> Response {
        let as_of = self.1.map(|at| [(AS_OF, HeaderValue::from(at.millis()))]);
        match as_of {
            Some(header) => (header, Json(self.0)).into_response(),
            None => Json(self.0).into_response(),
        }
    }
}

struct Kept {
    body: Bytes,
    as_of: i64,
    took: Duration,
    said: Option<Instant>,
    /// It is being counted again.
    again: bool,
}

impl Kept {
    /// Is it of now? The demo's clock moves by days in a moment.
    fn fresh(&self, now: i64) -> bool {
        let good = self.took * FRESH;
        let aged = Duration::from_millis(now.abs_diff(self.as_of));
        self.said.is_some_and(|said| said.elapsed() < good) && aged < good
    }

    fn answer(&self) -> Response {
        let json = HeaderValue::from_static("application/json");
        ([(header::CONTENT_TYPE, json), (AS_OF, HeaderValue::from(self.as_of))], self.body.clone()).into_response()
    }
}

/// What became of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Said {
    Kept,
    Forgotten,
}

/// The answers that are kept; cheap to clone.
#[derive(Clone, Default)]
pub(crate) struct Answers {
    kept: Arc<Mutex<HashMap<String, Kept>>>,
    large: Arc<AtomicBool>,
}

impl Answers {
    /// What an earlier process said: shown until it is counted again.
    pub(crate) fn of(earlier: Vec<Answer>) -> Self {
        let kept = |a: Answer| {
            (a.asked, Kept { body: a.answer.into(), as_of: a.as_of, took: Duration::from_millis(a.took), said: None, again: false })
        };
        Self { kept: Arc::new(Mutex::new(earlier.into_iter().map(kept).collect())), large: Arc::default() }
    }

    /// Is the base a large one?
    pub(crate) fn set_large(&self, large: bool) {
        self.large.store(large, Ordering::Relaxed);
    }

    pub(crate) fn is_large(&self) -> bool {
        self.large.load(Ordering::Relaxed)
    }

    fn costly(&self) -> Duration {
        COSTLY[usize::from(self.is_large())]
    }

    /// Is nothing kept of it that is younger than a day?
    pub(crate) fn aged(&self, asked: &str, now: i64) -> bool {
        self.all().get(asked).is_none_or(|k| now.abs_diff(k.as_of) >= AGED.unsigned_abs())
    }

    fn all(&self) -> MutexGuard<'_, HashMap<String, Kept>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps an answer that took long; one that doesn't any more is forgotten. None: nothing was or is kept of it.
    pub(crate) fn said(&self, asked: &str, body: &Bytes, as_of: i64, took: Duration) -> Option<Said> {
        let mut all = self.all();
        let known = all.contains_key(asked);
        if took < self.costly() || (!known && all.len() >= MOST) {
            return all.remove(asked).map(|_| Said::Forgotten);
        }
        all.insert(asked.to_owned(), Kept { body: body.clone(), as_of, took, said: Some(Instant::now()), again: false });
        Some(Said::Kept)
    }

    /// It took too little to be kept, and nothing is kept of it.
    pub(crate) fn is_of_now(&self, asked: &str, took: Duration) -> bool {
        took < self.costly() && !self.all().contains_key(asked)
    }

    /// It was to be counted again, and wasn't.
    pub(crate) fn not_counted(&self, asked: &str) {
        if let Some(kept) = self.all().get_mut(asked) {
            kept.again = false;
        }
    }

    /// What was said last on a request, and whether the one who asks is to count it again.
    pub(crate) fn last(&self, asked: &str, now: i64) -> Option<(Response, bool)> {
        let mut all = self.all();
        let kept = all.get_mut(asked)?;
        let again = !kept.fresh(now) && !kept.again;
        kept.again |= again;
        Some((kept.answer(), again))
    }

    /// A change at a path: what is kept of it isn't true any more.
    pub(crate) fn changed(&self, path: &str) -> Vec<String> {
        let of = |p: &str| p.split('/').take(3).collect::<Vec<_>>().join("/");
        let gone = |asked: &str| {
            let kept = of(asked.split('?').next().unwrap_or_default());
            // A domain that is paused by hand stands in Delivery.
            kept == of(path) || kept == "/api/delivery" && of(path) == "/api/domains"
        };
        let mut all = self.all();
        let asked: Vec<String> = all.keys().filter(|a| gone(a)).cloned().collect();
        asked.iter().for_each(|a| drop(all.remove(a)));
        asked
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept(asked: &str, took: u64) -> Answers {
        Answers::of(vec![Answer { asked: asked.into(), as_of: 1_000_000, took, answer: b"{}".to_vec() }])
    }

    /// Of an earlier process it is shown, and counted again by the first who asks; the others get it as it is meanwhile.
    #[test]
    fn what_was_said_is_shown_and_counted_anew_by_one() {
        let answers = kept("/api/growth", 40_000);
        let (answer, again) = answers.last("/api/growth", 1_000_000).unwrap();
        assert_eq!((answer.headers().get(AS_OF).unwrap(), again), (&HeaderValue::from(1_000_000i64), true));
        assert!(!answers.last("/api/growth", 1_000_000).unwrap().1);
        assert!(answers.last("/api/domains", 1_000_000).is_none());
    }

    /// A large base's answers are kept sooner, and asked for when they are a day old.
    #[test]
    fn of_a_large_base_nobody_waits() {
        let (answers, tenth) = (Answers::default(), Duration::from_millis(200));
        assert!(answers.is_of_now("/api/growth", tenth) && answers.aged("/api/growth", 0));
        answers.set_large(true);
        assert!(!answers.is_of_now("/api/growth", tenth));
        assert_eq!(answers.said("/api/growth", &Bytes::from_static(b"[]"), 5, tenth), Some(Said::Kept));
        assert!(!answers.aged("/api/growth", AGED) && answers.aged("/api/growth", AGED + 5));
    }

    /// A hundred times what it took, by the machine's clock and by the demo's.
    #[test]
    fn it_is_fresh_for_a_hundred_times_what_it_took() {
        let answers = kept("/api/growth", 40_000);
        answers.all().get_mut("/api/growth").unwrap().said = Some(Instant::now());
        assert!(!answers.last("/api/growth", 1_000_000 + 3_999_000).unwrap().1);
        assert!(answers.last("/api/growth", 1_000_000 + 4_001_000).unwrap().1);
    }

    /// A change of costs, or of a pause, is seen at once.
    #[test]
    fn a_change_at_a_path_ends_what_is_kept_of_it() {
        let answers = kept("/api/consent?by=source", 9_000);
        assert!(answers.changed("/api/domains/3").is_empty());
        assert_eq!(answers.changed("/api/consent/topics"), ["/api/consent?by=source"]);
        assert!(answers.last("/api/consent?by=source", 0).is_none());
        assert_eq!(kept("/api/delivery?letterhead=2", 900).changed("/api/domains/pauses"), ["/api/delivery?letterhead=2"]);
    }
}
