//! The scenario file: what is true in the simulated world.

use rinse_core::Instant;
use serde::Deserialize;

/// When its year begins: 14 April 2025 in UTC.
pub const BEGINS: Instant = Instant::of(1_744_588_800_000);

#[derive(Debug, Clone, Deserialize)]
pub struct Scenario {
    pub seed: u64,
    /// Domains that the DNS names no mail host for.
    pub no_mail: Vec<String>,
    /// Domains that say in the DNS that they take no mail (RFC 7505).
    pub null_mx: Vec<String>,
    pub complaints: Vec<Complaints>,
    pub taste: Vec<Taste>,
    pub hour: Vec<HourTaste>,
    pub domain: Vec<Domain>,
    /// Records of the world's DNS beside those that follow from the domains.
    pub dns: Vec<crate::dns::Own>,
    pub breakdown: Vec<Breakdown>,
    pub junk: Vec<Junk>,
    pub wakes: Wakes,
    pub sells: Vec<Sells>,
    pub fair: Fair,
}

/// What messages with a subject sell to those who follow a link.
#[derive(Debug, Clone, Deserialize)]
pub struct Sells {
    pub subject_has: String,
    pub product: String,
    pub category: String,
    /// Hundredths of a pound.
    pub price: i64,
    /// The share of those who follow a link that buys who wouldn't have without the message.
    pub of_clicks: f64,
}

/// People who came another way than the others, and are otherwise: those with such numbers.
#[derive(Debug, Clone, Deserialize)]
pub struct Fair {
    pub numbers_from: usize,
    /// What their row says of how they came.
    pub source: String,
    /// In log-odds.
    pub open: f64,
    /// So many times the others' chance to leave.
    pub leave: f64,
}

impl Fair {
    /// Did the person who has an address of ours come by it?
    #[must_use]
    pub fn brought(&self, address: &str) -> bool {
        crate::base::number_of(address).is_some_and(|n| n >= self.numbers_from)
    }
}

/// People who come back to life: on a day of their own within the year their log-odds of opening change.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Wakes {
    pub share: f64,
    pub open: f64,
}

/// How subjects change the chance to open, in log-odds.
#[derive(Debug, Clone, Deserialize)]
pub struct Taste {
    pub subject_has: String,
    pub open: f64,
}

/// How the hour at which a message comes changes the chance to open, in log-odds.
#[derive(Debug, Clone, Deserialize)]
pub struct HourTaste {
    pub subject_has: String,
    /// The best hour of everybody's day.
    pub peak: f64,
    pub wave: f64,
    /// The same around a best hour of each person's own.
    pub own: f64,
    pub weekend: f64,
}

/// A mailbox domain's character.
#[derive(Debug, Clone, Deserialize)]
pub struct Domain {
    pub name: String,
    pub share: f64,
    #[serde(default)]
    pub proxy: f64,
    #[serde(default)]
    pub gone: f64,
    #[serde(default)]
    pub full: f64,
    #[serde(default)]
    pub scanner: bool,
    /// The share of its mailboxes behind a gateway that follows a link of each message after a while.
    #[serde(default)]
    pub gateway: f64,
    #[serde(default)]
    pub greylist: bool,
    #[serde(default)]
    pub strict: bool,
    #[serde(default)]
    pub late_reports: bool,
}

/// A mailing whose readers at one domain complain so many times as often as usually.
#[derive(Debug, Clone, Deserialize)]
pub struct Complaints {
    pub domain: String,
    pub subject_has: String,
    pub times: f64,
}

/// A domain that puts our mail into the junk folder for a while: hardly anybody sees it there.
#[derive(Debug, Clone, Deserialize)]
pub struct Junk {
    pub domain: String,
    /// RFC 3339, as the end.
    pub from: String,
    pub until: String,
    /// What it takes off the chance to open, in log-odds.
    pub open: f64,
}

/// A host that fails for a while, and not its mailboxes.
#[derive(Debug, Clone, Deserialize)]
pub struct Breakdown {
    pub domain: String,
    /// RFC 3339, as the end.
    pub from: String,
    pub until: String,
    /// Of its addresses.
    pub share: f64,
    pub reply: String,
}

fn within(from: &str, until: &str, now: Instant) -> bool {
    let read = |t: &str| Instant::read(t);
    read(from).is_some_and(|from| from <= now) && read(until).is_some_and(|until| now < until)
}

impl Junk {
    /// Does mail land in the junk folder at an instant?
    #[must_use]
    pub fn at(&self, now: Instant) -> bool {
        within(&self.from, &self.until, now)
    }
}

impl Breakdown {
    /// Does the host fail at an instant?
    #[must_use]
    pub fn at(&self, now: Instant) -> bool {
        within(&self.from, &self.until, now)
    }
}

impl Scenario {
    /// The scenario that ships with Rinse.
    ///
    /// # Panics
    /// Never in a released build: a test reads the file.
    #[must_use]
    pub fn skerry_light() -> Self {
        toml::from_str(include_str!("scenario.toml")).unwrap_or_else(|e| panic!("scenario.toml: {e}"))
    }

    /// Does somebody have an address there?
    #[must_use]
    pub fn is_mail_domain(&self, name: &str) -> bool {
        self.domain.iter().any(|d| d.name == name) || self.null_mx.iter().any(|d| d == name)
    }

    /// The character of a domain; one that isn't in the file is an ordinary one.
    #[must_use]
    pub fn domain(&self, name: &str) -> Domain {
        self.domain.iter().find(|d| d.name == name).cloned().unwrap_or(Domain {
            name: name.to_owned(),
            share: 0.0,
            proxy: 0.0,
            gone: 0.0,
            full: 0.0,
            scanner: false,
            gateway: 0.0,
            greylist: false,
            strict: false,
            late_reports: false,
        })
    }

    /// How many times as often as usually readers at a domain complain of a message with this subject.
    #[must_use]
    pub fn complaints_at(&self, domain: &str, subject: &str) -> f64 {
        let subject = subject.to_lowercase();
        self.complaints.iter().filter(|c| c.domain == domain && subject.contains(&c.subject_has)).map(|c| c.times).product()
    }

    /// Does it matter when a message with this subject comes?
    #[must_use]
    pub fn hour_matters(&self, subject: &str) -> bool {
        let subject = subject.to_lowercase();
        self.hour.iter().any(|h| subject.contains(&h.subject_has))
    }

    /// The true effect of the hour and the day at which a message comes, on the log-odds of an open. `own_hour`: the person's best one.
    #[must_use]
    pub fn hour_taste(&self, subject: &str, own_hour: f64, hour: f64, weekend: bool) -> f64 {
        let subject = subject.to_lowercase();
        let near = |best: f64| (std::f64::consts::TAU * (hour - best) / 24.0).cos();
        let of = |h: &HourTaste| h.wave * near(h.peak) + h.own * near(own_hour) + if weekend { h.weekend } else { 0.0 };
        self.hour.iter().filter(|h| subject.contains(&h.subject_has)).map(of).sum()
    }

    /// What a message with this subject sells: the first entry that fits.
    #[must_use]
    pub fn sells(&self, subject: &str) -> Option<&Sells> {
        let subject = subject.to_lowercase();
        self.sells.iter().find(|s| subject.contains(&s.subject_has))
    }

    /// The true effect of a subject on the log-odds of an open.
    #[must_use]
    pub fn taste(&self, subject: &str) -> f64 {
        let subject = subject.to_lowercase();
        self.taste.iter().filter(|t| subject.contains(&t.subject_has)).map(|t| t.open).sum()
    }
}
