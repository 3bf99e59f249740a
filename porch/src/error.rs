//! Errors of the client: what happened, where, and what to do next.

use std::fmt;

use serde_json::{Value, json};

/// An error that ends the program.
#[derive(Debug)]
pub(crate) struct CliError {
    message: String,
    help: String,
    findings: Vec<Value>,
    /// The exit code: 1 refused or failed, 2 wrong usage.
    pub(crate) code: u8,
}

impl CliError {
    pub(crate) fn new(message: impl Into<String>) -> Self {
        Self {
            message: message.into(),
            help: String::new(),
            findings: Vec::new(),
            code: 1,
        }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = help.into();
        self
    }

    pub(crate) fn usage(mut self) -> Self {
        self.code = 2;
        self
    }

    /// The error that a problem document of the service tells (RFC 9457).
    pub(crate) fn from_problem(status: u16, body: &Value) -> Self {
        let text = |name: &str| {
            body.get(name)
                .and_then(Value::as_str)
                .unwrap_or_default()
                .to_owned()
        };
        let title = text("title");
        let message = if title.is_empty() {
            format!("the service answered {status}")
        } else {
            title
        };
        let findings = body
            .get("findings")
            .and_then(Value::as_array)
            .cloned()
            .unwrap_or_default();
        Self {
            message,
            help: text("detail"),
            findings,
            code: 1,
        }
    }

    pub(crate) fn to_json(&self) -> Value {
        json!({ "error": { "message": self.message, "help": self.help, "findings": self.findings } })
    }
}

impl fmt::Display for CliError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "porch: {}", self.message)?;
        if !self.help.is_empty() {
            write!(f, "\n  {}", self.help)?;
        }
        for finding in &self.findings {
            write!(f, "\n{}", crate::show::finding_text(finding))?;
        }
        Ok(())
    }
}
