//! gRPC: calls with one message or many, either way, and native callers who are let through.

mod answer;
mod channel;
mod exchange;
mod frames;
mod lines;
mod native;
mod prepare;
mod stream;

pub(crate) use channel::{Channels, Local};
pub(crate) use exchange::Asked;
pub(crate) use lines::Lines;
pub(crate) use native::{is_native, refusal};
pub(crate) use stream::Messages;

/// What lies at the bottom of an error.
fn deepest(error: &dyn std::error::Error) -> String {
    let mut at = error;
    while let Some(inner) = at.source() {
        at = inner;
    }
    at.to_string()
}
