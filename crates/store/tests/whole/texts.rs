//! Text messages: their own consent, their own numbers, quiet hours and caps; what comes back by them; and that nothing of it
//! touches what is known of addresses.

use crate::common::{START, base, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::bounce::Reply;
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::channel::Channel;
use rinse_core::clearance::{Outcome, OverCap, Reason, RuleSet};
use rinse_core::consent::{Act, Consent};
use rinse_core::hours::{Hours, USUAL_QUIET};
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId};
use rinse_core::phone::Phone;
use rinse_core::{DAY, HOUR, Instant, zone};
use rinse_store::contacts::{self, Profile};
use rinse_store::ledger::{self, Origin};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::texts::{self, Came};
use rinse_store::{Connection, clearing, domains, erasure, letterheads, merges, numbers, responses, rules, runs, sends, trials, undo};

const ZONES: [&str; 4] = ["Europe/London", "Pacific/Auckland", "America/Halifax", "Asia/Kolkata"];
const OURS: &str = "60777";

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

fn phone(k: usize) -> Phone {
    Phone::parse(&format!("+4477009000{k:02}"), None).unwrap()
}

fn text(c: &Connection, topic: Option<i64>) -> i64 {
    let draft = MailingDraft {
        channel: Channel::Text,
        topic_id: topic,
        text: "Boats at 9. Reply STOP to end.".into(),
        ..MailingDraft::under(LetterheadId(1), "by text")
    };
    (mailings::save(c, None, &draft, START, None).unwrap()).0
}

/// The letterhead writes text messages, and people of the base live in several zones.
fn ready(c: &Connection) {
    let l = letterheads::Letterhead { text_number: OURS.into(), ..letterheads::one(c, LetterheadId(1)).unwrap() };
    letterheads::save(c, &l, START).unwrap();
    for (i, id) in rows::<i64>(c, "SELECT id FROM contact ORDER BY id").into_iter().enumerate() {
        contacts::update(c, ContactId(id), &Profile { zone: Some(ZONES[i % 4].into()), ..Profile::default() }).unwrap();
    }
}

fn number(c: &Connection, who: i64, k: usize) {
    numbers::set(c, ContactId(who), Some(&phone(k)), START, &origin()).unwrap();
}

/// With a number each, agreed for.
fn all_agreed(c: &Connection) {
    ready(c);
    for who in rows::<i64>(c, "SELECT id FROM contact") {
        number(c, who, who as usize);
        texts::agreed(c, ContactId(who), START, &origin()).unwrap();
    }
}

/// As [`all_agreed`], of people who live by one clock.
fn all_agreed_in_london(c: &Connection) {
    all_agreed(c);
    c.execute("UPDATE contact SET zone = 'Europe/London'", []).unwrap();
}

fn by_text(c: &Connection, who: i64) -> Consent {
    texts::standing(c, ContactId(who), "").unwrap().map_or(Consent::None, |(_, s)| s.state)
}

/// Hands over all that is due at `now`; says who got a text message.
fn hand_over(c: &Connection, now: Instant, reply: &str) -> Vec<ContactId> {
    let mut got = Vec::new();
    while let (batch, looked_at @ 1..) = sends::claim(c, now, 50).unwrap() {
        assert!(looked_at >= batch.len());
        for out in batch {
            assert_eq!(
                out.channel == Channel::Text,
                rows::<i64>(c, &format!("SELECT channel FROM mailing WHERE id = {}", out.mailing)) == [2]
            );
            if out.channel == Channel::Text {
                got.push(out.contact);
            }
            sends::answered(c, out.send, &Reply::parse(reply), now).unwrap();
        }
    }
    got
}

#[derive(Debug, Clone)]
enum Step {
    Number(i64, Option<usize>),
    Agree(i64),
    Say(usize, &'static str),
    Email(i64, bool),
    Erase(i64),
    Mailing(bool),
    Wait(i64),
}

fn step() -> impl Strategy<Value = Step> {
    let who = || 1i64..5;
    prop_oneof![
        3 => (who(), prop::option::weighted(0.8, 0usize..5)).prop_map(|(w, k)| Step::Number(w, k)),
        4 => who().prop_map(Step::Agree),
        3 => (0usize..5, prop::sample::select(vec!["STOP", "stop please", "START", "See you there"])).prop_map(|(k, words)| Step::Say(k, words)),
        1 => (who(), any::<bool>()).prop_map(|(w, leaves)| Step::Email(w, leaves)),
        1 => who().prop_map(Step::Erase),
        4 => any::<bool>().prop_map(Step::Mailing),
        4 => (1i64..40).prop_map(Step::Wait),
    ]
}

/// Who has which number, and what they said of text messages, as it ought to be.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Model {
    number: Option<usize>,
    /// Agreed, or ended by themselves.
    agreed: Option<bool>,
    gone: bool,
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Over random histories nobody gets a text message without a number that they agreed for, after they ended them, in quiet
    /// hours of their own clock, or over a cap that counts mail and texts; email and texts don't touch each other's consent; and
    /// a whole base at once decides as one by one does.
    #[test]
    fn text_messages_keep_their_rules(steps in prop::collection::vec(step(), 4..40), quiet in prop::option::of((0u16..1440, 1u16..1000))) {
        let quiet = quiet.map_or(USUAL_QUIET, |(from, n)| Hours { from_minute: from, until_minute: (from + n) % 1440 });
        run(4, move |c| {
            ready(c);
            rinse_store::settings::signing_key(c, &[7; 32], START).unwrap();
            let cap = Cap { limit: 2, window: Window::Days { n: 2 }, scope: Scope::Marketing, in_force: true };
            rules::save(c, START, None, &RuleSet { caps: vec![cap], quiet: Some(quiet), ..RuleSet::default() }, "").unwrap();
            let mut of = [Model::default(); 5];
            let (mut now, mut buried) = (START, [false; 5]);
            for step in steps {
                let at = |k: usize| of.iter().position(|m| m.number == Some(k));
                match step {
                    Step::Number(w, k) => {
                        let (m, taken) = (of[w as usize], k.and_then(at).is_some_and(|o| o != w as usize));
                        if m.gone { continue }
                        let set = numbers::set(c, ContactId(w), k.map(phone).as_ref(), now, &origin());
                        let refused = m.number != k && (taken || k.is_some_and(|k| buried[k]));
                        assert_eq!(set.is_err(), refused, "{set:?}");
                        if !refused && m.number != k {
                            of[w as usize] = Model { number: k, agreed: m.agreed.filter(|a| !a), ..m };
                        }
                    }
                    Step::Agree(w) => {
                        let m = &mut of[w as usize];
                        let agreed = texts::agreed(c, ContactId(w), now, &origin());
                        assert_eq!(agreed.is_err(), m.number.is_none() || m.agreed == Some(false));
                        if agreed.is_ok() { m.agreed = Some(true) }
                    }
                    Step::Say(k, words) => {
                        let came = texts::answer(c, &phone(k), OURS, words, now).unwrap();
                        let Some(w) = at(k) else { assert_eq!(came, Came::Nobody); continue };
                        match words {
                            "See you there" => {}
                            "START" => of[w].agreed = Some(true),
                            _ => of[w].agreed = Some(false),
                        }
                    }
                    Step::Email(w, leaves) => {
                        let act = if leaves { Act::Withdrew } else { Act::Confirmed };
                        ledger::act(c, ContactId(w), now, act, &origin()).unwrap();
                    }
                    Step::Erase(w) if !of[w as usize].gone => {
                        erasure::erase(c, ContactId(w), now, None).unwrap();
                        of[w as usize].number.iter().for_each(|k| buried[*k] = true);
                        of[w as usize] = Model { gone: true, ..Model::default() };
                    }
                    Step::Erase(_) => {}
                    Step::Mailing(texting) => {
                        let m = if texting { text(c, None) } else { mailing(c, None, OverCap::Hold) };
                        let told: Vec<_> = (1..5).map(|w| clearing::person::explain(c, MailingId(m), ContactId(w), now, now).unwrap()).collect();
                        for d in clearing::audience(c, MailingId(m), now).unwrap().decided {
                            let one = &told[d.contact.0 as usize - 1];
                            let (word, until) = match d.outcome {
                                Outcome::Cleared => ("cleared", None),
                                Outcome::Held(until, _) => ("held", Some(until.millis())),
                                Outcome::Barred(_) => ("barred", None),
                            };
                            assert_eq!((one.outcome.as_str(), one.until), (word, until), "{one:?}");
                        }
                        start(c, m, now);
                    }
                    Step::Wait(hours) => now = now + hours * HOUR,
                }
                for w in hand_over(c, now, "250 2.0.0 taken") {
                    let m = of[w.0 as usize];
                    assert!(m.number.is_some() && m.agreed == Some(true) && !m.gone, "{m:?}");
                    let clock = zone::named(ZONES[(w.0 as usize - 1) % 4]).unwrap();
                    assert!(!quiet.open(now, &clock), "{w} at {}", now.words());
                }
                for w in 1..5i64 {
                    let want = match of[w as usize].agreed { Some(true) => vec![Consent::Consented, Consent::Confirmed], Some(false) => vec![Consent::Withdrawn], None => vec![Consent::None] };
                    if of[w as usize].number.is_some() {
                        assert!(want.contains(&by_text(c, w)), "{w}: {:?}, {:?}", by_text(c, w), of[w as usize]);
                    }
                }
            }
            let over = "SELECT count(*) FROM send a WHERE state = 3 AND (SELECT count(*) FROM send b WHERE b.contact_id = a.contact_id AND b.state = 3 AND b.at > a.at - 172800000 AND b.at <= a.at) > 2";
            assert_eq!(rows::<i64>(c, over), [0], "the cap counts both channels");
            assert!(ledger::seals(c, None).unwrap().broken.is_empty());
            crate::common::sums_hold(c);
        });
    }
}

#[test]
fn quiet_hours_hold_until_they_are_over_by_each_persons_clock() {
    run(4, |c| {
        all_agreed(c);
        // 14 November 2023, 22:13 in Greenwich: 11:13 of the next day in Auckland, 18:13 in Halifax, 3:43 in Kolkata.
        let m = text(c, None);
        let done = clearing::audience(c, MailingId(m), START).unwrap();
        let until: Vec<Option<String>> = done
            .decided
            .iter()
            .map(|d| match d.outcome {
                Outcome::Held(until, why) => {
                    assert_eq!(why.iter().collect::<Vec<_>>(), [Reason::OutsideHours]);
                    Some(until.words())
                }
                _ => None,
            })
            .collect();
        assert_eq!(until, [Some("Wed 15 Nov 2023, 08:00".to_owned()), None, None, Some("Wed 15 Nov 2023, 02:30".into())]);
        let told = clearing::person::explain(c, MailingId(m), ContactId(1), START, START).unwrap();
        let hours = told.answers.iter().find(|a| a.reason == Reason::OutsideHours).unwrap();
        assert_eq!((hours.says.as_str(), hours.saw.as_str()), ("held", "quiet 21:00 to 8:00"));
        // Mail goes at that hour, and a receipt by text does, too.
        let letter = mailing(c, None, OverCap::Hold);
        assert_eq!(clearing::audience(c, MailingId(letter), START).unwrap().sluice().cleared, 4);
        let receipt = MailingDraft { service_reason: "They booked this boat".into(), ..mailings::one(c, MailingId(m)).unwrap().draft };
        let receipt = mailings::save(c, None, &receipt, START, None).unwrap();
        assert_eq!(clearing::audience(c, receipt, START).unwrap().sluice().cleared, 4);
        start(c, m, START);
        assert_eq!(hand_over(c, START + HOUR, "250 ok").len(), 2);
        assert_eq!(hand_over(c, START + 13 * HOUR, "250 ok").len(), 2);
    });
}

#[test]
fn an_answer_of_stop_ends_what_is_scheduled_and_leaves_mail_alone() {
    run(2, |c| {
        all_agreed_in_london(c);
        let (first, second) = (text(c, None), text(c, Some(1)));
        let noon = START + 14 * HOUR;
        start(c, first, noon);
        assert_eq!(hand_over(c, noon, "250 ok").len(), 2);
        start(c, second, noon + HOUR);
        let said = |k, words, at| texts::answer(c, &phone(k), OURS, words, at).unwrap();
        assert_eq!(said(1, "Which quay?", noon + 1), Came::Replied);
        assert_eq!(said(1, "Stop texting me", noon + 2), Came::Stopped);
        assert_eq!(said(1, "STOP", noon + 3), Came::Nothing, "once is enough");
        assert_eq!(said(9, "STOP", noon + 3), Came::Nobody);
        assert_eq!(hand_over(c, noon + HOUR, "250 ok"), [ContactId(2)]);
        assert_eq!(rows::<i64>(c, "SELECT reason FROM send WHERE state = 6"), [Reason::Withdrawn as i64]);
        // It is put down to the message that was answered, and mail still comes.
        assert_eq!(
            rows::<i64>(c, "SELECT count(*) FROM send WHERE withdrew_at IS NOT NULL AND mailing_id = (SELECT min(id) FROM mailing)"),
            [1]
        );
        assert_eq!(responses::replies(c, MailingId(first)).unwrap()[0].text, "Which quay?");
        assert_eq!(ledger::consent_of(c, ContactId(1)).unwrap(), Consent::Consented);
        // Nobody but they themselves brings it back.
        assert!(texts::agreed(c, ContactId(1), noon + 4, &origin()).unwrap_err().to_string().contains("START"));
        assert_eq!((said(1, "Start please", noon + 5), by_text(c, 1)), (Came::Started, Consent::Confirmed));
    });
}

#[test]
fn stop_to_one_legal_entity_is_not_said_to_another_unless_nobody_has_the_number() {
    run(1, |c| {
        all_agreed(c);
        let shop = letterheads::Letterhead {
            id: LetterheadId(0),
            name: "Lantern Shop".into(),
            entity: "Lantern Shop Ltd".into(),
            text_number: "60778".into(),
            ..letterheads::one(c, LetterheadId(1)).unwrap()
        };
        letterheads::save(c, &shop, START).unwrap();
        let of_shop = || Origin { entity: "Lantern Shop Ltd".into(), ..origin() };
        texts::agreed(c, ContactId(1), START, &of_shop()).unwrap();
        let states = |c: &Connection| ledger::others_of(c, ContactId(1)).unwrap().into_iter().map(|o| o.state).collect::<Vec<_>>();
        assert_eq!(texts::answer(c, &phone(1), "60778", "STOP", START + 1).unwrap(), Came::Stopped);
        assert_eq!(states(c), [Consent::Consented, Consent::Withdrawn]);
        assert_eq!(texts::answer(c, &phone(1), "60700", "STOP", START + 2).unwrap(), Came::Stopped);
        assert_eq!(states(c), [Consent::Withdrawn, Consent::Withdrawn]);
    });
}

#[test]
fn what_becomes_of_a_number_says_nothing_of_the_address() {
    run(3, |c| {
        all_agreed_in_london(c);
        let noon = START + 14 * HOUR;
        domains::pause(
            c,
            &domains::NewDomainPause {
                domain: "tern.example".into(),
                until: (noon + DAY).millis(),
                reason: "their host asks for time".into(),
            },
            noon,
            None,
        )
        .unwrap();
        let first = text(c, None);
        start(c, first, noon);
        // A mail domain's pause holds no text message; three are refused, as no such numbers.
        assert_eq!(hand_over(c, noon, "550 5.1.1 no such number").len(), 3);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL AND status = 0"), [3]);
        assert_eq!(rows::<i64>(c, "SELECT sum(delivered) FROM domain"), [0]);
        let second = text(c, None);
        let told = clearing::person::explain(c, MailingId(second), ContactId(1), noon + HOUR, noon + HOUR).unwrap();
        assert_eq!((told.outcome.as_str(), told.first), ("barred", Some(Reason::Retired)));
        assert_eq!(clearing::audience(c, MailingId(second), noon).unwrap().sluice().cleared, 0);
        // Another number begins again, and asks for consent again.
        number(c, 1, 40);
        assert_eq!(by_text(c, 1), Consent::None);
        texts::agreed(c, ContactId(1), noon, &origin()).unwrap();
        assert_eq!(clearing::audience(c, MailingId(second), noon).unwrap().sluice().cleared, 1);
        // A report that comes later does the same, and one about a letter's number changes nothing.
        start(c, second, noon + HOUR);
        assert_eq!(hand_over(c, noon + HOUR, "250 ok"), [ContactId(1)]);
        let send = rows::<i64>(c, "SELECT max(id) FROM send")[0];
        texts::came_back(c, SendId(send), &Reply::parse("550 5.1.1 no such number"), noon + 2 * HOUR).unwrap();
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL AND status = 0"), [3]);
        // Anybody who writes from a number has it.
        assert_eq!(texts::answer(c, &phone(2), OURS, "Are you there?", noon + 3 * HOUR).unwrap(), Came::Replied);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL"), [2]);
    });
}

#[test]
fn a_number_goes_with_a_merge_and_comes_back_with_it() {
    run(3, |c| {
        ready(c);
        number(c, 2, 7);
        texts::agreed(c, ContactId(2), START, &origin()).unwrap();
        let run = runs::begin(c, START, None, "merge", "test", None).unwrap();
        merges::merge(c, run, ContactId(2), ContactId(1), START, None).unwrap();
        runs::finish(c, run, 1).unwrap();
        assert_eq!((numbers::owner(c, phone(7).as_str()).unwrap(), by_text(c, 1)), (Some(ContactId(1)), Consent::Consented));
        undo::begin(c, run, START).unwrap();
        while !undo::some(c, run, START, None).unwrap().1 {}
        assert_eq!(
            (numbers::owner(c, phone(7).as_str()).unwrap(), by_text(c, 2), by_text(c, 1)),
            (Some(ContactId(2)), Consent::Consented, Consent::None)
        );
        assert_eq!(ledger::others_of(c, ContactId(1)).unwrap()[0].state, Consent::None);
        // Of two numbers the one who stays keeps theirs, and the strictest holds.
        number(c, 1, 8);
        texts::answer(c, &phone(7), OURS, "STOP", START).unwrap();
        texts::agreed(c, ContactId(1), START, &origin()).unwrap();
        let run = runs::begin(c, START, None, "merge", "test", None).unwrap();
        merges::merge(c, run, ContactId(2), ContactId(1), START, None).unwrap();
        assert_eq!((numbers::of(c, ContactId(1)).unwrap(), by_text(c, 1)), (Some(phone(8).as_str().to_owned()), Consent::Withdrawn));
        let taken = numbers::set(c, ContactId(3), Some(&phone(8)), START, &origin()).unwrap_err().to_string();
        assert!(taken.contains("p0@tern.example already") && taken.contains("merge the two"), "{taken}");
    });
}

#[tokio::test]
async fn a_text_message_is_its_text_alone_and_goes_along_with_an_email() {
    let (_folder, store) = base(1).await;
    store
        .write(|c| {
            ready(c);
            let letter = mailing(c, Some(1), OverCap::Hold);
            let made = mailings::draft::companion(c, MailingId(letter), START, None)?;
            let m = mailings::one(c, made)?;
            assert_eq!((m.draft.channel, m.draft.companion_of, m.draft.topic_id), (Channel::Text, Some(letter), Some(1)));
            assert_eq!(mailings::one(c, MailingId(letter))?.companions.len(), 1);
            let refused = |d: MailingDraft| mailings::save(c, Some(made), &d, START, None).unwrap_err().to_string();
            assert!(refused(MailingDraft { subjects: vec!["s".into()], ..m.draft.clone() }).contains("no subject"));
            assert!(refused(MailingDraft { html: "<p>x</p>".into(), ..m.draft.clone() }).contains("text alone"));
            assert!(refused(MailingDraft { companion_of: Some(made.0), ..m.draft.clone() }).contains("an email"));
            let plan = rinse_core::trial::plan::Plan::usual("Which line is answered more?");
            assert!(trials::save_plan(c, made, &plan, START, None).unwrap_err().to_string().contains("no variants"));
            assert!(
                letterheads::save(
                    c,
                    &letterheads::Letterhead { text_number: "SKERRY".into(), ..letterheads::one(c, LetterheadId(1))? },
                    START
                )
                .unwrap_err()
                .to_string()
                .contains("short code")
            );
            // What is said of text messages is told in the consent view by itself.
            texts::stop(c, ContactId(1), START, &origin())?;
            let beside = rinse_store::consent::beside(c)?;
            assert_eq!(
                (beside.len(), beside[0].channel, beside[0].states.len()),
                (1, Channel::Text, 0),
                "who never had a number has nothing to end"
            );
            Ok(())
        })
        .await
        .unwrap();
}
