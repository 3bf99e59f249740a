//! The tables.

pub mod account;
pub mod api_key;
pub mod audit;
pub mod consumer;
pub mod copies;
pub mod draft_file;
pub mod pause;
pub mod release;
pub mod secret;
pub mod session;
pub mod trace;
pub mod usage;
