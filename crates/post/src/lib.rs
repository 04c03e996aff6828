//! post
