//! The simulated world's hours against its own scenario file: where it says that the hour matters an hour trial finds it and names the
//! best one; where it says nothing, hour trials find next to nothing.

use rinse_core::id::{ContactId, MailingId};
use rinse_core::trial::assign::Person;
use rinse_core::trial::hour::draw::{Candidate, instants, of_round};
use rinse_core::trial::hour::plan::{HourPlan, Round};
use rinse_core::trial::hour::reading::{Answered, HourVerdict, read};
use rinse_core::{DAY, Instant};
use rinse_standins::base::zone_of;
use rinse_standins::network::{Handed, Network, What};
use rinse_standins::scenario::Scenario;
use std::collections::{BTreeMap, HashSet};

const HOURS: [u8; 4] = [2, 8, 14, 20];
const PEOPLE: i64 = 8_000;

/// An hour trial of three rounds, whose people get a message with this subject at the hours they are drawn to.
fn trial(network: &Network, number: i64, subject: &str) -> (HourVerdict, Vec<u8>) {
    let scenario = Scenario::skerry_light();
    let address = |contact: i64| format!("t{contact}@tern.example");
    let round = |r: i64| Round { mailing: MailingId(r), day: 20_000 + 8 * r };
    let plan = HourPlan { hours: HOURS.to_vec(), rounds: (0..3).map(round).collect(), ..HourPlan::usual("Does the hour matter?") };
    let zones: Vec<_> = (0..PEOPLE).map(|i| zone_of(&scenario, &address(i)).unwrap()).collect();
    let names: Vec<String> = zones.iter().map(|z| z.iana_name().unwrap().to_owned()).collect();
    let all: Vec<Candidate> = (0..PEOPLE)
        .map(|i| {
            let person = Person { contact: ContactId(i), domain: 1, cell: None, opens_unknown: false };
            Candidate { person, zone: names.iter().position(|n| *n == names[i as usize]).unwrap() as u32, own: None }
        })
        .collect();
    let mut rows = Vec::new();
    for (place, round) in plan.rounds.iter().enumerate() {
        let drawn = of_round(&plan, number as u64, place, &all);
        // As they come due, so that the world sees them in order.
        let mut due: BTreeMap<Instant, Vec<i64>> = BTreeMap::new();
        for d in &drawn {
            let at = instants(&zones[d.contact.0 as usize], round.day, &[d.hour]).unwrap()[0];
            due.entry(at).or_default().push(d.contact.0);
        }
        for (at, people) in due {
            let messages: Vec<(String, String, String)> = people
                .iter()
                .map(|i| {
                    let body = format!("Subject: {subject}\r\nContent-Type: text/html\r\n\r\n<img src=\"http://h/o/{i}\">");
                    (format!("{number}x{place}x{i}.x@skerry-light.example"), address(*i), body)
                })
                .collect();
            let handed: Vec<Handed<'_>> = messages
                .iter()
                .map(|(id, to, body)| Handed { message_id: id, return_path: "back@skerry-light.example", to, bytes: body.as_bytes() })
                .collect();
            network.hand_over(at, &handed).unwrap();
        }
        let events = network.due(Instant::of(i64::MAX), 1_000_000).unwrap();
        let opened: HashSet<i64> = events
            .iter()
            .filter_map(|e| match &e.what {
                What::Http { url, .. } => url.split("/o/").nth(1)?.parse().ok(),
                What::Mail { .. } => None,
            })
            .collect();
        network.done(&events).unwrap();
        rows.extend(drawn.into_iter().map(|d| Answered {
            contact: d.contact,
            round: place,
            zone: d.zone,
            stratum: d.stratum,
            hour: d.hour,
            opens_unknown: false,
            lost: false,
            machine: false,
            did: opened.contains(&d.contact.0),
        }));
    }
    let r = read(&plan, &rows);
    (r.verdict, r.best_set)
}

#[test]
fn what_the_scenario_says_of_hours_is_found_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let network = Network::open(folder.path(), Scenario::skerry_light(), Instant::of(19_990 * DAY), false).unwrap();
    let (mut found, mut best, mut wolf) = (0, 0, 0);
    for n in 0..10 {
        // Two points up at 8 and down at 20: about 4 points between them.
        let (verdict, set) = trial(&network, 2 * n, "The week's tides");
        found += u32::from(verdict == HourVerdict::Matters);
        best += u32::from(set.contains(&8));
        wolf += u32::from(trial(&network, 2 * n + 1, "The lamps by night").0 == HourVerdict::Matters);
    }
    // Binomial(10, 0.05): three or more has a chance of 1.2%, and these seeds have none.
    assert!(found >= 8 && best >= 9 && wolf <= 2, "found {found}, best {best}, wolf {wolf} of 10");
}
