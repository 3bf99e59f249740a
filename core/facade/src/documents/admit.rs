//! Who and what may pass, as documents say it.

use schemars::JsonSchema;
use serde::Deserialize;

use super::callers::CredentialDoc;
use super::limits::{LimitDoc, QuotaDoc};
use crate::units::Size;

/// Who and what may pass.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AdmitDoc {
    /// From which networks callers may call; from all unless given. What several documents say holds together.
    pub networks: Option<NetworksDoc>,
    /// Credentials that a caller must show; one of them is enough.
    pub credentials: Option<Vec<CredentialDoc>>,
    /// Roles of callers that may call; one of them is enough. What several documents say holds together.
    pub roles: Option<Vec<String>>,
    /// Limits; all of them hold.
    pub limits: Option<Vec<LimitDoc>>,
    /// Quotas; all of them hold.
    pub quotas: Option<Vec<QuotaDoc>>,
    /// Greatest size of a request body; 1MiB unless given.
    pub max_body: Option<Size>,
    /// HTTP: whether bodies and parameters are held against the contract's schemas; `check` unless given.
    pub contract: Option<Kept>,
    /// HTTP and SOAP: what becomes of query parameters that the contract has not; `refuse` unless given.
    pub unknown_query: Option<UnknownQuery>,
    /// HTTP: what becomes of members of a body that only the service sets (`readOnly`); `refuse` unless given.
    pub read_only: Option<ReadOnly>,
}

/// Networks of callers: `10.20.0.0/16`, `2001:db8::/32` (RFC 4632, RFC 4291), or single addresses.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NetworksDoc {
    /// Only these may call; all unless given.
    #[serde(default)]
    pub allow: Vec<String>,
    /// These may not, also where they are within those that may.
    #[serde(default)]
    pub deny: Vec<String>,
}

/// Whether what callers send is held against the contract.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Kept {
    /// What does not fit is refused (400), every mistake at once.
    Check,
    /// Bodies pass as they come, and of parameters only their types are looked at.
    Pass,
}

/// Whether what callers get is held against the contract: status, media type and JSON.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum AnswersKept {
    /// It passes as it comes.
    Pass,
    /// What does not fit is counted, and told in traces; callers get it all the same.
    Report,
    /// Callers get a 502 in its place.
    Refuse,
}

/// What becomes of query parameters that the contract has not.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum UnknownQuery {
    /// The request is refused (400), with the name that was probably meant.
    Refuse,
    /// They are taken out of what the backend gets.
    Drop,
    /// They pass.
    Pass,
}

/// What becomes of members that only the service sets.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum ReadOnly {
    /// The request is refused (400).
    Refuse,
    /// They are taken out of what the backend gets.
    Drop,
}
