//! The guides' counts against a plain recount of the raw rows, over random histories.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::id::ContactId;
use rinse_core::recency::Observation;
use rinse_core::segment::share;
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::{Connection, Store, guides};
use rusqlite::params;

const NOW: Instant = Instant::of(20_000 * DAY);

/// A message to one of the people: days ago, and what came of it, in days after it.
#[derive(Debug, Clone)]
struct Sent {
    who: i64,
    ago: i64,
    opened: Option<i64>,
    clicked: Option<i64>,
    complained: bool,
    left: bool,
    failed: bool,
}

fn sent() -> impl Strategy<Value = Sent> {
    (1i64..6, 0i64..400, prop::option::of(0i64..200), prop::option::weighted(0.2, 0i64..200), any::<[bool; 3]>()).prop_map(
        |(who, ago, opened, clicked, b)| Sent { who, ago, opened, clicked, complained: b[0] && b[1], left: b[1], failed: b[2] && b[0] },
    )
}

fn base(people: &[Option<&str>], sends: &[Sent]) -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    let (people, sends) = (people.iter().map(|p| p.map(str::to_owned)).collect::<Vec<_>>(), sends.to_vec());
    let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
    rt.block_on(store.write(move |c: &Connection| {
        c.execute_batch("INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');")?;
        for (i, source) in people.iter().enumerate() {
            let profile = Profile { source: source.clone(), ..Profile::default() };
            // The last two live at a domain whose proxy opens everything.
            let domain = if i + 2 >= people.len() { "gull" } else { "tern" };
            contacts::add(c, &Address::parse(&format!("p{i}@{domain}.example")).unwrap(), &profile, NOW + -(i as i64) * 3 * DAY)?;
        }
        c.execute_batch("UPDATE domain SET delivered = 100, fetched = CASE name WHEN 'gull.example' THEN 100 ELSE 0 END, opens_unknown = (name = 'gull.example')")?;
        let mut in_order = sends.clone();
        in_order.sort_by_key(|s| -s.ago);
        for (i, s) in in_order.iter().enumerate() {
            let (id, at) = (i as i64 + 1, NOW.millis() - s.ago * DAY);
            c.execute("INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (?1, 'm', 1, 0)", [id])?;
            c.execute(
                "INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, open_at, click_at, complained_at, left_at, failed_at, category)
                 VALUES (?1,?1,?2,?1,3,?3,0,?3,?3,?4,?5,?6,?7,?8,1)",
                params![
                    id, s.who, at, s.opened.map(|d| at + d * DAY), s.clicked.map(|d| at + d * DAY), s.complained.then_some(at),
                    (s.left || s.complained).then_some(at), s.failed.then_some(at)
                ],
            )?;
        }
        Ok(())
    }))
    .unwrap();
    (folder, store)
}

/// What the guide should see of each person, from the list itself.
fn expected(sends: &[Sent], people: i64) -> Vec<Observation> {
    let mut in_order = sends.to_vec();
    in_order.sort_by_key(|s| -s.ago);
    (1..=people)
        .filter_map(|who| {
            let of: Vec<(i64, &Sent)> = in_order.iter().enumerate().map(|(i, s)| (i as i64 + 1, s)).filter(|(_, s)| s.who == who).collect();
            let ripe = of.iter().filter(|(_, s)| s.ago < 180 && s.ago >= 7);
            let (id, s) = ripe.min_by(|a, b| share::draw("recency", ContactId(a.0)).total_cmp(&share::draw("recency", ContactId(b.0))))?;
            let earlier = of.iter().filter(|(other, _)| other < id);
            let answers = earlier.flat_map(|(_, e)| [e.opened, e.clicked].into_iter().flatten().map(move |after| e.ago - after));
            let last = answers.filter(|ago| *ago > s.ago).min();
            Some(Observation {
                since_answer: last.map(|ago| (ago - s.ago) * DAY),
                mailed_since: of.iter().filter(|(other, e)| other <= id && last.is_none_or(|l| e.ago < l)).count() as u32,
                open_blind: who > people - 2,
                opened: s.opened.is_some(),
                clicked: s.clicked.is_some(),
                complained: s.complained,
                withdrew: s.left && !s.complained,
                bounced: s.failed,
            })
        })
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn recency_sees_what_was_known_when_the_message_went_out(sends in prop::collection::vec(sent(), 0..40)) {
        let (_folder, store) = base(&[None; 6], &sends);
        let mut seen = store.read_now(|c| guides::observations(c, NOW)).unwrap();
        let mut want = expected(&sends, 6);
        let key = |o: &Observation| (o.since_answer, o.mailed_since, o.opened, o.clicked, o.complained, o.withdrew, o.bounced, o.open_blind);
        seen.sort_by_key(key);
        want.sort_by_key(key);
        prop_assert_eq!(seen, want);
    }

    #[test]
    fn sources_add_up(sends in prop::collection::vec(sent(), 0..60)) {
        let people = [Some("web form"), Some("boat"), Some("web form"), None, Some(" "), Some("boat")];
        let (_folder, store) = base(&people, &sends);
        let all = store.read_now(|c| guides::sources(c, NOW)).unwrap();
        prop_assert_eq!(all.iter().map(|s| s.people).collect::<Vec<_>>(), vec![2, 2, 2]);
        prop_assert!(all.iter().any(|s| s.source.is_none()), "nobody's source is a blank");
        let distinct = |f: &dyn Fn(&Sent) -> bool| sends.iter().filter(|s| f(s)).map(|s| s.who).collect::<std::collections::HashSet<_>>().len() as u64;
        prop_assert_eq!(all.iter().map(|s| s.bounces.of).sum::<u64>(), distinct(&|_| true));
        prop_assert_eq!(all.iter().map(|s| s.bounces.count).sum::<u64>(), distinct(&|s| s.failed));
        prop_assert_eq!(all.iter().map(|s| s.complaints.count).sum::<u64>(), distinct(&|s| s.complained));
        let silence = |who: i64| {
            let recent: Vec<&Sent> = sends.iter().filter(|s| s.who == who && s.ago < 180).collect();
            (recent.len() >= 4 && who <= 4, recent.iter().all(|s| s.opened.is_none() && s.clicked.is_none()))
        };
        prop_assert_eq!(all.iter().map(|s| s.silence.of).sum::<u64>(), (1..=6).filter(|w| silence(*w).0).count() as u64);
        prop_assert_eq!(all.iter().map(|s| s.silence.count).sum::<u64>(), (1..=6).filter(|w| silence(*w) == (true, true)).count() as u64);
        prop_assert_eq!(all.iter().map(|s| s.last_week).sum::<u64>(), 3, "added today, 3 and 6 days ago");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Every joining is counted once, every leaving once, and the last month's reach is who is left.
    #[test]
    fn growth_adds_up(acts in prop::collection::vec((1i64..7, 0usize..3, 0i64..500), 0..20), two in prop::collection::vec(any::<bool>(), 6)) {
        let (folder, store) = base(&[None; 6], &[]);
        let c = Connection::open(folder.path().join("rinse.db")).unwrap();
        c.execute_batch("INSERT INTO list (name, made_at) VALUES ('one', 0), ('two', 0)").unwrap();
        for who in 1..=6i64 {
            c.execute("INSERT INTO list_member VALUES (1, ?1, ?2)", params![who, NOW.millis() - (400 + who) * DAY]).unwrap();
            if two[who as usize - 1] {
                c.execute("INSERT INTO list_member VALUES (2, ?1, ?2)", params![who, NOW.millis() - 450 * DAY]).unwrap();
            }
        }
        for (who, kind, ago) in &acts {
            let kind = ["withdrew", "complained", "retired"][*kind];
            c.execute("INSERT INTO ledger (contact_id, at, kind, source) VALUES (?1, ?2, ?3, 'x')", params![who, NOW.millis() - ago * DAY, kind]).unwrap();
        }
        let gone = acts.iter().map(|a| a.0).collect::<std::collections::HashSet<_>>().len() as i64;
        for lists in [&[1][..], &[1, 2]] {
            let months = store.read_now(|c| rinse_store::growth::growth(c, lists, NOW)).unwrap();
            let sum = |f: fn(&rinse_store::growth::Month) -> i64| months.iter().map(f).sum::<i64>();
            prop_assert_eq!((sum(|m| m.joined), sum(|m| m.left) + sum(|m| m.bounced)), (6, gone));
            prop_assert_eq!(months.last().unwrap().reachable, 6 - gone);
            prop_assert!(months.iter().all(|m| m.reachable >= 0 && m.net == m.joined - m.left - m.bounced), "nobody leaves before they join: {:?}", months);
            prop_assert!(months.windows(2).all(|w| w[0].month < w[1].month) && (13..=16).contains(&months.len()), "{}", months.len());
        }
    }
}
