//! Offers: what consumers may agree to.

use indexmap::IndexMap;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, de::Error};
use serde_json::Value;

use super::NAME;
use crate::units::Span;

/// What consumers may agree to (`elm-porch: offer/1`).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OfferDoc {
    /// Always `offer/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "offer/1"))]
    pub elm_porch: String,
    /// Name, by which agreements know it.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Title for people.
    #[serde(default)]
    pub title: String,
    /// What it is for, in a sentence or two.
    #[serde(default)]
    pub summary: String,
    /// What an agreement opens: facades, or some of their operations.
    #[schemars(length(min = 1))]
    pub opens: Vec<OpensDoc>,
    /// Named whole numbers, texts and truth values that rules read (`=terms.requests`).
    #[serde(default)]
    pub terms: IndexMap<String, Value>,
    /// Audience sees it in the portal; `everyone` unless given.
    #[serde(default)]
    pub see: Audience,
    /// Audience may ask for it; everybody who is signed in unless given.
    #[serde(default = "Audience::signed_in")]
    pub ask: Audience,
    /// Whether a person says yes; `at-once` unless given.
    #[serde(default)]
    pub granted: Granting,
    /// How long an agreement lasts, as in `14d`; without end unless given.
    pub lasts: Option<Span>,
    /// What happens at its end; it may be asked for again unless given.
    #[serde(default)]
    pub renewed: Renewing,
    /// How long an agreement goes on after it is ended with notice; not at all unless given.
    pub notice: Option<Span>,
    /// What must be accepted before it is asked for.
    pub accept: Option<AcceptDoc>,
    /// What it costs, in words.
    #[serde(default)]
    pub price: String,
    /// What becomes of agreements when the offer changes; they `keep` what they have unless given.
    #[serde(default)]
    pub when_changed: WhenChanged,
}

/// A facade, or some of its operations.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OpensDoc {
    /// Name of the facade.
    pub facade: String,
    /// Only these operations, by `operationId`.
    #[serde(default)]
    pub operations: Vec<String>,
    /// Only operations that have one of these tags in the contract (OpenAPI 3.1 §4.8.10).
    #[serde(default)]
    pub tags: Vec<String>,
}

/// Audience may do something.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Audience {
    /// Visitors too.
    #[default]
    Everyone,
    /// Everybody who is signed in.
    SignedIn,
    /// Accounts that have one of these roles, or are named.
    Some {
        /// Roles.
        roles: Vec<String>,
        /// Names of teams, or e-mail addresses of people.
        accounts: Vec<String>,
    },
}

#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct SomeDoc {
    /// Accounts that have one of these roles.
    #[serde(default)]
    roles: Vec<String>,
    /// These teams, by their names, and these people, by their e-mail addresses.
    #[serde(default)]
    accounts: Vec<String>,
}

impl Audience {
    fn signed_in() -> Self {
        Self::SignedIn
    }

    /// Whether it is somebody who is signed in, with these roles and names; `None`: a visitor.
    pub fn is(&self, account: Option<(&[String], &[&str])>) -> bool {
        match (self, account) {
            (Self::Everyone, _) | (Self::SignedIn, Some(_)) => true,
            (_, None) => false,
            (Self::Some { roles, accounts }, Some((has, called))) => {
                let named = |a: &String| called.iter().any(|c| c.eq_ignore_ascii_case(a));
                has.iter().any(|r| roles.contains(r)) || accounts.iter().any(named)
            }
        }
    }

    /// In words.
    pub fn in_words(&self) -> String {
        match self {
            Self::Everyone => "everyone".to_owned(),
            Self::SignedIn => "everybody who is signed in".to_owned(),
            Self::Some { roles, accounts } => {
                let roles = roles.iter().map(|r| format!("the role {r}"));
                let all: Vec<String> = roles.chain(accounts.iter().cloned()).collect();
                all.join(", ")
            }
        }
    }
}

impl<'de> Deserialize<'de> for Audience {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        match Value::deserialize(d)? {
            Value::String(text) if text == "everyone" => Ok(Self::Everyone),
            Value::String(text) if text == "signed-in" => Ok(Self::SignedIn),
            some @ Value::Object(_) => {
                let some = serde_json::from_value::<SomeDoc>(some);
                let SomeDoc { roles, accounts } = some.map_err(D::Error::custom)?;
                if roles.is_empty() && accounts.is_empty() {
                    let wrong = "this is nobody: name `roles` or `accounts`";
                    return Err(D::Error::custom(wrong));
                }
                Ok(Self::Some { roles, accounts })
            }
            other => Err(D::Error::custom(format!(
                "{other} is nobody: write everyone, signed-in, or an object with roles or accounts"
            ))),
        }
    }
}

impl JsonSchema for Audience {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Audience".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let some = generator.subschema_for::<SomeDoc>();
        json_schema!({
            "anyOf": [
                { "type": "string", "enum": ["everyone", "signed-in"] },
                { "allOf": [some], "anyOf": [
                    { "required": ["roles"], "properties": { "roles": { "minItems": 1 } } },
                    { "required": ["accounts"], "properties": { "accounts": { "minItems": 1 } } },
                ] },
            ]
        })
    }
}

/// Whether a person says yes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Granting {
    /// Whoever asks has it at once.
    #[default]
    AtOnce,
    /// A publisher looks at each request.
    ByPerson,
}

/// What happens when an agreement comes to its end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Renewing {
    /// It ends, and may be asked for again, also before: the new one begins where the old one ends.
    #[default]
    ByAsking,
    /// It goes on for as long again, until somebody ends it.
    ByItself,
    /// It ends, and a team has it once.
    Never,
}

/// What becomes of agreements when their offer changes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenChanged {
    /// They keep the terms that were agreed on, and open what they opened.
    #[default]
    Keep,
    /// They get the new terms, and open what the offer opens, as soon as it is released.
    Follow,
}

/// A text that must be accepted.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct AcceptDoc {
    /// File of the text, in Markdown, beside this one.
    pub text: String,
    /// Its version, by which is kept who accepted what.
    #[schemars(length(min = 1))]
    pub version: String,
}

/// Whether a text can name a term.
pub fn is_term(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let first = name.starts_with(|c: char| c.is_ascii_alphabetic());
    first && name.len() <= 64 && name.chars().all(fits)
}

/// Whether a value can be one of a term: a whole number, a text of at most 1,000 bytes, or true or false.
pub fn is_value_of_term(value: &Value) -> bool {
    match value {
        Value::Number(n) => n.as_i64().is_some(),
        Value::String(text) => text.len() <= 1000,
        Value::Bool(_) => true,
        _ => false,
    }
}
