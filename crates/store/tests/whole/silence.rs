//! Silent people are asked before anything is done; who lets it pass is sunset, but for those kept back, by whom it is read what that costs.

use crate::common::{START, base, go_series, hand_over, mailing, rows, start};
use rinse_core::clearance::OverCap;
use rinse_core::id::{ContactId, LetterheadId, SendId};
use rinse_core::purchase::Purchase;
use rinse_core::series::starters::ASKING;
use rinse_core::upkeep::silence::Numbers;
use rinse_core::upkeep::{Cause, Policy};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::responses::{self, WentOn};
use rinse_store::upkeep::{applying, effects, policy, return_lines, runs, silence};
use rinse_store::{Connection, Store, load, purchases, series};

const PEOPLE: usize = 400;
const FINE: &str = "250 2.0.0 ok";

fn day(n: i64) -> Instant {
    START + n * DAY
}

fn n(c: &Connection, sql: &str) -> i64 {
    rows(c, sql)[0]
}

/// The day's look at everybody, as the engine has it.
async fn daily(store: &Store, now: Instant) {
    load::refresh(store, now).await.unwrap();
    silence::refresh(store, now).await.unwrap();
}

async fn on<T: Send + 'static>(store: &Store, f: impl FnOnce(&Connection) -> T + Send + 'static) -> T {
    store.write(|c| Ok(f(c))).await.unwrap()
}

fn stages(c: &Connection, now: Instant) -> Vec<i64> {
    silence::view(c, now).unwrap().stages.iter().map(|s| s.people).collect()
}

/// Twelve mailings of twelve weeks that nobody answers but the first twenty people; silent is who answered nothing for 90 days.
async fn silent_base() -> (tempfile::TempDir, Store) {
    let (folder, store) = base(PEOPLE).await;
    on(&store, |c| {
        let silence = Numbers { window_days: Some(90), ..Numbers::default() };
        in_force(c, &Policy { silence, ..Policy::default() }, day(0));
        for i in 0..12 {
            let m = mailing(c, None, OverCap::Hold);
            start(c, m, day(10 * i));
            hand_over(c, day(10 * i), FINE);
        }
        for send in rows::<i64>(c, "SELECT max(id) FROM send WHERE contact_id <= 20 GROUP BY contact_id") {
            crate::common::hit(c, send, Some(0), day(110) + 5 * HOUR, "Mail reader", false).unwrap();
        }
    })
    .await;
    (folder, store)
}

fn in_force(c: &Connection, p: &Policy, now: Instant) {
    let id = runs::begin(c, Some(p), "for the test", now, None).unwrap();
    runs::proposed(c, id, &effects::effect(c, id, now).unwrap()).unwrap();
    apply(c, id, now);
}

fn apply(c: &Connection, id: i64, now: Instant) {
    applying::begin_apply(c, id, now, Some(1)).unwrap();
    while applying::go_on(c, id, now).unwrap() {}
}

fn propose(c: &Connection, now: Instant) -> i64 {
    let id = runs::begin(c, None, "", now, Some(1)).unwrap();
    for put in [runs::put_due, runs::put_silent, runs::put_to_delete] {
        let mut after = Some(0);
        while let Some(from) = after {
            after = put(c, id, from, now).unwrap();
        }
    }
    runs::proposed(c, id, &effects::effect(c, id, now).unwrap()).unwrap();
    id
}

fn send_that_asked(c: &Connection, who: i64) -> i64 {
    n(c, &format!("SELECT max(id) FROM send WHERE contact_id = {who} AND cause = 2"))
}

/// The base after the letters that ask: everybody silent got both but one; some pressed the button, one bought.
async fn asked_base() -> (tempfile::TempDir, Store) {
    let (folder, store) = silent_base().await;
    daily(&store, day(125)).await;
    on(&store, |c| {
        assert_eq!(stages(c, day(125)), [380, 0, 0, 0], "who answered isn't silent");
        let id = series::from_starter(c, ASKING, LetterheadId(1), day(125), None).unwrap();
        silence::choose_series(c, id.0, day(125), None).unwrap();
        series::start(c, id, day(125), None).unwrap();
        go_series(c, day(125), day(126), FINE);
        assert_eq!(n(c, "SELECT count(*) FROM send WHERE cause = 2"), 380, "all that are silent are asked at once");
    })
    .await;
    daily(&store, day(126)).await;
    on(&store, |c| {
        assert_eq!(stages(c, day(126)), [0, 380, 0, 0]);
        for who in 21..=40 {
            let send = send_that_asked(c, who);
            for _ in 0..2 {
                assert_eq!(responses::go_on(c, SendId(send), day(127)).unwrap(), Some(WentOn::Renewed));
            }
        }
        let key = rinse_core::address::Address::parse("p40@tern.example").unwrap();
        let p = Purchase {
            key: "a".into(),
            address: key,
            at: day(127),
            cents: 900,
            currency: "GBP".into(),
            product: "Chart print".into(),
            category: String::new(),
        };
        purchases::take(c, &p).unwrap();
        assert_eq!(stages(c, day(127))[1], 380 - 21, "they leave the list at once");
        assert_eq!(n(c, "SELECT count(*) FROM ledger WHERE kind = 'renewed'"), 20, "pressed twice, said once");
        go_series(c, day(127), day(150), FINE);
        c.execute("UPDATE send SET failed_at = accepted_at WHERE contact_id = 42 AND cause = 2", []).unwrap();
    })
    .await;
    (folder, store)
}

#[tokio::test]
async fn who_lets_it_pass_is_sunset_but_for_those_kept_back() {
    let (_folder, store) = asked_base().await;
    daily(&store, day(150)).await;
    let run = on(&store, |c| {
        assert_eq!(stages(c, day(150)), [1, 0, 358, 0], "whom no letter reached is asked again");
        let view = silence::view(c, day(150)).unwrap();
        let series = view.series.unwrap();
        assert_eq!((series.came_back.count, series.came_back.of), (21, 379));
        let id = propose(c, day(150));
        let run = runs::one(c, id, day(150)).unwrap();
        let of = |cause| run.groups.iter().find(|g| g.cause == cause).map_or(0, |g| g.people);
        let (gone, kept) = (of(Cause::LetPass), of(Cause::KeptBack));
        assert!(gone + kept == 358 && (7..40).contains(&kept), "{gone} and {kept}");
        let effect = run.effect.unwrap();
        assert_eq!(effect.mailable - effect.mailable_after, gone);
        let out: Vec<i64> =
            rows(c, &format!("SELECT contact_id FROM cleaning_member WHERE run_id = {id} AND status_after = 4 ORDER BY 1 LIMIT 3"));
        // One is taken out, one answers before it is applied.
        runs::take_out(c, id, ContactId(out[0]), true).unwrap();
        responses::go_on(c, SendId(send_that_asked(c, out[1])), day(150)).unwrap();
        apply(c, id, day(151));
        assert_eq!(n(c, "SELECT count(*) FROM contact WHERE sunset_at IS NOT NULL"), gone - 2);
        assert_eq!(n(c, "SELECT count(*) FROM ledger WHERE kind = 'kept back'"), kept);
        // One answers afterwards, and one is put back; the rest stays.
        responses::go_on(c, SendId(send_that_asked(c, out[2])), day(152)).unwrap();
        let other = n(c, "SELECT max(id) FROM contact WHERE sunset_at IS NOT NULL");
        applying::begin_undo(c, id, None, Some(ContactId(other)), day(153), None).unwrap();
        while applying::go_on(c, id, day(153)).unwrap() {}
        assert_eq!(n(c, "SELECT count(*) FROM contact WHERE sunset_at IS NOT NULL"), gone - 4);
        for kind in ["sunset lifted", "sunset taken back"] {
            assert_eq!(n(c, &format!("SELECT count(*) FROM ledger WHERE kind = '{kind}'")), 1, "{kind}");
        }
        id
    })
    .await;
    daily(&store, day(160)).await;
    on(&store, move |c| {
        let kept: Vec<i64> =
            rows(c, &format!("SELECT contact_id FROM cleaning_member WHERE run_id = {run} AND status_after = 5 ORDER BY 1"));
        assert_eq!(stages(c, day(160)), [1, 0, 0, i64::try_from(kept.len()).unwrap() + 2], "with the one taken out and the one put back");
        let again = propose(c, day(160));
        assert!(runs::one(c, again, day(160)).unwrap().groups.is_empty(), "nobody is decided on twice within 90 days");
        // Two of those kept back answer: one in time, one too late; and one complains.
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, day(170));
        hand_over(c, day(170), FINE);
        let send = |who: i64| n(c, &format!("SELECT id FROM send WHERE contact_id = {who} AND mailing_id = {m}"));
        crate::common::hit(c, send(kept[0]), Some(0), day(171), "Mail reader", false).unwrap();
        crate::common::hit(c, send(kept[1]), Some(0), day(151 + 91), "Mail reader", false).unwrap();
        responses::complaint(c, SendId(send(kept[2])), day(172)).unwrap();
        let early = silence::view(c, day(200)).unwrap();
        assert_eq!((early.readout.answered.of, early.kept_back, early.next_read_at), (0, kept.len() as i64, Some(day(241).millis())));
        let r = silence::view(c, day(243)).unwrap().readout;
        assert_eq!((r.answered.count, r.answered.of, r.complained.count), (1, kept.len() as u64, 1));
        let gone = n(c, &format!("SELECT count(*) FROM cleaning_member WHERE run_id = {run} AND status_after = 4 AND state IN (2, 4)"));
        assert_eq!(r.sunset_bought.of, gone.unsigned_abs());
    })
    .await;
}

/// Of people whose opens can't be told no open counts, and nothing is held against them for twice the time.
#[tokio::test]
async fn the_open_blind_are_not_condemned_by_opens() {
    let (_folder, store) = silent_base().await;
    on(&store, |c| {
        c.execute("UPDATE domain SET opens_unknown = 1", []).unwrap();
    })
    .await;
    daily(&store, day(125)).await;
    on(&store, |c| assert_eq!(stages(c, day(125)), [0, 0, 0, 0], "they were written to for 125 days, not for 180")).await;
}

/// Where the guide suggests nothing and nothing is set, nobody is silent.
#[tokio::test]
async fn without_a_window_nobody_is_silent() {
    let (_folder, store) = silent_base().await;
    on(&store, |c| in_force(c, &Policy::default(), day(124))).await;
    daily(&store, day(125)).await;
    on(&store, |c| {
        assert_eq!(stages(c, day(125)), [0, 0, 0, 0]);
        assert_eq!(policy::all(c).unwrap().len(), 3);
    })
    .await;
}

/// Who was retired for long is deleted by a run, with a line for the system of record; no file brings them back.
#[tokio::test]
async fn retired_addresses_are_deleted_and_do_not_return() {
    let (_folder, store) = base(3).await;
    on(&store, |c| {
        let silence = Numbers { window_days: Some(90), ..Numbers::default() };
        in_force(c, &Policy { delete_after_days: Some(180), silence, ..Policy::default() }, day(0));
        c.execute("UPDATE contact SET status = 3, status_cause = 3, status_at = ?1 WHERE id = 1", [day(1).millis()]).unwrap();
        c.execute("UPDATE contact SET status = 3, status_cause = 3, status_at = ?1 WHERE id = 2", [day(100).millis()]).unwrap();
        let id = propose(c, day(190));
        assert_eq!(rows::<i64>(c, &format!("SELECT contact_id FROM cleaning_member WHERE run_id = {id}")), [1]);
        apply(c, id, day(190));
        assert!(applying::begin_undo(c, id, None, None, day(191), None).is_err(), "it can't be undone");
        let lines = return_lines::all(c, true, None, 10).unwrap();
        assert_eq!((lines.len(), lines[0].address.as_deref()), (1, Some("p0@tern.example")));
        assert!(lines[0].reason.contains("no such address, said twice"), "{}", lines[0].reason);
        assert_eq!(n(c, "SELECT count(*) FROM contact WHERE address <> '' AND gone IS NOT NULL"), 0);
        assert_eq!(n(c, "SELECT count(*) FROM tombstone"), 1);
        return_lines::handed(c, lines[0].id, day(191), None).unwrap();
        assert_eq!(return_lines::counts(c).unwrap(), (1, 0), "who has the line has the address");
    })
    .await;
}
