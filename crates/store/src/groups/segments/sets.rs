//! Sets of people as bits, for counting: at a million people a set in a B-tree takes longer to make than
//! everything else.
//!
//! Each set of a compiled tree is filled by its own query, then `in_set(k, id)` asks it. The sets belong to
//! the thread that counts, and so does the connection that asks.

use super::sql::Sql;
use crate::Result;
use rusqlite::types::Value;
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

/// Sets, filled.
pub(crate) struct Filled(Vec<Bits>);

impl Filled {
    /// Fills sets of people with these numbers, each by its query.
    ///
    /// # Errors
    /// When the database fails.
    pub(crate) fn new(c: &Connection, sets: &[(String, Vec<Value>)], from: i64, to: i64) -> Result<Self> {
        let fill = |(text, values): &(String, Vec<Value>)| {
            let mut bits = Bits::new(from, to);
            let mut s = c.prepare(text)?;
            let mut rows = s.query(params_from_iter(values))?;
            while let Some(r) = rows.next()? {
                if let Some((word, bit)) = bits.place(r.get(0)?) {
                    bits.words[word] |= bit;
                }
            }
            Ok(bits)
        };
        Ok(Self(sets.iter().map(fill).collect::<Result<_>>()?))
    }

    /// Adds who is in the same sets, filled elsewhere.
    pub(crate) fn add(&mut self, other: &Self) {
        let words = self.0.iter_mut().flat_map(|bits| &mut bits.words);
        words.zip(other.0.iter().flat_map(|bits| &bits.words)).for_each(|(word, more)| *word |= more);
    }

    /// How many people are in all of them.
    pub(crate) fn people(&self) -> i64 {
        let all = |word: usize| self.0.iter().fold(u64::MAX, |w, bits| w & bits.words[word]);
        let words = self.0.first().map_or(0, |bits| bits.words.len());
        (0..words).map(|w| i64::from(all(w).count_ones())).sum()
    }

    /// Is the person in all of them?
    pub(crate) fn all_have(&self, id: i64) -> bool {
        self.0.iter().all(|bits| bits.place(id).is_some_and(|(word, bit)| bits.words[word] & bit != 0))
    }

    /// Runs a query of this thread that asks them.
    pub(crate) fn asked_by<T>(self, query: impl FnOnce() -> T) -> T {
        SETS.set(self.0);
        let answer = query();
        SETS.set(Vec::new());
        answer
    }
}

/// Counts the people with these numbers who fit a tree that was compiled to sets of bits.
///
/// # Errors
/// When the database fails.
pub fn count(c: &Connection, sql: &Sql, from: i64, to: i64) -> Result<i64> {
    let text = format!("SELECT count(*) FROM contact c WHERE c.id BETWEEN {from} AND {to} AND c.gone IS NULL AND {}", sql.text);
    let query = || c.prepare(&text)?.query_row(params_from_iter(&sql.values), |r| r.get(0));
    Ok(Filled::new(c, &sql.sets, from, to)?.asked_by(query)?)
}
