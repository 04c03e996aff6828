//! Opening the data folder: the file is brought up to date, the journal is read again, and readers and the writer are put together with what
//! they do besides. It knows all that takes part, and nothing knows it.

use crate::clearing::warm::Warm;
use crate::contacts::Orders;
use crate::costly::Costly;
use crate::db::{DATABASE, MAPPED, Store};
use crate::error::StoreError;
use crate::kept::Kept;
use crate::readers::{Open, Readers};
use crate::writer::{Around, Idle};
use r2d2::Pool;
use r2d2_sqlite::SqliteConnectionManager;
use rinse_core::Instant;
use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};
use std::path::Path;
use std::sync::Arc;

const MIGRATIONS: &[M<'_>] = &[
    M::up(include_str!("../migrations/001_base.sql")),
    M::up(include_str!("../migrations/002_people.sql")),
    M::up(include_str!("../migrations/003_changes.sql")),
    M::up(include_str!("../migrations/004_rollups.sql")),
    M::up(include_str!("../migrations/005_clearance.sql")),
    M::up(include_str!("../migrations/006_proof.sql")),
    M::up(include_str!("../migrations/007_mailings.sql")),
    M::up(include_str!("../migrations/008_reactions_and_trials.sql")),
    M::up(include_str!("../migrations/009_entities_and_trials.sql")),
    M::up(include_str!("../migrations/010_variants_and_trials.sql")),
    M::up(include_str!("../migrations/011_series.sql")).foreign_key_check(),
    M::up(include_str!("../migrations/012_figures_and_caught.sql")),
    M::up(include_str!("../migrations/013_series_trials.sql")),
    M::up(include_str!("../migrations/014_text_messages.sql")),
    M::up(include_str!("../migrations/015_nothing_lost.sql")),
    M::up(include_str!("../migrations/016_figures.sql")),
    M::up(include_str!("../migrations/017_sharper_trials.sql")),
    M::up(include_str!("../migrations/018_hour_trials.sql")),
    M::up(include_str!("../migrations/019_upkeep.sql")),
    M::up(include_str!("../migrations/020_silence.sql")),
    M::up(include_str!("../migrations/021_record_system.sql")),
    M::up(include_str!("../migrations/022_evidence.sql")),
    M::up(include_str!("../migrations/023_machine_rules.sql")),
    M::up(include_str!("../migrations/024_places.sql")),
    M::up(include_str!("../migrations/025_brought.sql")),
    M::up(include_str!("../migrations/026_links.sql")),
    M::up(include_str!("../migrations/027_load.sql")),
    M::up(include_str!("../migrations/028_cohorts.sql")),
    M::up(include_str!("../migrations/029_letters.sql")),
    M::up(include_str!("../migrations/030_done.sql")),
    M::up(include_str!("../migrations/031_labels.sql")),
    M::up(include_str!("../migrations/032_kept_answers.sql")),
    M::up(include_str!("../migrations/033_reports_in.sql")),
    M::up(include_str!("../migrations/034_flow.sql")),
    M::up(include_str!("../migrations/035_names.sql")),
    M::up(include_str!("../migrations/036_warm_up.sql")),
    M::up(include_str!("../migrations/037_do_not_write.sql")),
    M::up(include_str!("../migrations/038_put_off.sql")),
    M::up(include_str!("../migrations/039_readings.sql")),
    M::up(include_str!("../migrations/040_told.sql")),
    M::up(include_str!("../migrations/041_history.sql")),
    M::up(include_str!("../migrations/042_standing.sql")),
    M::up(include_str!("../migrations/043_own_hours.sql")),
    M::up(include_str!("../migrations/044_test_panel.sql")),
    M::up(include_str!("../migrations/045_lines_over.sql")),
    M::up(include_str!("../migrations/046_opened.sql")),
    M::up(include_str!("../migrations/047_per_person.sql")),
    M::up(include_str!("../migrations/048_some_at_a_time.sql")),
    M::up(include_str!("../migrations/049_groups_and_letterheads.sql")),
];
/// The first version of the file in which what is deleted is overwritten.
const OVERWRITES: usize = 15;
/// The first in which people's countries are codes.
const COUNTRIES_BY_CODE: usize = 49;

/// What the writer does when nobody waits for it, a few people at a time: what one change does to very many.
const IDLE: [Idle; 5] = [crate::held::some, crate::rollups::some, crate::attribution::kept::some, crate::scores::some, crate::sweep::some];

impl Store {
    /// Opens (or makes) `rinse.db` in the folder and brings it up to date.
    ///
    /// `durable`: every answered write survives a power cut. Without it only a file that can be
    /// made again should be written, as the demo's history is.
    ///
    /// # Errors
    /// When the folder can't be written, or the file is of a newer version.
    pub fn open(folder: &Path, durable: bool) -> crate::Result<Self> {
        let unwritable = |why: std::io::Error| StoreError::Folder { folder: folder.to_owned(), why: why.to_string() };
        std::fs::create_dir_all(folder.join("imports")).map_err(unwritable)?;
        let probe = folder.join(".writable");
        std::fs::write(&probe, b"").and_then(|()| std::fs::remove_file(&probe)).map_err(unwritable)?;
        crate::backup::finish(folder)?;
        crate::backup::may_begin(folder)?;
        crate::files::close(folder).map_err(unwritable)?;
        let path = folder.join(DATABASE);
        // SQLite gives its other files the rights of this one.
        let mut options = std::fs::OpenOptions::new();
        options.write(true).create(true).truncate(false);
        crate::files::private(&mut options);
        options.open(&path).map_err(unwritable)?;
        let mut conn = Connection::open(&path)?;
        conn.pragma_update(None, "journal_mode", "WAL")?;
        // What is deleted is overwritten: a deleted person's address stays in no free page.
        conn.pragma_update(None, "secure_delete", true)?;
        pragmas(&conn)?;
        // What a savepoint would take back goes to a file when there is much of it, not into memory.
        conn.pragma_update(None, "temp_store", "FILE")?;
        if durable {
            conn.pragma_update(None, "synchronous", "FULL")?;
            // What is written moves on into the file in small portions, so that nobody waits long for one.
            conn.pragma_update(None, "wal_autocheckpoint", 500)?;
        } else {
            // For a file that is thrown away when it doesn't get whole.
            conn.pragma_update(None, "synchronous", "OFF")?;
            conn.pragma_update(None, "wal_autocheckpoint", 20_000)?;
            conn.pragma_update(None, "cache_size", -200_000)?;
        }
        let version: usize = conn.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0))?.try_into().unwrap_or(usize::MAX);
        if version > MIGRATIONS.len() {
            return Err(StoreError::Newer(path));
        }
        // A table that is written again is dropped in between, which references to it wouldn't allow; they are checked afterwards.
        conn.pragma_update(None, "foreign_keys", false)?;
        Migrations::from_slice(MIGRATIONS).to_latest(&mut conn)?;
        conn.pragma_update(None, "foreign_keys", true)?;
        if (1..OVERWRITES).contains(&version) {
            // Earlier versions left what was deleted in free pages.
            tracing::info!("the data file is written once more, so that nothing deleted stays in it");
            if let Err(e) = conn.execute_batch("VACUUM; PRAGMA wal_checkpoint(TRUNCATE)") {
                tracing::warn!(
                    "The data file could not be written once more ({e}): traces of people deleted by an earlier version stay in its free pages. Make room and run VACUUM on it."
                );
            }
        }
        crate::figures::kept::keep(&conn)?;
        if (1..COUNTRIES_BY_CODE).contains(&version) {
            crate::contacts::by_code(&conn)?;
        }
        crate::ledger::seal_earlier(&conn)?;
        crate::segments::unmade(&conn)?;
        let (journal, replayed) = crate::replay::open(&conn, folder, durable)?;
        let (open, closed) = Open::told();
        let readers = readers_of(&path, READERS, &open)?;
        let kept = Kept::of(&conn, vec![Arc::new(Warm::default()), Arc::new(Orders::default()), Arc::new(Costly::default())])?;
        let around = Around { on_commit: Box::new(journal), kept: Arc::clone(&kept), idle: &IDLE };
        let writer = Arc::new(crate::writer::start(conn, around, closed)?);
        Ok(Self { readers, open, writer, folder: Arc::new(folder.to_owned()), replayed: Arc::new(replayed), kept })
    }

    /// Opens the data file to look at alone, beside a Rinse that may be running on it.
    ///
    /// # Errors
    /// When there is no data file, or one of another version.
    pub fn look(folder: &Path) -> crate::Result<Connection> {
        let path = folder.join(DATABASE);
        if !path.exists() {
            return Err(StoreError::Refused(format!("There is no data file in {}. Give its folder with --data.", folder.display())));
        }
        let c = Connection::open_with_flags(&path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        pragmas(&c)?;
        let version: usize = c.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0))?.try_into().unwrap_or(usize::MAX);
        match version.cmp(&MIGRATIONS.len()) {
            std::cmp::Ordering::Equal => Ok(c),
            std::cmp::Ordering::Greater => Err(StoreError::Newer(path)),
            std::cmp::Ordering::Less => Err(StoreError::Refused(format!(
                "{} is of an older Rinse: start this one on it once, which brings it up to date.",
                path.display()
            ))),
        }
    }

    /// The same store, read by connections of its own.
    ///
    /// # Errors
    /// When no connection is to be had.
    pub fn with_own_readers(&self, readers: u32) -> crate::Result<Self> {
        Ok(Self { readers: readers_of(&self.folder.join(DATABASE), readers, &self.open)?, ..self.clone() })
    }
}

/// Questions that are answered at the same time.
const READERS: u32 = 8;

fn readers_of(path: &Path, most: u32, open: &Open) -> crate::Result<Pool<Readers>> {
    let files = SqliteConnectionManager::file(path).with_init(|c| {
        c.pragma_update(None, "query_only", true)?;
        // Readers look at the file's pages where the system keeps them, without copying.
        c.pragma_update(None, "mmap_size", MAPPED)?;
        pragmas(c)
    });
    Ok(Pool::builder().max_size(most).min_idle(Some(1)).build(Readers { files, open: open.clone() })?)
}

fn pragmas(conn: &Connection) -> rusqlite::Result<()> {
    conn.pragma_update(None, "foreign_keys", true)?;
    conn.pragma_update(None, "cache_size", -32_000)?;
    conn.pragma_update(None, "temp_store", "MEMORY")?;
    conn.busy_timeout(std::time::Duration::from_secs(10))?;
    conn.set_prepared_statement_cache_capacity(128);
    crate::db::plan_once(conn)?;
    rusqlite::vtab::array::load_module(conn)?;
    functions(conn)
}

/// The core's functions that conditions of segments are compiled to.
fn functions(conn: &Connection) -> rusqlite::Result<()> {
    use rinse_core::score;
    use rinse_core::segment::{place, share};
    use rinse_core::words::fold;
    use rusqlite::functions::FunctionFlags;
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_INNOCUOUS;
    // Words as they are compared; missing when there are none.
    conn.create_scalar_function("fold", 1, flags, |x| Ok(x.get::<Option<String>>(0)?.map(|t| fold(&t)).filter(|t| !t.is_empty())))?;
    conn.create_scalar_function("local_hour", 2, flags, |x| {
        Ok(crate::figures::local_hour(&x.get::<Option<String>>(0)?.unwrap_or_default(), Instant::of(x.get(1)?)))
    })?;
    // Not deterministic to SQLite: its sets change from count to count.
    conn.create_scalar_function("in_set", 2, FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_INNOCUOUS, |x| {
        Ok(crate::segments::sets::has(x.get(0)?, x.get(1)?))
    })?;
    conn.create_scalar_function("distance_km", 4, flags, |x| {
        let from = x.get::<Option<f64>>(0)?.zip(x.get::<Option<f64>>(1)?);
        let to = (x.get::<f64>(2)?, x.get::<f64>(3)?);
        Ok(from.map(|from| place::distance_km(from, to)))
    })?;
    conn.create_scalar_function("score_at", 4, flags, |x| {
        let standing = score::Standing { value: x.get(0)?, as_of: rinse_core::Instant::of(x.get(1)?) };
        Ok(standing.at(rinse_core::Instant::of(x.get(3)?), x.get(2)?))
    })?;
    conn.create_scalar_function("stable_share", 2, flags, |x| Ok(share::draw(x.get_raw(0).as_str()?, rinse_core::id::ContactId(x.get(1)?))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn migrations_are_sound() {
        Migrations::from_slice(MIGRATIONS).validate().unwrap();
    }
}
