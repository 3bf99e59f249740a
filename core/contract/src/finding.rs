//! Findings: one thing found wrong or worth knowing when something is read or checked.

use serde::{Deserialize, Serialize};

use crate::Position;

/// How bad a finding is.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing; nothing needs to be done.
    Note,
    /// Works, but probably not as meant.
    Warning,
    /// Cannot be released.
    Error,
}

/// One thing found when something is read or checked.
///
/// `line` and `column` count from 1; both are 0 when the finding is about the whole file.
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// The file it was found in, or an empty text.
    pub file: String,
    /// Line in the file, from 1.
    pub line: usize,
    /// Column in the line, in characters, from 1.
    pub column: usize,
    /// The same place as a JSON Pointer (RFC 6901), where the line is too long to find a column in.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub pointer: String,
    /// What was found.
    pub message: String,
    /// What to do about it, or an empty text.
    pub help: String,
}

impl Finding {
    /// A finding at a position of a file.
    pub fn new(severity: Severity, file: &str, at: Position, message: impl Into<String>) -> Self {
        Self {
            severity,
            file: file.to_owned(),
            line: at.line,
            column: at.column,
            pointer: String::new(),
            message: message.into(),
            help: String::new(),
        }
    }

    /// An error at a position of a file.
    pub fn error(file: &str, at: Position, message: impl Into<String>) -> Self {
        Self::new(Severity::Error, file, at, message)
    }

    /// Where it was found, as far as that is known: `a.yaml:3:5`, or only the file when it is about all of it.
    pub fn place(&self) -> String {
        match (self.file.as_str(), self.line) {
            (file, 0) => file.to_owned(),
            (file, line) => format!("{file}:{line}:{}", self.column),
        }
    }

    /// The same finding with a help line.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = help.into();
        self
    }
}

/// Whether any finding is an error.
pub fn has_errors(findings: &[Finding]) -> bool {
    findings.iter().any(|f| f.severity == Severity::Error)
}
