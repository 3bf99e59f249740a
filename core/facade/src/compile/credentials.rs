//! What a backend is shown when it is called, with its secrets filled in.

use std::sync::Arc;

use http::{HeaderName, HeaderValue};
use porch_contract::{Finding, Step, suggest};
use porch_soap::security::UsernameToken;
use serde_json::{Map, Value};

use super::FacadeCompiler;
use super::addresses::address;
use super::backend::{DEFAULT_TIMEOUT, identity, of_addresses};
use crate::Mask;
use crate::compiled::{
    Address, ClientGrant, Credentials, OwnCertificate, PLACEHOLDER, Secrets, Transport, Trust,
};
use crate::documents::{BackendDoc, CertificateDoc, ClientDoc, LoginDoc, PasswordKind, ShownBy};
use crate::read::{Document, beside};

/// Fills in the credentials of one backend.
struct Filling<'c, 'a> {
    compiler: &'c mut FacadeCompiler<'a>,
    backend: &'c Document<BackendDoc>,
    /// Texts that must never be shown.
    seen: Vec<String>,
}

impl<'a> FacadeCompiler<'a> {
    pub(super) fn credentials_of(&mut self, backend: &Document<BackendDoc>) -> Credentials {
        let calling = &backend.doc.credentials.calling;
        let mut filling = Filling {
            compiler: self,
            backend,
            seen: Vec::new(),
        };
        let mut soap_headers = Map::new();
        for (key, value) in &calling.soap_headers {
            let filled = filling.fill(&["soap-headers", key], value);
            soap_headers.insert(key.clone(), filled);
        }
        let mut headers = Vec::new();
        for (key, value) in &calling.headers {
            headers.extend(filling.header(key, value));
        }
        headers.extend(calling.basic.as_ref().and_then(|l| filling.basic(l)));
        headers.extend(calling.bearer.as_ref().and_then(|t| filling.bearer(t)));
        let client = calling.client_credentials.as_ref();
        let client = client.and_then(|c| filling.client(c)).map(Arc::new);
        filling.one_authorization(&headers, client.is_some());
        let query = calling.query.iter();
        let query = query.map(|(k, v)| filling.query(k, v)).collect();
        let certificate = calling.certificate.as_ref();
        let certificate = certificate
            .and_then(|c| filling.certificate(c))
            .map(Arc::new);
        let token = calling.ws_security.as_ref().map(|l| filling.token(l));
        Credentials {
            headers,
            query,
            callers_key: calling.callers_key,
            certificate,
            client,
            soap_headers,
            token,
            mask: Mask::of(filling.seen.iter().map(String::as_str)),
        }
    }
}

impl Filling<'_, '_> {
    fn steps(path: &[&str]) -> Vec<Step> {
        ["credentials", "calling"]
            .iter()
            .chain(path)
            .map(|k| Step::Key((*k).to_owned()))
            .collect()
    }

    fn error(&mut self, path: &[&str], message: String, help: String) {
        let at = self.backend.node.locate(&Self::steps(path), false);
        self.compiler
            .findings
            .push(Finding::error(&self.backend.file, at, message).help(help));
    }

    fn header(&mut self, key: &str, value: &Value) -> Option<(HeaderName, HeaderValue)> {
        let path = ["headers", key];
        let Value::String(text) = self.fill(&path, value) else {
            let message = format!("the header {key} needs a text or a secret");
            self.error(&path, message, String::new());
            return None;
        };
        match (key.parse::<HeaderName>(), HeaderValue::from_str(&text)) {
            (Ok(name), Ok(value)) => Some((name, value)),
            _ => {
                let message = format!("“{key}” and its value cannot stand in a header");
                self.error(&path, message, String::new());
                None
            }
        }
    }

    /// A certificate of the porch's own.
    fn certificate(&mut self, doc: &CertificateDoc) -> Option<OwnCertificate> {
        let path = beside(&self.backend.file, &doc.file);
        let key = self.login_text(&["certificate", "key"], &doc.key);
        let wrong = match self.compiler.from.files.get(&path) {
            Some(text) if text.contains("-----BEGIN CERTIFICATE-----") => {
                let chain = text.clone();
                return Some(OwnCertificate { chain, key });
            }
            Some(_) => format!("“{path}” holds no certificates in PEM"),
            None => format!("there is no file “{path}”"),
        };
        self.error(&["certificate", "file"], wrong, String::new());
        None
    }

    /// The Basic scheme (RFC 7617 §2).
    fn basic(&mut self, login: &LoginDoc) -> Option<(HeaderName, HeaderValue)> {
        let (user, password) = self.login("basic", login);
        if user.contains(':') {
            let help = "the Basic scheme ends the name at the first colon (RFC 7617 §2)";
            let message = "a user's name cannot hold a colon";
            self.error(&["basic", "user"], message.into(), help.into());
        }
        let encoded = porch_soap::to_base64(format!("{user}:{password}").as_bytes());
        let value = HeaderValue::from_str(&format!("Basic {encoded}")).ok()?;
        self.seen.push(encoded);
        Some((http::header::AUTHORIZATION, value))
    }

    /// The Bearer scheme (RFC 6750 §2.1).
    fn bearer(&mut self, token: &Value) -> Option<(HeaderName, HeaderValue)> {
        let token = self.login_text(&["bearer"], token);
        match HeaderValue::from_str(&format!("Bearer {token}")) {
            Ok(value) => Some((http::header::AUTHORIZATION, value)),
            Err(_) => {
                let message = "this token cannot stand in a header";
                self.error(&["bearer"], message.into(), String::new());
                None
            }
        }
    }

    /// A request has one `Authorization` (RFC 9110 §11.6.2).
    fn one_authorization(&mut self, headers: &[(HeaderName, HeaderValue)], token: bool) {
        let all = headers.iter();
        let several = all.filter(|(n, _)| *n == http::header::AUTHORIZATION);
        if several.count() + usize::from(token) > 1 {
            let message = "several credentials want to be the header Authorization";
            let help = "keep one of `basic`, `bearer`, `client-credentials` and the header itself";
            self.error(&[], message.into(), help.into());
        }
    }

    /// How a token is asked for: a form, with the client in it or beside it (RFC 6749 §2.3.1, §4.4.2).
    fn client(&mut self, doc: &ClientDoc) -> Option<ClientGrant> {
        let kind = "client-credentials";
        let client = self.login_text(&[kind, "client"], &doc.client);
        let secret = self.login_text(&[kind, "secret"], &doc.secret);
        let text = doc.token_address.trim();
        let (place, query) = match text.split_once('?') {
            Some((place, query)) => (place, Some(query)),
            None => (text, None),
        };
        let address = match address(place) {
            Ok(address) => address,
            Err(why) => {
                self.error(&[kind, "token-address"], why.to_string(), String::new());
                return None;
            }
        };
        let behind = place.split_once("://").map_or("", |(_, rest)| rest);
        let path = behind.find('/').map_or("/", |at| &behind[at..]);
        let target = match query {
            Some(query) => format!("{path}?{query}"),
            None => path.to_owned(),
        };
        if target.parse::<http::Uri>().is_err() {
            let message = format!("“{target}” is no path that can be asked");
            self.error(&[kind, "token-address"], message, String::new());
            return None;
        }
        let form = |text: &str| {
            let mut out = String::new();
            crate::percent_encode_segment(&mut out, text);
            out
        };
        let (client, secret) = (form(&client), form(&secret));
        let mut body = "grant_type=client_credentials".to_owned();
        if let Some(scope) = &doc.scope {
            body.push_str(&format!("&scope={}", form(scope.trim())));
        }
        let mut authorization = None;
        match doc.shown {
            ShownBy::Basic => {
                let encoded = porch_soap::to_base64(format!("{client}:{secret}").as_bytes());
                authorization = HeaderValue::from_str(&format!("Basic {encoded}")).ok();
                self.seen.push(encoded);
            }
            ShownBy::Body => {
                body.push_str(&format!("&client_id={client}&client_secret={secret}"));
            }
        }
        let trust = self.compiler.trust(self.backend)?;
        Some(self.grant((address, target), trust, authorization, body))
    }

    fn grant(
        &self,
        (address, target): (Address, String),
        trust: Trust,
        authorization: Option<HeaderValue>,
        body: String,
    ) -> ClientGrant {
        let addresses = vec![address];
        // What is learned of the server is nobody's else who has another client.
        let shown = Credentials {
            headers: authorization
                .iter()
                .map(|a| (http::header::AUTHORIZATION, a.clone()))
                .collect(),
            query: vec![(String::new(), format!("{target} {body}"))],
            ..Credentials::default()
        };
        let identity = identity(&addresses, Transport::Http1, &trust, &shown);
        let timeout = self.backend.doc.timeout.map_or(DEFAULT_TIMEOUT, |t| t.0);
        ClientGrant {
            identity,
            server: of_addresses(addresses, trust, identity, timeout),
            target,
            authorization,
            body: body.into(),
        }
    }

    fn query(&mut self, key: &str, value: &Value) -> (String, String) {
        let path = ["query", key];
        if self.backend.doc.kind != crate::kind::http::NAME {
            let message = "only HTTP backends have query parameters for credentials";
            self.error(&path, message.into(), "use `headers`".into());
        }
        let text = self.login_text(&path, value);
        let mut pair = String::new();
        crate::percent_encode_segment(&mut pair, key);
        pair.push('=');
        crate::percent_encode_segment(&mut pair, &text);
        (key.to_owned(), pair)
    }

    fn token(&mut self, login: &LoginDoc) -> UsernameToken {
        let (user, password) = self.login("ws-security", login);
        if self.backend.doc.kind != crate::kind::soap::NAME {
            let at = self
                .backend
                .node
                .locate(&Self::steps(&["ws-security"]), true);
            let message = "only SOAP backends understand WS-Security";
            self.compiler
                .findings
                .push(Finding::error(&self.backend.file, at, message).help("use `basic`"));
        }
        UsernameToken {
            user,
            password,
            digest: login.kind == PasswordKind::Digest,
        }
    }

    fn login(&mut self, kind: &str, login: &LoginDoc) -> (String, String) {
        (
            self.login_text(&[kind, "user"], &login.user),
            self.login_text(&[kind, "password"], &login.password),
        )
    }

    fn login_text(&mut self, path: &[&str], value: &Value) -> String {
        match self.fill(path, value) {
            Value::String(text) => text,
            other => {
                let help = "write it in quotes, or `{ secret: NAME }`";
                self.error(path, format!("{other} is no text"), help.into());
                String::new()
            }
        }
    }

    /// A value with its secrets filled in.
    fn fill(&mut self, path: &[&str], value: &Value) -> Value {
        let Value::Object(map) = value else {
            return value.clone();
        };
        if let (Some(Value::String(name)), 1) = (map.get("secret"), map.len()) {
            return Value::String(self.secret(path, name));
        }
        map.iter()
            .map(|(k, v)| {
                let deeper: Vec<&str> = path.iter().copied().chain([k.as_str()]).collect();
                (k.clone(), self.fill(&deeper, v))
            })
            .collect::<Map<_, _>>()
            .into()
    }

    fn secret(&mut self, path: &[&str], name: &str) -> String {
        let Secrets::Known(known) = self.compiler.from.secrets else {
            return PLACEHOLDER.into();
        };
        if let Some(text) = known.get(name) {
            self.seen.push(text.clone());
            let digest = Secrets::digest(text);
            self.compiler.secrets.push((name.to_owned(), digest));
            return text.clone();
        }
        let near = suggest(name, known.keys().map(String::as_str)).map_or_else(
            || format!("set it with `porch secret set {name}`"),
            |n| format!("did you mean “{n}”?"),
        );
        let message = format!("the environment has no secret “{name}”");
        self.error(path, message, near);
        String::new()
    }
}
