//! Where calls go in place of a backend.

use schemars::JsonSchema;
use serde::Deserialize;

/// Where calls of a backend go in place of it: the same calls, of backends of the same kind.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RoutingDoc {
    /// The first of these that fits; the backend itself where none does.
    #[serde(default)]
    pub choose: Vec<ChoiceDoc>,
    /// Backends that are called where it cannot be reached, breaks off, or answers 502, 503 or 504: in this order, and behind
    /// what may have been carried out only where that is safe to repeat (RFC 9110 §9.2.2).
    #[serde(default)]
    pub spares: Vec<String>,
    /// Another backend that gets copies, whose answers are only compared; of operations of one call that change nothing.
    pub shadow: Option<ShadowDoc>,
}

/// A backend that gets copies of calls.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ShadowDoc {
    /// Name of the backend.
    pub backend: String,
    /// So many of a hundred calls are copied; all of them unless given.
    #[schemars(range(min = 0, max = 100))]
    pub share: Option<f64>,
    /// What is compared besides the status: expressions over both answers, each of them `answer`.
    #[serde(default)]
    pub compare: Vec<String>,
}

/// One backend that calls may go to.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ChoiceDoc {
    /// Name of the backend.
    pub backend: String,
    /// When, as an expression over path, query, header fields and caller; always unless given.
    pub when: Option<String>,
    /// For so many of a hundred callers, as in 5 or 0.5; the same callers each time, and a greater share keeps those. All of
    /// them unless given.
    #[schemars(range(min = 0, max = 100))]
    pub share: Option<f64>,
    /// By what callers are told apart for that, as an expression; by consumer, else by address, unless given.
    pub by: Option<String>,
}

impl RoutingDoc {
    /// All backends that calls may go to.
    pub(crate) fn backends(&self) -> impl Iterator<Item = &str> {
        let chosen = self.choose.iter().map(|c| c.backend.as_str());
        let shadow = self.shadow.iter().map(|s| s.backend.as_str());
        let spares = self.spares.iter().map(String::as_str);
        chosen.chain(spares).chain(shadow)
    }
}
