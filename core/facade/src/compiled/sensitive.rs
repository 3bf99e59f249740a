//! What nobody is shown.

use std::collections::HashSet;
use std::sync::Arc;

use super::RulePlace;

/// What is masked wherever messages are shown or kept.
#[derive(Debug, Default)]
pub struct Sensitive {
    /// Names of members and elements.
    pub members: HashSet<String>,
    /// Names of header fields, in lower case.
    pub fields: HashSet<String>,
    /// Names of parameters of path and query, and of members of forms.
    pub parameters: HashSet<String>,
    /// Where it is said.
    pub places: Vec<Arc<RulePlace>>,
}

impl Sensitive {
    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.members.is_empty() && self.fields.is_empty() && self.parameters.is_empty()
    }
}
