//! What is answered where nothing is called: examples of the contract.

use std::sync::Arc;

use bytes::Bytes;
use http::{HeaderName, HeaderValue, StatusCode};
use porch_contract::Place;
use porch_valid::Validator;
use serde_json::Value;

/// The examples of an operation that calls nothing.
#[derive(Debug, Default)]
pub struct Examples {
    /// All of them: those that the contract gives, in its order and the success first, then those that were made.
    pub all: Vec<Example>,
}

/// An answer as the contract has it (OpenAPI 3.1 §4.8.17, §4.8.19).
#[derive(Debug)]
pub struct Example {
    /// Its name in the contract; none where it has none, or was made.
    pub name: Option<Box<str>>,
    /// Whether it was made of the schema.
    pub made: bool,
    /// Whether it is of the answer that callers get unless their parameters are those of another.
    pub usual: bool,
    /// Its status.
    pub status: StatusCode,
    /// Its header fields.
    pub fields: Arc<[(HeaderName, HeaderValue)]>,
    /// Its media type; none where it has no body.
    pub media: Option<HeaderValue>,
    /// Its body.
    pub body: Bytes,
    /// What the request must have: the examples of the same name that its parameters and its body have.
    pub given: Vec<Given>,
    /// The members of its JSON that are called as parameters are, which a made example has from the request.
    pub echoed: Vec<Given>,
    /// Its JSON, where members of it come from the request, and the schema that it must keep to all the same.
    pub json: Option<(Arc<Value>, Option<Validator>)>,
}

/// A value of the request.
#[derive(Clone, Debug, PartialEq)]
pub struct Given {
    /// The parameter's place; none for the body.
    pub place: Option<Place>,
    /// The parameter's name.
    pub name: Box<str>,
    /// The value that is meant, or none.
    pub value: Arc<Value>,
}
