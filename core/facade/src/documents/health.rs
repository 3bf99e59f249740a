//! Addresses that are asked whether they are well before they are called.

use schemars::JsonSchema;
use serde::Deserialize;

use crate::units::Span;

/// Asks each address again and again whether it is well; one that is not is left alone while others are.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct HealthDoc {
    /// HTTP and SOAP: what is asked for by GET, behind the address's own path; the address itself unless given. gRPC
    /// backends are asked by their standard method (`grpc.health.v1.Health/Check`).
    pub path: Option<String>,
    /// How often; 10s unless given.
    pub every: Option<Span>,
    /// How long an answer may take; 2s unless given, and never longer than the time between two.
    pub within: Option<Span>,
    /// So many failures one behind the other, and it is left alone; 2 unless given.
    #[schemars(range(min = 1, max = 100))]
    pub fails: Option<u32>,
    /// So many good answers one behind the other, and it is called again; 2 unless given.
    #[schemars(range(min = 1, max = 100))]
    pub passes: Option<u32>,
    /// Statuses that say that it is well: 200 to 399 where there is a path, everything below 500 where there is none, unless
    /// given.
    #[schemars(inner(range(min = 200, max = 599)))]
    pub statuses: Option<Vec<u16>>,
}
