//! What consent is given for.

use rinse_core::channel::Channel;

/// What consent is given for: a channel, and the legal entity that writes on it (empty: the first).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Grant<'a> {
    pub channel: Channel,
    pub entity: &'a str,
}

impl<'a> Grant<'a> {
    /// Email of a legal entity.
    #[must_use]
    pub fn email(entity: &'a str) -> Self {
        Self { channel: Channel::Email, entity }
    }

    /// Text messages of a legal entity.
    #[must_use]
    pub fn texts(entity: &'a str) -> Self {
        Self { channel: Channel::Text, entity }
    }

    /// Does it stand on the contact's own row?
    pub(crate) fn is_first(self) -> bool {
        self.channel == Channel::Email && self.entity.is_empty()
    }
}
