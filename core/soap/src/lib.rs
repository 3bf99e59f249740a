//! SOAP and XML: reading definitions, and converting JSON to SOAP messages and back.
//!
//! Everything is driven by the schema. A WSDL is read once into a [`Definition`]; its types become a [`Plan`], a flat
//! table of what each element is called in JSON, in which order it is written and how its text is understood. The two
//! converters work from that table alone:
//!
//! * [`write`] turns a JSON value into an envelope, elements in schema order, every mistake reported with a JSON Pointer;
//! * [`AnswerReader`] turns an envelope into JSON, from bytes to bytes, fed in pieces of any size.
//!
//! No number passes through a binary float on its way: digits are copied.
#![warn(missing_docs)]

mod decode;
pub mod encoded;
pub mod generic;
pub mod localise;
pub mod plan;
pub mod propose;
pub mod read;
pub mod related;
pub mod schema;
pub mod security;
pub mod simple;
pub mod tree;
pub mod write;
mod write_error;
pub mod wsdl;
pub mod xml;

pub use decode::{NotEncoded, decode_document};
pub use plan::{Member, MemberKind, ObjectPlan, Particle, Plan, TypeId, TypePlan};
pub use read::{Answer, AnswerError, AnswerReader, Fault};
pub use schema::json::JsonSchemas;
pub use simple::{from_base64, to_base64};
pub use write::Envelope;
pub use write_error::{TextError, WriteError};
pub use wsdl::{
    Definition, Files, Message, Operation, Port, SoapVersion, read_definition, read_port,
};
