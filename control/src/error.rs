//! Errors of the API, as problem documents (RFC 9457).

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_contract::Finding;
use porch_store::StoreError;
use serde_json::{Value, json};

/// An error of the API.
#[derive(Debug)]
pub struct ApiError {
    status: StatusCode,
    title: String,
    detail: String,
    findings: Vec<Finding>,
    needs: Option<&'static str>,
}

impl ApiError {
    /// An error with a status, what happened, and what to do.
    pub fn new(status: u16, title: impl Into<String>, detail: impl Into<String>) -> Self {
        let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        Self {
            status,
            title: title.into(),
            detail: detail.into(),
            findings: Vec::new(),
            needs: None,
        }
    }

    /// Something that is not there.
    pub fn missing(what: impl std::fmt::Display) -> Self {
        Self::new(404, format!("There is no {what}"), "")
    }

    /// The same with what more must be shown, for machines.
    #[must_use]
    pub fn needing(mut self, what: &'static str) -> Self {
        self.needs = Some(what);
        self
    }

    /// The same with what was found in documents.
    #[must_use]
    pub fn with(mut self, findings: Vec<Finding>) -> Self {
        self.findings = findings;
        self
    }
}

impl From<StoreError> for ApiError {
    fn from(e: StoreError) -> Self {
        match &e {
            StoreError::Taken(_) => Self::new(409, e.to_string(), "Choose another name."),
            StoreError::Full(_) => Self::new(409, e.to_string(), "End some of them first."),
            StoreError::LastAdministrator(_) => Self::new(
                409,
                e.to_string(),
                "Make somebody else an administrator first.",
            ),
            StoreError::LastManager(_) => Self::new(
                409,
                e.to_string(),
                "Let somebody else of the team manage it first.",
            ),
            StoreError::Missing(_) => Self::new(404, e.to_string(), ""),
            StoreError::Stale(_) => Self::new(
                409,
                e.to_string(),
                "Look at the change and do yours again on top of it.",
            ),
            StoreError::Nul => Self::new(400, e.to_string(), "Leave it out."),
            StoreError::Seal(_) => Self::new(
                500,
                e.to_string(),
                "Start the service with the key the secrets were sealed with.",
            ),
            StoreError::Database(inner) => {
                tracing::warn!("database: {inner}");
                Self::new(
                    503,
                    "The database does not answer",
                    "Callers are still served. Changes are possible again when it is back.",
                )
            }
        }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut body = json!({ "type": "about:blank", "title": self.title, "status": self.status.as_u16(), "detail": self.detail });
        if !self.findings.is_empty() {
            body["findings"] = serde_json::to_value(&self.findings).unwrap_or(Value::Null);
        }
        if let Some(needs) = self.needs {
            body["needs"] = needs.into();
        }
        (
            self.status,
            [(header::CONTENT_TYPE, "application/problem+json")],
            body.to_string(),
        )
            .into_response()
    }
}
