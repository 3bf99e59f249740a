//! Contracts: what callers of a facade may send and will get.
//!
//! A contract is an OpenAPI 3.1 document. This crate reads it into the few things the rest of the
//! product needs (operations, parameters, schemas), remembers where each stood in the text, and
//! compares two contracts. It also holds what every reader of documents shares: the positioned
//! tree ([`Node`]), findings ([`Finding`]) and the "did you mean" ([`suggest`]).
#![warn(missing_docs)]

mod compare;
mod finding;
mod fnv;
mod fragment;
mod json_text;
mod members;
mod node;
mod openapi;
mod plural;
mod schema;
mod suggest;
mod template;

pub use compare::{Change, Harm, compare};
pub use finding::{Finding, Severity, has_errors};
pub use fnv::{Fnv, stable_id};
pub use fragment::from_fragment;
pub use json_text::{plain_ascii_in_json, plain_in_json};
pub use members::{Member, Members};
pub use node::{Node, NodeKind, Position, ReadError, Step, yaml_scalar};
pub use openapi::{
    Contract, FORM, Operation, Parameter, Place, Shape, Style, Written, contract_of, is_method,
    parse as parse_contract,
};
pub use plural::plural;
pub use schema::{Field, ParamType, SchemaView};
pub use suggest::suggest;
pub use template::{Mixed, PathTemplate, Piece, Segment, TemplateError};
