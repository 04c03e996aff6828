//! How each mailbox group lets our mail in, and which groups stand by themselves.

use rinse_core::delivery::{About, LetIn, about, let_in};
use rinse_core::report::Rate;
use rinse_store::delivery::alerts::Alert;
use rinse_store::delivery::opened::Opened;
use rinse_store::domains::GroupPause;
use rinse_store::settings::Tied;
use serde::Serialize;
use std::collections::{BTreeMap, HashSet};
use utoipa::ToSchema;

/// So many groups stand by themselves, those with most mail …
const MOST_MAIL: usize = 30;
/// … and where something is to be said, so many in all. The others stand together.
const SHOWN: usize = 100;

/// A day's mail to a group.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct DeliveryDay {
    /// Days since 1970, UTC.
    pub(super) day: i64,
    pub(super) of: u64,
    /// Refused because of us.
    pub(super) blocked: u64,
    /// Refused or given up for the address's reasons.
    pub(super) bounced: u64,
    /// Put off at the first try; whatever became of it then.
    pub(super) put_off: u64,
    /// Of what was delivered.
    pub(super) complaints: u64,
}

impl DeliveryDay {
    pub(super) fn add(&mut self, other: &Self) {
        self.of += other.of;
        self.blocked += other.blocked;
        self.bounced += other.bounced;
        self.put_off += other.put_off;
        self.complaints += other.complaints;
    }
}

/// A group whose hosts asked for less: messages a minute.
#[derive(Serialize, ToSchema)]
pub(crate) struct HeldBack {
    pub(super) usual: f64,
    pub(super) ceiling: f64,
    pub(super) since: i64,
}

/// Human opens of some mailings together, and the share that was expected of the same people.
#[derive(Serialize, ToSchema)]
pub(crate) struct OpenedOfExpected {
    pub(super) opened: Rate,
    pub(super) expected: f64,
    /// So many of the mailings lie under their lower limits.
    pub(super) under: usize,
}

#[allow(clippy::cast_precision_loss)]
pub(super) fn opened_of(opens: &[Opened]) -> Option<OpenedOfExpected> {
    let sum = |f: fn(&Opened) -> u64| opens.iter().map(f).sum::<u64>();
    let opened = Rate::new(sum(|o| o.opened.count), sum(|o| o.opened.of));
    let expected = opens.iter().map(|o| o.expected * o.opened.of as f64).sum::<f64>() / opened.of.max(1) as f64;
    (opened.of > 0).then(|| OpenedOfExpected { opened, expected, under: opens.iter().filter(|o| o.under).count() })
}

/// How a mailbox group lets our mail in.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryGroup {
    pub(super) name: String,
    /// The domains whose mail it takes, as far as mail went there.
    pub(super) domains: Vec<Tied>,
    pub(super) accepted: Rate,
    pub(super) blocked: Rate,
    pub(super) bounced: Rate,
    /// Of what was delivered to its domains that report complaints (one in the last 90 days at least).
    pub(super) complaints: Rate,
    pub(super) let_in: LetIn,
    pub(super) about: About,
    /// The first day of the last run of days on which it blocked anything.
    pub(super) blocked_since: Option<i64>,
    pub(super) days: Vec<DeliveryDay>,
    /// What people opened of each mailing that can be judged, as of the day before.
    pub(super) opens: Vec<Opened>,
    /// Of all of them together; none: none can be judged.
    pub(super) opened: Option<OpenedOfExpected>,
    pub(super) pause: Option<GroupPause>,
    pub(super) held_back: Option<HeldBack>,
    /// So many groups with little mail, of which nothing is to be said, together; 0: it is one group.
    pub(super) others: usize,
}

impl DeliveryGroup {
    /// A group by its mail alone: accepted, blocked, bounced, complained of, and its days in their order.
    pub(super) fn of(name: String, [accepted, blocked, bounced, complaints]: [Rate; 4], days: Vec<DeliveryDay>) -> Self {
        Self {
            name,
            domains: Vec::new(),
            let_in: let_in(&accepted),
            about: about(blocked.count, bounced.count),
            blocked_since: days.iter().rev().take_while(|d| d.blocked > 0).last().map(|d| d.day),
            accepted,
            blocked,
            bounced,
            complaints,
            days,
            opens: Vec::new(),
            opened: None,
            pause: None,
            held_back: None,
            others: 0,
        }
    }

    /// Some groups as one.
    fn together(all: &[Self]) -> Self {
        let sum = |of: fn(&Self) -> Rate| {
            let (count, of) = all.iter().map(of).fold((0, 0), |(count, sum), r| (count + r.count, sum + r.of));
            Rate::new(count, of)
        };
        let mut days: BTreeMap<i64, DeliveryDay> = BTreeMap::new();
        for d in all.iter().flat_map(|g| &g.days) {
            days.entry(d.day).or_insert(DeliveryDay { day: d.day, ..DeliveryDay::default() }).add(d);
        }
        let rates = [sum(|g| g.accepted), sum(|g| g.blocked), sum(|g| g.bounced), sum(|g| g.complaints)];
        let name = format!("{} other groups", all.len());
        Self { others: all.len(), ..Self::of(name, rates, days.into_values().collect()) }
    }

    /// Is there something to say of it?
    fn stands_out(&self) -> bool {
        matches!(self.let_in, LetIn::Less | LetIn::Little)
            || self.pause.is_some()
            || self.held_back.is_some()
            || self.opens.iter().any(|o| o.under)
    }
}

/// Puts what is of little mail and as ever together, at the end: a base with thousands of domains would hide what matters among them.
pub(super) fn folded(groups: Vec<DeliveryGroup>, alerts: &[Alert]) -> Vec<DeliveryGroup> {
    let told: HashSet<&str> = alerts.iter().map(|a| a.group.as_str()).collect();
    let (mut out, mut others) = (Vec::new(), Vec::new());
    for (i, g) in groups.into_iter().enumerate() {
        let stands = i < MOST_MAIL || out.len() < SHOWN && (g.stands_out() || told.contains(g.name.as_str()));
        if stands { out.push(g) } else { others.push(g) }
    }
    // One more line takes no more room than one that stands for it.
    if others.len() > 1 {
        others = vec![DeliveryGroup::together(&others)];
    }
    out.extend(others);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(n: u64, of: u64, blocked: u64) -> DeliveryGroup {
        let day = i64::try_from(n % 28).unwrap();
        let rates = [Rate::new(of - blocked, of), Rate::new(blocked, of), Rate::new(0, of), Rate::new(0, 0)];
        DeliveryGroup::of(format!("d{n}.example"), rates, vec![DeliveryDay { day, of, blocked, ..DeliveryDay::default() }])
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
