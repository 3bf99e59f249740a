//! What nobody is shown.

use schemars::JsonSchema;
use serde::Deserialize;

/// What is masked in traces, and in all that is told of messages, before anything is kept; callers and backends get it.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SensitiveDoc {
    /// Members of JSON and elements of XML, by their names, wherever they stand.
    #[serde(default)]
    pub members: Vec<String>,
    /// Header fields, by their names.
    #[serde(default)]
    pub fields: Vec<String>,
    /// Parameters of path and query, and members of forms, by their names.
    #[serde(default)]
    pub parameters: Vec<String>,
}
