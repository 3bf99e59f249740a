//! Credentials that callers show, as documents say them.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};

use crate::units::Span;

/// A kind of credential, with where and how it is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CredentialDoc {
    /// A consumer's key.
    Key(KeyDoc),
    /// A consumer's name and password (RFC 7617).
    Basic,
    /// A token that an issuer signed (RFC 7519, RFC 9068).
    Token(Box<TokenDoc>),
    /// A signature of the request, with a consumer's key (RFC 9421).
    Signature(SignatureDoc),
    /// A consumer's certificate, shown by TLS (RFC 8446 §4.4.2).
    Certificate(CallersCertificateDoc),
}

/// Certificates of callers.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CallersCertificateDoc {
    /// A file with the certificates of those who sign callers', in PEM. Without it, consumers' certificates are known by their
    /// fingerprints alone, and whoever signed them does not matter.
    pub authorities: Option<String>,
    /// A file with what these have revoked (RFC 5280 §5), in PEM.
    pub revoked: Option<String>,
}

/// Signed requests (RFC 9421).
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SignatureDoc {
    /// What must be signed: `@method`, `@authority`, `@path`, `@query` and so on (RFC 9421 §2.2), and names of fields; these four
    /// unless given.
    pub covers: Option<Vec<String>>,
    /// Whether a body must be signed, by its `Content-Digest` (RFC 9530); it must unless given. One that is signed is compared
    /// in any case.
    #[serde(default = "demanded")]
    pub digest: bool,
    /// How old a signature may be (`created`); 5m unless given.
    pub within: Option<Span>,
    /// By how much clocks may differ; 30s unless given.
    pub skew: Option<Span>,
    /// Whether each must have a `nonce`. One that has is taken once, in any case.
    #[serde(default)]
    pub nonce: bool,
    /// The algorithms that are taken (RFC 9421 §6.2.2); all unless given.
    pub algorithms: Option<Vec<String>>,
    /// What it must say that it is for (`tag`); anything unless given.
    pub tag: Option<String>,
}

fn demanded() -> bool {
    true
}

impl Default for SignatureDoc {
    fn default() -> Self {
        Self {
            covers: None,
            digest: true,
            within: None,
            skew: None,
            nonce: false,
            algorithms: None,
            tag: None,
        }
    }
}

/// Tokens of an issuer: signed, and shown as `Authorization: Bearer` (RFC 6750 §2.1).
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct TokenDoc {
    /// The issuer, as its tokens name it (`iss`).
    pub issuer: String,
    /// Where its keys are (RFC 7517 §5); found by its discovery document (OpenID Connect Discovery 1.0 §4) unless given.
    pub keys: Option<String>,
    /// In place of keys: the issuer is asked of each token whether it is good (RFC 7662), whatever it looks like.
    pub introspect: Option<IntrospectDoc>,
    /// A file with the certificates that the issuer's may be signed with, in PEM; those that the machine trusts unless given.
    pub trust: Option<String>,
    /// For whom its tokens are (`aud`): one of these.
    pub audience: Audience,
    /// The algorithms that are taken (RFC 7518 §3.1, RFC 8037 §3.1); ES256, RS256, PS256 and EdDSA unless given.
    pub algorithms: Option<Vec<String>>,
    /// What a token says that it is (`typ`); `at+jwt` (RFC 9068 §2.1) unless given. An empty text: nothing.
    pub types: Option<Vec<String>>,
    /// By how much clocks may differ; 30s unless given.
    pub skew: Option<Span>,
    /// How a token must be bound to whoever shows it: in one of these ways; a token that is bound is held to it in any case.
    pub bound: Option<Vec<Bound>>,
    /// What a consumer is found by, over `claims`; `=claims.client_id` (RFC 9068 §2.2) unless given.
    pub consumer: Option<String>,
    /// The roles that it gives besides those of the consumer, over `claims`: a list of texts, or texts with blanks between them.
    pub roles: Option<String>,
}

/// How an issuer is asked whether a token is good (RFC 7662 §2).
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct IntrospectDoc {
    /// Where it is asked.
    pub at: String,
    /// What this gateway is known by there.
    pub client: String,
    /// The name of the secret that it shows there.
    pub secret: SecretName,
    /// How long what it says is remembered; 30s unless given, and never longer than the token is good.
    pub remember: Option<Span>,
}

/// A secret of the environment.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields)]
pub struct SecretName {
    /// Its name.
    pub secret: String,
}

/// How a token is bound to whoever shows it (`cnf`, RFC 7800 §3.1).
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum Bound {
    /// To a key, which is shown to be there by a proof with each request (RFC 9449).
    Dpop,
    /// To a certificate that is shown by TLS (RFC 8705 §3).
    Certificate,
}

/// For whom tokens are.
#[derive(Clone, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(untagged, expecting = "a text, or a list of texts, is expected here")]
pub enum Audience {
    /// For one.
    One(String),
    /// For one of several.
    Several(Vec<String>),
}

impl Audience {
    /// All of them.
    pub(crate) fn all(&self) -> &[String] {
        match self {
            Audience::One(one) => std::slice::from_ref(one),
            Audience::Several(all) => all,
        }
    }
}

/// Where a key is shown.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct KeyDoc {
    /// `header` unless given.
    #[serde(default, rename = "in")]
    pub place: KeyIn,
    /// Name of the header field or query parameter; what the contract's security scheme says unless given, else `API-Key` in a
    /// header and `key` in a query.
    pub name: Option<String>,
}

/// Where a key is shown, in the words of OpenAPI 3.1 §4.8.27.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum KeyIn {
    /// In a header field of its own.
    #[default]
    Header,
    /// As `Authorization: Bearer` (RFC 6750 §2.1).
    Bearer,
    /// As a query parameter.
    Query,
}

/// The kinds by their names.
const KINDS: &[&str] = &["key", "basic", "token", "signature", "certificate"];
/// Those that say nothing but their name.
const PLAIN: &[&str] = &["key", "basic", "signature", "certificate"];

impl CredentialDoc {
    /// The kind's name, as documents write it.
    pub fn label(&self) -> &'static str {
        match self {
            CredentialDoc::Key(_) => "key",
            CredentialDoc::Basic => "basic",
            CredentialDoc::Token(_) => "token",
            CredentialDoc::Signature(_) => "signature",
            CredentialDoc::Certificate(_) => "certificate",
        }
    }

    /// What is demanded.
    pub(crate) fn in_words(&self) -> String {
        match self {
            CredentialDoc::Key(doc) => match (doc.place, &doc.name) {
                (KeyIn::Header, None) => "a key is demanded".to_owned(),
                (KeyIn::Header, Some(name)) => format!("a key is demanded in the header {name}"),
                (KeyIn::Bearer, _) => "a key is demanded as a bearer token".to_owned(),
                (KeyIn::Query, name) => {
                    let name = name.as_deref().unwrap_or(QUERY_NAME);
                    format!("a key is demanded in the query, as {name}")
                }
            },
            CredentialDoc::Basic => "name and password are demanded".to_owned(),
            CredentialDoc::Signature(_) => "a signature of the request is demanded".to_owned(),
            CredentialDoc::Token(doc) => format!("a token of {} is demanded", doc.issuer),
            CredentialDoc::Certificate(doc) => match &doc.authorities {
                None => "a certificate is demanded".to_owned(),
                Some(file) => format!("a certificate is demanded that {file} signed"),
            },
        }
    }
}

/// The query parameter of keys unless one is given.
pub(crate) const QUERY_NAME: &str = "key";

struct Kind;

impl<'de> Visitor<'de> for Kind {
    type Value = CredentialDoc;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a string")
    }

    fn visit_str<E: de::Error>(self, name: &str) -> Result<CredentialDoc, E> {
        match name {
            "key" => Ok(CredentialDoc::Key(KeyDoc::default())),
            "basic" => Ok(CredentialDoc::Basic),
            "signature" => Ok(CredentialDoc::Signature(SignatureDoc::default())),
            "certificate" => Ok(CredentialDoc::Certificate(CallersCertificateDoc::default())),
            "token" => Err(E::custom(
                "a token says whose it is: write { token: { issuer: …, audience: … } }",
            )),
            _ => Err(E::unknown_variant(name, KINDS)),
        }
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<CredentialDoc, A::Error> {
        let Some(name) = map.next_key::<String>()? else {
            return Err(de::Error::custom("one kind of credential stands here"));
        };
        let made = match name.as_str() {
            "key" => CredentialDoc::Key(map.next_value()?),
            "basic" => {
                map.next_value::<Nothing>()?;
                CredentialDoc::Basic
            }
            "token" => CredentialDoc::Token(map.next_value()?),
            "signature" => CredentialDoc::Signature(map.next_value()?),
            "certificate" => CredentialDoc::Certificate(map.next_value()?),
            _ => return Err(de::Error::unknown_field(&name, KINDS)),
        };
        match map.next_key::<String>()? {
            None => Ok(made),
            Some(_) => Err(de::Error::custom(
                "each kind of credential stands in an item of its own",
            )),
        }
    }
}

/// What has nothing to say.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Nothing {}

impl<'de> Deserialize<'de> for CredentialDoc {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Kind)
    }
}

impl JsonSchema for CredentialDoc {
    fn schema_name() -> Cow<'static, str> {
        "CredentialDoc".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let key = generator.subschema_for::<KeyDoc>();
        let token = generator.subschema_for::<TokenDoc>();
        let signature = generator.subschema_for::<SignatureDoc>();
        let certificate = generator.subschema_for::<CallersCertificateDoc>();
        json_schema!({
            "description": "A kind of credential by its name, or with how it is shown.",
            "oneOf": [
                { "enum": PLAIN },
                {
                    "type": "object",
                    "minProperties": 1,
                    "maxProperties": 1,
                    "additionalProperties": false,
                    "properties": {
                        "key": key,
                        "basic": { "type": "object", "additionalProperties": false },
                        "token": token,
                        "signature": signature,
                        "certificate": certificate
                    }
                }
            ]
        })
    }
}
