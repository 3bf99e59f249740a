//! Problems in the facade's own words.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::Value;

/// What callers are told of a problem, in place of the porch's own words (RFC 9457 §3.1).
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ProblemDoc {
    /// What is wrong, in few words.
    pub title: Option<Texts>,
    /// What is wrong this time, and what can be done.
    pub detail: Option<Texts>,
    /// A URI that says what kind of problem it is (§3.1.1).
    #[serde(rename = "type")]
    pub kind: Option<String>,
    /// A page that helps: `Link` with the relation `help` (RFC 8288 §3, HTML §4.6.7.8).
    pub help: Option<String>,
    /// More members (§3.2).
    #[serde(default)]
    pub members: IndexMap<String, Value>,
}

/// A text, or the same in several languages.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(
    untagged,
    expecting = "a text, or texts by language as in { en: …, nn: … }, is expected here"
)]
pub enum Texts {
    /// The same for everybody.
    One(String),
    /// By the tags of languages (RFC 5646); the first where a caller asks for none of them.
    Many(IndexMap<String, String>),
}

impl Texts {
    /// All of them, with their languages; an empty one where it is the same for everybody.
    pub(crate) fn all(&self) -> Vec<(&str, &str)> {
        match self {
            Texts::One(text) => vec![("", text)],
            Texts::Many(all) => all.iter().map(|(l, t)| (l.as_str(), t.as_str())).collect(),
        }
    }
}
