//! A data folder of the version before series is brought up to date with everything that is in it.

use crate::common::{rows, sums_hold};
use rinse_core::figure::Figure;
use rinse_core::hours::USUAL_QUIET;
use rinse_store::{Store, findings, rules};
use rusqlite::Connection;

const BEFORE: [&str; 10] = [
    include_str!("../../migrations/001_base.sql"),
    include_str!("../../migrations/002_people.sql"),
    include_str!("../../migrations/003_changes.sql"),
    include_str!("../../migrations/004_rollups.sql"),
    include_str!("../../migrations/005_clearance.sql"),
    include_str!("../../migrations/006_proof.sql"),
    include_str!("../../migrations/007_mailings.sql"),
    include_str!("../../migrations/008_reactions_and_trials.sql"),
    include_str!("../../migrations/009_entities_and_trials.sql"),
    include_str!("../../migrations/010_variants_and_trials.sql"),
];

#[test]
fn sends_responses_and_tasks_come_along() {
    let folder = tempfile::tempdir().unwrap();
    {
        let c = Connection::open(folder.path().join("rinse.db")).unwrap();
        for sql in BEFORE {
            c.execute_batch(sql).unwrap();
        }
        c.execute_batch(
            "PRAGMA user_version = 10;
             INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
             INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at) VALUES (1, 'm', 1, 0, 'sent', 1);
             INSERT INTO domain (id, name) VALUES (1, 'tern.example');
             INSERT INTO contact (id, address, address_key, domain_id, added_at, country) VALUES (1, 'a@tern.example', 'a@tern.example', 1, 0, 'GERMANY'), (2, 'b@tern.example', 'b@tern.example', 1, 0, 'LYONESSE');
             INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, any_click_at, priority) VALUES (7, 1, 1, 1, 3, 10, 99, 10, 11, 20, 2);
             INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, left_at) VALUES (8, 1, 2, 1, 3, 10, 99, 10, 11, 50);
             INSERT INTO response (at, send_id, kind, link, machine, rules_version) VALUES (20, 7, 2, 0, 4, 1), (21, 7, 2, 1, 1, 1);
             INSERT INTO ledger (contact_id, at, kind, source, send_id) VALUES (2, 50, 'withdrew', 'unsubscribe page', 8), (1, 40, 'paused', 'preferences page', 7);
             INSERT INTO entity_consent (entity, contact_id, consent, consent_at, under_pause) VALUES ('Lantern Shop Ltd', 2, 4, 30, 3);
             INSERT INTO reaction (id, rule, made_at) VALUES (1, '{\"mailing\":null,\"when\":{\"kind\":\"replied\"},\"then\":[]}', 0);
             INSERT INTO score (id, name, half_life_days, made_at) VALUES (1, 'Interest', 30, 0); INSERT INTO score_now VALUES (1, 2, 5, 0);
             INSERT INTO task (id, at, reaction_id, contact_id, words) VALUES (3, 5, 1, 2, 'Ring up');",
        )
        .unwrap();
    }
    let store = Store::open(folder.path(), false).unwrap();
    store
        .read_now(|c| {
            assert_eq!(rows::<i64>(c, "SELECT priority FROM send WHERE id = 7 AND accepted_at = 11"), [2]);
            assert_eq!(
                rows::<String>(c, "SELECT country FROM contact ORDER BY id"),
                ["DE", "LYONESSE"],
                "a name that is a country's is its code"
            );
            assert_eq!(rows::<f64>(c, "SELECT half_life_days FROM score_now"), [30.0], "by which half-life a score stands");
            // Many links at once don't count against a trial's primary; what came too soon does.
            assert_eq!(rows::<Option<i64>>(c, "SELECT trial_click_at FROM send ORDER BY id"), [Some(20), None]);
            assert_eq!(
                rows::<Option<i64>>(c, "SELECT left_at FROM send ORDER BY id"),
                [Some(40), Some(50)],
                "who paused left by the message, too"
            );
            assert_eq!(rows::<Option<i64>>(c, "SELECT withdrew_at FROM send ORDER BY id"), [None, Some(50)]);
            let shop = "SELECT channel || ' ' || entity || ' ' || contact_id || ' ' || consent || ' ' || under_pause FROM other_consent";
            assert_eq!(rows::<String>(c, shop), ["1 Lantern Shop Ltd 2 4 3"]);
            assert_eq!(rules::current(c)?.rules.quiet, Some(USUAL_QUIET), "versions from before text messages have the usual quiet hours");
            assert_eq!(rows::<String>(c, "SELECT words FROM task WHERE reaction_id = 1"), ["Ring up"]);
            assert!(rows::<String>(c, "SELECT \"table\" FROM pragma_foreign_key_check").is_empty());
            let f = &findings::mailings(c, 0, 0)?[0];
            let told = [Figure::Accepted, Figure::Leaving, Figure::Withdrew, Figure::ReportedClicks].map(|k| f.figures[&k].count);
            assert_eq!((f.sent, told), (2, [2, 2, 1, 1]));
            sums_hold(c);
            Ok(())
        })
        .unwrap();
}

/// Every earlier version of the file, in order.
const ALL: [&str; 15] = [
    BEFORE[0],
    BEFORE[1],
    BEFORE[2],
    BEFORE[3],
    BEFORE[4],
    BEFORE[5],
    BEFORE[6],
    BEFORE[7],
    BEFORE[8],
    BEFORE[9],
    include_str!("../../migrations/011_series.sql"),
    include_str!("../../migrations/012_figures_and_caught.sql"),
    include_str!("../../migrations/013_series_trials.sql"),
    include_str!("../../migrations/014_text_messages.sql"),
    include_str!("../../migrations/015_nothing_lost.sql"),
];

/// From whatever version a folder is: what was in it comes along, sums and seals hold, and nothing that was deleted before stays in it.
#[rstest::rstest]
fn every_earlier_version_comes_along(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15)] version: usize) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("rinse.db");
    {
        let c = Connection::open(&path).unwrap();
        c.pragma_update(None, "foreign_keys", false).unwrap();
        // Since version 15 what is deleted is overwritten at once.
        c.pragma_update(None, "secure_delete", version >= 15).unwrap();
        for sql in &ALL[..version] {
            c.execute_batch(sql).unwrap();
        }
        c.execute_batch(&format!(
            "PRAGMA user_version = {version};
             INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
             INSERT INTO topic (id, name) VALUES (1, 'Tide notes');
             INSERT INTO list (id, name, made_at) VALUES (1, 'Guests', 0);
             INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at) VALUES (1, 'm', 1, 0, 'sent', 1);
             INSERT INTO domain (id, name, delivered, fetched) VALUES (1, 'tern.example', 100, 90);
             INSERT INTO contact (id, address, address_key, domain_id, added_at, consent, consent_at) VALUES
                (1, 'a@tern.example', 'a@tern.example', 1, 0, 2, 5), (2, 'b@tern.example', 'b@tern.example', 1, 0, 5, 50), (3, 'gone@tern.example', 'gone@tern.example', 1, 0, 0, NULL);
             INSERT INTO list_member VALUES (1, 1, 0);
             INSERT INTO topic_left VALUES (1, 1, 9);
             INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at) VALUES (7, 1, 1, 1, 1, 10, 99), (8, 1, 2, 1, 1, 10, 99);
             UPDATE send SET state = 3, handed_at = 10, accepted_at = 11;
             UPDATE send SET any_open_at = 20 WHERE id = 7;
             INSERT INTO response (at, send_id, kind, machine, rules_version) VALUES (20, 7, 1, 1, 1);
             INSERT INTO ledger (contact_id, at, kind, source, send_id) VALUES (1, 5, 'agreed', 'import', NULL), (2, 50, 'withdrew', 'unsubscribe page', 8);
             DELETE FROM contact WHERE id = 3;"
        ))
        .unwrap();
        match version {
            ..5 => 0,
            5..15 => c.execute("UPDATE journal_mark SET upto = 1", []).unwrap(),
            _ => c.execute("INSERT INTO journal_upto VALUES ('', 1, '')", []).unwrap(),
        };
    }
    if version >= 5 {
        let line = "{\"seq\":1,\"at\":50,\"what\":\"withdrew\",\"who\":\"00\"}\n";
        std::fs::write(folder.path().join(rinse_store::journal::FILE), line).unwrap();
    }
    let store = Store::open(folder.path(), true).unwrap();
    assert_eq!((store.replayed().any(), store.replayed().faults.as_slice()), (false, &[][..]), "the journal goes on");
    store
        .read_now(|c| {
            assert_eq!(
                rows::<String>(c, "SELECT address || ' ' || consent FROM contact ORDER BY id"),
                ["a@tern.example 2", "b@tern.example 5"]
            );
            assert_eq!(rows::<i64>(c, "SELECT id FROM send WHERE accepted_at = 11 ORDER BY id"), [7, 8]);
            assert_eq!(
                rows::<i64>(
                    c,
                    "SELECT count(*) FROM response UNION ALL SELECT count(*) FROM topic_left UNION ALL SELECT count(*) FROM list_member"
                ),
                [1, 1, 1]
            );
            // A domain that fetched by itself does so still; its counts are those of the last days from now on.
            assert_eq!(rows::<String>(c, "SELECT opens_unknown || ' ' || delivered || ' ' || fetched FROM domain"), ["1 2 1"]);
            assert_eq!(rows::<i64>(c, "SELECT opens_unknown FROM send"), [1, 1]);
            let seals = rinse_store::ledger::seals(c, None)?;
            assert!(seals.entries == 2 && seals.broken.is_empty(), "{seals:?}");
            assert!(rows::<String>(c, "SELECT \"table\" FROM pragma_foreign_key_check").is_empty());
            sums_hold(c);
            Ok(())
        })
        .unwrap();
    drop(store);
    let bytes = std::fs::read(&path).unwrap();
    assert!(!bytes.windows(17).any(|w| w == b"gone@tern.example"), "what was deleted before is overwritten");
}
