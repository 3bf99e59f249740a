//! Between wire bytes and JSON bytes, by the JSON mapping of protocol buffers, with no message in between.

mod from_wire;
mod known_to_wire;
mod lists_to_wire;
pub mod pull;
mod raw;
mod scalars;
mod short;
pub(crate) mod text;
mod to_wire;
mod unfit;
mod varint;

pub use raw::{WireError, http_body};
pub use to_wire::{JsonError, Mistake};
pub use varint::{put_varint, read_varint};
