//! Changes of messages, compiled.

use std::sync::Arc;

use porch_rules::expr::Template;
use porch_rules::patch::Patch;
use porch_rules::substitute::Substitution;

use super::RulePlace;

/// What an operation changes of the messages that go through.
#[derive(Debug, Default)]
pub struct Changes {
    /// Of query parameters on their way to the backend.
    pub query: Vec<FieldChange>,
    /// Of header fields on their way to the backend.
    pub request: Vec<FieldChange>,
    /// Of the caller's JSON.
    pub request_body: Vec<BodyChanges>,
    /// Statuses in place of others.
    pub status: Vec<StatusChange>,
    /// Of header fields on their way to the caller.
    pub reply: Vec<FieldChange>,
    /// Of the reply's JSON.
    pub reply_body: Vec<BodyChanges>,
    /// Whether an expression of the reply's changes looks into the answer of the only call.
    pub looks_into: bool,
    /// Whether one of any needs the caller's body.
    pub reads_body: bool,
}

/// One change of a header field or a query parameter.
#[derive(Debug)]
pub struct FieldChange {
    /// What is done.
    pub action: FieldAction,
    /// Its name; lower-case for header fields.
    pub name: String,
    /// When; always where nothing stands here.
    pub when: Option<Template>,
    /// Whether it looks into the body of the only answer: it is made where that succeeded, and has one.
    pub of_success: bool,
    /// Where it stands.
    pub place: Arc<RulePlace>,
}

/// What is done with a header field or a query parameter.
#[derive(Debug)]
pub enum FieldAction {
    /// It has this value, and no other.
    Set(Template),
    /// It has this value too.
    Add(Template),
    /// It is taken out.
    Remove,
    /// All that begin with its name are.
    RemoveAll,
    /// It has this name.
    Rename(String),
    /// This one has the same values.
    Copy(String),
    /// What a pattern finds in its values is replaced.
    Substitute(Substitution),
}

/// Changes of JSON that stand together.
#[derive(Debug)]
pub struct BodyChanges {
    /// The changes.
    pub patch: Patch,
    /// Where they stand.
    pub place: Arc<RulePlace>,
}

/// A status in place of others.
#[derive(Debug)]
pub struct StatusChange {
    /// The first and the last of them.
    pub of: (u16, u16),
    /// The status in their place.
    pub to: u16,
    /// Where it stands.
    pub place: Arc<RulePlace>,
}
