//! What is deleted is gone for everybody at once; of very many people its rows follow a few at a time, whenever nobody waits for the writer.

use crate::Result;
use crate::stored::ids_as;
use rusqlite::{Connection, OptionalExtension, params};

/// With no more people than this it is over in the deletion itself, which nobody notices.
const AT_ONCE: usize = 5_000;

/// What can be deleted: its table, the table with a row for each of its people, and others with rows of theirs; `key` is its number in those.
pub(crate) struct Swept {
    table: &'static str,
    key: &'static str,
    people: &'static str,
    also: &'static [&'static str],
}

pub(crate) const LIST: Swept = Swept { table: "list", key: "list_id", people: "list_member", also: &[] };
pub(crate) const TAG: Swept = Swept { table: "tag", key: "tag_id", people: "contact_tag", also: &[] };
pub(crate) const SEGMENT: Swept = Swept { table: "segment", key: "segment_id", people: "segment_member", also: &[] };
pub(crate) const SCORE: Swept = Swept { table: "score", key: "score_id", people: "score_now", also: &["score_entry"] };
pub(crate) const FIELD: Swept = Swept { table: "field", key: "field_id", people: "field_value", also: &["score_history"] };
const ALL: [&Swept; 5] = [&LIST, &TAG, &SEGMENT, &SCORE, &FIELD];

/// Deletes one: from now on it is nowhere, and its name is free.
///
/// # Errors
/// When the database fails.
pub(crate) fn delete(c: &Connection, of: &Swept, id: i64) -> Result<()> {
    c.execute(&format!("UPDATE {} SET gone = 1, name = 'deleted ' || char(1) || id WHERE id = ?1", of.table), [id])?;
    portion(c, of, id, AT_ONCE)
}

/// Takes some people's rows away of what was deleted; true when there may be more.
///
/// # Errors
/// When the database fails.
pub(crate) fn some(c: &Connection, most: usize) -> Result<bool> {
    for of in ALL {
        let gone: Option<i64> =
            c.prepare_cached(&format!("SELECT id FROM {} WHERE gone = 1 LIMIT 1", of.table))?.query_row([], |r| r.get(0)).optional()?;
        if let Some(id) = gone {
            portion(c, of, id, most)?;
            return Ok(true);
        }
    }
    Ok(false)
}

fn portion(c: &Connection, of: &Swept, id: i64, most: usize) -> Result<()> {
    let Swept { table, key, people, also } = of;
    let theirs: Vec<i64> = ids_as(
        c,
        &format!("SELECT contact_id FROM {people} WHERE {key} = ?1 LIMIT ?2"),
        params![id, i64::try_from(most).unwrap_or(i64::MAX)],
        |id| id,
    )?;
    for rows in also.iter().chain([people]) {
        let mut take = c.prepare_cached(&format!("DELETE FROM {rows} WHERE {key} = ?1 AND contact_id = ?2"))?;
        theirs.iter().try_for_each(|contact| take.execute([id, *contact]).map(drop))?;
    }
    if theirs.len() < most {
        // Nobody is left: rows of whoever isn't among its people go now, and it itself.
        also.iter().try_for_each(|rows| c.execute(&format!("DELETE FROM {rows} WHERE {key} = ?1"), [id]).map(drop))?;
        c.execute(&format!("DELETE FROM {table} WHERE id = ?1"), [id])?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Store;
    use proptest::prelude::*;

    fn count(c: &Connection, sql: &str) -> i64 {
        c.query_row(sql, [], |r| r.get(0)).unwrap()
    }

    fn rows(of: &Swept) -> impl Iterator<Item = &'static str> {
        of.also.iter().copied().chain([of.people])
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn what_is_deleted_goes_whole_however_few_at_a_time_and_nothing_else_does(
            members in prop::collection::vec((1_i64..=3, 1_i64..=9), 0..30),
            most in 1_usize..5,
        ) {
            let folder = tempfile::tempdir().unwrap();
            drop(Store::open(folder.path(), false).unwrap());
            let c = Connection::open(folder.path().join("rinse.db")).unwrap();
            c.execute_batch("INSERT INTO domain (id, name) VALUES (1, 'tern.example')").unwrap();
            for contact in 1..=9 {
                c.execute("INSERT INTO contact (id, address, address_key, domain_id, added_at) VALUES (?1, ?1, ?1, 1, 0)", [contact]).unwrap();
            }
            for id in 1..=3 {
                c.execute_batch(&format!(
                    "INSERT INTO list (id, name, made_at) VALUES ({id}, 'g{id}', 0); INSERT INTO tag (id, name, made_at) VALUES ({id}, 'g{id}', 0);
                     INSERT INTO segment (id, name, kind, tree, made_at, changed_at) VALUES ({id}, 'g{id}', 'frozen', '', 0, 0);
                     INSERT INTO score (id, name, made_at) VALUES ({id}, 'g{id}', 0); INSERT INTO field (id, name, kind, made_at) VALUES ({id}, 'g{id}', 'number', 0);"
                )).unwrap();
            }
            for (id, contact) in &members {
                c.execute_batch(&format!(
                    "INSERT OR IGNORE INTO list_member VALUES ({id}, {contact}, 0); INSERT OR IGNORE INTO contact_tag VALUES ({id}, {contact}, 0);
                     INSERT OR IGNORE INTO segment_member VALUES ({id}, {contact}); INSERT OR IGNORE INTO score_now VALUES ({id}, {contact}, 1, 0, NULL);
                     INSERT INTO score_entry (score_id, contact_id, at, points) VALUES ({id}, {contact}, 0, 1);
                     INSERT OR IGNORE INTO field_value (field_id, contact_id, number) VALUES ({id}, {contact}, 1);
                     INSERT OR IGNORE INTO score_history VALUES ({contact}, {id}, 0, '', 1), ({contact}, {id}, 1, '', 1);"
                )).unwrap();
            }
            let others = |c: &Connection| -> Vec<i64> {
                ALL.iter().flat_map(|s| rows(s).map(|rows| count(c, &format!("SELECT count(*) FROM {rows} WHERE {} <> 2", s.key)))).collect()
            };
            let before = others(&c);
            for s in &ALL {
                c.execute(&format!("UPDATE {} SET gone = 1 WHERE id = 2", s.table), []).unwrap();
            }
            while some(&c, most).unwrap() {}
            for s in &ALL {
                prop_assert_eq!(count(&c, &format!("SELECT count(*) FROM {} WHERE id = 2", s.table)), 0);
                for rows in rows(s) {
                    prop_assert_eq!(count(&c, &format!("SELECT count(*) FROM {rows} WHERE {} = 2", s.key)), 0, "{}", rows);
                }
            }
            prop_assert_eq!(others(&c), before);
            delete(&c, &LIST, 1).unwrap();
            prop_assert_eq!(count(&c, "SELECT count(*) FROM list"), 1, "of few people it is over at once");
        }
    }
}
