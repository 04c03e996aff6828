//! Sets of people as bits, for counting: at a million people a set in a B-tree takes longer to make than
//! everything else.
//!
//! Each set of a compiled tree is filled by its own query, then `in_set(k, id)` asks it. The sets belong to
//! the thread that counts, and so does the connection that asks.

use super::sql::Sql;
use crate::Result;
use rusqlite::{Connection, params_from_iter};
use std::cell::RefCell;

struct Bits {
    from: i64,
    words: Vec<u64>,
}

impl Bits {
    fn new(from: i64, to: i64) -> Self {
        Self { from, words: vec![0; usize::try_from((to - from) / 64 + 1).unwrap_or(0)] }
    }

    fn place(&self, id: i64) -> Option<(usize, u64)> {
        let at = usize::try_from(id - self.from).ok()?;
        (at / 64 < self.words.len()).then_some((at / 64, 1 << (at % 64)))
    }
}

thread_local! {
    static SETS: RefCell<Vec<Bits>> = const { RefCell::new(Vec::new()) };
}

/// Is the person in the set? The function behind `in_set`.
pub(crate) fn has(set: i64, id: i64) -> bool {
    SETS.with_borrow(|sets| {
        let of = usize::try_from(set).ok().and_then(|k| sets.get(k));
        of.and_then(|bits| bits.place(id).map(|(word, bit)| bits.words[word] & bit != 0)).unwrap_or(false)
    })
}

/// Counts the people with these numbers who fit a tree that was compiled to sets of bits.
///
/// # Errors
/// When the database fails.
pub fn count(c: &Connection, sql: &Sql, from: i64, to: i64) -> Result<i64> {
    let mut sets = Vec::with_capacity(sql.sets.len());
    for (text, values) in &sql.sets {
        let mut bits = Bits::new(from, to);
        let mut s = c.prepare(text)?;
        let mut rows = s.query(params_from_iter(values))?;
        while let Some(r) = rows.next()? {
            if let Some((word, bit)) = bits.place(r.get(0)?) {
                bits.words[word] |= bit;
            }
        }
        sets.push(bits);
    }
    SETS.set(sets);
    let text = format!("SELECT count(*) FROM contact c WHERE c.id BETWEEN {from} AND {to} AND c.gone IS NULL AND {}", sql.text);
    let n = c.prepare(&text).and_then(|mut s| s.query_row(params_from_iter(&sql.values), |r| r.get(0)));
    SETS.set(Vec::new());
    Ok(n?)
}
