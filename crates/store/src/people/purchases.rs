//! Purchases, by the shop's own key: the same one twice changes nothing.

use crate::{Result, naming};
use rinse_core::purchase::Purchase;
use rinse_core::words::fold;
use rusqlite::{Connection, params};

/// So many products are offered to choose from.
const MOST: usize = 100;

/// What became of a purchase.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    New,
    /// It was there already.
    Known,
    /// Nobody in the base has this address.
    Nobody,
}

/// Takes a purchase in.
///
/// # Errors
/// When the database fails.
pub fn take(c: &Connection, p: &Purchase) -> Result<Taken> {
    let Some(contact) = crate::contacts::id_of(c, &p.address.key)? else { return Ok(Taken::Nobody) };
    let n = c
        .prepare_cached(
            "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key, category, category_key) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9)
             ON CONFLICT (key) DO NOTHING",
        )?
        .execute(params![p.key, contact.0, p.at.millis(), p.cents, p.currency, p.product, fold(&p.product), p.category, fold(&p.category)])?;
    if n == 0 {
        return Ok(Taken::Known);
    }
    crate::upkeep::silence::ended(c, contact)?;
    Ok(Taken::New)
}

/// The products and categories there are; where there are more than a hundred the hundred that are bought most.
///
/// # Errors
/// When the database fails.
pub fn products(c: &Connection) -> Result<(Vec<String>, Vec<String>)> {
    Ok((naming::words(c, "purchase", "product", MOST)?, naming::words(c, "purchase", "category", MOST)?))
}
