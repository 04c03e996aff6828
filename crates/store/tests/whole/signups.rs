//! Sign-ups over random histories: who gets an invitation, for how long it can be confirmed, and that nobody else's act ever
//! brings consent.

use crate::common::{START, rows, run};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::code::Code;
use rinse_core::consent::{Act, Consent};
use rinse_core::id::LetterheadId;
use rinse_core::invitation::LIVES;
use rinse_core::suppression::Entry;
use rinse_core::{DAY, HOUR, Instant, MINUTE};
use rinse_store::ledger::{self, Origin};
use rinse_store::signups::{self, Form};
use rinse_store::suppression::{self, Beside};
use rinse_store::{Connection, contacts, erasure};
use std::collections::HashMap;

const PEOPLE: usize = 4;
const REPLIES: [&str; 3] = ["250 2.0.0 ok", "451 4.7.1 greylisted", "550 5.1.1 no such user"];

#[derive(Debug, Clone)]
enum Step {
    SignsUp(usize),
    HandOver(usize),
    /// One of the sign-ups there are, by its place from the newest.
    Confirms(usize),
    ComesBack(usize),
    CallsItSpam(usize),
    Withdraws(usize),
    IsSuppressed(usize),
    IsErased(usize),
    Waits(i64),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (0..PEOPLE).prop_map(Step::SignsUp),
        6 => (0..REPLIES.len()).prop_map(Step::HandOver),
        5 => (0usize..6).prop_map(Step::Confirms),
        1 => (0usize..6).prop_map(Step::ComesBack),
        1 => (0usize..6).prop_map(Step::CallsItSpam),
        1 => (0..PEOPLE).prop_map(Step::Withdraws),
        1 => (0..PEOPLE).prop_map(Step::IsSuppressed),
        1 => (0..PEOPLE).prop_map(Step::IsErased),
        4 => prop_oneof![1i64..120, 300i64..2_000, 10_000i64..25_000].prop_map(Step::Waits),
    ];
    prop::collection::vec(step, 5..60)
}

fn address(who: usize) -> Address {
    Address::parse(&format!("new{who}@tern.example")).unwrap()
}

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

/// A sign-up as the test remembers it.
struct Sent {
    id: i64,
    who: usize,
    at: Instant,
    /// When its invitation was handed over last.
    invited: Option<Instant>,
    taken: bool,
    confirmed: bool,
    /// The person was deleted since.
    erased: bool,
}

#[derive(Default)]
struct World {
    sent: Vec<Sent>,
    complained: [bool; PEOPLE],
    suppressed: [bool; PEOPLE],
    /// Their own confirmation stands.
    confirmed: [bool; PEOPLE],
}

impl World {
    fn newest(&mut self, back: usize) -> Option<&mut Sent> {
        self.sent.iter_mut().rev().nth(back)
    }

    fn take(&mut self, c: &Connection, step: &Step, now: &mut Instant) {
        match *step {
            Step::SignsUp(who) => {
                let form = Form {
                    letterhead: LetterheadId(1),
                    address: address(who),
                    given_name: None,
                    topics: vec![1],
                    came_by: "form",
                    came_from: None,
                };
                let id = signups::sign_up(c, &form, *now).unwrap();
                self.sent.push(Sent { id, who, at: *now, invited: None, taken: false, confirmed: false, erased: false });
            }
            Step::HandOver(reply) => self.hand_over(c, &Reply::parse(REPLIES[reply]), *now),
            Step::Confirms(back) => {
                let Some(s) = self.newest(back) else { return };
                let open = !s.erased && s.invited.is_some_and(|t| *now - t < LIVES);
                let came = signups::confirm(c, s.id, *now).unwrap();
                assert_eq!(came.is_some(), open, "an invitation lives for 14 days, and not after its owner was deleted");
                let new = open && !s.confirmed;
                s.confirmed |= open;
                let who = s.who;
                if new {
                    (self.confirmed[who], self.complained[who]) = (true, false);
                }
            }
            Step::ComesBack(back) => {
                let Some(s) = self.newest(back) else { return };
                signups::came_back(c, s.id, &Reply::parse("550 5.1.1 no such user")).unwrap();
            }
            Step::CallsItSpam(back) => {
                let Some(s) = self.newest(back).filter(|s| s.taken) else { return };
                let (id, who, erased) = (s.id, s.who, s.erased);
                let known = contacts::id_of(c, &address(who).key).unwrap().is_some();
                let of: Option<i64> = rows(c, &format!("SELECT contact_id FROM sign_up WHERE id = {id}"))[0];
                signups::complained(c, id, *now).unwrap();
                if known && !erased && of.is_some() {
                    (self.complained[who], self.confirmed[who]) = (true, false);
                }
            }
            Step::Withdraws(who) => {
                let Some(id) = contacts::id_of(c, &address(who).key).unwrap() else { return };
                ledger::act(c, id, *now, Act::Withdrew, &origin()).unwrap();
                self.confirmed[who] = false;
            }
            Step::IsSuppressed(who) => {
                let beside = Beside { reason: "", source: "test", expires_at: None, person: None };
                suppression::add(c, 1, &Entry::parse(&address(who).key).unwrap(), beside, *now).unwrap();
                self.suppressed[who] = true;
            }
            Step::IsErased(who) => {
                let Some(id) = contacts::id_of(c, &address(who).key).unwrap() else { return };
                erasure::erase(c, id, *now, None).unwrap();
                (self.complained[who], self.confirmed[who]) = (false, false);
                self.sent.iter_mut().filter(|s| s.who == who).for_each(|s| s.erased = true);
                let left = format!("SELECT count(*) FROM sign_up WHERE address_key = '{0}' OR address = '{0}'", address(who).key);
                assert_eq!(rows::<i64>(c, &left), [0], "a deleted address stands nowhere");
            }
            Step::Waits(minutes) => *now = *now + minutes * MINUTE,
        }
    }

    fn hand_over(&mut self, c: &Connection, reply: &Reply, now: Instant) {
        loop {
            let (batch, looked_at) = signups::claim(c, now).unwrap();
            if looked_at == 0 {
                return;
            }
            for i in batch {
                let s = self.sent.iter_mut().find(|s| s.id == i.sign_up).unwrap();
                assert_eq!(i.address, address(s.who).normal);
                assert!(!s.erased && !s.taken && now - s.at < DAY, "it answers a sign-up of the last day, once");
                assert!(!self.complained[s.who] && !self.suppressed[s.who], "these never get one");
                (s.invited, s.taken) = (Some(now), reply.accepted());
                signups::answered(c, i.sign_up, reply, now).unwrap();
            }
        }
    }

    fn holds(&self, c: &Connection) {
        // However often somebody types an address in, its mailbox gets three invitations in a day.
        let mut taken: HashMap<usize, Vec<Instant>> = HashMap::new();
        for s in self.sent.iter().filter(|s| s.invited.is_some() && !s.erased) {
            taken.entry(s.who).or_default().push(s.at);
        }
        for all in taken.values() {
            assert!(all.iter().all(|t| all.iter().filter(|u| **u <= *t && *t - **u < DAY).count() <= 3));
        }
        for who in 0..PEOPLE {
            let Some(id) = contacts::id_of(c, &address(who).key).unwrap() else {
                assert!(!self.confirmed[who]);
                continue;
            };
            let state = Consent::of_code(rows(c, &format!("SELECT consent FROM contact WHERE id = {id}"))[0]).unwrap();
            assert_eq!(state == Consent::Confirmed, self.confirmed[who], "only their own confirmation is consent: {state:?}");
            assert!(state != Consent::Consented && (state == Consent::Complained) == self.complained[who], "{state:?}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn an_invitation_answers_its_owner_and_nobody_else(steps in steps()) {
        run(0, move |c| {
            let (mut world, mut now) = (World::default(), START + HOUR);
            for step in &steps {
                world.take(c, step, &mut now);
                world.holds(c);
            }
        });
    }
}
