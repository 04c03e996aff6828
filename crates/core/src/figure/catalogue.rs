//! The definitions.

use super::{Fact, Figure, Literal};
use serde::Serialize;
use utoipa::ToSchema;

/// A fact that holds.
macro_rules! yes {
    ($fact:ident) => {
        Literal { fact: Fact::$fact, holds: true }
    };
}

/// A fact that doesn't.
macro_rules! no {
    ($fact:ident) => {
        Literal { fact: Fact::$fact, holds: false }
    };
}

/// A figure as it is told: name, formula, what is counted and what is left out.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
#[schema(as = FigureDefinition)]
pub struct Definition {
    pub figure: Figure,
    pub key: &'static str,
    pub name: &'static str,
    /// What it is a share of.
    pub of: Option<Figure>,
    /// Whom it is a share of, in words.
    pub of_words: &'static str,
    pub counted: &'static str,
    /// Empty: nothing of what it is of is left out.
    pub left_out: &'static str,
    /// The figure with machines' responses included.
    pub reported: Option<Figure>,
    /// What it is made of; a message can be in more than one of them.
    pub parts: &'static [Figure],
    /// Reported, and taken out as no person's, by what explains it: these and the figure make up what is reported.
    pub taken_out: &'static [Figure],
    /// Of a text message nobody can tell.
    pub email_only: bool,
    /// Decimals of its share in percent.
    pub decimals: u8,
    #[serde(skip)]
    pub own: &'static [Literal],
}

const PLAIN: Definition = Definition {
    figure: Figure::Sent,
    key: "sent",
    name: "Sent",
    of: None,
    of_words: "",
    counted: "Messages handed over to a mail host or a text gateway at least once, one for each person.",
    left_out: "Tests, and people still held.",
    reported: None,
    parts: &[],
    taken_out: &[],
    email_only: false,
    decimals: 1,
    own: &[yes!(HandedOver)],
};

const OF_SENT: Definition = Definition { of: Some(Figure::Sent), of_words: "messages handed over", left_out: "", ..PLAIN };

const OF_DELIVERED: Definition = Definition {
    of: Some(Figure::Delivered),
    of_words: "delivered messages: accepted, and no report of failure",
    left_out: "Messages whose failure was reported after they had been accepted.",
    ..PLAIN
};

const A_BOUNCE: Definition = Definition { decimals: 2, ..OF_SENT };

const A_LEAVING: Definition = Definition { decimals: 2, ..OF_DELIVERED };

/// What holds of a message that was opened, and not by a person, by what explains the first such open.
const NO_PERSON_OPENED: [[Literal; 4]; 5] = [
    [no!(OpensUnknown), yes!(ReportedOpen), no!(HumanOpen), yes!(OpenTooSoon)],
    [no!(OpensUnknown), yes!(ReportedOpen), no!(HumanOpen), yes!(OpenByAgent)],
    [no!(OpensUnknown), yes!(ReportedOpen), no!(HumanOpen), yes!(OpenByNetwork)],
    [no!(OpensUnknown), yes!(ReportedOpen), no!(HumanOpen), yes!(OpenByDomain)],
    [no!(OpensUnknown), yes!(ReportedOpen), no!(HumanOpen), yes!(OpenByHead)],
];

/// … and of one that was clicked.
const NO_PERSON_CLICKED: [[Literal; 3]; 5] = [
    [yes!(ReportedClick), no!(HumanClick), yes!(ClickTooSoon)],
    [yes!(ReportedClick), no!(HumanClick), yes!(ClickByAgent)],
    [yes!(ReportedClick), no!(HumanClick), yes!(ClickByNetwork)],
    [yes!(ReportedClick), no!(HumanClick), yes!(ManyClicks)],
    [yes!(ReportedClick), no!(HumanClick), yes!(ClickByHead)],
];

const fn taken_out_open(key: &'static str, name: &'static str, own: &'static [Literal]) -> Definition {
    let counted = "People whose opens can be known, with opens by machines alone; told by the first.";
    Definition { key, name, counted, left_out: "", email_only: true, own, ..OF_DELIVERED }
}

const fn taken_out_click(key: &'static str, name: &'static str, own: &'static [Literal]) -> Definition {
    Definition { key, name, counted: "People with clicks by machines alone; told by the first.", left_out: "", own, ..OF_DELIVERED }
}

impl Figure {
    #[must_use]
    pub const fn definition(self) -> Definition {
        let of = match self {
            Self::Sent => PLAIN,
            Self::Accepted => Definition {
                key: "accepted",
                name: "Accepted",
                counted: "Messages the host took (2xx).",
                own: &[yes!(Accepted)],
                ..OF_SENT
            },
            Self::Bounced => Definition {
                key: "bounced",
                name: "Bounced",
                counted: "Messages refused for the address's or its host's reasons, given up, or reported as failed afterwards.",
                left_out: "Blocks, which are about us and not about the address.",
                parts: &[Self::BouncedPermanently, Self::BouncedTemporarily],
                own: &[yes!(Failed), no!(Block)],
                ..A_BOUNCE
            },
            Self::BouncedPermanently => Definition {
                key: "bounced_permanently",
                name: "Bounced for good",
                counted: "Messages that failed by the address's fault: no such address or domain, or a mailbox that is disabled.",
                own: &[yes!(Failed), yes!(Permanent)],
                ..A_BOUNCE
            },
            Self::BouncedTemporarily => Definition {
                key: "bounced_temporarily",
                name: "Bounced for a passing reason",
                counted: "Messages that failed for a reason that passes: a full mailbox, a host that put us off until we gave up, a wrong route.",
                own: &[yes!(Failed), yes!(Temporary)],
                ..A_BOUNCE
            },
            Self::Blocked => Definition {
                key: "blocked",
                name: "Blocked",
                counted: "Messages the host refused because of us: reputation, policy, content, size or sender authentication.",
                own: &[yes!(Failed), yes!(Block)],
                ..A_BOUNCE
            },
            Self::Delivered => Definition {
                key: "delivered",
                name: "Delivered",
                of: Some(Self::Accepted),
                of_words: "messages the host accepted",
                counted: "Accepted messages with no report of failure; for 5 days one may still come.",
                own: &[no!(Failed)],
                ..OF_SENT
            },
            Self::OpensKnown => Definition {
                key: "opens_known",
                name: "Opens can be known",
                counted: "Delivered messages to people whose opens can be told from a machine's.",
                left_out: "People of domains that fetch the images of most messages by themselves within 5 minutes.",
                email_only: true,
                own: &[no!(OpensUnknown)],
                ..OF_DELIVERED
            },
            Self::HumanOpens => Definition {
                key: "human_opens",
                name: "Human opens",
                of: Some(Self::OpensKnown),
                of_words: "delivered messages to people whose opens can be known",
                counted: "People with an open that no machine rule explains.",
                left_out: "People of domains that fetch images by themselves: whether they opened isn't known, which is not the same as no. Machines' opens, by the machine rules in force.",
                reported: Some(Self::ReportedOpens),
                taken_out: &[
                    Self::OpensOfUnknown,
                    Self::OpensTooSoon,
                    Self::OpensByAgent,
                    Self::OpensByNetwork,
                    Self::OpensByDomain,
                    Self::OpensByHead,
                ],
                email_only: true,
                own: &[yes!(HumanOpen)],
                ..OF_DELIVERED
            },
            Self::HumanClicks => Definition {
                key: "human_clicks",
                name: "Human clicks",
                counted: "People with a click that no machine rule explains.",
                left_out: "Messages whose failure was reported after they had been accepted. Machines' clicks, by the machine rules in force.",
                reported: Some(Self::ReportedClicks),
                taken_out: &[Self::ClicksTooSoon, Self::ClicksByAgent, Self::ClicksByNetwork, Self::ClicksMany, Self::ClicksByHead],
                own: &[yes!(HumanClick)],
                ..OF_DELIVERED
            },
            Self::ClickToOpen => Definition {
                key: "click_to_open",
                name: "Click-to-open",
                of: Some(Self::HumanOpens),
                of_words: "people with a human open",
                counted: "People with a human open and a human click.",
                left_out: "Clicks of people with no open that counts.",
                email_only: true,
                own: &[yes!(HumanClick)],
                ..OF_DELIVERED
            },
            Self::Replies => Definition {
                key: "replies",
                name: "Replies",
                counted: "People who wrote back.",
                left_out: "Auto-replies and bounces; replies known by sender and subject alone.",
                decimals: 2,
                own: &[yes!(Reply)],
                ..OF_DELIVERED
            },
            Self::Leaving => Definition {
                key: "leaving",
                name: "Leaving",
                counted: "People who left by this message, in any way: its topic, its series, a pause, everything, or a complaint.",
                parts: &[Self::LeftTopic, Self::LeftSeries, Self::Paused, Self::Withdrew, Self::Complaints],
                own: &[yes!(Left)],
                ..A_LEAVING
            },
            Self::LeftTopic => Definition {
                key: "left_topic",
                name: "Left the topic",
                counted: "People who left the topic by this message.",
                own: &[yes!(LeftTopic)],
                ..A_LEAVING
            },
            Self::LeftSeries => Definition {
                key: "left_series",
                name: "Left the series",
                counted: "People who left the series by this message.",
                own: &[yes!(LeftSeries)],
                ..A_LEAVING
            },
            Self::Paused => Definition {
                key: "paused",
                name: "Paused",
                counted: "People who paused all mail from this message's preferences page.",
                own: &[yes!(Paused)],
                ..A_LEAVING
            },
            Self::Withdrew => Definition {
                key: "withdrew",
                name: "Withdrew",
                counted: "People who withdrew from everything by this message.",
                own: &[yes!(Withdrew)],
                ..A_LEAVING
            },
            Self::Complaints => Definition {
                key: "complaints",
                name: "Complaints",
                counted: "People whose host sent an abuse report (RFC 5965).",
                email_only: true,
                own: &[yes!(Complained)],
                ..A_LEAVING
            },
            Self::ReportedOpens => Definition {
                key: "reported_opens",
                name: "Opens as reported",
                counted: "People with any open, machines' included.",
                email_only: true,
                own: &[yes!(ReportedOpen)],
                ..OF_DELIVERED
            },
            Self::ReportedClicks => Definition {
                key: "reported_clicks",
                name: "Clicks as reported",
                counted: "People with any click, machines' included.",
                own: &[yes!(ReportedClick)],
                ..OF_DELIVERED
            },
            Self::OpensOfUnknown => Definition {
                key: "opens_of_unknown",
                name: "Opens of people whose opens can’t be known",
                counted: "People with any open whose domain fetches images by itself.",
                email_only: true,
                own: &[yes!(OpensUnknown), yes!(ReportedOpen)],
                ..OF_DELIVERED
            },
            Self::OpensTooSoon => taken_out_open("opens_too_soon", "Opens too soon after delivery", &NO_PERSON_OPENED[0]),
            Self::OpensByAgent => taken_out_open("opens_by_agent", "Opens by a proxy’s agent", &NO_PERSON_OPENED[1]),
            Self::OpensByNetwork => taken_out_open("opens_by_network", "Opens from a proxy’s network", &NO_PERSON_OPENED[2]),
            Self::OpensByDomain => taken_out_open("opens_by_domain", "Opens of a domain that a trial knew to fetch", &NO_PERSON_OPENED[3]),
            Self::OpensByHead => taken_out_open("opens_by_head", "Opens by a HEAD request", &NO_PERSON_OPENED[4]),
            Self::ClicksTooSoon => taken_out_click("clicks_too_soon", "Clicks too soon after delivery", &NO_PERSON_CLICKED[0]),
            Self::ClicksByAgent => taken_out_click("clicks_by_agent", "Clicks by a scanner’s agent", &NO_PERSON_CLICKED[1]),
            Self::ClicksByNetwork => taken_out_click("clicks_by_network", "Clicks from a scanner’s network", &NO_PERSON_CLICKED[2]),
            Self::ClicksMany => taken_out_click("clicks_many", "Many links within moments", &NO_PERSON_CLICKED[3]),
            Self::ClicksByHead => taken_out_click("clicks_by_head", "Clicks by a HEAD request", &NO_PERSON_CLICKED[4]),
        };
        Definition { figure: self, ..of }
    }
}
