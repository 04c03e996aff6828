//! Words that tell what a message is, or that it belongs to an hour.

use lol_html::html_content::TextType;
use lol_html::{RewriteStrSettings, doc_text, rewrite_str};
use std::cell::RefCell;
use std::rc::Rc;

/// Words that belong in an offer, not in a receipt.
const MARKETING: [&str; 14] = [
    "offer",
    "sale",
    "discount",
    "save up to",
    "% off",
    "buy now",
    "book now",
    "don't miss",
    "last chance",
    "limited time",
    "special price",
    "shop now",
    "exclusive",
    "voucher",
];

/// Words that are only true for some hours.
const HOURLY: [&str; 14] = [
    "tonight",
    "today",
    "this morning",
    "this afternoon",
    "this evening",
    "tomorrow",
    "in an hour",
    "within the hour",
    "good morning",
    "good evening",
    "last hours",
    "right now",
    "until midnight",
    "hours left",
];

fn first(of: &[&'static str], all: &str) -> Option<&'static str> {
    let all = all.to_lowercase();
    let whole = |word: &str| {
        all.match_indices(word).any(|(at, _)| {
            let letter = |c: Option<char>| c.is_some_and(char::is_alphabetic);
            !letter(all[..at].chars().next_back()) && !letter(all[at + word.len()..].chars().next())
        })
    };
    of.iter().copied().find(|word| whole(word))
}

/// The first word of an offer in it.
pub(crate) fn marketing(all: &str) -> Option<&'static str> {
    first(&MARKETING, all)
}

/// The first word in it that ties it to an hour.
pub(crate) fn hourly(all: &str) -> Option<&'static str> {
    first(&HOURLY, all)
}

/// What a reader sees of HTML: its text, without styles, scripts and title, a space between its pieces.
pub(super) fn visible(html: &str) -> String {
    let seen = Rc::new(RefCell::new(String::new()));
    let all = Rc::clone(&seen);
    let done = rewrite_str(
        html,
        RewriteStrSettings::new().append_document_content_handler(doc_text!(move |chunk| {
            if chunk.text_type() == TextType::Data {
                let mut all = all.borrow_mut();
                all.push_str(chunk.as_str());
                if chunk.last_in_text_node() {
                    all.push(' ');
                }
            }
            Ok(())
        })),
    );
    if done.is_err() { html.to_owned() } else { seen.take() }
}
