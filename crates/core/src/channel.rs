//! The way a message reaches somebody. Consent is given to each by itself.

use serde::{Deserialize, Serialize};

/// A channel; its number is what the store keeps and what caps name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Channel {
    #[default]
    Email = 1,
    /// A text message to a phone number.
    Text = 2,
}

crate::code::coded!(Channel, "channel");

impl Channel {
    pub const ALL: [Self; 2] = [Self::Email, Self::Text];

    /// What the store keeps.
    #[must_use]
    pub fn code(self) -> i64 {
        self as i64
    }

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Email => "email",
            Self::Text => "text messages",
        }
    }
}
