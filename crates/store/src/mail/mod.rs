//! Mail: what is written, who may get it, how it goes out, and what comes back.

pub mod audience;
pub mod blocklists;
pub mod clearing;
pub mod delivery;
pub mod doors;
pub mod flow;
pub mod held;
pub mod history;
pub mod holdout;
pub mod images;
pub mod letterheads;
pub mod load;
pub mod machines;
pub mod mailings;
pub mod parts;
pub(crate) mod response_kinds;
pub mod responses;
pub mod rules;
pub(crate) mod send_state;
pub mod sends;
pub mod texts;
pub mod warm_up;
