//! Everybody in the orders that the contact list offers, kept in memory: at a million people walking an
//! index to a page in its middle takes a tenth of a second, and a page of numbers in a row takes nothing.
//!
//! An order is loaded beside the first page that had to be walked far for, and people who changed since
//! are put in their places again before each page ([`crate::kept`] says who they are).

use super::list::Sort;
use crate::Result;
use crate::db::{beside, readable_beside};
use crate::kept::{self, Held, Notes, Watches, What, lock};
use rinse_core::id::ContactId;
use rusqlite::{Connection, OptionalExtension};
use std::cmp::Ordering;
use std::sync::atomic::{self, AtomicBool};
use std::sync::{Arc, Mutex};

/// Past so many people who changed, loading everything again beside is as quick as finding their places.
const MOST_NOTES: usize = 300;

/// The numbers of all people who aren't gone, by each [`Sort`].
type Everybody = [Vec<ContactId>; Sort::ALL.len()];

struct Kept {
    everybody: Arc<Everybody>,
    used: std::time::Instant,
}

/// The orders that are kept for one data file, and who changed since.
#[derive(Default)]
pub(crate) struct Orders {
    kept: Mutex<Option<Kept>>,
    notes: Mutex<Notes<i64, MOST_NOTES>>,
    loading: AtomicBool,
}

/// Everybody in one order, as it was at one look.
pub(super) struct Order(Arc<Everybody>, Sort);

impl Order {
    pub(super) fn people(&self) -> &[ContactId] {
        &self.0[self.1 as usize]
    }
}

impl Watches for Orders {
    fn changed(&self, table: &str, row: i64, _: bool) {
        if table == "contact" {
            lock(&self.notes).note(row);
        }
    }

    fn finished(&self, committed: bool) {
        lock(&self.notes).finished(committed);
    }

    fn rest(&self) {
        kept::rest(&self.kept, &self.notes, |k| k.used);
    }

    fn held(&self) -> Option<Held> {
        let bytes = |all: &Everybody| all.iter().map(|one| one.capacity() * size_of::<ContactId>()).sum();
        kept::held(&self.kept, What::Orders, |k| (bytes(&k.everybody), k.used))
    }

    fn let_go(&self) {
        kept::let_go(&self.kept, &self.notes);
    }
}

impl Orders {
    fn keep(&self, c: &Connection) -> Result<()> {
        let begun = lock(&self.notes).begin();
        let everybody = Arc::new(load(c)?);
        // Who changed while they were read stays noted for the next look.
        *lock(&self.kept) = begun.keep.then(|| Kept { everybody, used: std::time::Instant::now() });
        Ok(())
    }

    /// The kept orders with everybody who changed in their new places; `None` when they have to be loaded.
    fn fresh(&self, c: &Connection) -> Result<Option<Arc<Everybody>>> {
        let mut kept = lock(&self.kept);
        if kept.is_none() {
            return Ok(None);
        }
        let begun = lock(&self.notes).begin();
        let Some(k) = kept.as_mut().filter(|_| begun.whole && begun.keep) else {
            *kept = None;
            return Ok(None);
        };
        // One view of the file from here on. Whatever it shows is noted by now, so who isn't among the notes stands right.
        let view = c.unchecked_transaction()?;
        view.query_row("SELECT count(*) FROM (SELECT 1 FROM contact LIMIT 1)", [], |_| Ok(()))?;
        let mut changed: Vec<ContactId> = lock(&self.notes).rows().map(ContactId).collect();
        changed.sort_unstable();
        if !changed.is_empty() {
            let everybody = Arc::make_mut(&mut k.everybody);
            Sort::ALL.into_iter().zip(everybody).try_for_each(|(sort, order)| replace(&view, sort, order, &changed))?;
            lock(&self.notes).settle(begun.committed);
        }
        k.used = std::time::Instant::now();
        Ok(Some(Arc::clone(&k.everybody)))
    }
}

/// Loads the orders of the connection's file and keeps them.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection) -> Result<()> {
    kept::found::<Orders>(c).map_or(Ok(()), |orders| orders.keep(c))
}

/// The order as it is now, when it is kept.
pub(super) fn found(c: &Connection, sort: Sort) -> Result<Option<Order>> {
    // Inside a write its own changes count, which aren't for anybody else yet.
    let Some(orders) = readable_beside(c).and_then(|_| kept::found::<Orders>(c)) else { return Ok(None) };
    Ok(orders.fresh(c)?.map(|everybody| Order(everybody, sort)))
}

/// Begins to load the orders on a thread of its own, unless somebody does.
pub(super) fn load_beside(c: &Connection) {
    let Some((path, orders)) = readable_beside(c).map(str::to_owned).zip(kept::found::<Orders>(c)) else { return };
    if orders.loading.swap(true, atomic::Ordering::AcqRel) {
        return;
    }
    std::thread::spawn(move || {
        if let Err(why) = beside(&path).and_then(|c| orders.keep(&c)) {
            tracing::warn!("the orders of the contact list could not be loaded; its indexes are walked: {why}");
        }
        orders.loading.store(false, atomic::Ordering::Release);
    });
}

fn load(c: &Connection) -> Result<Everybody> {
    let view = c.unchecked_transaction()?;
    let mut everybody = Everybody::default();
    for (sort, order) in Sort::ALL.into_iter().zip(&mut everybody) {
        let sql = format!(
            "SELECT c.id FROM contact c WHERE c.id NOT IN (SELECT id FROM contact WHERE gone IS NOT NULL) ORDER BY {}, c.id",
            sort.column()
        );
        *order = view.prepare(&sql)?.query_map([], |r| r.get(0).map(ContactId))?.collect::<rusqlite::Result<_>>()?;
    }
    Ok(everybody)
}

/// What an order compares, as SQLite does: missing first, then by bytes; names without regard to ASCII case.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Key {
    Text(Option<String>),
    Number(i64),
}

/// Nothing when the person is gone.
fn key(c: &Connection, sort: Sort, id: ContactId) -> Result<Option<(Key, ContactId)>> {
    let sql = match sort {
        Sort::Address => "SELECT address_key FROM contact WHERE id = ?1 AND gone IS NULL",
        Sort::FamilyName => "SELECT family_name FROM contact WHERE id = ?1 AND gone IS NULL",
        Sort::AddedAt => "SELECT added_at FROM contact WHERE id = ?1 AND gone IS NULL",
    };
    let read = |r: &rusqlite::Row<'_>| {
        Ok(match sort {
            Sort::Address => Key::Text(r.get(0)?),
            Sort::FamilyName => Key::Text(r.get::<_, Option<String>>(0)?.map(|name| name.to_ascii_lowercase())),
            Sort::AddedAt => Key::Number(r.get(0)?),
        })
    };
    Ok(c.prepare_cached(sql)?.query_row([id.0], read).optional()?.map(|key| (key, id)))
}

/// Takes these people (by number) out of an order and puts them where they belong now.
fn replace(c: &Connection, sort: Sort, order: &mut Vec<ContactId>, changed: &[ContactId]) -> Result<()> {
    // One look at a byte each, for a million people.
    let mut out = vec![false; changed.last().and_then(|id| usize::try_from(id.0 + 1).ok()).unwrap_or(0)];
    changed.iter().filter_map(|id| usize::try_from(id.0).ok()).for_each(|id| out[id] = true);
    order.retain(|id| !usize::try_from(id.0).is_ok_and(|id| out.get(id).is_some_and(|out| *out)));
    let mut coming = changed.iter().filter_map(|id| key(c, sort, *id).transpose()).collect::<Result<Vec<_>>>()?;
    coming.sort_unstable();
    let places = coming.iter().map(|one| Ok((place(c, sort, order, one)?, one.1))).collect::<Result<Vec<_>>>()?;
    *order = merged(order, &places);
    Ok(())
}

/// Before which of them somebody belongs.
fn place(c: &Connection, sort: Sort, order: &[ContactId], one: &(Key, ContactId)) -> Result<usize> {
    let (mut low, mut high) = (0, order.len());
    while low < high {
        let middle = usize::midpoint(low, high);
        let before = key(c, sort, order[middle])?.is_none_or(|other| other.cmp(one) == Ordering::Less);
        (low, high) = if before { (middle + 1, high) } else { (low, middle) };
    }
    Ok(low)
}

/// The order with each of those who come before the place that was found for them; they are in order too.
fn merged(order: &[ContactId], coming: &[(usize, ContactId)]) -> Vec<ContactId> {
    let mut whole = Vec::with_capacity(order.len() + coming.len());
    let mut taken = 0;
    for (place, id) in coming {
        whole.extend_from_slice(&order[taken..*place]);
        whole.push(*id);
        taken = *place;
    }
    whole.extend_from_slice(&order[taken..]);
    whole
}
