//! What somebody who answers a text message wants.

/// Words that end text messages: those that senders and networks tell people to answer with.
const STOP: [&str; 8] = ["stop", "stopall", "unsubscribe", "end", "quit", "cancel", "optout", "revoke"];
/// Words that ask for them again. "Yes" is none: it answers whatever was asked last.
const START: [&str; 3] = ["start", "unstop", "join"];
/// Words beside such a word that change nothing about it.
const BESIDE: [&str; 19] = [
    "please",
    "pls",
    "now",
    "all",
    "me",
    "my",
    "the",
    "these",
    "this",
    "your",
    "it",
    "text",
    "texts",
    "message",
    "messages",
    "sending",
    "texting",
    "thanks",
    "everything",
];

/// What an answer says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Said {
    /// No more text messages.
    Stop,
    /// Text messages again.
    Start,
    /// Something for a person to read.
    Other,
}

/// Reads an answer. A word counts where nothing but courtesies stand beside it: "STOP", "Stop texting me please", and not
/// "Stop by at five?", which a person has to read.
#[must_use]
pub fn said(body: &str) -> Said {
    let body = body.to_lowercase().replace("opt out", "optout").replace("opt-out", "optout").replace("stop all", "stopall");
    let words: Vec<&str> = body.split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).collect();
    // More than so many words are a letter.
    if words.len() > 8 {
        return Said::Other;
    }
    let only = |of: &[&str]| words.iter().any(|w| of.contains(w)) && words.iter().all(|w| of.contains(w) || BESIDE.contains(w));
    if only(&STOP) {
        Said::Stop
    } else if only(&START) {
        Said::Start
    } else {
        Said::Other
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("STOP", Said::Stop)]
    #[case(" stop. ", Said::Stop)]
    #[case("\"STOP\"", Said::Stop)]
    #[case("Stop all", Said::Stop)]
    #[case("please stop texting me!", Said::Stop)]
    #[case("Opt-out", Said::Stop)]
    #[case("UNSUBSCRIBE", Said::Stop)]
    #[case("start", Said::Start)]
    #[case("Start please", Said::Start)]
    // Both at once is nothing to guess at.
    #[case("stop start", Said::Other)]
    #[case("Stop by at five?", Said::Other)]
    #[case("End of the week suits me", Said::Other)]
    #[case("yes", Said::Other)]
    #[case("please", Said::Other)]
    #[case("", Said::Other)]
    fn courtesies_change_nothing_and_sentences_are_read_by_people(#[case] body: &str, #[case] means: Said) {
        assert_eq!(said(body), means);
    }
}
