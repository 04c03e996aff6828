//! Files of another sender: the order doesn't matter, the same twice changes nothing, what is cut off goes on, and taken back is as never brought.

use crate::common::{base, rows, sums_hold};
use proptest::prelude::*;
use rinse_core::id::ContactId;
use rinse_core::{DAY, HOUR, Instant, MINUTE};
use rinse_store::history::{self, Decision, LogFile, Mapping};
use rinse_store::{Connection, Store, ledger};
use std::fmt::Write as _;

const START: Instant = crate::common::START;

fn write(store: &Store, name: &str, text: &str) -> std::path::PathBuf {
    let path = store.folder().join("imports").join(name);
    std::fs::write(&path, text).unwrap();
    path
}

/// Stages, looks through and applies; what becomes of it.
async fn bring(store: &Store, text: &str, change: impl FnOnce(&mut Decision)) -> LogFile {
    let id = stage(store, text, change).await;
    history::apply(store, id, START + 400 * DAY, None, |_| true).await.unwrap()
}

async fn stage(store: &Store, text: &str, change: impl FnOnce(&mut Decision)) -> i64 {
    let id = history::stage(store, write(store, "raw", text), "log.csv".into(), START + 400 * DAY, None).await.unwrap();
    let file = store.read(move |c| history::one(c, id)).await.unwrap();
    let mut d = Decision {
        mapping: file.mapping,
        header: file.header,
        zone: None,
        month_first: false,
        newcomers: false,
        unnamed: true,
        by_subject: false,
    };
    change(&mut d);
    history::decide(store, id, d).await.unwrap();
    history::check(store, id, |_| {}).await.unwrap();
    id
}

async fn take_back(store: &Store, id: i64) {
    store.write(move |c| history::begin_undo(c, id, START + 400 * DAY)).await.unwrap();
    while store.write(move |c| history::undo_some(c, id, START + 400 * DAY, None)).await.unwrap() {}
}

/// All that was sent, as it stands.
fn stands(c: &Connection) -> Vec<String> {
    let mut s = c
        .prepare(
            "SELECT o.key || ' ' || k.address || ' ' || json_array(s.at, s.handed_at, s.accepted_at, s.failed_at, s.category, s.open_at, s.any_open_at, s.click_at,
                s.any_click_at, s.reply_at, s.left_at, s.complained_at, s.opens_unknown, s.state, s.local_hour)
             FROM send s JOIN outside_mailing o ON o.mailing_id = s.mailing_id JOIN contact k ON k.id = s.contact_id ORDER BY 1",
        )
        .unwrap();
    s.query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
}

fn figures(c: &Connection) -> Vec<String> {
    rows(
        c,
        "SELECT json_array(m.name, f.day, f.accepted, f.bounced, f.sent) FROM mailing_figure f JOIN mailing m ON m.id = f.mailing_id WHERE f.sent > 0 ORDER BY 1",
    )
}

fn failures(c: &Connection) -> Vec<String> {
    rows(
        c,
        "SELECT json_array(f.day, d.name, f.messages, f.failures) FROM domain_failure f JOIN domain d ON d.id = f.domain_id WHERE f.messages > 0 OR f.failures > 0 ORDER BY 1",
    )
}

/// A line of a log.
#[derive(Debug, Clone)]
struct Line {
    person: usize,
    mailing: usize,
    kind: usize,
    minute: i64,
}

const KINDS: [&str; 9] = ["sent", "delivered", "deferred", "bounced", "opened", "clicked", "replied", "unsubscribed", "complained"];

fn csv(lines: &[Line]) -> String {
    let mut text = "email,campaign,event,time,user_agent,url,reason\n".to_owned();
    for l in lines {
        let at = (START + l.minute * MINUTE).iso();
        let (agent, url, reason) = match KINDS[l.kind] {
            "opened" => ("Reader/5.1", "", ""),
            "clicked" => ("Reader/5.1", "https://skerry-light.example/a", ""),
            "bounced" => ("", "", "550 5.1.1 no such user"),
            _ => ("", "", ""),
        };
        writeln!(text, "p{}@tern.example,K{},{},{at},{agent},{url},{reason}", l.person, l.mailing, KINDS[l.kind]).unwrap();
    }
    text
}

fn lines() -> impl Strategy<Value = Vec<Line>> {
    let one = (0..6_usize, 0..3_usize, 0..KINDS.len(), 0_i64..3_000).prop_map(|(person, mailing, kind, minute)| Line {
        person,
        mailing,
        kind,
        minute,
    });
    // A log that tells of answers has told of what was sent; some of it may be missing all the same.
    prop::collection::vec(one, 1..60).prop_map(|mut all| {
        let first = Line { person: 0, mailing: 0, kind: 1, minute: 1 };
        all.insert(0, first);
        all
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// In whatever order, in one file or two, twice or once, cut off and gone on with or not: the same stands there, and every sum is what is
    /// counted from it. Taken back, nothing is left but who left.
    #[test]
    fn a_log_comes_to_the_same(all in lines(), cut in 0_usize..60, stop in 1_usize..60) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(async {
            let (_one, first) = base(6).await;
            let file = bring(&first, &csv(&all), |_| {}).await;
            let (want, sums, of_domains) = first.read(|c| Ok((stands(c), figures(c), failures(c)))).await.unwrap();
            first.read(|c| { sums_hold(c); Ok(()) }).await.unwrap();
            prop_assert_eq!(file.new + file.known + file.refused, i64::try_from(all.len()).unwrap());

            // The other way round, in two files, the second twice; the first cut off.
            let (_two, other) = base(6).await;
            let mut turned = all.clone();
            turned.reverse();
            let (a, b) = turned.split_at(cut.min(turned.len()));
            // Steps come before answers, wherever they stand.
            let (steps, answers): (Vec<Line>, Vec<Line>) = a.iter().chain(b).cloned().partition(|l| l.kind < 4);
            let id = stage(&other, &csv(&steps), |_| {}).await;
            let mut told = 0;
            let cancelled = history::apply(&other, id, START + 400 * DAY, None, |_| { told += 1; told < stop }).await.unwrap();
            if cancelled.state == rinse_core::standing::FileState::Cancelled {
                bring(&other, &csv(&steps), |_| {}).await;
            }
            if !answers.is_empty() {
                bring(&other, &csv(&answers), |_| {}).await;
                let again = bring(&other, &csv(&answers), |_| {}).await;
                prop_assert_eq!(again.new, 0, "the same file twice");
            }
            let (found, found_sums, found_domains) = other.read(|c| Ok((stands(c), figures(c), failures(c)))).await.unwrap();
            // A log without "delivered" alone is read otherwise; the first line is one.
            prop_assert_eq!(&found, &want);
            prop_assert_eq!(&found_sums, &sums);
            prop_assert_eq!(&found_domains, &of_domains);

            // Taken back, as if it had never been.
            take_back(&first, file.id).await;
            let (left, sums, of_domains, hits) = first.read(|c| Ok((stands(c), figures(c), failures(c), rows::<i64>(c, "SELECT count(*) FROM response")))).await.unwrap();
            first.read(|c| { sums_hold(c); Ok(()) }).await.unwrap();
            prop_assert!(sums.is_empty() && of_domains.is_empty() && hits == [0], "{:?} {:?} {:?}", sums, of_domains, hits);
            // Only messages by which somebody left still stand, as never sent.
            prop_assert!(left.iter().all(|l| l.contains("null,null,null,null")), "{:?}", left);
            Ok(())
        })?;
    }
}

#[tokio::test]
async fn numerators_are_part_of_denominators_and_scanners_are_told_apart() {
    let (_folder, store) = base(4).await;
    let text = format!(
        "email,mailing,event,time,user_agent\np0@tern.example,K,sent,{0},\np1@tern.example,K,sent,{0},\np2@tern.example,K,bounced,{0},\n\
         p0@tern.example,K,opened,{1},Reader/5.1\np1@tern.example,K,clicked,{2},Reader/5.1\np3@tern.example,K,opened,{1},Reader/5.1\n\
         nobody@tern.example,K,sent,{0},\np0@tern.example,K,waved,{1},\n",
        START.iso(),
        (START + HOUR).iso(),
        (START + 2_000).iso()
    );
    let id = stage(&store, &text, |_| {}).await;
    let looked = store.read(move |c| history::one(c, id)).await.unwrap();
    assert!(!looked.found.accepts && looked.found.agents);
    assert_eq!((looked.found.new, looked.found.refused, looked.found.missing_people), (5, 3, 1), "{:?}", looked.found.reasons);
    let done = history::apply(&store, id, START + 400 * DAY, None, |_| true).await.unwrap();
    assert_eq!((done.new, done.known, done.refused), (5, 0, 3));
    store
        .read(move |c| {
            // Anybody who isn't known to have got it can't have opened it; without “accepted” what didn't bounce was.
            let [(handed, accepted, failed)] = c
                .prepare("SELECT sum(sent), sum(accepted), sum(bounced) FROM mailing_figure")?
                .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?
                .collect::<Result<Vec<(i64, i64, i64)>, _>>()?[..]
            else {
                panic!()
            };
            assert_eq!((handed, accepted, failed), (3, 2, 1));
            // A click two seconds after is no person's.
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE click_at IS NOT NULL"), [0]);
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE open_at IS NOT NULL AND opens_unknown = 0"), [1]);
            Ok(())
        })
        .await
        .unwrap();
    let s = store.clone();
    let refused = store.read(move |c| history::refused(&s, c, id)).await.unwrap();
    let refused = String::from_utf8(refused).unwrap();
    assert_eq!(refused.lines().count(), 4, "{refused}");
    assert!(refused.contains("nobody in the base has this address") && refused.contains("no log says that this mailing was sent"));
    // Without agents nobody can say who opened, of the whole mailing.
    let text = format!(
        "email,mailing,event,time\np0@tern.example,L,sent,{0}\np1@tern.example,L,sent,{0}\np1@tern.example,L,opened,{1}\n",
        START.iso(),
        (START + HOUR).iso()
    );
    bring(&store, &text, |_| {}).await;
    store
        .read(|c| {
            assert_eq!(rows::<i64>(c, "SELECT s.opens_unknown FROM send s JOIN outside_mailing o ON o.mailing_id = s.mailing_id WHERE o.key = 'L'"), [1, 1]);
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send s JOIN outside_mailing o ON o.mailing_id = s.mailing_id WHERE o.key = 'L' AND open_at IS NOT NULL"), [0]);
            Ok(())
        })
        .await
        .unwrap();
}

#[tokio::test]
async fn who_left_there_has_left_here_unless_they_came_back() {
    let (_folder, store) = base(2).await;
    // Both agreed here at START, by themselves: the first after leaving there, the second before.
    let text = format!(
        "email,mailing,event,time\np0@tern.example,K,delivered,{0}\np1@tern.example,K,delivered,{0}\np0@tern.example,K,unsubscribed,{1}\np1@tern.example,K,unsubscribed,{2}\n",
        (START + -40 * DAY).iso(),
        (START + -39 * DAY).iso(),
        (START + DAY).iso()
    );
    let done = bring(&store, &text, |_| {}).await;
    assert_eq!((done.new, done.refused), (4, 0));
    let may = |store: &Store| {
        let store = store.clone();
        async move {
            store
                .read(|c| {
                    Ok([ledger::consent_of(c, ContactId(1))?.allows_marketing(), ledger::consent_of(c, ContactId(2))?.allows_marketing()])
                })
                .await
                .unwrap()
        }
    };
    assert_eq!(may(&store).await, [true, false]);
    take_back(&store, done.id).await;
    assert_eq!(may(&store).await, [true, false], "who left has left, whatever becomes of the file");
}

#[test]
fn mailings_have_their_names_from_a_table_that_comes_later() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let (_folder, store) = base(1).await;
        let log = format!("email,mailing,event,time\np0@tern.example,K7,delivered,{}\n", START.iso());
        bring(&store, &log, |_| {}).await;
        let table = format!("id,name,subject,sent_at,recipients\nK7,Tide in April,When the tide comes,{},1200\n", START.iso());
        let done = bring(&store, &table, |d| assert!(matches!(d.mapping, Mapping::Mailings(_)))).await;
        assert_eq!((done.new, done.refused), (1, 0));
        let all = store.read(history::mailings).await.unwrap();
        assert_eq!((all[0].name.as_str(), all[0].size, all[0].sent), ("Tide in April", Some(1200), 1));
        let again = bring(&store, &table, |_| {}).await;
        assert_eq!((again.new, again.known), (0, 1));
    });
}

/// A log that names no mailings: they are proposed by subject and hour, and nothing comes in before a person takes them so. Its next part goes on with
/// the same ones.
#[tokio::test]
async fn mailings_without_a_key_are_proposed_and_confirmed() {
    let (_folder, store) = base(6).await;
    let line = |person: usize, subject: &str, kind: &str, hour: i64| {
        format!("p{person}@tern.example,\"{subject}\",{kind},{},Reader/5.1\n", (START + hour * HOUR).iso())
    };
    let header = "email,subject line,event,time,user_agent\n";
    // The same subject twice, a week apart; the second goes on into the next file.
    let first: String = [
        line(1, "Tide notes", "delivered", 0),
        line(2, "Tide notes", "delivered", 5),
        line(1, "Tide notes", "opened", 30),
        line(3, "Boat days", "delivered", 2),
        line(1, "Tide notes", "delivered", 168),
        line(1, "Tide notes", "opened", 170),
        line(4, "Never sent", "opened", 3),
    ]
    .concat();
    let refused = bring(&store, &format!("{header}{first}"), |_| {}).await;
    assert_eq!((refused.new, refused.refused, refused.found.proposed_in_all), (0, 7, 3), "{:?}", refused.found);
    assert!(refused.found.reasons.keys().all(|r| r.contains("take the mailings as proposed")), "{:?}", refused.found.reasons);
    let taken = bring(&store, &format!("{header}{first}"), |d| d.by_subject = true).await;
    assert_eq!((taken.new, taken.refused), (6, 1), "{:?}", taken.found);
    let second = line(2, "Tide notes", "delivered", 180) + &line(2, "Tide notes", "opened", 181) + &line(1, "Tide notes", "delivered", 168);
    let more = bring(&store, &format!("{header}{second}"), |d| d.by_subject = true).await;
    assert_eq!((more.new, more.known, more.refused), (2, 1, 0), "{:?}", more.found);
    let sent = |c: &Connection| {
        rows::<String>(
            c,
            "SELECT json_array(v.subject, (m.started_at - (SELECT min(started_at) FROM mailing)) / 3600000, count(s.accepted_at), count(s.open_at))
             FROM outside_mailing o JOIN mailing m ON m.id = o.mailing_id JOIN variant v ON v.mailing_id = m.id JOIN send s ON s.mailing_id = m.id GROUP BY m.id ORDER BY m.started_at",
        )
    };
    store
        .read(move |c| {
            assert_eq!(sent(c), [r#"["Tide notes",0,2,1]"#, r#"["Boat days",2,1,0]"#, r#"["Tide notes",168,2,2]"#]);
            sums_hold(c);
            Ok(())
        })
        .await
        .unwrap();
    take_back(&store, more.id).await;
    take_back(&store, taken.id).await;
    store
        .read(|c| {
            assert_eq!(rows::<i64>(c, "SELECT (SELECT count(*) FROM outside_mailing) + (SELECT count(*) FROM send)"), [0]);
            Ok(())
        })
        .await
        .unwrap();
}
