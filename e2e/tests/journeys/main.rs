//! The interface in a real browser, one journey a file. All of them are one program: linking each apart took longer than running it.

mod another_sender;
mod base;
mod clearance;
mod delivery;
mod elsewhere;
mod findings;
mod guides;
mod hours;
mod journey;
mod mailings;
mod models;
mod segments;
mod series;
mod tabs;
mod texts;
mod trials;
mod upkeep;
mod views;
