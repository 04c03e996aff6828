//! What a new installation has already, and what it lacks.

use crate::delivery::names;
use crate::{Result, letterheads, rules};
use rinse_core::bounce::Reply;
use rinse_core::delivery::authentication::{Check, State};
use rinse_core::first_steps::Facts;
use rusqlite::{Connection, OptionalExtension};

/// Has a mailing gone? Then there are no first steps any more.
///
/// # Errors
/// When the database fails.
pub fn sent(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM mailing m WHERE started_at IS NOT NULL AND NOT EXISTS (SELECT 1 FROM outside_mailing o WHERE o.mailing_id = m.id) LIMIT 1")?.exists([])?)
}

/// What is there; `dns`: somebody may be asked of it.
///
/// # Errors
/// When the database fails.
pub fn facts(c: &Connection, dns: bool) -> Result<Facts> {
    if sent(c)? {
        return Ok(Facts { sent: true, ..Facts::default() });
    }
    let usual = letterheads::usual(c)?;
    let looked = names::senders(c)?.into_iter().find(|s| usual.as_ref().is_some_and(|l| l.id == s.letterhead_id) && s.looked_at.is_some());
    let right = |l: &rinse_core::delivery::authentication::Line| matches!(l.check, Check::Spf | Check::Dkim) && l.state == State::Right;
    let test: Option<String> = c
        .prepare_cached("SELECT reply FROM test_send WHERE reply <> '' ORDER BY id DESC LIMIT 1")?
        .query_row([], |r| r.get(0))
        .optional()?;
    let count = |sql: &str| -> Result<u64> { Ok(c.prepare_cached(sql)?.query_row([], |r| r.get::<_, i64>(0))?.unsigned_abs()) };
    Ok(Facts {
        people: count("SELECT count(*) FROM contact WHERE gone IS NULL")?,
        letterhead: usual.as_ref().map(|l| l.domain().to_owned()),
        postal_address: usual.is_some_and(|l| !l.postal_address.trim().is_empty()),
        proved: looked.map(|s| s.lines.iter().any(right)),
        dns,
        caps_in_force: rules::current(c)?.rules.caps.iter().filter(|cap| cap.in_force).count(),
        test_accepted: test.as_deref().is_some_and(|line| Reply::parse(line).accepted()),
        test,
        goals: usize::try_from(count("SELECT count(*) FROM goal")?).unwrap_or(0),
        past: count("SELECT count(*) FROM outside_mailing")?,
        sent: false,
    })
}
