//! Backends that are left alone when too many of their calls fail.

use schemars::JsonSchema;
use serde::Deserialize;

use crate::units::Span;

/// When a backend is left alone for a while: its calls fail at once then, or go to spares.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CircuitDoc {
    /// Where so many of a hundred calls fail; 50 unless given.
    #[schemars(range(min = 1, max = 100))]
    pub share: Option<u32>,
    /// Of so many calls at least; 20 unless given.
    #[schemars(range(min = 1))]
    pub calls: Option<u32>,
    /// Within this time; 10s unless given.
    pub within: Option<Span>,
    /// It is left alone for this time; 30s unless given.
    pub rest: Option<Span>,
    /// Behind that it gets more and more of its calls for this time, until it gets all; 10s unless given.
    pub back: Option<Span>,
    /// Statuses that are failures too, besides connections that cannot be had or break off and answers that do not come in
    /// time; 502, 503 and 504 unless given.
    #[schemars(inner(range(min = 400, max = 599)))]
    pub statuses: Option<Vec<u16>>,
}
