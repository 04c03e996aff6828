//! What an alert says, in figures and in a sentence.

use super::alert::{Kind, OnMailing};
use super::junk::Expected;
use crate::words::{percent, thousands as count};
use serde::{Deserialize, Serialize};

/// The sums of the mailings that made an alert.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Told {
    pub mailings: u64,
    pub sent: u64,
    pub blocked: u64,
    pub reporting: u64,
    pub complaints: u64,
    /// Of people whose opens can be known.
    pub known: u64,
    pub opened: u64,
    /// Opens that were to be expected of them, and the lower limit.
    pub expected: f64,
    pub least: f64,
    pub paused: bool,
}

/// The sums of some mailings, with what was to be expected of their opens.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn of<'a>(mailings: impl Iterator<Item = (&'a OnMailing, Option<&'a Expected>)>) -> Told {
    mailings.fold(Told::default(), |t, (m, expected)| {
        let of = |rate: fn(&Expected) -> f64| expected.map_or(0.0, |e| rate(e) * m.here.trials as f64);
        Told {
            mailings: t.mailings + 1,
            sent: t.sent + m.sent,
            blocked: t.blocked + m.blocked,
            reporting: t.reporting + m.reporting,
            complaints: t.complaints + m.complaints,
            known: t.known + m.here.trials,
            opened: t.opened + m.here.successes,
            expected: t.expected + of(|e| e.rate),
            least: t.least + of(|e| e.lower),
            paused: t.paused || m.paused,
        }
    })
}

#[allow(clippy::cast_precision_loss)]
fn share(n: u64, of: u64) -> f64 {
    n as f64 / of.max(1) as f64
}

/// The sentence of an alert.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn words(kind: Kind, t: &Told) -> String {
    let on = if t.mailings == 1 { "on one mailing".to_owned() } else { format!("on {} mailings", count(t.mailings)) };
    match kind {
        Kind::Blocked if t.sent == 0 => "It was paused by itself.".to_owned(),
        Kind::Blocked => {
            let paused = if t.paused { "; it was paused by itself" } else { "" };
            format!(
                "{} of {} messages were blocked ({}) {on}{paused}.",
                count(t.blocked),
                count(t.sent),
                percent(share(t.blocked, t.sent), 1)
            )
        }
        Kind::Complaints => format!(
            "{} complaints in {} delivered messages ({}) {on}; the marks are 0.1% and 0.3%.",
            count(t.complaints),
            count(t.reporting),
            percent(share(t.complaints, t.reporting), 2)
        ),
        Kind::OpenedLess => {
            let known = t.known.max(1) as f64;
            format!(
                "{} opened {on}, where its own past and the opens elsewhere lead to expect {}, and {} at the least. It may be the junk folder: this is a sign, no proof.",
                percent(share(t.opened, t.known), 1),
                percent(t.expected / known, 1),
                percent(t.least / known, 1)
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::Arm;

    #[test]
    fn an_alert_says_what_was_counted() {
        let m = OnMailing {
            sent: 1_416,
            accepted: 1_200,
            blocked: 212,
            reporting: 1_200,
            complaints: 4,
            here: Arm { successes: 120, trials: 1_000 },
            ..OnMailing::default()
        };
        let t = of([(&m, Some(&Expected { rate: 0.24, lower: 0.2, under: true })), (&OnMailing { paused: true, ..m }, None)].into_iter());
        assert_eq!(words(Kind::Blocked, &t), "424 of 2,832 messages were blocked (15.0%) on 2 mailings; it was paused by itself.");
        assert_eq!(
            words(Kind::Complaints, &t),
            "8 complaints in 2,400 delivered messages (0.33%) on 2 mailings; the marks are 0.1% and 0.3%."
        );
        let one = of([(&m, Some(&Expected { rate: 0.24, lower: 0.2, under: true }))].into_iter());
        assert!(words(Kind::OpenedLess, &one).starts_with(
            "12.0% opened on one mailing, where its own past and the opens elsewhere lead to expect 24.0%, and 20.0% at the least."
        ));
    }
}
