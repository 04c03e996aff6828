//! What people of the team should know and do: notices, first steps, who they are.

pub mod first_steps;
pub mod notices;
pub mod team;
