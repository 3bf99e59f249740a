//! Rules: what may pass and what is made of it. This crate decides; it does not act.
//!
//! Nothing here opens a socket, reads a clock or draws a random number: the time is passed in, and so is every value.
//!
//! * [`expr`]: expressions (a subset of CEL), parsed, checked and compiled once, evaluated for every request;
//! * [`grant`]: who calls, as it follows from the credential that was shown;
//! * [`guess`]: guessing, slowed down;
//! * [`key`]: the keys that consumers show, kept as hashes;
//! * [`limit`]: sliding-window limits on an injected clock.
//! * [`period`]: periods of the calendar, for quotas;
//! * [`patch`]: changes of JSON in place;
//! * [`substitute`]: parts of texts replaced by patterns.
#![warn(missing_docs)]

pub mod expr;
pub mod grant;
pub mod guess;
pub mod key;
pub mod limit;
pub mod patch;
pub mod period;
pub mod substitute;
