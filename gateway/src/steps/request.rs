//! What steps work with, and what they give.

use std::sync::Arc;

use http::request::Parts;
use porch_facade::{CompiledBackend, CompiledFacade, CompiledOperation, Example};

use crate::answer::Answer;
use crate::problem::Tell;

/// What the steps of an exchange work with.
pub(crate) struct Request<'a> {
    pub(crate) facade: &'a Arc<CompiledFacade>,
    pub(crate) operation: &'a CompiledOperation,
    pub(crate) parts: &'a Parts,
    /// The segments that the path variables took.
    pub(crate) captured: &'a [&'a str],
    pub(crate) native: bool,
    pub(crate) tell: Tell,
}

/// What the steps gave.
pub(crate) enum Outcome<'a> {
    /// The answer of the only step, with what there is to note of it.
    One(Answer, &'a CompiledBackend, Vec<String>),
    /// An example of the contract, with its body.
    Example(&'a Example, bytes::Bytes),
    /// All answers are in the scope; the reply is built of them.
    Many,
}
