//! Why somebody is held or barred, in the order in which reasons count.

use serde::{Deserialize, Serialize};

/// A reason. Its number is its place in the order and what the store keeps; numbers that are left out
/// belong to what can't occur (two contacts with one address).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Reason {
    NoAddress = 0,
    AlreadySent = 1,
    Retired = 2,
    Complained = 3,
    Withdrawn = 4,
    NoConsent = 5,
    NotConfirmed = 6,
    TopicLeft = 7,
    SeriesLeft = 8,
    Suppressed = 9,
    GlobalHoldout = 11,
    Reserved = 12,
    LoadLeftOut = 13,
    OverCap = 14,
    HeldTooLong = 15,
    Resting = 16,
    Paused = 17,
    HeldByCap = 18,
    OutsideHours = 19,
    DomainPaused = 20,
}

impl Reason {
    pub const ALL: [Self; 20] = [
        Self::NoAddress,
        Self::AlreadySent,
        Self::Retired,
        Self::Complained,
        Self::Withdrawn,
        Self::NoConsent,
        Self::NotConfirmed,
        Self::TopicLeft,
        Self::SeriesLeft,
        Self::Suppressed,
        Self::GlobalHoldout,
        Self::Reserved,
        Self::LoadLeftOut,
        Self::OverCap,
        Self::HeldTooLong,
        Self::Resting,
        Self::Paused,
        Self::HeldByCap,
        Self::OutsideHours,
        Self::DomainPaused,
    ];

    /// Holds wait for an instant; every other reason bars.
    #[must_use]
    pub fn holds(self) -> bool {
        self >= Self::Resting
    }

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NoAddress => "No valid address or number",
            Self::AlreadySent => "Already sent or on its way",
            Self::Retired => "Retired or sunset",
            Self::Complained => "Complained",
            Self::Withdrawn => "Withdrawn",
            Self::NoConsent => "No consent on record",
            Self::NotConfirmed => "Not confirmed, as their country asks",
            Self::TopicLeft => "Left this topic",
            Self::SeriesLeft => "Left this series",
            Self::Suppressed => "Suppressed",
            Self::GlobalHoldout => "In the global holdout",
            Self::Reserved => "Reserved by a trial",
            Self::LoadLeftOut => "In a mail-load cell left out",
            Self::OverCap => "Over a cap, mailing skips",
            Self::HeldTooLong => "Held too long",
            Self::Resting => "Held: address resting",
            Self::Paused => "Held: asked for a pause",
            Self::HeldByCap => "Held: over a cap",
            Self::OutsideHours => "Held: outside sending hours",
            Self::DomainPaused => "Held: mail domain paused",
        }
    }

    /// The reason that the store keeps under this number.
    #[must_use]
    pub fn from_code(code: i64) -> Option<Self> {
        usize::try_from(code).ok().and_then(|code| BY_CODE.get(code).copied().flatten())
    }
}

/// The reasons at the places of their numbers: asked a million times in a clearance.
const BY_CODE: [Option<Reason>; 32] = {
    let mut by_code = [None; 32];
    let mut i = 0;
    while i < Reason::ALL.len() {
        by_code[Reason::ALL[i] as usize] = Some(Reason::ALL[i]);
        i += 1;
    }
    by_code
};

/// A set of reasons, with the caps and the suppression lists behind two of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reasons {
    bits: u32,
    /// The caps that hold or bar, by their place among the rules.
    pub caps: u32,
    /// The suppression lists that bar, by their place among those asked.
    pub lists: u64,
}

impl Reasons {
    pub(crate) fn add(&mut self, reason: Reason) {
        self.bits |= 1 << reason as u8;
    }

    #[must_use]
    pub fn has(self, reason: Reason) -> bool {
        self.bits & (1 << reason as u8) != 0
    }

    #[must_use]
    pub fn first(self) -> Option<Reason> {
        self.iter().next()
    }

    /// Would they be cleared now but for this reason? "Held too long" goes with what held.
    #[must_use]
    pub fn only(self, reason: Reason) -> bool {
        let too_long = 1 << Reason::HeldTooLong as u8;
        let rest = self.bits & !too_long;
        if reason == Reason::HeldTooLong { rest.count_ones() == 1 && self.bits & too_long != 0 } else { rest == 1 << reason as u8 }
    }

    /// In their order.
    pub fn iter(self) -> impl Iterator<Item = Reason> {
        let mut left = self.bits;
        std::iter::from_fn(move || {
            let place = left.trailing_zeros() as usize;
            left &= left.wrapping_sub(1);
            BY_CODE.get(place).copied().flatten()
        })
    }

    /// As the store keeps it.
    #[must_use]
    pub fn code(self) -> i64 {
        i64::from(self.bits)
    }

    /// What the store kept.
    #[must_use]
    pub fn from_code(code: i64) -> Self {
        Self { bits: u32::try_from(code).unwrap_or(0), caps: 0, lists: 0 }
    }

    /// All but one.
    #[must_use]
    pub fn without(self, reason: Reason) -> Self {
        Self { bits: self.bits & !(1 << reason as u8), ..self }
    }

    /// Could they be cleared at a later instant, though they are barred now? Over a cap that skips, or held too long by now:
    /// both depend on when they are asked.
    #[must_use]
    pub fn may_pass(self) -> bool {
        let time = (1 << Reason::OverCap as u8) | (1 << Reason::HeldTooLong as u8);
        self.bars() && !(Self { bits: self.bits & !time, ..self }).bars()
    }

    pub(crate) fn bars(self) -> bool {
        self.bits & ((1 << Reason::Resting as u8) - 1) != 0
    }
}
