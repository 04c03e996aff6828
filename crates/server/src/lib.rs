//! The server: API, public doors, the engine that sends, the embedded front end.
//!
//! * [`router`](router/index.html): the table of contents. `handlers/`: one file a resource.
//! * `engine`: what is due is sent, read, rolled out; the demo clock. `actions`: planning and
//!   releasing, `sealing`: sealing, shared by the handlers and the demo's director.
//! * `doors`: what comes from outside (opens, clicks, one-click POSTs, raw mail).
//! * `transport`: the stand-in network in process, or SMTP. `gateway`: the same for text messages.

#![cfg_attr(not(test), deny(clippy::unwrap_used))]

mod actions;
mod apart;
mod assets;
mod authentication;
mod clock;
mod compared;
mod composing;
mod contract;
mod csv_out;
pub mod demo;
mod dns;
pub mod doctor;
mod engine;
mod error;
mod evidence;
mod gate;
mod gateway;
mod grouped;
mod handlers;
mod invitation;
mod keeping;
mod kept_answers;
pub mod listen;
mod mailbox;
mod memory;
mod message;
mod progress;
mod public;
mod record;
pub mod report;
mod resume;
mod router;
mod sealing;
mod signed;
mod state;
mod templates;
mod text;
mod transport;
mod zipped;

pub use dns::AskDns;
pub use engine::Engine;
pub use error::ApiError;
pub use gateway::TextGateway;
pub use memory::USUAL_BUDGET;
pub use router::{openapi, own_router, public_router, router};
pub use state::{App, Config, Mode};
pub use transport::{MOST_CONNECTIONS, Smtp, Transport};
