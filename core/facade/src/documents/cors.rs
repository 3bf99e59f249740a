//! Which pages may call, by the CORS protocol (Fetch §3.3).

use schemars::JsonSchema;
use serde::Deserialize;

use crate::units::Span;

/// Pages of other origins that may call from a browser (Fetch §3.3, “CORS protocol”).
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CorsDoc {
    /// Origins, as in `https://harbour.example`; `https://*.harbour.example` for all below a domain, `*` for any.
    #[schemars(length(min = 1))]
    pub origins: Vec<String>,
    /// Whether browsers may send cookies and the like; only with origins by name.
    #[serde(default)]
    pub credentials: bool,
    /// Fields of replies that pages may read besides those that every reply of the porch may have.
    #[serde(default)]
    pub expose: Vec<String>,
    /// How long a browser need not ask again; 10m unless given.
    pub max_age: Option<Span>,
}
