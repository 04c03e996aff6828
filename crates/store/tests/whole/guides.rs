//! The guides' counts against a plain recount of the raw rows, over random histories.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::cap_guide;
use rinse_core::id::ContactId;
use rinse_core::recency::Observation;
use rinse_core::segment::share;
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::{Connection, Store, guides, per_person};
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

const CAPS: &str = "WITH drawn AS (SELECT id, min(stable_share('cap guide', id)) FROM send WHERE class = 1 AND channel = 1 AND accepted_at > ?1 AND accepted_at <= ?2 GROUP BY contact_id)
    SELECT (SELECT count(*) FROM send x WHERE x.contact_id = s.contact_id AND x.class = 1 AND x.accepted_at > s.accepted_at - ?3 AND x.accepted_at <= s.accepted_at),
        coalesce(s.open_at, s.click_at, s.reply_at) IS NOT NULL, s.opens_unknown, s.withdrew_at IS NOT NULL, s.topic_left_at IS NOT NULL, s.complained_at IS NOT NULL
    FROM drawn d JOIN send s ON s.id = d.id";
const FARED: &str = "SELECT failed_at IS NULL AS d, click_at IS NOT NULL OR reply_at IS NOT NULL AS a, complained_at IS NOT NULL AS k,
        iif(handed_at >= (SELECT at FROM ledger l WHERE l.contact_id = s.contact_id AND kind = 'confirmed' ORDER BY id LIMIT 1), 'yes', 'no') AS confirmed,
        (SELECT source FROM ledger l WHERE l.contact_id = s.contact_id AND kind IN ('agreed', 'confirmed') ORDER BY id DESC LIMIT 1) AS permission
    FROM send s WHERE class = 1 AND at > ?1";

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn recency_sees_what_was_known_when_the_message_went_out(sends in prop::collection::vec(sent(), 0..40)) {
        let (_folder, store) = base(&[None; 6], &sends);
        let mut seen = store.read_now(|c| per_person::observations(c, NOW)).unwrap();
        let mut want = expected(&sends, 6);
        let key = |o: &Observation| (o.since_answer, o.mailed_since, o.opened, o.clicked, o.complained, o.withdrew, o.bounced, o.open_blind);
        seen.sort_by_key(key);
        want.sort_by_key(key);
        prop_assert_eq!(seen, want);
    }

    /// The other two, by SQL that asks the rows one thing at a time; and in parts beside the writer the same comes out.
    #[test]
    fn caps_and_faring_are_what_the_rows_say(sends in prop::collection::vec(sent(), 0..60), agreed in prop::collection::vec((1i64..6, 0i64..400, any::<bool>()), 0..12)) {
        let (_folder, store) = base(&[None; 6], &sends);
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(store.write(move |c: &Connection| {
            for (who, ago, confirmed) in &agreed {
                let source = if *ago % 2 == 0 { "web form" } else { "visitor desk" };
                c.execute("INSERT INTO ledger (contact_id, at, kind, source, evidence) VALUES (?1, ?2, ?3, ?4, 'form 7')",
                    params![who, NOW.millis() - ago * DAY, if *confirmed { "confirmed" } else { "agreed" }, source])?;
            }
            Ok(c.execute_batch("UPDATE send SET withdrew_at = left_at WHERE id % 2 = 0; UPDATE send SET topic_left_at = left_at WHERE id % 3 = 0;
                UPDATE send SET opens_unknown = 1 WHERE contact_id = 5; UPDATE send SET class = 2 WHERE id % 11 = 0; UPDATE send SET reply_at = handed_at WHERE id % 5 = 0")?)
        })).unwrap();
        let sums = store.read_now(|c| per_person::now(c, NOW)).unwrap();
        prop_assert_eq!(&rt.block_on(per_person::beside(&store, NOW)).unwrap(), &sums);
        let mut counted = cap_guide::Counted::default();
        store.read_now(|c| {
            let mut s = c.prepare(CAPS)?;
            let rows = s.query_map(params![(NOW + -180 * DAY).millis(), (NOW + -7 * DAY).millis(), 28 * DAY], |r| Ok(cap_guide::Drawn {
                got: r.get(0)?, answered: r.get(1)?, opens_unknown: r.get(2)?, withdrew: r.get(3)?, left_topic: r.get(4)?, complained: r.get(5)?,
            }))?;
            rows.for_each(|d| counted.add(&d.unwrap()));
            Ok(())
        }).unwrap();
        prop_assert_eq!(&sums.caps, &counted);
        let fared = |by: &str, of: &str| -> [u64; 4] {
            store.read_now(|c| Ok(c.query_row(&format!("SELECT count(*), coalesce(sum(d), 0), coalesce(sum(d AND a), 0), coalesce(sum(d AND k), 0) FROM ({FARED}) WHERE {by} IS ?2"),
                params![(NOW + -180 * DAY).millis(), of], |r| Ok([r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?]))?)).unwrap().map(|n: i64| n.unsigned_abs())
        };
        prop_assert_eq!(sums.by_state, [fared("confirmed", "no"), fared("confirmed", "yes")]);
        for by in ["web form", "visitor desk"] {
            prop_assert_eq!(sums.by_permission.get(by).copied().unwrap_or_default(), fared("permission", by), "{}", by);
        }
    }

    #[test]
    fn sources_add_up(sends in prop::collection::vec(sent(), 0..60)) {
        let people = [Some("web form"), Some("boat"), Some("web form"), None, Some(" "), Some("boat")];
        let (_folder, store) = base(&people, &sends);
        let all = guides::sources(&store.read_now(|c| per_person::now(c, NOW)).unwrap());
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

/// A large base shows what the day's pass found, and says of when; the next day it is due again.
#[tokio::test]
async fn a_large_base_is_passed_over_once_a_day() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    let more = |n: i64| {
        format!("INSERT INTO domain (name) VALUES ('tern{n}.example');
            WITH RECURSIVE i(k) AS (SELECT 1 UNION ALL SELECT k + 1 FROM i WHERE k < {n})
            INSERT INTO contact (address, address_key, domain_id, added_at) SELECT k || '.{n}@tern.example', k || '.{n}@tern.example', 1, 0 FROM i")
    };
    let add = async |n: i64| store.write(move |c: &Connection| Ok(c.execute_batch(&more(n))?)).await.unwrap();
    add(10).await;
    assert!(!store.read_now(|c| per_person::is_due(c, NOW)).unwrap(), "of few people nothing is kept");
    add(per_person::AT_ONCE).await;
    assert!(store.read_now(|c| per_person::is_due(c, NOW)).unwrap());
    let people = |(sums, as_of): (per_person::Sums, Option<Instant>)| (sums.sources[""].people as i64 - per_person::AT_ONCE, as_of);
    let shown = || people(store.read_now(|c| per_person::shown(c, NOW)).unwrap());
    assert_eq!(shown(), (10, None), "before the first pass it is made as it is asked for");
    per_person::refresh(&store, NOW).await.unwrap();
    add(7).await;
    assert_eq!(shown(), (10, Some(NOW)));
    assert!(!store.read_now(|c| per_person::is_due(c, NOW)).unwrap());
    assert!(store.read_now(|c| per_person::is_due(c, NOW + DAY)).unwrap());
    per_person::refresh(&store, NOW + DAY).await.unwrap();
    assert_eq!(shown(), (17, Some(NOW + DAY)));
}
