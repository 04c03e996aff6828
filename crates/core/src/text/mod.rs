//! Text messages: how long they are, what their readers answer with, and what must hold of one before it goes.

mod check;
mod parts;
mod template;
mod words;

pub use check::{MOST_PARTS, TextDraft, check, unreadable};
pub use parts::{Alphabet, Size, outside, size};
pub use template::{SEND_PLACEHOLDERS, Template, placeholders};
pub use words::{Said, said};
