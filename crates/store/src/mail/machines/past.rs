//! Other rules, tried on what is stored: what they would take out, and what they would bring back.

use super::Changes;
use super::judging::{Other, anew, domain_of, tally};
use super::opens::{self, DomainFound};
use super::origins::first_since;
use crate::Result;
use crate::stored::ids_as;
use rinse_core::id::SendId;
use rinse_core::response::Rules;
use rinse_core::{DAY, Instant};
use rusqlite::Connection;
use serde::Serialize;
use utoipa::ToSchema;

/// What other rules would change of what is stored.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = MachineRulesTried)]
pub struct Tried {
    /// Days back.
    pub days: i64,
    pub changes: Changes,
    pub domains: Vec<DomainFound>,
}

/// Tries rules on the messages that were hit in the last `days`. `step` is told how many are behind it, of how many, and stops the work by its
/// error.
///
/// # Errors
/// When the database fails, or the work is stopped.
pub fn try_on(c: &Connection, rules: &Rules, days: i64, now: Instant, mut step: impl FnMut(u64, u64) -> Result<()>) -> Result<Tried> {
    let found = opens::found_otherwise(c, &super::current(c)?.rules, rules, now)?;
    let domains = found.iter().map(|d| (d.id, d.unknown)).collect();
    let other = Other { rules, domains: &domains, since: opens::window(now) };
    let mut changes = Changes::default();
    let sends = hit_since(c, now + -days * DAY)?;
    for (i, send) in sends.iter().enumerate() {
        if i % 1_000 == 0 {
            step(i as u64, sends.len() as u64)?;
        }
        match anew(c, *send, Some(&other))? {
            Some(a) => {
                changes.judged += 1;
                if a.before != a.after {
                    let mut part = Changes::default();
                    tally(&mut part, &a, &domain_of(c, a.contact)?);
                    changes.add(part);
                }
            }
            None => changes.kept += 1,
        }
    }
    Ok(Tried { days, changes, domains: found })
}

/// Messages that were opened or followed since an instant.
fn hit_since(c: &Connection, since: Instant) -> Result<Vec<SendId>> {
    let sql = "SELECT send_id FROM response WHERE id >= ?1 AND kind IN (1, 2)";
    let mut sends: Vec<SendId> = ids_as(c, sql, [first_since(c, since)?], SendId)?;
    sends.sort_unstable();
    sends.dedup();
    Ok(sends)
}
