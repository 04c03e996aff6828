//! The simulated outside world: a mail network and the people behind its mailboxes.
//!
//! Seeded and deterministic on the demo clock. It takes whole MIME messages and answers as hosts
//! do, by SMTP replies; later come real RFC 3464 reports, RFC 5965 feedback, replies, HTTP hits on
//! the links it found in the message, and RFC 8058 one-click POSTs. It knows nothing of Rinse but
//! what a message says.
//!
//! * [`scenario`]: the characters of the domains and the true effects of subjects, from a file.
//! * [`people`]: how one person behaves. [`network`]: hosts, mailboxes, the queue of what will
//!   happen, in a file of its own.
//! * [`dns`]: its name server, over UDP on loopback.
//! * [`phones`]: the phone network that text messages go to.
//! * [`records`]: another system that is told what happened. [`sender`]: one that sends (the program `other-sender`).
//! * [`base`]: the invented people of the demo scenario, as the CSV files they are imported from.

#![cfg_attr(not(test), deny(clippy::unwrap_used))]

pub mod base;
pub mod dns;
pub mod network;
pub mod people;
pub mod phones;
pub mod records;
pub mod reports;
pub mod scenario;
pub mod sender;
pub mod shop;
