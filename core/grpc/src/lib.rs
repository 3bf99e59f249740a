//! gRPC: reading definitions, and converting JSON to protocol buffers and back.
//!
//! A folder of `.proto` files, a descriptor set or what a server tells by reflection is read once into a [`Definition`].
//! Its types become flat tables ([`Types`]), from which two converters work straight between the bytes of JSON and the
//! bytes of the wire, with no message built in between. HTTP rules (`google.api.http`) become REST shapes ([`rule`]).
#![warn(missing_docs)]

mod bind;
mod build;
#[expect(missing_docs, reason = "the names of descriptor.proto")]
pub mod descriptor;
pub mod json;
pub mod propose;
pub mod read;
pub mod rule;
pub mod schemas;
pub mod status;
pub mod types;

pub use bind::{BindError, Given};
pub use json::{JsonError, Mistake, WireError, http_body, put_varint, read_varint};
pub use read::{Definition, Files, Method, Service, read};
pub use schemas::Schemas;
pub use types::{
    Cardinality, EnumId, EnumType, Field, JsonOptions, Kind, MessageId, MessageType, Types,
    WellKnown,
};
