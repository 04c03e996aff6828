//! What text messages go through.

use super::Engine;

impl Engine {
    /// Can text messages be handed over at all?
    pub(crate) fn has_text_gateway(&self) -> bool {
        self.texts.is_there()
    }

    /// What a gateway signs with, where there is one of somebody's.
    pub(crate) fn text_secret(&self) -> Option<&[u8]> {
        self.texts.secret()
    }
}
