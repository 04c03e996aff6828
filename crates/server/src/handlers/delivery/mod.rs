//! Is our mail let in? By mailbox group and day, with what is wrong and what was done about it.

pub(crate) mod alerts;
pub(crate) mod groups;
pub(crate) mod names;
pub(crate) mod panel;
pub(crate) mod reports;
pub(crate) mod warm_up;

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use groups::{DeliveryDay, DeliveryGroup, HeldBack, folded, opened_of};
use rinse_core::DAY;
use rinse_core::figure::Figure;
use rinse_core::findings::{By, Clock};
use rinse_core::id::LetterheadId;
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rinse_store::delivery::alerts::{self as kept_alerts, Alert};
use rinse_store::delivery::{opened, operators, reports as kept};
use rinse_store::domains;
use rinse_store::findings::groups::{self as figures, Filter};
use rinse_store::settings::Tied;
use rinse_store::{Connection, StoreError, flow};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// The front page looks back so many days.
const DAYS: i64 = 28;
/// Whose mail is looked at.
#[derive(Deserialize, IntoParams)]
pub(crate) struct OfSender {
    /// Only this letterhead's; of all when none is said.
    letterhead: Option<LetterheadId>,
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

/// What went to a group.
#[derive(Default)]
struct Mail {
    sums: figures::Group,
    days: BTreeMap<i64, DeliveryDay>,
    domains: BTreeMap<i64, String>,
    /// At the domains that report complaints.
    complaints: Arm,
}

fn view(c: &Connection, letterhead: Option<LetterheadId>, now: i64) -> Result<DeliveryView, StoreError> {
    let today = now.div_euclid(DAY);
    let filter = Filter { from: Some((today - DAYS + 1) * DAY), channel: Some(1), letterhead, ..Filter::default() };
    let needed = [Figure::Sent, Figure::Accepted, Figure::Blocked, Figure::Bounced, Figure::Delivered, Figure::Complaints];
    let needed: Vec<Figure> = needed.into_iter().chain(std::iter::successors(Figure::Complaints.of(), |f| f.of())).collect();
    let (names, operators) = (figures::names(c, By::Domain)?, operators::groups(c)?);
    let reporting = kept_alerts::reporting(c, rinse_core::Instant::of(now))?;
    let mut by: BTreeMap<String, Mail> = BTreeMap::new();
    let mut pieces = figures::pieces_of(c, (By::Domain, Some(By::Day)), Clock::Utc, &filter, &needed)?;
    for p in &mut pieces {
        let domain: i64 = p.key.parse().unwrap_or(0);
        let name = names.get(&p.key).cloned().unwrap_or_else(|| p.key.clone());
        p.key = operators.get(&domain).cloned().unwrap_or_else(|| name.clone());
        let mail = by.entry(p.key.clone()).or_default();
        mail.domains.insert(domain, name);
        if reporting.contains(&domain) {
            mail.complaints = mail.complaints + p.sums.arm(Figure::Complaints);
        }
        let day = p.across.parse().unwrap_or(p.day);
        let [of, blocked, bounced, complaints] = [Figure::Sent, Figure::Blocked, Figure::Bounced, Figure::Complaints].map(|f| p.sums.of(f));
        let of_day = DeliveryDay { day, of, blocked, bounced, put_off: 0, complaints };
        mail.days.entry(day).or_insert(DeliveryDay { day, ..DeliveryDay::default() }).add(&of_day);
    }
    for (domain, day, messages) in flow::put_off(c, today - DAYS + 1, letterhead)? {
        let Some(name) = operators.get(&domain).or_else(|| names.get(&domain.to_string())) else { continue };
        if let Some(at) = by.get_mut(name).and_then(|mail| mail.days.get_mut(&day)) {
            at.put_off += messages;
        }
    }
    for g in figures::together(&pieces) {
        if let Some(mail) = by.get_mut(&g.key) {
            mail.sums = g;
        }
    }
    let mut pauses = domains::paused_groups(c, rinse_core::Instant::of(now))?;
    let mut held: BTreeMap<String, HeldBack> = flow::held_back(c, rinse_core::Instant::of(now))?
        .into_iter()
        .map(|h| (h.name, HeldBack { usual: h.usual, ceiling: h.ceiling, since: h.since }))
        .collect();
    let mut judged = opened::since(c, rinse_core::Instant::of((today - DAYS + 1) * DAY), letterhead)?;
    let group = |(name, mail): (String, Mail)| {
        let opens = judged.remove(&name).unwrap_or_default();
        let [accepted, blocked, bounced] = [Figure::Accepted, Figure::Blocked, Figure::Bounced].map(|f| mail.sums.sums_for(f).rate(f));
        let rates = [accepted, blocked, bounced, Rate::new(mail.complaints.successes, mail.complaints.trials)];
        DeliveryGroup {
            opened: opened_of(&opens),
            opens,
            pause: pauses.remove(&name),
            held_back: held.remove(&name),
            domains: mail.domains.into_iter().map(|(id, name)| Tied { id, name }).collect(),
            ..DeliveryGroup::of(name, rates, mail.days.into_values().collect())
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
