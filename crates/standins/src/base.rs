//! The invented people of the demo scenario, as the CSV files they are imported from.

use crate::people::Draws;
use crate::scenario::Scenario;
use rinse_core::segment::FieldKind;
use rinse_core::segment::place::{GAZETTEER, Place};
use rinse_core::zone::TimeZone;
use std::fmt::Write;

const GIVEN: &[&str] = &[
    "Ailsa", "Bran", "Carys", "Davin", "Eilis", "Fenn", "Greta", "Hamish", "Iona", "Jory", "Kerra", "Lorne", "Maren", "Nessa", "Orla",
    "Piran", "Quill", "Runa", "Senan", "Tamsin", "Ulla", "Verity", "Wren", "Yestin", "Zelah", "Anders", "Birgit", "Caspar", "Dagny",
    "Emil",
];
const FAMILY: &[&str] = &[
    "Ashdown", "Brook", "Carrow", "Drift", "Eddy", "Farrow", "Gannet", "Haven", "Inver", "Jetty", "Keel", "Ledge", "Marram", "Ness",
    "Orme", "Pike", "Quay", "Rigg", "Sands", "Thrift", "Upton", "Voe", "Wick", "Yarrow", "Zander", "Holm", "Strand", "Fell", "Mere",
    "Skerrit",
];
const PLACES: &[(&str, &str, f64)] = &[
    ("GB", "Europe/London", 0.52),
    ("IE", "Europe/Dublin", 0.12),
    ("NO", "Europe/Oslo", 0.08),
    ("DE", "Europe/Berlin", 0.08),
    ("US", "America/New_York", 0.08),
    ("CA", "America/Halifax", 0.05),
    ("AU", "Australia/Sydney", 0.04),
    ("NZ", "Pacific/Auckland", 0.03),
];
const SOURCES: &[&str] = &["visitor desk", "web form", "members' evening", "lantern shop", "boat trip"];

const TIERS: &[&str] = &["Friend", "Friend", "Friend", "Keeper", "Keeper", "Patron"];
const LIGHTS: &[&str] = &["Skerry Rock", "Holmness", "Marram Point", "Port Skerry"];

/// The columns of [`people_csv`] that are fields of Skerry Light's own.
pub const OWN_COLUMNS: [(&str, FieldKind); 4] = [
    ("Tier", FieldKind::Choice),
    ("Favourite light", FieldKind::Choice),
    ("Member since", FieldKind::Date),
    ("Visits a year", FieldKind::Number),
];

/// People `from..to` of the base as a CSV with a header: always the same for the same scenario.
#[must_use]
pub fn people_csv(scenario: &Scenario, from: usize, to: usize) -> String {
    let mut out = String::from(
        "E-mail;First name;Last name;Country;Time zone;Joined via;Tier;Favourite light;Member since;Visits a year;Latitude;Longitude\n",
    );
    for i in from..to {
        let (row, _) = person(scenario, i);
        let _ = writeln!(out, "{row}");
    }
    out
}

/// So many numbers are kept for stories in Britain (07700 900000 to 900999); nobody is rung by one.
const MOBILES: usize = 900;

/// The numbers that members among the first `people` gave, as a CSV with a header.
#[must_use]
pub fn mobiles_csv(scenario: &Scenario, people: usize) -> String {
    let mut out = String::from("E-mail;Mobile\n");
    let members = (0..people).map(|i| person(scenario, i)).filter(|(row, address)| {
        // The tier is their seventh cell; without one they are no members.
        row.split(';').nth(6).is_some_and(|tier| !tier.is_empty()) && address.contains('@')
    });
    for (k, (_, address)) in members.take(MOBILES).enumerate() {
        let _ = writeln!(out, "{address};07700 900{k:03}");
    }
    out
}

/// The number of the person who has an address of ours: it stands at the end of its local part.
pub(crate) fn number_of(address: &str) -> Option<usize> {
    let (local, _) = address.split_once('@')?;
    local.rsplit(|c: char| !c.is_ascii_digit()).next()?.parse().ok()
}

/// The time zone of the person who has an address of ours.
#[must_use]
pub fn zone_of(scenario: &Scenario, address: &str) -> Option<TimeZone> {
    let (row, _) = person(scenario, number_of(address)?);
    rinse_core::zone::named(row.split(';').nth(4)?)
}

/// Person `i`: their row of the file, and their address.
pub(crate) fn person(scenario: &Scenario, i: usize) -> (String, String) {
    let mut d = Draws::new(scenario.seed, &format!("person {i}"));
    let (given, family) = (GIVEN[d.below(GIVEN.len())], FAMILY[d.below(FAMILY.len())]);
    let mut pick = d.unit() * scenario.domain.iter().map(|x| x.share).sum::<f64>();
    let domain = scenario
        .domain
        .iter()
        .find(|x| {
            pick -= x.share;
            pick < 0.0
        })
        .unwrap_or(&scenario.domain[0]);
    let mut place = d.unit();
    let (country, zone, _) = PLACES
        .iter()
        .find(|p| {
            place -= p.2;
            place < 0.0
        })
        .unwrap_or(&PLACES[0]);
    let address = format!("{}.{}{i}@{}", given.to_lowercase(), family.to_lowercase(), domain.name);
    // What happens to addresses on their way into a file; drawn apart, so that the rest stays as it is.
    let mut slip = Draws::new(scenario.seed, &format!("slip {i}"));
    let address = match slip.unit() {
        u if u < 0.0025 => address.replace(".example", ".exmaple"),
        u if u < 0.0035 => format!("{}@quay-{i}.example", ["office", "info", "bookings"][slip.below(3)]),
        u if u < 0.0045 => format!("{}{i}@throw-away.example", given.to_lowercase()),
        u if u < 0.006 && i > 0 => person(scenario, i - 1).1.replace('@', "+boats@"),
        u if u < 0.007 => format!("{}.{i}@washed-out.example", given.to_lowercase()),
        u if u < 0.0075 => format!("{}.{i}@sealed-bay.example", given.to_lowercase()),
        _ => address,
    };
    // A few rows are broken, as in every real file, and some lack a name.
    let address = if d.chance(0.002) { address.replace('@', " at ") } else { address };
    let given = if d.chance(0.06) { "" } else { given };
    let source = SOURCES[d.below(SOURCES.len())];
    let source = if i >= scenario.fair.numbers_from { &scenario.fair.source } else { source };
    let member = d.chance(0.35);
    let tier = if member { TIERS[d.below(TIERS.len())] } else { "" };
    let since = if member { format!("{}-{:02}-{:02}", 2012 + d.below(13), 1 + d.below(12), 1 + d.below(28)) } else { String::new() };
    let light = if d.chance(0.6) { LIGHTS[d.below(LIGHTS.len())] } else { "" };
    let visits =
        if d.chance(0.75) { (d.normal().exp() * if member { 4.0 } else { 1.5 }).round().min(40.0).to_string() } else { String::new() };
    let home: Vec<&Place> = GAZETTEER.iter().filter(|p| p.country == *country).collect();
    let position = if d.chance(0.85) {
        let town = home[d.below(home.len())];
        format!("{:.4};{:.4}", town.latitude + 0.35 * d.normal(), town.longitude + 0.5 * d.normal())
    } else {
        ";".to_owned()
    };
    (format!("{address};{given};{family};{country};{zone};{source};{tier};{light};{since};{visits};{position}"), address)
}
