//! Outlines to begin with: a series with its messages as drafts, to be put into one's own words.

use super::{Again, Does, Entry, Exit, Happening, Outline, Question, Step};
use crate::id::{MailingId, SegmentId};
use crate::segment::Tree;
use crate::upkeep::silence::Stage;

/// A message that a starter drafts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message {
    pub name: &'static str,
    pub subject: &'static str,
    /// Markdown, without the closing lines that every message owes.
    pub text: &'static str,
}

/// An outline to begin with. Its mail steps count its messages from 0; a segment of `enters` is made.
#[derive(Debug, Clone)]
pub struct Starter {
    pub key: &'static str,
    pub name: &'static str,
    pub words: &'static str,
    pub outline: Outline,
    pub messages: &'static [Message],
    /// Who enters, where that is a segment: its name and conditions.
    pub enters: Option<(&'static str, Tree)>,
}

fn step(id: u32, does: Does) -> Step {
    Step { id, does }
}

fn mail(id: u32, message: i64) -> Step {
    step(id, Does::Mail { mailing: MailingId(message) })
}

/// Which segment it is, is known when it is made.
const MADE: i64 = 0;

/// The key of the series that asks silent people.
pub const ASKING: &str = "asking_again";

/// All of them.
#[must_use]
pub fn all() -> Vec<Starter> {
    let joins = Entry::Segment { segment: SegmentId(MADE), those_in_it: false };
    vec![
        Starter {
            key: "welcome",
            name: "Welcome",
            words: "Greets new people, tells them what there is, and asks those who opened nothing again.",
            outline: Outline {
                entry: joins.clone(),
                again: Again::Never,
                steps: vec![
                    mail(1, 0),
                    step(2, Does::Wait { hours: 72, minute: Some(9 * 60) }),
                    mail(3, 1),
                    step(4, Does::Await { what: Happening::Opened { step: 3 }, hours: 96 }),
                    step(
                        5,
                        Does::Fork { on: Question::Happened { what: Happening::Opened { step: 3 } }, yes: vec![], no: vec![mail(6, 2)] },
                    ),
                ],
                ..Outline::default()
            },
            messages: &[
                Message {
                    name: "Welcome 1: good to have you",
                    subject: "Good to have you with us",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nthank you for joining. This is what you can expect from us, and how often.",
                },
                Message {
                    name: "Welcome 2: what there is",
                    subject: "What you can do with us",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nhere is what people like best.",
                },
                Message {
                    name: "Welcome 3: in case you missed it",
                    subject: "In case you missed it",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nwe wrote to you some days ago. In short, this is what it was about.",
                },
            ],
            enters: Some(("New people (added in the last 7 days)", Tree::Added { within_days: 7 })),
        },
        Starter {
            key: "after_a_purchase",
            name: "After a purchase",
            words: "Thanks everybody who buys, and asks a week later how it was; who buys again leaves.",
            outline: Outline {
                entry: Entry::Bought { product: None, category: None },
                again: Again::After { days: 90 },
                steps: vec![
                    step(1, Does::Wait { hours: 24, minute: None }),
                    mail(2, 0),
                    step(3, Does::Wait { hours: 168, minute: Some(10 * 60) }),
                    mail(4, 1),
                ],
                exits: vec![Exit::Happened { what: Happening::Bought { product: None, category: None } }],
                ..Outline::default()
            },
            messages: &[
                Message {
                    name: "After a purchase 1: thank you",
                    subject: "Thank you",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nthank you. This is how to get the most out of it.",
                },
                Message {
                    name: "After a purchase 2: how was it?",
                    subject: "How was it?",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nhow was it? Just reply to this message: a person reads it.",
                },
            ],
            enters: None,
        },
        Starter {
            key: ASKING,
            name: "Asking silent people",
            words: "Asks silent people with one button whether to go on; who presses it, answers or buys leaves the series. Who lets it pass can be sunset by a cleaning run.",
            outline: Outline {
                entry: Entry::Segment { segment: SegmentId(MADE), those_in_it: true },
                again: Again::After { days: 180 },
                steps: vec![mail(1, 0), step(2, Does::Await { what: Happening::Clicked { step: 1, link: None }, hours: 240 }), mail(3, 1)],
                exits: vec![
                    Exit::Happened { what: Happening::Clicked { step: 1, link: None } },
                    Exit::Happened { what: Happening::Clicked { step: 3, link: None } },
                    Exit::Happened { what: Happening::Bought { product: None, category: None } },
                ],
                ..Outline::default()
            },
            messages: &[
                Message {
                    name: "Asking again 1: shall we go on writing?",
                    subject: "Shall we go on writing to you?",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nwe haven’t heard from you for long. One press of a button tells us that you want to stay:\n\n[Yes, go on writing to me]({{ go_on_url }})",
                },
                Message {
                    name: "Asking again 2: the last time we ask",
                    subject: "The last time we ask",
                    text: "Dear {{ given_name|default(\"friend\") }},\n\nthis is the last time that we ask. If we hear nothing, we stop these letters.\n\n[Yes, go on writing to me]({{ go_on_url }})",
                },
            ],
            enters: Some(("Silent: to be asked", Tree::Silent { stages: vec![Stage::ToAsk] })),
        },
    ]
}

impl Starter {
    /// Its outline with the drafts and the segment that were made for it.
    #[must_use]
    pub fn with(&self, mailings: &[MailingId], segment: Option<SegmentId>) -> Outline {
        fn put(steps: &mut [Step], mailings: &[MailingId]) {
            for s in steps {
                match &mut s.does {
                    Does::Mail { mailing } => {
                        *mailing = usize::try_from(mailing.0).ok().and_then(|i| mailings.get(i)).copied().unwrap_or_default();
                    }
                    Does::Fork { yes, no, .. } => {
                        put(yes, mailings);
                        put(no, mailings);
                    }
                    _ => {}
                }
            }
        }
        let mut out = self.outline.clone();
        put(&mut out.steps, mailings);
        if let (Entry::Segment { segment: s, .. }, Some(made)) = (&mut out.entry, segment) {
            *s = made;
        }
        out
    }
}
