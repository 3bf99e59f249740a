//! What backends are shown, as their documents say it.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;
use serde_json::Value;

/// Credentials of a backend; each set is used for one purpose only.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CredentialsDoc {
    /// Used when calling it.
    #[serde(default)]
    pub calling: CallingDoc,
}

impl CredentialsDoc {
    /// The names of the secrets that the backend itself is shown.
    pub fn secrets(&self) -> Vec<&str> {
        let calling = &self.calling;
        let logins = [&calling.basic, &calling.ws_security].into_iter().flatten();
        let values = calling
            .soap_headers
            .values()
            .chain(calling.headers.values())
            .chain(calling.query.values())
            .chain(&calling.bearer)
            .chain(calling.certificate.as_ref().map(|c| &c.key))
            .chain(logins.flat_map(|l| [&l.user, &l.password]));
        names_in(values.collect())
    }

    /// The authorization server's address and the names of the secrets that it is shown; what it gives, the backend is shown.
    pub fn client_secrets(&self) -> Option<(&str, Vec<&str>)> {
        let client = self.calling.client_credentials.as_ref()?;
        let names = names_in(vec![&client.client, &client.secret]);
        Some((client.token_address.trim(), names))
    }
}

/// The names of the secrets that stand in values.
fn names_in(mut open: Vec<&Value>) -> Vec<&str> {
    let mut names: Vec<&str> = Vec::new();
    while let Some(value) = open.pop() {
        match value {
            Value::Object(map) => match (map.get("secret").and_then(Value::as_str), map.len()) {
                (Some(name), 1) => names.push(name),
                _ => open.extend(map.values()),
            },
            Value::Array(items) => open.extend(items),
            _ => {}
        }
    }
    names
}

/// Credentials for calling a backend. `{ secret: NAME }` stands for a secret of the environment.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CallingDoc {
    /// SOAP header elements by local name.
    #[serde(default)]
    pub soap_headers: IndexMap<String, Value>,
    /// HTTP header fields by name.
    #[serde(default)]
    pub headers: IndexMap<String, Value>,
    /// User and password by HTTP's Basic scheme (RFC 7617).
    pub basic: Option<LoginDoc>,
    /// A token by the Bearer scheme (RFC 6750 §2.1).
    pub bearer: Option<Value>,
    /// A token of an authorization server, which is asked with a client's own credentials (RFC 6749 §4.4) and kept until
    /// shortly before it ends.
    pub client_credentials: Option<ClientDoc>,
    /// HTTP: query parameters by name; a caller's own of the same names are not passed on.
    #[serde(default)]
    pub query: IndexMap<String, Value>,
    /// A certificate of the porch's own, for backends that are called by TLS and ask for one (RFC 8446 §4.4.2).
    pub certificate: Option<CertificateDoc>,
    /// HTTP: whether the key that the caller showed is passed on, in the field in which it came.
    #[serde(default)]
    pub callers_key: bool,
    /// SOAP: user and password as a UsernameToken of WS-Security.
    pub ws_security: Option<LoginDoc>,
}

impl CallingDoc {
    /// What a backend is shown, in words; never a value.
    pub fn places(&self) -> Vec<String> {
        let named = |what: &str, name: &String| format!("{what} {name}");
        let login = |what: &str, login: &Option<LoginDoc>| {
            let user = login.as_ref()?.user.as_str();
            Some(match user {
                Some(user) => format!("{what} as {user}"),
                None => what.to_owned(),
            })
        };
        let mut all: Vec<String> = Vec::new();
        all.extend(login("user and password (Basic)", &self.basic));
        all.extend(self.bearer.as_ref().map(|_| "a bearer token".to_owned()));
        let client = self.client_credentials.as_ref();
        all.extend(client.map(|c| format!("a token of {}", c.token_address.trim())));
        let certificate = self.certificate.as_ref();
        all.extend(certificate.map(|c| format!("the certificate {}", c.file)));
        let own = self.callers_key.then(|| "the caller's own key".to_owned());
        all.extend(own);
        all.extend(login("a UsernameToken (WS-Security)", &self.ws_security));
        all.extend(self.headers.keys().map(|n| named("the header", n)));
        all.extend(self.query.keys().map(|n| named("the query parameter", n)));
        let elements = self.soap_headers.keys();
        all.extend(elements.map(|n| named("the SOAP header", n)));
        all
    }
}

/// A certificate and its key.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CertificateDoc {
    /// The certificate, and those between it and an authority: a file in PEM (RFC 7468 §5) beside this one.
    pub file: String,
    /// Its private key in PEM (RFC 7468 §10): `{ secret: NAME }`.
    pub key: Value,
}

/// A user's name and password; each a text or `{ secret: NAME }`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LoginDoc {
    /// The name.
    pub user: Value,
    /// The password.
    pub password: Value,
    /// WS-Security: how the password is sent; `text` unless given.
    #[serde(default, rename = "type")]
    pub kind: PasswordKind,
}

/// A client of an authorization server; name and secret are each a text or `{ secret: NAME }`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ClientDoc {
    /// Where tokens are asked for (RFC 6749 §3.2).
    pub token_address: String,
    /// The client's identifier.
    pub client: Value,
    /// Its secret.
    pub secret: Value,
    /// What tokens are for (RFC 6749 §3.3): words with blanks between them.
    pub scope: Option<String>,
    /// How the server is shown the client; `basic` unless given.
    #[serde(default)]
    pub shown: ShownBy,
}

/// How an authorization server is shown a client (RFC 6749 §2.3.1).
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum ShownBy {
    /// By the Basic scheme.
    #[default]
    Basic,
    /// In the request's body.
    Body,
}

/// How a UsernameToken carries its password.
#[derive(Clone, Copy, Debug, Default, Deserialize, JsonSchema, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub enum PasswordKind {
    /// As it is.
    #[default]
    Text,
    /// As a digest of nonce, time and password.
    Digest,
}
