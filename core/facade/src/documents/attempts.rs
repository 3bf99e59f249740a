//! Calls that are made again.

use schemars::JsonSchema;
use serde::Deserialize;

use crate::units::Span;

/// Calls that are made again where they fail and are safe to repeat (RFC 9110 §9.2.2), within the time that an answer may take.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AttemptsDoc {
    /// So many attempts at most, the first among them.
    #[schemars(range(min = 2, max = 5))]
    pub most: u32,
    /// How long the second waits, by half more or less; each further one twice as long. 100ms unless given.
    pub spaced: Option<Span>,
    /// Statuses that are failures too, besides connections that cannot be had or break off; 502, 503 and 504 unless given.
    #[schemars(inner(range(min = 400, max = 599)))]
    pub statuses: Option<Vec<u16>>,
    /// The header field with which callers say that what is not safe may be repeated all the same.
    pub idempotency_key: Option<String>,
}
