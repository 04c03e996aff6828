//! How much memory may be held, and how much is.

use rinse_store::Held;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// A megabyte here.
const MEGABYTE: u64 = 1_000_000;
/// Megabytes that Rinse may hold when nothing else is said.
pub const USUAL_BUDGET: u32 = 600;

/// What may be held; cheap to clone.
#[derive(Clone)]
pub(crate) struct Budget {
    pub(crate) bytes: u64,
    /// How often something was let go for it since the start.
    let_go: Arc<AtomicU64>,
}

impl Budget {
    pub(crate) fn megabytes(n: u32) -> Self {
        Self { bytes: u64::from(n) * MEGABYTE, let_go: Arc::default() }
    }

    /// So many bytes too many are held, where the process has so many of its own and these are kept between questions.
    pub(crate) fn over(&self, private: Option<u64>, kept: &[Held]) -> u64 {
        // Where the system doesn't tell, what is kept is known at least.
        private.unwrap_or_else(|| kept.iter().map(|h| h.bytes as u64).sum()).saturating_sub(self.bytes)
    }

    pub(crate) fn has_let_go(&self) {
        self.let_go.fetch_add(1, Ordering::Relaxed);
    }

    /// How often something was let go.
    pub(crate) fn times(&self) -> u64 {
        self.let_go.load(Ordering::Relaxed)
    }
}

/// The memory of this process that is in no file, in bytes; none: the system doesn't tell.
pub(crate) fn private() -> Option<u64> {
    private_in(&std::fs::read_to_string("/proc/self/status").ok()?)
}

/// The same in what Linux says of a process (`proc_pid_status(5)`), in units of 1,024 bytes there.
fn private_in(status: &str) -> Option<u64> {
    let line = status.lines().find_map(|l| l.strip_prefix("RssAnon:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()?.checked_mul(1024)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_store::What;
    use std::time::Duration;

    #[test]
    fn what_is_too_many_goes_by_the_process_and_by_what_is_kept_where_that_is_unknown() {
        let b = Budget::megabytes(600);
        let kept = |bytes| [Held { what: What::Orders, bytes, unused: Duration::ZERO }];
        assert_eq!(b.over(Some(700 * MEGABYTE), &kept(50_000_000)), 100 * MEGABYTE);
        assert_eq!(b.over(Some(600 * MEGABYTE), &kept(600_000_000)), 0);
        assert_eq!(b.over(None, &kept(601_000_000)), MEGABYTE);
        assert_eq!(private_in("Name:\trinse\nVmRSS:\t 9 kB\nRssAnon:\t   52345 kB\nRssFile:\t 1 kB\n"), Some(52345 * 1024));
        assert_eq!(private_in("RssAnon:\tmany"), None);
        assert!(private().is_none_or(|p| p > MEGABYTE), "this process has some memory");
    }
}
