//! Shared rules: named lists that are kept once and used in many places.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::{Map, Value};

use super::{
    AdmitDoc, AnswersKept, CacheDoc, ChangesDoc, CorsDoc, NAME, ProblemDoc, RefusalDoc,
    SensitiveDoc,
};

/// Rules that facades and operations share (`elm-porch: rules/1`). Where a value stands, `=parameters.NAME` may stand in its
/// place, and expressions may name `parameters.NAME`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RulesDoc {
    /// Always `rules/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "rules/1"))]
    pub elm_porch: String,
    /// Name, by which facades and operations use them.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Title for people.
    #[serde(default)]
    pub title: String,
    /// Where they act without being named: everywhere, or on operations that call some backends.
    pub reach: Option<ReachDoc>,
    /// What may differ from use to use, by name.
    #[serde(default)]
    pub parameters: IndexMap<String, ParameterDoc>,
    /// What of them a narrower reach may relax; it may only tighten the rest.
    #[serde(default)]
    pub defaults: Vec<Relaxed>,
    /// Who and what may pass.
    #[serde(default)]
    pub admit: AdmitDoc,
    /// Pages of other origins that may call from a browser.
    pub cors: Option<CorsDoc>,
    /// Replies that are kept and given again.
    pub cache: Option<CacheDoc>,
    /// When requests are refused, in words of their own.
    #[serde(default)]
    pub refuse: Vec<RefusalDoc>,
    /// Whether replies are compressed for callers who take that (gzip), where a narrower reach says nothing of it.
    pub compress: Option<bool>,
    /// What nobody is shown: masked in traces, and in all that is told of messages.
    pub sensitive: Option<SensitiveDoc>,
    /// What callers are told of problems, by reason, status or many of them, where a narrower reach says nothing of it.
    #[serde(default)]
    pub problems: IndexMap<String, ProblemDoc>,
    /// Changes of messages, before those of a narrower reach.
    #[serde(default)]
    pub changes: ChangesDoc,
    /// Whether what is answered is held against the contract.
    pub answers: Option<AnswersKept>,
}

impl RulesDoc {
    /// How many rules there are.
    pub(crate) fn weight(&self) -> usize {
        let (request, reply) = (&self.changes.request, &self.changes.reply);
        let changes = request.query.len() + request.headers.len() + request.body.len();
        let changes = changes + reply.status.len() + reply.headers.len() + reply.body.len();
        changes
            + self.problems.len()
            + self.refuse.len()
            + self.admit.limits.as_ref().map_or(0, Vec::len)
            + self.admit.quotas.as_ref().map_or(0, Vec::len)
            + 1
    }
}

/// What of shared rules is known before they are used.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct RulesHead {
    /// Name.
    pub name: String,
    /// Title for people.
    #[serde(default)]
    pub title: String,
    /// Where they act without being named.
    pub reach: Option<ReachDoc>,
    /// What may differ from use to use.
    #[serde(default)]
    pub parameters: IndexMap<String, ParameterDoc>,
}

/// Where shared rules act without being named.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum ReachDoc {
    /// On every operation of every facade.
    Everywhere,
    /// On operations that call, or may be led to, one of these backends.
    Backends(#[schemars(length(min = 1))] Vec<String>),
}

/// What may differ from use to use.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ParameterDoc {
    /// What kind of value it has (JSON Schema 2020-12 validation §6.1.1).
    #[serde(rename = "type", default)]
    pub kind: ParameterKind,
    /// Its value where none is given; without one it must be given.
    pub default: Option<Value>,
    /// What it is for.
    #[serde(default)]
    pub description: String,
}

/// What kind of value a parameter has.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum ParameterKind {
    /// A text.
    #[default]
    String,
    /// A whole number.
    Integer,
    /// A number.
    Number,
    /// True or false.
    Boolean,
    /// A list.
    Array,
    /// A map.
    Object,
}

impl ParameterKind {
    /// Whether a value is of this kind.
    pub(crate) fn takes(self, value: &Value) -> bool {
        match self {
            Self::String => value.is_string(),
            Self::Integer => value.is_i64() || value.is_u64(),
            Self::Number => value.is_number(),
            Self::Boolean => value.is_boolean(),
            Self::Array => value.is_array(),
            Self::Object => value.is_object(),
        }
    }

    /// What it is called.
    pub(crate) fn label(self) -> &'static str {
        match self {
            Self::String => "a text",
            Self::Integer => "a whole number",
            Self::Number => "a number",
            Self::Boolean => "true or false",
            Self::Array => "a list",
            Self::Object => "a map",
        }
    }
}

/// What of shared rules a narrower reach may relax.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Relaxed {
    /// `admit.credentials`.
    Credentials,
    /// `admit.limits`.
    Limits,
    /// `admit.quotas`.
    Quotas,
    /// `admit.max-body`.
    MaxBody,
    /// `admit.contract`.
    Contract,
    /// `admit.unknown-query`.
    UnknownQuery,
    /// `admit.read-only`.
    ReadOnly,
    /// `answers`.
    Answers,
    /// `cors`.
    Cors,
}

/// Shared rules that are used: their name, or their name and values for their parameters.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(
    untagged,
    expecting = "a name of shared rules, or { name: …, with: { … } }, is expected here"
)]
pub enum UseDoc {
    /// As they are.
    Name(#[schemars(regex(pattern = NAME))] String),
    /// With values for their parameters.
    With(UseWithDoc),
}

/// Shared rules that are used with values for their parameters.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct UseWithDoc {
    /// Their name.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Values by the names of parameters.
    #[serde(default)]
    pub with: Map<String, Value>,
}

impl UseDoc {
    /// The name of the rules.
    pub(crate) fn name(&self) -> &str {
        match self {
            UseDoc::Name(name) => name,
            UseDoc::With(of) => &of.name,
        }
    }

    /// The values that are given.
    pub(crate) fn with(&self) -> Option<&Map<String, Value>> {
        match self {
            UseDoc::Name(_) => None,
            UseDoc::With(of) => Some(&of.with),
        }
    }
}
