//! core
