//! What the global holdout shows: conversions and revenue of those who got no marketing this quarter, held
//! against the rest.
//!
//! Everybody who was in the base when it was drawn counts, whatever happened to them since: the draw was by
//! chance, and what came later (a withdrawal, say) may be the mail's doing.

use crate::{Result, goals, rules};
use rinse_core::Instant;
use rinse_core::goal::{Goal, Happened, What};
use rinse_core::holdout::{Holdout, quarter, quarter_begins};
use rinse_core::id::ContactId;
use rinse_core::report::{LEVEL, Rate};
use rinse_core::stats::Arm;
use rinse_core::stats::agreeing::compare_shares;
use rinse_core::stats::randomization::{Stratum, redraw};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// One side of the comparison.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct HoldoutSide {
    /// People who converted, of all.
    pub converted: Rate,
    /// Per person, in the currency.
    pub revenue: f64,
}

/// A difference with its interval.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
#[schema(as = DifferenceSpan)]
pub struct Span {
    pub estimate: f64,
    pub lower: f64,
    pub upper: f64,
}

/// The readout.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct HoldoutReadout {
    pub quarter: String,
    /// Since when the draw has held in this quarter.
    pub since: i64,
    pub share: f64,
    pub goal: String,
    pub currency: String,
    pub held_out: HoldoutSide,
    pub rest: HoldoutSide,
    /// Points that mail adds: the rest less those held out, with its 95% interval.
    pub difference: Option<Span>,
    /// Revenue per person that mail adds, with its 95% interval: by drawing again who is held out, whatever few buy and however few they are.
    pub revenue_difference: Option<Span>,
}

/// So many buyers are drawn again in all: the readout stands on a page, and with many a thousand draws say the same.
const DRAWN: u64 = 50_000_000;

/// The readout of the present quarter; none when no holdout is on. `goal`: what counts; else any purchase, in
/// the base's most frequent currency.
///
/// # Errors
/// When there is no such goal.
#[allow(clippy::cast_precision_loss)]
pub fn readout(c: &Connection, goal: Option<i64>, now: Instant) -> Result<Option<HoldoutReadout>> {
    let version = rules::current(c)?;
    let Some(holdout) = version.rules.holdout else { return Ok(None) };
    let since = since(c, holdout, now)?;
    let (name, goal) = match goal {
        Some(id) => {
            let kept = goals::all(c)?.into_iter().find(|g| g.id == id).ok_or(crate::StoreError::Missing("goal"))?;
            (kept.name, kept.goal)
        }
        None => {
            let currency: Option<String> = c
                .prepare_cached("SELECT currency FROM purchase GROUP BY 1 ORDER BY count(*) DESC LIMIT 1")?
                .query_map([], |r| r.get(0))?
                .next()
                .transpose()?;
            let goal = Goal { what: What::Purchase { product: None, category: None }, currency: currency.unwrap_or_default() };
            ("any purchase".to_owned(), goal)
        }
    };
    let mut of: HashMap<ContactId, (i64, i64)> = HashMap::new();
    let mut add = |contact: ContactId, h: Happened<'_>| {
        let worth = goal.worth(h);
        if worth.conversions != 0 || worth.cents != 0 {
            let sum = of.entry(contact).or_default();
            *sum = (sum.0 + worth.conversions, sum.1 + worth.cents);
        }
    };
    let mut s = c.prepare_cached("SELECT contact_id, product, category, cents, currency FROM purchase WHERE at >= ?1 AND at <= ?2")?;
    let mut rows = s.query(params![since.millis(), now.millis()])?;
    while let Some(r) = rows.next()? {
        let (product, category, currency): (String, String, String) = (r.get(1)?, r.get(2)?, r.get(4)?);
        add(ContactId(r.get(0)?), Happened::Purchase { product: &product, category: &category, cents: r.get(3)?, currency: &currency });
    }
    let mut s = c.prepare_cached("SELECT contact_id, name FROM event WHERE at >= ?1 AND at <= ?2")?;
    let mut rows = s.query(params![since.millis(), now.millis()])?;
    while let Some(r) = rows.next()? {
        let name: String = r.get(1)?;
        add(ContactId(r.get(0)?), Happened::Event { name: &name });
    }
    let draw = holdout.drawn(now);
    // People and converted: of those held out, of the rest; what each of them brought who brought anything.
    let mut sides = [Arm { successes: 0, trials: 0 }; 2];
    let mut drawn = Stratum::default();
    // Who was deleted since was drawn, too. Who was merged into another is that other one, and what an import brought that was taken back
    // never was anybody.
    let mut s = c.prepare_cached(
        "SELECT id FROM contact k WHERE added_at <= ?1 AND (gone IS NULL OR gone = 1
            AND EXISTS (SELECT 1 FROM ledger l WHERE l.contact_id = k.id AND l.kind = 'deleted' AND l.at > ?1))",
    )?;
    let mut rows = s.query([since.millis()])?;
    while let Some(r) = rows.next()? {
        let contact = ContactId(r.get(0)?);
        let i = usize::from(!draw.keeps_out(contact));
        let (conversions, cents) = of.get(&contact).copied().unwrap_or_default();
        let value = cents as f64 / 100.0;
        sides[i].trials += 1;
        sides[i].successes += u64::from(conversions > 0);
        drawn.people[i] += 1;
        if cents != 0 {
            drawn.others[i].push(value);
        }
    }
    let mean = |i: usize| drawn.others[i].iter().sum::<f64>() / (drawn.people[i].max(1)) as f64;
    let side = |i: usize| HoldoutSide { converted: Rate::new(sides[i].successes, sides[i].trials), revenue: mean(i) };
    let buyers = drawn.others.iter().map(Vec::len).sum::<usize>() as u64;
    let draws = (DRAWN / buyers.max(1)).clamp(1_000, 10_000);
    let (out, rest) = (side(0), side(1));
    let both = drawn.people.iter().all(|n| *n > 0);
    let money = if both && buyers > 0 { redraw(&[vec![drawn]], LEVEL, draws, 0x5EED).ok() } else { None };
    Ok(Some(HoldoutReadout {
        quarter: quarter(now),
        since: since.millis(),
        share: holdout.share,
        goal: name,
        currency: goal.currency.clone(),
        held_out: out,
        rest,
        difference: compare_shares(&[(sides[0], sides[1])], LEVEL).ok().map(|d| Span {
            estimate: d.difference,
            lower: d.lower,
            upper: d.upper,
        }),
        revenue_difference: money.map(|d| Span { estimate: d.test.difference, lower: d.lower, upper: d.upper }),
    }))
}

/// Since when the same draw has held: the quarter's beginning, or when the holdout was switched on or its
/// share was changed.
fn since(c: &Connection, holdout: Holdout, now: Instant) -> Result<Instant> {
    let begins = quarter_begins(now);
    let mut since = begins;
    for v in rules::all(c)? {
        if v.rules.holdout != Some(holdout) {
            break;
        }
        since = Instant::of(v.at);
        if v.at <= begins.millis() {
            break;
        }
    }
    Ok(since.max(begins))
}
