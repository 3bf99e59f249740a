//! What the JSON of gRPC messages looks like.

use schemars::JsonSchema;
use serde::Deserialize;

/// What the JSON of messages looks like (JSON mapping of protocol buffers, “JSON Options”).
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct JsonDoc {
    /// What fields are called; their JSON names unless given.
    #[serde(default)]
    pub field_names: FieldNames,
    /// What enums are shown as; their names unless given.
    #[serde(default)]
    pub enums: EnumsAs,
    /// What is done with fields that have their default; left out unless given.
    #[serde(default)]
    pub absent: Absent,
    /// What is done with members and query parameters that are no fields; refused unless given.
    #[serde(default)]
    pub unknown_fields: UnknownFields,
    /// What is done with bodies that lack a field which the definition says is REQUIRED (`google/api/field_behavior.proto`); they are
    /// sent on unless given, for the backend to judge.
    #[serde(default)]
    pub required_fields: RequiredFields,
}

/// What fields are called in JSON.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum FieldNames {
    /// Lower camel case, or what the definition's `json_name` says.
    #[default]
    Json,
    /// As the `.proto` file has them.
    Proto,
}

/// What enums are shown as.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum EnumsAs {
    /// By name.
    #[default]
    Name,
    /// By number.
    Number,
}

/// What is done with fields that have their default.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Absent {
    /// They are left out.
    #[default]
    Omit,
    /// They are shown.
    Show,
}

/// What is done with members that are no fields.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum UnknownFields {
    /// The request is refused, and the caller told what was probably meant.
    #[default]
    Refuse,
    /// They are passed over.
    Ignore,
}

/// What is done with bodies that lack a REQUIRED field.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum RequiredFields {
    /// They are sent on.
    #[default]
    Pass,
    /// The request is refused, except for a part that changes another one (PATCH).
    Check,
}
