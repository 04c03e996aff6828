//! An outline as sentences.

use super::{Again, Does, Entry, Exit, Happening, Outline, Question, Step};
use crate::goal::buys;
use crate::reaction::DeedNames;
use std::collections::HashMap;

/// The names that numbers stand for, and the messages of the outline's steps.
#[derive(Debug, Clone, Default)]
pub struct Named {
    pub deeds: DeedNames,
    /// By step.
    pub mail: HashMap<u32, String>,
}

fn of(map: &HashMap<i64, String>, id: i64, what: &str) -> String {
    map.get(&id).cloned().unwrap_or_else(|| format!("a {what} that is gone"))
}

/// Hours as people say them.
#[must_use]
pub(super) fn lasting(hours: u32) -> String {
    let (n, what) = if hours >= 48 && hours.is_multiple_of(24) { (hours / 24, "day") } else { (hours, "hour") };
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

fn clock(minute: u16) -> String {
    format!("{:02}:{:02}", minute / 60, minute % 60)
}

impl Named {
    fn message(&self, step: u32) -> String {
        self.mail.get(&step).map_or_else(|| "a message that is gone".into(), |m| format!("“{m}”"))
    }

    fn happening(&self, what: &Happening) -> String {
        match what {
            Happening::Opened { step } => format!("opens {}", self.message(*step)),
            Happening::Clicked { step, link: None } => format!("clicks in {}", self.message(*step)),
            Happening::Clicked { step, link: Some(link) } => format!("clicks link {} of {}", link + 1, self.message(*step)),
            Happening::Replied { step } => format!("replies to {}", self.message(*step)),
            Happening::Event { name } => format!("has “{name}” happen"),
            Happening::Bought { product, category } => buys(product, category),
            Happening::Goal { goal } => format!("meets the goal {}", of(&self.deeds.names.goals, *goal, "goal")),
        }
    }

    /// The same as something that has happened, or not.
    fn happened(&self, what: &Happening) -> String {
        match what {
            Happening::Opened { step } => format!("opened {}", self.message(*step)),
            Happening::Clicked { step, link: None } => format!("clicked in {}", self.message(*step)),
            Happening::Clicked { step, link: Some(link) } => format!("clicked link {} of {}", link + 1, self.message(*step)),
            Happening::Replied { step } => format!("replied to {}", self.message(*step)),
            Happening::Event { name } => format!("had “{name}” happen"),
            Happening::Bought { .. } => self.happening(what).replacen("buys", "bought", 1),
            Happening::Goal { .. } => self.happening(what).replacen("meets", "met", 1),
        }
    }

    /// One step, without what lies under it.
    #[must_use]
    pub fn step(&self, step: &Step) -> String {
        match &step.does {
            Does::Mail { .. } => format!("Send {}", self.message(step.id)),
            Does::Wait { hours: 0, minute: Some(m) } => format!("Wait until {} where they are", clock(*m)),
            Does::Wait { hours, minute: None } => format!("Wait {}", lasting(*hours)),
            Does::Wait { hours, minute: Some(m) } => format!("Wait {}, then until {} where they are", lasting(*hours), clock(*m)),
            Does::Await { what, hours } => format!("Wait until somebody {}, {} at most", self.happening(what), lasting(*hours)),
            Does::Fork { on: Question::Segment { segment }, .. } => format!("In {}?", of(&self.deeds.names.segments, segment.0, "segment")),
            Does::Fork { on: Question::Happened { what }, .. } => format!("Have they {} since they entered?", self.happened(what)),
            Does::Fork { on: Question::Share { percent }, .. } => format!("In a random {percent}%?"),
            Does::Act { deed } => capital(&deed.words(&self.deeds)),
        }
    }

    /// Who enters.
    #[must_use]
    pub fn entry(&self, entry: &Entry) -> String {
        match entry {
            Entry::Segment { segment, those_in_it } => {
                let too = if *those_in_it { ", and those who are in it at the start" } else { "" };
                format!("Everybody who joins {}{too}", of(&self.deeds.names.segments, segment.0, "segment"))
            }
            Entry::Event { name } => format!("Everybody to whom “{name}” happens"),
            Entry::Bought { product, category } => format!("Everybody who {}", buys(product, category)),
            Entry::Date { field, days, minute, yearly } => {
                let field = of(&self.deeds.names.fields, *field, "field");
                let day = match days {
                    0 => format!("On the day of {field}"),
                    d => format!(
                        "{} day{} {} {field}",
                        d.abs(),
                        if d.abs() == 1 { "" } else { "s" },
                        if *d < 0 { "before" } else { "after" }
                    ),
                };
                format!("{day}{}, at {} where they are", if *yearly { " each year" } else { "" }, clock(*minute))
            }
            Entry::ByHand => "Only who is put in, by a person or a reaction".into(),
        }
    }

    /// What takes somebody out.
    #[must_use]
    pub fn exit(&self, exit: &Exit) -> String {
        match exit {
            Exit::Happened { what } => capital(&self.happening(what)),
            Exit::TopicLeft { topic } => format!("Leaves the topic {}", of(&self.deeds.names.topics, *topic, "topic")),
            Exit::SegmentLeft { segment } => format!("Is no longer in {}", of(&self.deeds.names.segments, segment.0, "segment")),
        }
    }
}

fn small(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map_or_else(String::new, |c| c.to_lowercase().chain(chars).collect())
}

fn capital(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().chain(chars).collect())
}

impl Again {
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Never => "once only".into(),
            Self::After { days } => format!("again {days} day{} after they entered last", if days == 1 { "" } else { "s" }),
            Self::Always => "again each time".into(),
        }
    }
}

impl Outline {
    /// The whole in one sentence.
    #[must_use]
    pub fn words(&self, named: &Named) -> String {
        let mail = self.mailings().len();
        let exits: Vec<String> = self.exits.iter().map(|e| small(&named.exit(e))).collect();
        let out = if exits.is_empty() { String::new() } else { format!(" Out early: {}.", exits.join("; ")) };
        format!(
            "{}, {}: {} step{}, {mail} message{}.{out}",
            named.entry(&self.entry),
            self.again.words(),
            self.placed().len(),
            if self.placed().len() == 1 { "" } else { "s" },
            if mail == 1 { "" } else { "s" }
        )
    }
}
