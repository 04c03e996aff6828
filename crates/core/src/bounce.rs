//! What a failure means: category and class of an SMTP reply or a delivery report.
//!
//! Enhanced code (RFC 3463) first, then the text where the code is generic, then the basic reply
//! code. A block (about us) never counts against the address.

use serde::{Deserialize, Serialize};

/// Whose fault it is, and for how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FailureClass {
    /// The address's fault, for good.
    Permanent,
    /// The address's or its host's, passing.
    Temporary,
    /// About us: reputation, policy, content, authentication.
    Block,
    /// Can't be told: counts for nothing.
    Unknown,
}

impl FailureClass {
    /// Does a failure of it count against the address? A block is about us, and what can't be told counts for nothing.
    #[must_use]
    pub fn counts_against_address(self) -> bool {
        matches!(self, Self::Permanent | Self::Temporary)
    }
}

/// What went wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = FailureCategory)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Category {
    NoSuchAddress = 1,
    NoSuchDomain = 2,
    MailboxFull = 3,
    MailboxDisabled = 4,
    Deferred = 5,
    TooLarge = 6,
    Policy = 7,
    Content = 8,
    Authentication = 9,
    Routing = 10,
    Unknown = 11,
}

impl Category {
    pub const ALL: [Self; 11] = [
        Self::NoSuchAddress,
        Self::NoSuchDomain,
        Self::MailboxFull,
        Self::MailboxDisabled,
        Self::Deferred,
        Self::TooLarge,
        Self::Policy,
        Self::Content,
        Self::Authentication,
        Self::Routing,
        Self::Unknown,
    ];

    #[must_use]
    pub fn class(self) -> FailureClass {
        match self {
            Self::NoSuchAddress | Self::NoSuchDomain | Self::MailboxDisabled => FailureClass::Permanent,
            Self::MailboxFull | Self::Deferred | Self::Routing => FailureClass::Temporary,
            Self::TooLarge | Self::Policy | Self::Content | Self::Authentication => FailureClass::Block,
            Self::Unknown => FailureClass::Unknown,
        }
    }

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NoSuchAddress => "no such address",
            Self::NoSuchDomain => "no such domain",
            Self::MailboxFull => "mailbox full",
            Self::MailboxDisabled => "mailbox disabled",
            Self::Deferred => "deferred by the host",
            Self::TooLarge => "message too large",
            Self::Policy => "blocked by reputation or policy",
            Self::Content => "content refused",
            Self::Authentication => "sender authentication failed",
            Self::Routing => "routing failure",
            Self::Unknown => "reason unknown",
        }
    }

    /// What the rules say of a line as it is stored.
    #[must_use]
    pub fn of_line(line: &str) -> Self {
        Reply::parse(line).category()
    }

    #[must_use]
    pub fn from_code(code: i64) -> Self {
        Self::ALL.into_iter().find(|&c| c as i64 == code).unwrap_or(Self::Unknown)
    }
}

/// An SMTP reply: basic code, enhanced code where the host gave one, text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reply {
    pub code: u16,
    pub enhanced: Option<(u8, u16, u16)>,
    pub text: String,
}

impl Reply {
    /// Reads `550 5.1.1 no such user`, or just `5.1.1 no such user`.
    #[must_use]
    pub fn parse(line: &str) -> Self {
        let mut words = line.trim().splitn(3, [' ', '-']);
        let first = words.next().unwrap_or_default();
        let (code, rest) = match first.parse::<u16>() {
            // A line of what never had a reply is stored with the code 0.
            Ok(code) if code == 0 || (200..600).contains(&code) => (code, line.trim()[first.len()..].trim_start_matches([' ', '-'])),
            _ => (0, line.trim()),
        };
        let status = rest.split_whitespace().next().unwrap_or_default();
        match parse_status(status) {
            Some(enhanced) => Self { code, enhanced: Some(enhanced), text: rest[status.len()..].trim().to_owned() },
            None => Self { code, enhanced: None, text: rest.to_owned() },
        }
    }

    #[must_use]
    pub fn accepted(&self) -> bool {
        (200..300).contains(&self.code)
    }

    /// Should the same message be tried again? Follows the reply's first digit.
    #[must_use]
    pub fn try_again(&self) -> bool {
        self.put_off() || self.code == 0
    }

    /// Did the host say that it may take the message later?
    #[must_use]
    pub fn put_off(&self) -> bool {
        (400..500).contains(&self.code)
    }

    /// The line as it is stored and shown.
    #[must_use]
    pub fn line(&self) -> String {
        match self.enhanced {
            Some((c, s, d)) => format!("{} {c}.{s}.{d} {}", self.code, self.text),
            None => format!("{} {}", self.code, self.text),
        }
    }

    /// What the reply says went wrong.
    #[must_use]
    pub fn category(&self) -> Category {
        let first = self.enhanced.map_or(self.code / 100, |(c, _, _)| u16::from(c));
        let permanent = first == 5;
        let by_text = category_of_text(&self.text);
        // Codes that say both "for now" and "for good" of the address say nothing.
        let at_odds = self.enhanced.is_some_and(|(c, subject, _)| subject == 1 && matches!((self.code / 100, c), (4, 5) | (5, 4)));
        match self.enhanced.map(|(_, subject, detail)| (subject, detail)) {
            _ if at_odds => Category::Unknown,
            // Generic codes give way to what the host says in words.
            Some((4, 1) | (7, 1) | (_, 0)) if by_text.is_some() => by_text.unwrap_or(Category::Unknown),
            // A domain that says that it takes no mail (RFC 7505) has no such address.
            Some((1, 1 | 6 | 10)) if permanent => Category::NoSuchAddress,
            Some((1, 2)) if permanent => Category::NoSuchDomain,
            // Something is wrong with the address for good, and isn't said more exactly.
            Some((1, 0)) if permanent => Category::MailboxDisabled,
            Some((1, 1)) => Category::Deferred,
            Some((2, 1)) if permanent => Category::MailboxDisabled,
            Some((2, 2)) => Category::MailboxFull,
            Some((2, 3) | (3, 4)) => Category::TooLarge,
            Some((4, 7 | 1 | 5) | (7, 0) | (2, 1) | (3, 1 | 2)) if !permanent => Category::Deferred,
            Some((4, _)) if permanent => Category::Routing,
            Some((4, 4 | 6 | 3)) => Category::Routing,
            Some((6, _)) => Category::Content,
            Some((7, 8 | 9 | 20..=29)) => Category::Authentication,
            Some((7, _)) => Category::Policy,
            _ => by_text.unwrap_or(match self.code {
                421 | 450 | 451 => Category::Deferred,
                452 | 552 => Category::MailboxFull,
                _ => Category::Unknown,
            }),
        }
    }
}

/// A reply line without what tells one message from another: addresses become `…@domain`, other words with digits in them `#`. The codes stay.
#[must_use]
pub fn masked(line: &str) -> String {
    let reply = Reply::parse(line);
    let word = |w: &str| {
        if let Some((_, domain)) = w.rsplit_once('@') {
            return format!("…@{}", domain.trim_end_matches(['>', ')', ',', '.', ':', ';']));
        }
        if w.contains(|c: char| c.is_ascii_digit()) && parse_status(w).is_none() { "#".to_owned() } else { w.to_owned() }
    };
    let text = reply.text.split_whitespace().map(word).collect::<Vec<_>>().join(" ");
    let line: String = Reply { text, ..reply }.line().chars().take(200).collect();
    line.trim_end().to_owned()
}

/// Does a text look like a host's reply? It begins with a code of three digits and goes on with words, or begins with an enhanced code.
#[must_use]
pub fn is_reply_line(cell: &str) -> bool {
    let (first, rest) = cell.split_once([' ', '-']).unwrap_or((cell, ""));
    let code = first.len() == 3 && first.parse::<u16>().is_ok_and(|n| (200..600).contains(&n));
    parse_status(first).is_some() || code && cell.len() > 8 && rest.contains(|c: char| c.is_alphabetic())
}

/// Reads `5.1.1`.
#[must_use]
pub fn parse_status(text: &str) -> Option<(u8, u16, u16)> {
    let mut parts = text.split('.');
    let class = parts.next()?.parse().ok().filter(|c| matches!(c, 2 | 4 | 5))?;
    let subject = parts.next()?.parse().ok().filter(|s| *s < 1000)?;
    let detail = parts.next()?.parse().ok().filter(|s| *s < 1000)?;
    parts.next().is_none().then_some((class, subject, detail))
}

fn category_of_text(text: &str) -> Option<Category> {
    // The first that fits counts: what says that it is full or that it is about us comes before what says that nobody is there.
    const PHRASES: &[(Category, &[&str])] = &[
        (
            Category::MailboxFull,
            &[
                "over quota",
                "overquota",
                "over its quota",
                "exceeding their quota",
                "mailbox full",
                "mailbox is full",
                "mailfolder is full",
                "full mailbox",
                "inbox is full",
                "quota exceeded",
                "disk quota",
                "over disk",
                "exceeds allowed size",
                "exceeded storage",
                "storage exceeded",
                "mailbox size limit",
                "too many messages on the server",
                "mailbox has exceeded",
            ],
        ),
        (
            Category::Deferred,
            &[
                "greylist",
                "graylist",
                "try again later",
                "try again",
                "temporarily deferred",
                "temporarily unavailable",
                "service currently unavailable",
                "name service error",
            ],
        ),
        (Category::TooLarge, &["too large", "too big", "size exceeds", "exceeds size", "maximum message size", "exceeds the maximum"]),
        (
            Category::Policy,
            &[
                "blocklist",
                "blacklist",
                "reputation",
                "complaint",
                "policy",
                "relay access denied",
                "relaying denied",
                "unable to relay",
                "as a relay",
                "rcpthosts",
                "not allowed to send",
                "not accepting mail",
                "spamhaus",
                "dnsbl",
                "blocked",
            ],
        ),
        (Category::Content, &["spam", "virus", "junk", "banned content", "content rejected"]),
        (
            Category::Routing,
            &[
                "too many hops",
                "looping",
                "mail loop",
                "loop detected",
                "could not find a gateway",
                "hosts have been failing",
                "unrouteable",
                "connection timed out",
                "connection refused",
                "no route to host",
            ],
        ),
        (
            Category::NoSuchDomain,
            &[
                "no such domain",
                "unknown domain",
                "domain not found",
                "domain does not exist",
                "unknown host",
                "host unknown",
                "host not found",
                "name or service not known",
            ],
        ),
        (
            Category::MailboxDisabled,
            &[
                "disabled",
                "deactivated",
                "suspended",
                "not an active address",
                "inactive",
                "no longer in use",
                "no longer valid",
                "no longer active",
                "discontinued",
                "mailbox unavailable",
            ],
        ),
        (
            Category::NoSuchAddress,
            &[
                "no such user",
                "no such person",
                "no such mailbox",
                "no such address",
                "no such recipient",
                "user unknown",
                "unknown user",
                "user not known",
                "user not found",
                "not a known user",
                "unknown recipient",
                "recipient unknown",
                "recipient not found",
                "invalid recipient",
                "addressee unknown",
                "address unknown",
                "unknown address",
                "unknown local",
                "invalid mailbox",
                "not a valid mailbox",
                "mailbox not found",
                "mail-box not found",
                "no mailbox",
                "no mail box",
                "invalid final delivery",
                "name is not recognized",
                "not listed in",
                "does not exist",
                "doesn't exist",
                "n'existe pas",
                "does not have a",
                "doesn't have a",
                "bad_recipient",
                "no longer exists",
            ],
        ),
    ];
    let text = text.to_lowercase();
    PHRASES.iter().find(|(_, phrases)| phrases.iter().any(|p| text.contains(p))).map(|(category, _)| *category)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("550 5.1.1 no such user here", Category::NoSuchAddress, FailureClass::Permanent, false)]
    #[case("550 User unknown", Category::NoSuchAddress, FailureClass::Permanent, false)]
    #[case("552 5.2.2 mailbox full", Category::MailboxFull, FailureClass::Temporary, false)]
    #[case("451 4.7.1 greylisted, try again later", Category::Deferred, FailureClass::Temporary, true)]
    #[case("550 5.7.1 blocked: reputation", Category::Policy, FailureClass::Block, false)]
    #[case("554 5.7.1 no such user", Category::NoSuchAddress, FailureClass::Permanent, false)]
    #[case("550 5.7.26 unauthenticated", Category::Authentication, FailureClass::Block, false)]
    #[case("550 5.2.1 account disabled", Category::MailboxDisabled, FailureClass::Permanent, false)]
    #[case("550 5.1.10 null MX", Category::NoSuchAddress, FailureClass::Permanent, false)]
    #[case("550 5.1.0 address rejected", Category::MailboxDisabled, FailureClass::Permanent, false)]
    #[case("550 5.4.1 recipient: access denied", Category::Routing, FailureClass::Temporary, false)]
    #[case("550 5.4.1 no such user", Category::NoSuchAddress, FailureClass::Permanent, false)]
    #[case("554 5.4.14 hop count exceeded", Category::Routing, FailureClass::Temporary, false)]
    #[case("450 5.1.1 try again later", Category::Unknown, FailureClass::Unknown, true)]
    #[case("550 4.2.2 mailbox full", Category::MailboxFull, FailureClass::Temporary, false)]
    #[case("599 what", Category::Unknown, FailureClass::Unknown, false)]
    fn classifies(#[case] line: &str, #[case] category: Category, #[case] class: FailureClass, #[case] again: bool) {
        let reply = Reply::parse(line);
        assert_eq!((reply.category(), reply.category().class(), reply.try_again()), (category, class, again));
        assert!(!reply.accepted());
    }

    #[rstest]
    #[case("550 5.1.1 <lorne@fulmar.example>: no such user (id 4f3a-77)", "550 5.1.1 …@fulmar.example no such user (id #")]
    #[case("451 4.7.1 greylisted for 300s", "451 4.7.1 greylisted for #")]
    fn masks_what_differs(#[case] line: &str, #[case] want: &str) {
        assert_eq!(masked(line), want);
    }

    #[test]
    fn accepts_on_2xx() {
        assert!(Reply::parse("250 2.0.0 queued as 1f").accepted());
        assert!(Reply::parse("250-ok").accepted());
    }

    proptest! {
        /// A line that is shown can be given back: it is the mask of itself, so that what was said of it holds for what it was made from.
        #[test]
        fn a_mask_is_its_own_mask(code in prop_oneof![Just(0_u16), 400..600_u16], enhanced in "(5\\.[0-9]\\.[0-9]{1,2} )?", text in "[a-z0-9@.<>():# -]{0,60}") {
            let stored = Reply::parse(&format!("{code} {enhanced}{text}")).line();
            let once = masked(&stored);
            prop_assert_eq!(masked(&once), once.clone());
            prop_assert_eq!(Category::of_line(&stored), Reply::parse(&stored).category());
        }
    }
}
