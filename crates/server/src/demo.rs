//! The demo's director: plays the analyst of Skerry Light through a year. It imports, writes,
//! seals and releases by the same actions as a person; everything else comes from the stand-ins.

mod hours;
mod panel;
mod series;
mod texts;
mod upkeep;
mod warm_up;

use crate::actions;
use crate::handlers::delivery::reports::take_file;
use crate::handlers::people::take_in_purchases;
use crate::state::{App, Config, Mode};
use rinse_core::address::Address;
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::{OverCap, RuleSet};
use rinse_core::consent::Act;
use rinse_core::delivery::blocklist::Of;
use rinse_core::goal::{Goal, What};
use rinse_core::holdout::Holdout;
use rinse_core::id::{LetterheadId, MailingId, TrialId};
use rinse_core::reaction::{Deed, Reaction, Trigger};
use rinse_core::segment::person::Value;
use rinse_core::segment::place::GAZETTEER;
use rinse_core::segment::{self, Bought, Compare, Did, FieldKind, TextTest, Times, Tree};
use rinse_core::suppression::Entry;
use rinse_core::table::Field;
use rinse_core::trial::guards::usual_margins;
use rinse_core::trial::metric::Change;
use rinse_core::trial::outlook::{USUAL_COMPLAINTS, USUAL_LEAVING};
use rinse_core::trial::plan::Plan;
use rinse_core::{DAY, HOUR, Instant};
use rinse_post::dkim::{self, Algorithm};
use rinse_standins::base::{OWN_COLUMNS, people_csv};
use rinse_standins::reports as standins;
use rinse_standins::scenario::{BEGINS, Scenario};
use rinse_standins::shop;
use rinse_store::blocklists;
use rinse_store::delivery::names;
use rinse_store::findings::letters::{self, Letters};
use rinse_store::findings::views;
use rinse_store::imports::{self, Decision};
use rinse_store::ledger::{self, Origin};
use rinse_store::letterheads::{self, Letterhead, Social};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::settings;
use rinse_store::signups::{self, Form};
use rinse_store::suppression::{self, Beside};
use rinse_store::team::{self, NewPerson};
use rinse_store::topics;
use rinse_store::{contacts, fields, goals, labels, reactions, rules, scores, segments, tags, trials, webhooks};
use std::path::Path;

/// Mon 14 Apr 2025, 00:00 UTC: when the demo's year begins.
pub const START: Instant = BEGINS;
/// Thu 16 Apr 2026, 18:40 UTC: when a visitor opens it.
pub const OPENS: Instant = Instant::of(1_776_364_800_000);

/// Makes the demo's year in an empty folder. `people` is 24,000 for the real one.
///
/// # Errors
/// When the folder can't be used.
pub async fn make(folder: &Path, base_url: &str, people: usize) -> anyhow::Result<()> {
    let app = App::open(&Config {
        data: folder.to_owned(),
        base_url: base_url.to_owned(),
        mode: Mode::Demo { start: START },
        durable: false,
        memory: crate::USUAL_BUDGET,
    })
    .await?;
    let _router = crate::router::router(app.clone());
    Director { app, people }.play().await
}

struct Director {
    app: App,
    people: usize,
}

/// A mailing of the year: day, hour, list, topic, name, subjects (two: a trial), what it offers.
struct Item(i64, i64, usize, usize, &'static str, &'static [&'static str], &'static str);

const LISTS: [&str; 3] = ["Tide notes readers", "Boat days", "Magazine members"];
const TOPICS: [&str; 5] = ["Tide notes", "Overnight stays", "Boat days", "Magazine", "Shop"];

/// The year's mailings. Pairs of subjects are trials: which of them truly differ stands in the
/// scenario file.
#[rustfmt::skip]
const YEAR: &[Item] = &[
    Item(6, 9, 0, 0, "Tide notes, April", &["What the April lamps saw"], "Read the notes"),
    Item(16, 8, 1, 2, "Boat days open", &["Boat days are open again"], "Book a boat"),
    Item(27, 10, 2, 3, "Magazine 1", &["The spring number is out", "The keeper's spring number is out"], "Open the magazine"),
    Item(38, 18, 0, 0, "Tide notes, May", &["May at the four lights"], "Read the notes"),
    Item(49, 12, 0, 1, "Overnight in June", &["Sleep under the lamp in June"], "See the free nights"),
    Item(60, 10, 1, 2, "Seal watch", &["Seal watch begins", "Seal watch begins: members first"], "Book a boat"),
    Item(70, 9, 0, 0, "Tide notes, June", &["Long evenings on the gallery"], "Read the notes"),
    Item(82, 11, 2, 1, "Overnight in August", &["Four August nights are left"], "See the nights"),
    Item(92, 9, 0, 0, "Tide notes, July", &["July, and a visitor from the north", "July spring tide, and a visitor from the north"], "Read the notes"),
    Item(103, 16, 1, 2, "Regatta", &["Watch the regatta from the rock"], "Book a boat"),
    Item(114, 19, 0, 4, "Lantern shop, summer", &["Storm lanterns are back"], "See the lanterns"),
    Item(124, 9, 0, 0, "Tide notes, August", &["The lamp in August haze"], "Read the notes"),
    Item(136, 10, 2, 3, "Magazine 2", &["The autumn number is out"], "Open the magazine"),
    Item(147, 17, 1, 2, "Last boats", &["The last boats of the year"], "Book a boat"),
    Item(157, 9, 0, 0, "Tide notes, September", &["Storm season, and a new lens", "Storm season, and a lens to see"], "Read the notes"),
    Item(168, 13, 0, 1, "Winter stays", &["Winter stays can be booked"], "See the nights"),
    Item(179, 20, 0, 4, "Lantern shop, autumn", &["A chart print of the skerries"], "See the print"),
    Item(189, 9, 0, 0, "Tide notes, October", &["Wind from all sides"], "Read the notes"),
    Item(201, 10, 2, 3, "Magazine 3", &["The winter number is out", "Free for members: the winter number"], "Open the magazine"),
    Item(212, 7, 0, 0, "Tide notes, November", &["The dark months, and who keeps watch"], "Read the notes"),
    Item(223, 9, 0, 4, "Lantern shop, winter", &["Gifts that give light"], "See the shop"),
    Item(236, 15, 1, 0, "Tide notes, December", &["Midwinter on the rock"], "Read the notes"),
    Item(258, 9, 0, 0, "Tide notes, January", &["A year of light, counted", "A year of tides, counted"], "Read the notes"),
    Item(270, 8, 2, 1, "Spring stays", &["Spring stays: choose your light"], "See the nights"),
    Item(283, 18, 0, 0, "Tide notes, February", &["Ice on the gallery rail"], "Read the notes"),
    Item(297, 10, 1, 2, "Boat days plan", &["Which boats would you take?"], "Tell us"),
    Item(311, 9, 0, 0, "Tide notes, March", &["First light at half past six"], "Read the notes"),
    Item(325, 10, 2, 3, "Magazine 4", &["The new spring number is out"], "Open the magazine"),
    Item(339, 9, 0, 4, "Lantern shop, spring", &["New in the lantern shop"], "See the shop"),
    Item(353, 9, 1, 0, "Tide notes, early April", &["The terns are back"], "Read the notes"),
];

fn plan(question: &str, on_no_call: usize) -> Plan {
    let (leaving_margin, complaint_margin) = usual_margins(USUAL_LEAVING, USUAL_COMPLAINTS);
    Plan {
        leaving_margin,
        complaint_margin,
        pilot_share: 0.5,
        window_hours: 72,
        on_no_call: Some(on_no_call),
        harm_looks: 2,
        change: Some(Change::Subject),
        ..Plan::usual(question)
    }
}

fn body(name: &str, offer: &str) -> (String, String) {
    let path: String = name.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let html = format!(
        "<html><body style=\"font-family: sans-serif\">\n<p>Dear {{{{ given_name|default(\"friend of the lights\") }}}},</p>\n<p>Here is news from the four lighthouses that Skerry Light keeps open.</p>\n\
         <p><a href=\"https://skerry-light.example/{path}\">{offer}</a></p>\n<p>Also: <a href=\"https://skerry-light.example/tides\">this week's tides</a> and <a href=\"https://skerry-light.example/lamps\">the lamps by night</a>.</p>\n\
         <p>{{{{ sender_name }}}}, {{{{ postal_address }}}}<br>\n<a href=\"{{{{ share_url }}}}\">Open in a browser</a>, <a href=\"{{{{ preferences_url }}}}\">choose what you get</a>, or <a href=\"{{{{ unsubscribe_url }}}}\">stop these letters</a></p>\n</body></html>"
    );
    let text = format!(
        "Dear {{{{ given_name|default(\"friend of the lights\") }}}},\n\nHere is news from the four lighthouses that Skerry Light keeps open.\n\n{offer}: https://skerry-light.example/{path}\n\n{{{{ sender_name }}}}, {{{{ postal_address }}}}\nChoose what you get: {{{{ preferences_url }}}}\nStop these letters: {{{{ unsubscribe_url }}}}\n"
    );
    (html, text)
}

impl Director {
    async fn play(&self) -> anyhow::Result<()> {
        self.settings().await?;
        let n = |share: usize| self.people * share / 1000;
        let fair = Scenario::skerry_light().fair.numbers_from;
        self.import("spring-base.csv", 0, n(420), LISTS[0], "Sign-up form of the website, consent text 3, 2019 to 2025").await?;
        self.import("boat-guests.csv", n(420), n(600), LISTS[1], "Ticked box on the boat booking form, 2022 to 2025").await?;
        self.import("members.csv", n(600), n(800), LISTS[2], "Membership form, clause 4, signed").await?;
        for (i, item) in YEAR.iter().enumerate() {
            self.app.engine.advance(START + item.0 * DAY + item.1 * HOUR).await?;
            if i % 3 == 2 {
                let k = i / 3;
                // One of them came by a prize draw at the harbour fair.
                let (first, evidence) = match k {
                    4 => (fair, "Prize draw at the harbour fair, box ticked"),
                    _ => (0, "Web form, consent text 4, this quarter"),
                };
                self.import(&format!("new-{}.csv", k + 1), first + n(800 + 20 * k), first + n(800 + 20 * (k + 1)), LISTS[0], evidence)
                    .await?;
            }
            if i == 18 {
                let now = self.app.now();
                self.app
                    .store
                    .write(move |c| {
                        let cap = |limit, window, scope, in_force| Cap { limit, window, scope, in_force };
                        let caps = vec![
                            cap(2, Window::Days { n: 7 }, Scope::Marketing, true),
                            cap(1, Window::CalendarDay, Scope::Marketing, false),
                        ];
                        let set = RuleSet { caps, ..RuleSet::default() };
                        suppression::looked_over(c, 1, now, Some(1))?;
                        rules::save(c, now, Some(1), &set, "Members said that the autumn was too much")
                    })
                    .await?;
            }
            if i == 26 {
                let now = self.app.now();
                self.app
                    .store
                    .write(move |c| {
                        let set = RuleSet { holdout: Some(Holdout { share: 0.05 }), ..rules::current(c)?.rules };
                        rules::save(c, now, Some(1), &set, "To see what our letters earn")
                    })
                    .await?;
            }
            self.hours(i).await?;
            self.upkeep(i).await?;
            if i == 24 {
                self.panel().await?;
            }
            self.look_into_panel().await?;
            if i == 24 || i == 28 {
                self.reactions(i == 28).await?;
            }
            if i == 28 {
                self.members_day().await?;
                self.numbers().await?;
            }
            if i >= 20 {
                self.sign_ups(self.people + 2 * i, 2, i % 3 != 0).await?;
            }
            self.send(item, i).await?;
            if i == 28 {
                self.app.engine.advance(self.app.now() + 5 * DAY).await?;
                self.text().await?;
            }
        }
        self.last_days().await
    }

    async fn settings(&self) -> anyhow::Result<()> {
        self.app
            .store
            .write(|c| {
                for (name, from, address, ground, accent) in [
                    ("Skerry Light", "Skerry Light", "letters@skerry-light.example", "#fbfcfd", "#2c3a8f"),
                    ("Lantern Shop", "The Lantern Shop", "shop@skerry-light.example", "#fdfbf6", "#85560a"),
                ] {
                    letterheads::save(
                        c,
                        &Letterhead {
                            name: name.into(),
                            from_name: from.into(),
                            from_address: address.into(),
                            postal_address: "Skerry Light, 1 Harbour Steps, Port Skerry".into(),
                            ground: ground.into(),
                            ink: "#17212b".into(),
                            accent: accent.into(),
                            zone: "Europe/London".into(),
                            country: Some("GB".into()),
                            social: vec![Social { name: "Pictures".into(), url: "https://pictures.example/skerry-light".into() }],
                            is_default: name == "Skerry Light",
                            text_number: if name == "Skerry Light" { texts::NUMBER.into() } else { String::new() },
                            wording: format!(
                                "I agree that {name} writes to me by email about what I chose above. Every letter has a link to stop."
                            ),
                            ..Letterhead::default()
                        },
                        START,
                    )?;
                }
                for t in TOPICS {
                    topics::named(c, t)?;
                }
                for (text, reason) in [
                    ("press-desk.example", "press office, asked for calls only"),
                    ("*.county-hall.example", "no mailings, by agreement of 2023"),
                    ("lorne.farrow17@fulmar.example", "asked by letter"),
                ] {
                    let entry = Entry::parse(text).map_err(rinse_store::StoreError::Refused)?;
                    suppression::add(c, 1, &entry, Beside { reason, source: "by hand", expires_at: None, person: Some(1) }, START)?;
                }
                names::set_own_addresses(c, &["192.0.2.25".into()], START, Some(1))?;
                blocklists::add(c, "lists.lanternwatch.example", Of::Addresses, START, Some(1))?;
                settings::set(c, "organisation", "Skerry Light")
            })
            .await?;
        self.sign(LetterheadId(1)).await
    }

    /// A signing key for a letterhead, its record in the stand-in DNS. The elliptic kind: a year of mail is signed with it.
    async fn sign(&self, letterhead: LetterheadId) -> anyhow::Result<()> {
        let (private, public) = dkim::new_key(Algorithm::Ed25519)?;
        let record = dkim::record(Algorithm::Ed25519, &public);
        let key = self
            .app
            .store
            .write(move |c| {
                letterheads::add_key(c, letterhead, Algorithm::Ed25519.code(), &private, &public, START, Some(1))?;
                letterheads::keys(c, letterhead)?.pop().ok_or(rinse_store::StoreError::Missing("signing key"))
            })
            .await?;
        self.app.engine.network(|n| n.publish(&dkim::record_name(&key.selector, &key.domain), &record)).transpose()?;
        Ok(())
    }

    async fn import(&self, file: &str, from: usize, to: usize, list: &str, evidence: &str) -> anyhow::Result<()> {
        let raw = self.app.store.folder().join("imports").join(format!("upload-{file}"));
        std::fs::write(&raw, people_csv(&Scenario::skerry_light(), from, to))?;
        let now = self.app.now();
        let id = imports::stage(&self.app.store, raw, file.to_owned(), now, Some(1)).await?;
        let own = OWN_COLUMNS.map(|(name, kind)| Field::Own { name: name.to_lowercase(), kind });
        let mapping = [Field::Address, Field::GivenName, Field::FamilyName, Field::Country, Field::TimeZone, Field::Source]
            .into_iter()
            .chain(own)
            .chain([Field::Latitude, Field::Longitude])
            .map(Some)
            .collect();
        let tag = file.starts_with("boat").then(|| "Boat guest".to_owned());
        let d = Decision {
            texts: false,
            mapping,
            header: true,
            list: Some(list.to_owned()),
            tag,
            consent: true,
            entity: String::new(),
            evidence: evidence.to_owned(),
            fixes: imports::Fixes::default(),
        };
        imports::decide(&self.app.store, id, d, now).await?;
        imports::check(&self.app.store, id, self.app.hosts(), |_| {}).await?;
        imports::apply(&self.app.store, id, now, Some(1), |_| true).await?;
        Ok(())
    }

    /// People who sign up by the form; some of them confirm at once.
    async fn sign_ups(&self, from: usize, how_many: usize, confirm: bool) -> anyhow::Result<()> {
        let csv = people_csv(&Scenario::skerry_light(), from, from + how_many);
        let now = self.app.now();
        let mut ids = Vec::new();
        for row in csv.lines().skip(1) {
            let mut cells = row.split(';');
            let (address, given_name) = (cells.next().unwrap_or_default(), cells.next().map(str::to_owned));
            // The file has slips in it, which a form would not let through.
            let Ok(address) = Address::parse(address) else { continue };
            let form = Form { letterhead: LetterheadId(1), address, given_name, topics: vec![1, 3], came_by: "form", came_from: None };
            ids.push(self.app.store.write(move |c| signups::sign_up(c, &form, now)).await?);
        }
        self.app.engine.tick(now).await?;
        if confirm {
            let soon = now + HOUR;
            self.app.engine.advance(soon).await?;
            self.app.store.write(move |c| ids.iter().try_for_each(|id| signups::confirm(c, *id, soon).map(|_| ()))).await?;
        }
        Ok(())
    }

    async fn draft(
        &self,
        name: &'static str,
        list: Option<usize>,
        topic: usize,
        subjects: &'static [&'static str],
        offer: &str,
    ) -> anyhow::Result<i64> {
        let (html, text) = body(name, offer);
        let preheader = format!("{offer}, and this week's tides");
        let now = self.app.now();
        Ok((self
            .app
            .store
            .write(move |c| {
                let list_id = match list {
                    Some(l) => Some(tags::named(c, tags::Kind::List, LISTS[l], now)?),
                    None => None,
                };
                let draft = MailingDraft {
                    topic_id: Some(topics::named(c, TOPICS[topic])?),
                    list_id,
                    html,
                    text,
                    preheader,
                    subjects: subjects.iter().map(|s| (*s).to_owned()).collect(),
                    ..MailingDraft::under(if topic == 4 { LetterheadId(2) } else { LetterheadId(1) }, name)
                };
                mailings::save(c, None, &draft, now, Some(2))
            })
            .await?)
            .0)
    }

    async fn trial(&self, mailing: MailingId, question: String, seed: u64) -> anyhow::Result<i64> {
        let now = self.app.now();
        let id = self.app.store.write(move |c| trials::save_plan(c, mailing, &plan(&question, 0), now, Some(1))).await?;
        // The base is small for differences of a point or two: the approver lets what is under its size go.
        let why = "We read these trials together over the year, not one by one.";
        crate::sealing::seal(&self.app, id, seed, Some(3), why.into()).await?;
        Ok(id.0)
    }

    async fn send(&self, item: &Item, i: usize) -> anyhow::Result<()> {
        let mailing = self.draft(item.4, Some(item.2), item.3, item.5, item.6).await?;
        if item.5.len() == 1 {
            actions::plan_mailing(&self.app, MailingId(mailing), None, Some(2)).await?;
            self.app.engine.tick(self.app.now()).await?;
            return Ok(());
        }
        let question = format!("Does “{}” earn more readers than “{}”?", item.5[1], item.5[0]);
        let id = self.trial(MailingId(mailing), question, 1000 + i as u64).await?;
        self.app.engine.advance(self.app.now() + 4 * DAY).await?;
        actions::release(&self.app, TrialId(id), false, Some(1)).await?;
        Ok(())
    }

    /// The last days: a trial to read, one that collects, and mailings to come.
    async fn last_days(&self) -> anyhow::Result<()> {
        self.warm_up().await?;
        self.app.engine.advance(START + 363 * DAY + 9 * HOUR).await?;
        let m = self.draft("Boat days are open", None, 2, &["Boat days are open again", "Low tide at 11, boats go"], "Book a boat").await?;
        self.trial(MailingId(m), "Does naming the tide in the subject earn more readers?".into(), 77).await?;
        self.app.engine.advance(START + 366 * DAY + 10 * HOUR).await?;
        let m = self
            .draft(
                "Lantern shop: who signs it",
                Some(0),
                4,
                &["New lanterns for dark stairs", "New lanterns, chosen by a keeper"],
                "See the lanterns",
            )
            .await?;
        self.trial(MailingId(m), "Does a keeper in the subject earn more readers?".into(), 78).await?;
        self.app.engine.advance(OPENS).await?;
        let saturday = self.draft("Boat days, Saturday", None, 2, &["Saturday boats: places are left"], "Book a boat").await?;
        actions::plan_mailing(&self.app, MailingId(saturday), Some(OPENS + 37 * HOUR + 20 * 60_000), Some(2)).await?;
        self.sign_ups(self.people + 200, 4, false).await?;
        self.draft("Tide notes 16", Some(0), 0, &["The week's tides", "The week's tides: four low ones"], "Read the notes").await?;
        let shop = self.draft("Lantern shop, weekend", Some(0), 4, &["A lantern for the weekend"], "See the lanterns").await?;
        let now = self.app.now();
        self.app
            .store
            .write(move |c| {
                let draft = MailingDraft { over_cap: OverCap::Skip, priority: 4, ..mailings::one(c, MailingId(shop))?.draft };
                mailings::save(c, Some(MailingId(shop)), &draft, now, Some(2))
            })
            .await?;
        actions::plan_mailing(&self.app, MailingId(shop), Some(OPENS + 61 * HOUR + 20 * 60_000), Some(2)).await?;
        self.text_to_come(saturday).await?;
        let till = shop::purchases_csv(&Scenario::skerry_light(), self.people, START, 366);
        take_in_purchases(&self.app, till.as_bytes(), 1).await.map_err(|e| anyhow::anyhow!("{e}"))?;
        self.near_misses().await?;
        self.segments().await?;
        let now = self.app.now();
        let saved = [("Monday letter", "/findings?figure=human_clicks"), ("Weekdays", "/findings?by=weekday&days=365")];
        self.app
            .store
            .write(move |c| {
                for p in team::people(c)? {
                    let address = format!("{}@harbour-office.example", p.name.to_lowercase().replace(' ', "."));
                    team::save(c, Some(p.id), &NewPerson { name: p.name, role: p.role, address: Some(address) }, now, Some(1))?;
                }
                for (label, names) in [
                    (
                        "Season opening",
                        &["Boat days open", "Boat days plan", "Boat days are open", "Overnight in June", "Spring stays"][..],
                    ),
                    ("Gifts", &["Lantern shop, winter", "Lantern shop, autumn"]),
                ] {
                    for m in mailings::all(c)?.into_iter().filter(|m| names.contains(&m.name.as_str())) {
                        labels::label(c, tags::On::Mailing, m.id.0, &[label.to_owned()], now)?;
                    }
                }
                labels::label(c, tags::On::Series, 1, &["Newcomers".to_owned()], now)?;
                let [monday, _] = saved.map(|(name, path)| views::save(c, name, path, now, Some(1)));
                let to = Letters {
                    people: vec![1, 2],
                    letterhead_id: LetterheadId(1),
                    weekday: 0,
                    minute: 480,
                    next_at: None,
                    last: Vec::new(),
                };
                letters::set(c, monday?, &to, now, Some(1))
            })
            .await?;
        self.reports_in().await?;
        self.look_into_panel().await?;
        self.app.store.write(|c| Ok(c.execute_batch("PRAGMA optimize")?)).await?;
        Ok(())
    }

    /// What two hosts reported of mail in our name over five weeks.
    async fn reports_in(&self) -> anyhow::Result<()> {
        let (scenario, today) = (Scenario::skerry_light(), OPENS.millis().div_euclid(DAY));
        for ago in (1..36).rev() {
            let day = today - ago;
            for host in ["gull.example", "fulmar.example"] {
                let dmarc = standins::dmarc(&scenario, host, day, ago);
                take_file(&self.app, format!("{host}!skerry-light.example!{day}.xml"), dmarc.into(), None).await?;
            }
            let tls = standins::tls(&scenario, "fulmar.example", day);
            take_file(&self.app, format!("fulmar.example!tls!{day}.json"), tls.into(), None).await?;
        }
        Ok(())
    }

    /// People close to what is barred, and goals.
    async fn near_misses(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        self.app
            .store
            .write(move |c| {
                let company = fields::named(c, "company", FieldKind::Text, now)?;
                for (address, of) in [
                    ("i.brook@press-desks.example", "Press Desk Ltd"),
                    ("desk@press-desk.example", "Press Desk"),
                    ("m.keel@press-desk-north.example", ""),
                    ("g.eddy@outer-isles-news.example", "Press Desk"),
                    ("clerk@records.county-hall.example", "County Hall"),
                    ("ola.haven@fulmar.example", "County Hall"),
                ] {
                    let address = Address::parse(address).map_err(|e| rinse_store::StoreError::Refused(e.to_string()))?;
                    let profile = contacts::Profile { source: Some("visitor desk".into()), ..contacts::Profile::default() };
                    let id = contacts::add(c, &address, &profile, now)?;
                    let origin = Origin {
                        source: "analyst",
                        evidence: "visiting card left at the desk".into(),
                        person: Some(1),
                        ..Origin::default()
                    };
                    ledger::act(c, id, now, Act::Agreed, &origin)?;
                    if !of.is_empty() {
                        fields::set(c, id, company, &Value::Text(of.into()), None, None)?;
                    }
                }
                for (name, product) in [("A storm lantern", Some("Storm lantern")), ("Anything from the shop", None)] {
                    let what = What::Purchase { product: product.map(str::to_owned), category: None };
                    goals::save(c, None, name, &Goal { what, currency: "GBP".into() }, now, Some(1))?;
                }
                Ok(())
            })
            .await?;
        Ok(())
    }

    /// What follows from what people do: a score and the record system, and later tasks for the desk.
    async fn reactions(&self, tasks: bool) -> anyhow::Result<()> {
        let (now, secret): (_, [u8; 32]) = (self.app.now(), rand::random());
        self.app
            .store
            .write(move |c| {
                let make = |when, then| reactions::save(c, None, &Reaction { mailing: None, when, then }, true, now, Some(1)).map(drop);
                if tasks {
                    return make(Trigger::Replied, vec![Deed::Task { words: "Read what they wrote, and answer".into() }]);
                }
                let score = scores::save(c, None, "Interest", Some(90.0), now, Some(1))?;
                let tag = tags::named(c, tags::Kind::Tag, "Quiet lately", now)?;
                let webhook = webhooks::make(c, "Record system", crate::engine::RECORDS, &secret, now, Some(1))?;
                let points = |points| Deed::Score { score, points };
                make(Trigger::Opened, vec![points(1.0)])?;
                make(Trigger::Clicked { link: None }, vec![points(4.0), Deed::Tag { tag, put: false }])?;
                make(Trigger::NotClicked { hours: 336, link: None, taken_back: false }, vec![points(-0.5), Deed::Tag { tag, put: true }])?;
                let lantern = Trigger::Bought { product: Some("Storm lantern".into()), category: None };
                make(lantern, vec![points(10.0), Deed::Webhook { webhook }])
            })
            .await?;
        Ok(())
    }

    /// The segments that Skerry Light works with.
    async fn segments(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        self.app
            .store
            .write(move |c| {
                let field = |name: &str, kind| fields::named(c, name, kind, now);
                let (tier, visits) = (field("tier", FieldKind::Choice)?, field("visits a year", FieldKind::Number)?);
                let is = |value: &str| Tree::Text { field: segment::Field::Own(tier), is: TextTest::Is, value: value.into() };
                let bought = |product: &str| Tree::Bought {
                    what: Bought::Count,
                    is: Compare::AtLeast,
                    value: 1.0,
                    product: Some(product.into()),
                    category: None,
                    within_days: None,
                };
                let read = |days| Tree::Did {
                    did: Did::Opened,
                    human: true,
                    times: Times::AtLeast(1),
                    within_days: Some(days),
                    mailing: None,
                    link: None,
                    series: None,
                };
                let not = |of| Tree::Not { of: Box::new(of) };
                let port = GAZETTEER[0];
                let near =
                    Tree::Near { latitude: port.latitude, longitude: port.longitude, km: 120.0, place: port.name.into(), miles: false };
                for (name, of) in [
                    ("Readers this quarter", vec![read(90)]),
                    ("Lantern, no print yet", vec![bought("Storm lantern"), not(bought("Chart print"))]),
                    ("Around Port Skerry", vec![near]),
                    (
                        "Keepers who visit",
                        vec![
                            Tree::Any { of: vec![is("Keeper"), is("Patron")] },
                            Tree::Number { field: visits, is: Compare::Over, value: 6.0 },
                            not(Tree::Missing { field: segment::Field::Country }),
                        ],
                    ),
                ] {
                    segments::save(c, None, &segments::Draft { name: name.into(), tree: Tree::All { of } }, now, Some(1))?;
                }
                Ok(())
            })
            .await?;
        Ok(())
    }
}
