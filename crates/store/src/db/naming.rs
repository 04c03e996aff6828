//! What something may be called.

use crate::{Result, StoreError};
use rusqlite::{Connection, params};

/// A name that something can have, without the spaces around it.
pub(crate) fn good(name: &str) -> Result<&str> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("Give it a name of at most 80 characters.".into()));
    }
    Ok(name)
}

/// Refuses a name that something else of the same kind has.
pub(crate) fn taken(c: &Connection, table: &'static str, name: &str, but: Option<i64>) -> Result<()> {
    let sql = format!("SELECT 1 FROM {table} WHERE name = ?1 COLLATE NOCASE AND id <> ?2");
    if c.prepare_cached(&sql)?.exists(params![name, but.unwrap_or(0)])? {
        return Err(StoreError::Refused(format!("There is a {table} called “{name}” already. Choose another name.")));
    }
    Ok(())
}

/// The words of a column, found along the index of its key without reading the rows; where there are more than so many, the commonest.
pub(crate) fn words(c: &Connection, table: &str, column: &str, most: usize) -> Result<Vec<String>> {
    let few = format!(
        "WITH RECURSIVE k(key) AS (SELECT min({column}_key) FROM {table} WHERE {column}_key > ''
            UNION ALL SELECT (SELECT min({column}_key) FROM {table} WHERE {column}_key > k.key) FROM k WHERE k.key IS NOT NULL LIMIT ?1)
         SELECT (SELECT {column} FROM {table} WHERE {column}_key = k.key LIMIT 1) FROM k WHERE k.key IS NOT NULL"
    );
    let limit = i64::try_from(most).unwrap_or(i64::MAX) + 1;
    let found: Vec<String> = c.prepare_cached(&few)?.query_map([limit], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    if found.len() <= most {
        return Ok(found);
    }
    let many =
        format!("SELECT max({column}) FROM {table} WHERE {column}_key > '' GROUP BY {column}_key ORDER BY count(*) DESC, 1 LIMIT ?1");
    Ok(c.prepare_cached(&many)?.query_map([limit - 1], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// All words there are while they are few; where there are more, those that stand there most often.
        #[test]
        fn words_are_those_that_stand_there(rows in prop::collection::vec(0u8..12, 0..60), most in 1usize..12) {
            let c = Connection::open_in_memory().unwrap();
            c.execute_batch("CREATE TABLE x (w TEXT, w_key TEXT); CREATE INDEX x_w ON x (w_key)").unwrap();
            let mut times: BTreeMap<u8, usize> = BTreeMap::new();
            for row in &rows {
                // Some are of no word at all.
                let (word, key) = if *row == 0 { (String::new(), String::new()) } else { (format!("W{row}"), format!("w{row}")) };
                c.execute("INSERT INTO x VALUES (?1, ?2)", [word, key]).unwrap();
                if *row > 0 {
                    *times.entry(*row).or_default() += 1;
                }
            }
            let found = words(&c, "x", "w", most).unwrap();
            prop_assert_eq!(found.len(), times.len().min(most));
            let of = |w: &String| times[&w[1..].parse::<u8>().unwrap()];
            let rarest = found.iter().map(of).min().unwrap_or(0);
            let left = times.iter().filter(|(n, _)| !found.contains(&format!("W{n}"))).map(|(_, times)| *times);
            prop_assert!(left.max().is_none_or(|most| most <= rarest));
        }
    }
}
