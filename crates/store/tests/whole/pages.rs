//! The contact list against a plain model: any search, filter, sort and page shows what filtering and
//! sorting a list in memory shows.

use proptest::prelude::*;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::id::{ContactId, ListId, SegmentId};
use rinse_core::segment::{Field, TextTest, Tree, share};
use rinse_store::contacts::{self, Profile, Query, Sort};
use rinse_store::tags::{self, Kind};
use rinse_store::{Store, segments};
use std::sync::OnceLock;

const PEOPLE: i64 = 60;

#[derive(Debug, Clone)]
struct Person {
    id: i64,
    address: String,
    given: Option<String>,
    family: Option<String>,
    phone: Option<String>,
    added: i64,
    status: i64,
    on_list: bool,
    tagged: bool,
}

fn dice(what: &str, i: i64, sides: i64) -> i64 {
    (share::draw(what, ContactId(i)) * sides as f64) as i64
}

/// The same people twice: with the orders kept in memory, and without.
fn base(kept: bool) -> &'static (tempfile::TempDir, Store, Vec<Person>) {
    static BASES: [OnceLock<(tempfile::TempDir, Store, Vec<Person>)>; 2] = [const { OnceLock::new() }; 2];
    BASES[usize::from(kept)].get_or_init(|| {
        let name = |what: &str, i: i64| {
            Some(["Wren", "wren", "Øystein", "Marram", "A"][dice(what, i, 5) as usize].to_owned()).filter(|_| dice(what, -i, 4) > 0)
        };
        let people: Vec<Person> = (1..=PEOPLE)
            .map(|i| Person {
                id: i,
                address: format!(
                    "{}{i}@{}.example",
                    ["wren", "Tern", "a_b"][dice("local", i, 3) as usize],
                    ["tern", "ternery", "gull"][dice("domain", i, 3) as usize]
                ),
                given: name("given", i),
                family: name("family", i),
                phone: Some(format!("+447700900{i:03}")).filter(|_| dice("phone", i, 3) > 0),
                added: dice("added", i, 10),
                status: dice("status", i, 4),
                on_list: dice("list", i, 2) > 0,
                tagged: dice("tag", i, 2) > 0,
            })
            .collect();
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), false).unwrap();
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        let copy = people.clone();
        rt.block_on(store.write(move |c| {
            let (list, tag) = (tags::named(c, Kind::List, "l", Instant::of(0))?, tags::named(c, Kind::Tag, "t", Instant::of(0))?);
            for p in &copy {
                let profile = Profile { given_name: p.given.clone(), family_name: p.family.clone(), ..Profile::default() };
                contacts::add(c, &Address::parse(&p.address).unwrap(), &profile, Instant::of(p.added))?;
                c.prepare("UPDATE contact SET status = ?2, phone = ?3 WHERE id = ?1")?.execute((p.id, p.status, &p.phone))?;
                for (kind, set, on) in [(Kind::List, list, p.on_list), (Kind::Tag, tag, p.tagged)] {
                    tags::add(c, kind, set, &[ContactId(p.id)][..usize::from(on)], Instant::of(0))?;
                }
            }
            let tree = Tree::Text { field: Field::GivenName, is: TextTest::Is, value: "wren".into() };
            segments::save(c, None, &segments::Draft { name: "s".into(), tree }, Instant::of(0), None)
        }))
        .unwrap();
        if kept {
            store.read_now(contacts::keep_orders).unwrap();
        }
        (folder, store, people)
    })
}

/// ASCII case alone is folded, as SQLite's NOCASE does.
fn nocase(text: &Option<String>) -> Option<String> {
    text.as_ref().map(|t| t.to_ascii_lowercase())
}

fn model(q: &Query) -> (Vec<i64>, i64) {
    let search = q.search.trim().to_lowercase();
    // With the code of its country; there is no letterhead whose country could be meant.
    let number: String = search.chars().filter(|c| !" ()".contains(*c)).collect();
    let number = number.strip_prefix("00").map_or(number.clone(), |rest| format!("+{rest}"));
    let mut found: Vec<&Person> = base(false)
        .2
        .iter()
        .filter(|p| match search.strip_prefix('@') {
            Some(domain) => p.address.to_lowercase().split('@').nth(1).unwrap().starts_with(domain),
            None if number.len() > 3 && number.starts_with('+') => p.phone.as_ref().is_some_and(|phone| phone.starts_with(&number)),
            None => {
                search.is_empty()
                    || p.address.to_lowercase().starts_with(&search)
                    || [&p.given, &p.family].into_iter().any(|n| nocase(n).is_some_and(|n| n.starts_with(&search)))
            }
        })
        .filter(|p| (q.list.is_none() || p.on_list) && (q.tag.is_none() || p.tagged))
        .filter(|p| q.status.is_none_or(|s| p.status == s))
        .filter(|p| q.segment.is_none() || p.given.as_ref().is_some_and(|g| g.to_lowercase() == "wren"))
        .collect();
    match q.sort {
        Sort::Address => found.sort_by_key(|p| (p.address.to_lowercase(), p.id)),
        Sort::FamilyName => found.sort_by_key(|p| (nocase(&p.family), p.id)),
        Sort::AddedAt => found.sort_by_key(|p| (p.added, p.id)),
    }
    if q.descending {
        found.reverse();
    }
    let page = found.iter().skip((q.page * q.size) as usize).take(q.size as usize).map(|p| p.id).collect();
    (page, found.len() as i64)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn pages_are_what_a_plain_list_shows(
        search in prop::sample::select(vec!["", " ", "w", "WREN", "wren1", "a_", "%", "ma", "@tern", "@tern.example", "@gu", "@", "zz",
            "+44 7700", "0044 (7700) 900 01", "+447700900012", "+1 23", "07700 900012", "+4", "12"]),
        list in prop::option::of(Just(1i64)), tag in prop::option::of(Just(1i64)), segment in prop::option::weighted(0.3, Just(1i64)),
        status in prop::option::of(0i64..4), sort in prop::sample::select(vec![Sort::Address, Sort::FamilyName, Sort::AddedAt]),
        descending: bool, kept: bool, page in 0u32..4, size in 1u32..30,
    ) {
        let q = Query { search: search.into(), list: list.map(ListId), tag, segment: segment.map(SegmentId), status, load: None, sort, descending, page, size };
        let got = base(kept).1.read_now(|c| contacts::page(c, &q, Instant::of(100))).unwrap();
        let exported = base(kept).1.read_now(|c| contacts::export_query(c, &q, Instant::of(100))).unwrap();
        prop_assert_eq!(exported.len() as i64, got.matching, "the export has all pages");
        let ids: Vec<i64> = got.rows.iter().map(|r| r.id.0).collect();
        prop_assert_eq!((ids, got.matching, got.all), { let (page, n) = model(&q); (page, n, PEOPLE) }, "{:?}", q);
    }
}
