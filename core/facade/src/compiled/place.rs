//! Where a rule stands.

use std::sync::Arc;

use serde::Serialize;

/// Where a rule stands, for people who ask why.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RulePlace {
    /// The rule in words: `limit 5 per 2m per consumer`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub rule: Arc<str>,
    /// Its reach: `everywhere`, `facade sailings`, `operation quoteFare`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub reach: Arc<str>,
    /// The document it stands in; empty for built-in rules.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub file: Arc<str>,
    /// Line in it, from 1; 0 for built-in rules.
    pub line: usize,
}

impl RulePlace {
    /// A rule that acts everywhere and stands in no document.
    pub fn built_in(rule: impl Into<Arc<str>>) -> Self {
        Self {
            rule: rule.into(),
            reach: "everywhere".into(),
            file: "".into(),
            line: 0,
        }
    }

    /// Where it stands, in words.
    pub fn told(&self) -> String {
        format!("{}, {}:{}", self.reach, self.file, self.line)
    }

    /// Another rule at the same place.
    pub fn with_rule(&self, rule: impl Into<Arc<str>>) -> Self {
        Self {
            rule: rule.into(),
            ..self.clone()
        }
    }
}
