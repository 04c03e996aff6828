//! Mail formats: bytes in, values out; values in, bytes out.
//!
//! * [`compose`]: a mailing's message as MIME, with the headers that let people leave in one click.
//! * [`inbound`]: delivery reports (RFC 3464), feedback reports (RFC 5965), auto-replies, replies.
//! * [`reports`]: other hosts' DMARC and TLS reports about mail in our name.
//!
//! No socket and no file: transports live in the server, the simulated network in the stand-ins.

#![cfg_attr(not(test), deny(clippy::unwrap_used))]

pub mod bounds;
pub mod compose;
pub mod dkim;
pub mod finished;
mod in_words;
pub mod inbound;
pub mod reports;
pub mod source;
