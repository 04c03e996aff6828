//! Is our mail let in? By mailbox group and day, with what is wrong and what was done about it.

pub(crate) mod alerts;
pub(crate) mod names;
pub(crate) mod panel;
pub(crate) mod reports;
pub(crate) mod warm_up;

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_core::DAY;
use rinse_core::delivery::{About, LetIn, about, let_in};
use rinse_core::figure::Figure;
use rinse_core::findings::{By, Clock};
use rinse_core::id::LetterheadId;
use rinse_core::report::Rate;
use rinse_store::delivery::alerts::{self as kept_alerts, Alert};
use rinse_store::delivery::opened::{self, Opened};
use rinse_store::delivery::{operators, reports as kept};
use rinse_store::domains::{self, GroupPause};
use rinse_store::findings::groups::{self, Filter};
use rinse_store::settings::Tied;
use rinse_store::{Connection, StoreError, flow};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};
use utoipa::{IntoParams, ToSchema};

/// The front page looks back so many days.
const DAYS: i64 = 28;
/// So many groups stand by themselves, those with most mail …
const MOST_MAIL: usize = 30;
/// … and where something is to be said, so many in all. The others stand together.
const SHOWN: usize = 100;

/// A day's mail to a group.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct DeliveryDay {
    /// Days since 1970, UTC.
    day: i64,
    of: u64,
    /// Refused because of us.
    blocked: u64,
    /// Refused or given up for the address's reasons.
    bounced: u64,
    /// Put off at the first try; whatever became of it then.
    put_off: u64,
    /// Of what was delivered.
    complaints: u64,
}

/// Whose mail is looked at.
#[derive(Deserialize, IntoParams)]
pub(crate) struct OfSender {
    /// Only this letterhead's; of all when none is said.
    letterhead: Option<LetterheadId>,
}

/// A group whose hosts asked for less: messages a minute.
#[derive(Serialize, ToSchema)]
pub(crate) struct HeldBack {
    usual: f64,
    ceiling: f64,
    since: i64,
}

/// Human opens of some mailings together, and the share that was expected of the same people.
#[derive(Serialize, ToSchema)]
pub(crate) struct OpenedOfExpected {
    opened: Rate,
    expected: f64,
    /// So many of the mailings lie under their lower limits.
    under: usize,
}

#[allow(clippy::cast_precision_loss)]
fn opened_of(opens: &[Opened]) -> Option<OpenedOfExpected> {
    let sum = |f: fn(&Opened) -> u64| opens.iter().map(f).sum::<u64>();
    let opened = Rate::new(sum(|o| o.opened.count), sum(|o| o.opened.of));
    let expected = opens.iter().map(|o| o.expected * o.opened.of as f64).sum::<f64>() / opened.of.max(1) as f64;
    (opened.of > 0).then(|| OpenedOfExpected { opened, expected, under: opens.iter().filter(|o| o.under).count() })
}

/// How a mailbox group lets our mail in.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryGroup {
    name: String,
    /// The domains whose mail it takes, as far as mail went there.
    domains: Vec<Tied>,
    accepted: Rate,
    blocked: Rate,
    bounced: Rate,
    /// Of what was delivered to its domains that report complaints (one in the last 90 days at least).
    complaints: Rate,
    let_in: LetIn,
    about: About,
    /// The first day of the last run of days on which it blocked anything.
    blocked_since: Option<i64>,
    days: Vec<DeliveryDay>,
    /// What people opened of each mailing that can be judged, as of the day before.
    opens: Vec<Opened>,
    /// Of all of them together; none: none can be judged.
    opened: Option<OpenedOfExpected>,
    pause: Option<GroupPause>,
    held_back: Option<HeldBack>,
    /// So many groups with little mail, of which nothing is to be said, together; 0: it is one group.
    others: usize,
}

impl DeliveryGroup {
    /// Is there something to say of it?
    fn stands_out(&self) -> bool {
        matches!(self.let_in, LetIn::Less | LetIn::Little)
            || self.pause.is_some()
            || self.held_back.is_some()
            || self.opens.iter().any(|o| o.under)
    }

    /// Adds the mail to another group.
    fn add(&mut self, g: Self) {
        let sum = |a: Rate, b: Rate| Rate::new(a.count + b.count, a.of + b.of);
        self.accepted = sum(self.accepted, g.accepted);
        self.blocked = sum(self.blocked, g.blocked);
        self.bounced = sum(self.bounced, g.bounced);
        self.complaints = sum(self.complaints, g.complaints);
        let mut days: BTreeMap<i64, DeliveryDay> = std::mem::take(&mut self.days).into_iter().map(|d| (d.day, d)).collect();
        for d in g.days {
            let at = days.entry(d.day).or_insert(DeliveryDay { day: d.day, ..DeliveryDay::default() });
            at.of += d.of;
            at.blocked += d.blocked;
            at.bounced += d.bounced;
            at.put_off += d.put_off;
            at.complaints += d.complaints;
        }
        self.days = days.into_values().collect();
        self.others += g.others;
    }
}

/// Puts what is of little mail and as ever together, at the end: a base with thousands of domains would hide what matters among them.
fn folded(groups: Vec<DeliveryGroup>, alerts: &[Alert]) -> Vec<DeliveryGroup> {
    let told: HashSet<&str> = alerts.iter().map(|a| a.group.as_str()).collect();
    let (mut out, mut others) = (Vec::new(), Vec::new());
    for (i, g) in groups.into_iter().enumerate() {
        let stands = i < MOST_MAIL || out.len() < SHOWN && (g.stands_out() || told.contains(g.name.as_str()));
        if stands { out.push(g) } else { others.push(g) }
    }
    // One more line takes no more room than one that stands for it.
    if others.len() <= 1 {
        out.append(&mut others);
    }
    let together = others.into_iter().map(|g| DeliveryGroup { others: 1, ..g }).reduce(|mut all, g| {
        all.add(g);
        all
    });
    out.extend(together.map(|g| {
        let since = g.days.iter().rev().take_while(|d| d.blocked > 0).last().map(|d| d.day);
        DeliveryGroup {
            let_in: let_in(&g.accepted),
            about: about(g.blocked.count, g.bounced.count),
            blocked_since: since,
            name: format!("{} other groups", g.others),
            domains: Vec::new(),
            opens: Vec::new(),
            opened: None,
            pause: None,
            held_back: None,
            ..g
        }
    }));
    out
}

#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryView {
    accepted: Rate,
    groups: Vec<DeliveryGroup>,
    alerts: Vec<Alert>,
    from_day: i64,
    to_day: i64,
    /// What was reported of our name in the same time.
    reported: u64,
    aligned: Rate,
    new_sources: usize,
}

/// A group's sums, its days, and its domains.
type Of = (groups::Group, BTreeMap<i64, DeliveryDay>, BTreeMap<i64, String>);

fn view(c: &Connection, letterhead: Option<LetterheadId>, now: i64) -> Result<DeliveryView, StoreError> {
    let today = now.div_euclid(DAY);
    let filter = Filter { from: Some((today - DAYS + 1) * DAY), channel: Some(1), letterhead, ..Filter::default() };
    let needed = [Figure::Sent, Figure::Accepted, Figure::Blocked, Figure::Bounced, Figure::Delivered, Figure::Complaints];
    let needed: Vec<Figure> = needed.into_iter().chain(std::iter::successors(Figure::Complaints.of(), |f| f.of())).collect();
    let (names, operators) = (groups::names(c, By::Domain)?, operators::groups(c)?);
    let reporting = kept_alerts::reporting(c, rinse_core::Instant::of(now))?;
    let mut complaints: BTreeMap<String, Rate> = BTreeMap::new();
    let mut by: BTreeMap<String, Of> = BTreeMap::new();
    let mut pieces = groups::pieces_of(c, (By::Domain, Some(By::Day)), Clock::Utc, &filter, &needed)?;
    for p in &mut pieces {
        let domain: i64 = p.key.parse().unwrap_or(0);
        let name = names.get(&p.key).cloned().unwrap_or_else(|| p.key.clone());
        p.key = operators.get(&domain).cloned().unwrap_or_else(|| name.clone());
        let (_, days, domains) = by.entry(p.key.clone()).or_default();
        domains.insert(domain, name);
        if reporting.contains(&domain) {
            let of = complaints.entry(p.key.clone()).or_insert(Rate::new(0, 0));
            *of = Rate::new(of.count + p.sums.of(Figure::Complaints), of.of + p.sums.of(Figure::Delivered));
        }
        let day = p.across.parse().unwrap_or(p.day);
        let at = days.entry(day).or_insert(DeliveryDay { day, ..DeliveryDay::default() });
        at.of += p.sums.of(Figure::Sent);
        at.blocked += p.sums.of(Figure::Blocked);
        at.bounced += p.sums.of(Figure::Bounced);
        at.complaints += p.sums.of(Figure::Complaints);
    }
    for (domain, day, messages) in flow::put_off(c, today - DAYS + 1, letterhead)? {
        let Some(name) = operators.get(&domain).or_else(|| names.get(&domain.to_string())) else { continue };
        if let Some(at) = by.get_mut(name).and_then(|(_, days, _)| days.get_mut(&day)) {
            at.put_off += messages;
        }
    }
    for g in groups::together(&pieces) {
        if let Some(of) = by.get_mut(&g.key) {
            of.0 = g;
        }
    }
    let mut pauses = domains::paused_groups(c, rinse_core::Instant::of(now))?;
    let mut held: BTreeMap<String, HeldBack> = flow::held_back(c, rinse_core::Instant::of(now))?
        .into_iter()
        .map(|h| (h.name, HeldBack { usual: h.usual, ceiling: h.ceiling, since: h.since }))
        .collect();
    let mut judged = opened::since(c, rinse_core::Instant::of((today - DAYS + 1) * DAY), letterhead)?;
    let group = |(name, (g, days, domains)): (String, Of)| {
        let opens = judged.remove(&name).unwrap_or_default();
        let rate = |f: Figure| g.sums_for(f).rate(f);
        let accepted = rate(Figure::Accepted);
        let since = days.values().rev().take_while(|d| d.blocked > 0).last().map(|d| d.day);
        DeliveryGroup {
            let_in: let_in(&accepted),
            about: about(rate(Figure::Blocked).count, rate(Figure::Bounced).count),
            accepted,
            blocked: rate(Figure::Blocked),
            bounced: rate(Figure::Bounced),
            complaints: complaints.get(&name).copied().unwrap_or(Rate::new(0, 0)),
            blocked_since: since,
            days: days.into_values().collect(),
            opened: opened_of(&opens),
            opens,
            pause: pauses.remove(&name),
            held_back: held.remove(&name),
            domains: domains.into_iter().map(|(id, name)| Tied { id, name }).collect(),
            name,
            others: 0,
        }
    };
    let mut groups: Vec<DeliveryGroup> = by.into_iter().map(group).collect();
    groups.sort_by_key(|g| std::cmp::Reverse(g.accepted.of));
    let sum = |f: fn(&DeliveryGroup) -> u64| groups.iter().map(f).sum::<u64>();
    let (reported, aligned) = kept::together(c, DAYS, rinse_core::Instant::of(now))?;
    let (accepted, alerts) = (Rate::new(sum(|g| g.accepted.count), sum(|g| g.accepted.of)), kept_alerts::open_with_lines(c, letterhead)?);
    Ok(DeliveryView {
        accepted,
        groups: folded(groups, &alerts),
        alerts,
        from_day: today - DAYS + 1,
        to_day: today,
        reported,
        aligned,
        new_sources: kept::new_sources(c, rinse_core::Instant::of(now))?,
    })
}

/// How each mailbox group lets our mail in, day by day, over four weeks, with the alerts that are open and what was done. A group is told to let in
/// less than it should only where the whole interval of its accepted mail lies under the mark (97%, 95%). Of one sender's mail where that is asked for;
/// pauses and paces are a group's, whoever sends. Thirty groups stand by themselves, and those of which something is to be said; the others together.
#[utoipa::path(get, path = "/api/delivery", params(OfSender), responses((status = 200, body = DeliveryView)))]
pub(crate) async fn front(State(app): State<App>, Query(of): Query<OfSender>) -> Answer<DeliveryView> {
    let now = app.now().millis();
    Ok(Json(app.store.read(move |c| view(c, of.letterhead, now)).await?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(n: u64, of: u64, blocked: u64) -> DeliveryGroup {
        let accepted = Rate::new(of - blocked, of);
        DeliveryGroup {
            name: format!("d{n}.example"),
            domains: Vec::new(),
            accepted,
            blocked: Rate::new(blocked, of),
            bounced: Rate::new(0, of),
            complaints: Rate::new(0, 0),
            let_in: let_in(&accepted),
            about: about(blocked, 0),
            blocked_since: None,
            days: vec![DeliveryDay { day: i64::try_from(n % 28).unwrap(), of, blocked, ..DeliveryDay::default() }],
            opens: Vec::new(),
            opened: None,
            pause: None,
            held_back: None,
            others: 0,
        }
    }

    /// However many domains there are: nothing of their mail is lost, and what something is to be said of stands by itself.
    #[test]
    fn many_groups_stand_together_and_those_that_matter_alone() {
        for many in [0, 1, 30, 31, 32, 400, 5_000] {
            // One in a hundred blocks most of its mail.
            let all: Vec<DeliveryGroup> = (0..many).map(|n| group(n, 10_000 - n, if n % 100 == 99 { 5_000 } else { 0 })).collect();
            let sums = |all: &[DeliveryGroup]| {
                let days = all.iter().flat_map(|g| &g.days);
                let of: u64 = all.iter().map(|g| g.accepted.of).sum();
                (of, all.iter().map(|g| g.blocked.count).sum::<u64>(), days.fold((0, 0), |s, d| (s.0 + d.of, s.1 + d.blocked)))
            };
            let (before, blocking) = (sums(&all), all.iter().filter(|g| g.blocked.count > 0).count());
            let out = folded(all, &[]);
            assert_eq!(sums(&out), before, "{many}");
            assert!(out.len() <= SHOWN + 1);
            assert_eq!(out.iter().filter(|g| g.others == 0 && g.blocked.count > 0).count(), blocking, "{many}");
            let groups: usize = out.iter().map(|g| g.others.max(1)).sum();
            assert_eq!(groups, usize::try_from(many).unwrap());
            assert!(out.last().is_none_or(|g| g.others != 1 && g.days.windows(2).all(|d| d[0].day < d[1].day)));
        }
    }
}
