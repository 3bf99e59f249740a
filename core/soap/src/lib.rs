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

pub mod plan;
pub mod propose;
pub mod read;
pub mod schema;
pub mod simple;
pub mod write;
pub mod wsdl;
pub mod xml;

pub use plan::{Member, ObjectPlan, Plan, TypeId, TypePlan};
pub use read::{Answer, AnswerError, AnswerReader, Fault};
pub use schema::json::JsonSchemas;
pub use write::{Envelope, WriteError};
pub use wsdl::{Definition, Files, Operation, Port, SoapVersion, read_definition};
