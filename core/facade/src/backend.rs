//! Compiling backends: addresses, credentials, definitions.

use std::sync::Arc;
use std::time::Duration;

use http::{HeaderName, HeaderValue};
use porch_contract::{Finding, Step, suggest};
use porch_soap::security::UsernameToken;
use serde_json::{Map, Value};

use crate::Documents;
use crate::compile::{Builder, Op, Secrets, Wired};
use crate::compiled::{CompiledBackend, Trust};
use crate::documents::{BackendDoc, BackendKind, LoginDoc, MediaType, PasswordKind};
use crate::read::{Document, definition_of, grpc_definition_of};

const DEFAULT_MESSAGE: usize = 64 << 20;
const DEFAULT_TIMEOUT: Duration = Duration::from_secs(10);

impl Builder<'_> {
    pub(crate) fn backend(&mut self, op: &Op<'_>, documents: &Documents) -> Option<Wired> {
        let name = &op.doc.call.backend;
        let Some(backend) = documents.backends.get(name) else {
            let near = suggest(name, documents.backends.keys().map(String::as_str))
                .map_or_else(String::new, |n| format!("did you mean “{n}”?"));
            self.findings.push(
                Finding::error(
                    &op.facade.file,
                    op.at(&["call", "backend"]),
                    format!("there is no backend “{name}”"),
                )
                .help(near),
            );
            return None;
        };
        let mut secrets = Vec::new();
        let calling = &backend.doc.credentials.calling;
        let mut soap_headers = Map::new();
        for (key, value) in &calling.soap_headers {
            let filled = self.fill(
                backend,
                &["credentials", "calling", "soap-headers", key],
                value,
                &mut secrets,
            );
            soap_headers.insert(key.clone(), filled);
        }
        let mut headers = Vec::new();
        for (key, value) in &calling.headers {
            match self.fill(
                backend,
                &["credentials", "calling", "headers", key],
                value,
                &mut secrets,
            ) {
                Value::String(text) => {
                    match (key.parse::<HeaderName>(), HeaderValue::from_str(&text)) {
                        (Ok(name), Ok(value)) => headers.push((name, value)),
                        _ => self.findings.push(Finding::error(
                            &backend.file,
                            backend.node.at,
                            format!("“{key}” and its value cannot stand in a header"),
                        )),
                    }
                }
                _ => self.findings.push(Finding::error(
                    &backend.file,
                    backend.node.at,
                    format!("the header {key} needs a text or a secret"),
                )),
            }
        }
        if let Some(login) = &calling.basic {
            let (user, password) = self.login(backend, "basic", login, &mut secrets);
            if user.contains(':') {
                let help = "the Basic scheme ends the name at the first colon (RFC 7617 §2)";
                self.findings.push(
                    Finding::error(
                        &backend.file,
                        backend.node.at,
                        "a user's name cannot hold a colon",
                    )
                    .help(help),
                );
            }
            let encoded = porch_soap::to_base64(format!("{user}:{password}").as_bytes());
            if let Ok(value) = HeaderValue::from_str(&format!("Basic {encoded}")) {
                headers.push((http::header::AUTHORIZATION, value));
                secrets.push(encoded);
            }
        }
        let token = calling.ws_security.as_ref().map(|login| {
            let (user, password) = self.login(backend, "ws-security", login, &mut secrets);
            UsernameToken {
                user,
                password,
                digest: login.kind == PasswordKind::Digest,
            }
        });
        if token.is_some() && backend.doc.kind != BackendKind::Soap {
            let at = backend.node.locate(
                &["credentials", "calling", "ws-security"].map(|k| Step::Key(k.into())),
                true,
            );
            self.findings.push(
                Finding::error(
                    &backend.file,
                    at,
                    "only SOAP backends understand WS-Security",
                )
                .help("use `basic`"),
            );
        }
        let grpc = match backend.doc.kind {
            BackendKind::Grpc => match grpc_definition_of(op.files, backend) {
                Ok(mut definition) => {
                    self.findings.append(&mut definition.findings);
                    Some(definition)
                }
                Err(finding) => {
                    self.findings.push(*finding);
                    return None;
                }
            },
            _ => None,
        };
        let soap = match backend.doc.kind {
            BackendKind::Http | BackendKind::Grpc => None,
            BackendKind::Soap => match definition_of(op.files, backend) {
                Ok(mut definition) => {
                    self.findings.append(&mut definition.findings);
                    let plan = Arc::new(std::mem::take(&mut definition.plan));
                    Some((definition, plan))
                }
                Err(finding) => {
                    self.findings.push(*finding);
                    return None;
                }
            },
        };
        let (addresses, path, tls) = self.address(op, backend)?;
        let authority = addresses.first().cloned()?;
        let host = HeaderValue::from_str(&authority).ok()?;
        self.porch.backends.push(Arc::new(CompiledBackend {
            name: name.clone(),
            kind: match backend.doc.kind {
                BackendKind::Http => "http",
                BackendKind::Soap => "soap",
                BackendKind::Grpc => "grpc",
            },
            addresses,
            tls,
            authority,
            host,
            path,
            timeout: backend.doc.timeout.map_or(DEFAULT_TIMEOUT, |t| t.0),
            headers,
            token,
            mask: crate::Mask::of(secrets.iter().map(String::as_str)),
        }));
        let speaks_xml = backend.doc.media_type == Some(MediaType::Xml);
        for (key, given, fits) in [
            (
                "media-type",
                backend.doc.media_type.is_some(),
                backend.doc.kind == BackendKind::Http,
            ),
            ("xml", backend.doc.xml.is_some(), speaks_xml),
        ] {
            if given && !fits {
                let at = backend.node.locate(&[Step::Key(key.into())], true);
                let help = "the generic mapping is for HTTP backends with `media-type: application/xml`; SOAP has a schema";
                self.findings.push(
                    Finding::error(&backend.file, at, format!("“{key}” has no meaning here"))
                        .help(help),
                );
            }
        }
        let xml = speaks_xml.then(|| backend.doc.xml.clone().unwrap_or_default().mapping());
        let messages = (
            backend
                .doc
                .max_message
                .map_or(DEFAULT_MESSAGE, |m| m.0 as usize),
            backend.doc.compress,
        );
        Some(Wired {
            index: self.porch.backends.len() - 1,
            soap,
            grpc,
            messages,
            kind: backend.doc.kind,
            soap_headers: Value::Object(soap_headers),
            xml,
        })
    }

    /// Where a backend is called: `host:port` of each address, their path, and how certificates are checked.
    fn address(
        &mut self,
        op: &Op<'_>,
        backend: &Document<BackendDoc>,
    ) -> Option<(Vec<String>, String, Option<Trust>)> {
        let at = backend.node.locate(&[Step::Key("address".into())], false);
        let here = self
            .environment
            .and_then(|e| e.backends.get(&backend.doc.name))
            .map(|p| &p.address);
        let Some(given) = here
            .or(backend.doc.address.as_ref())
            .filter(|a| !a.all().is_empty())
        else {
            let help = "add `address: http://…`, or name it in the environment's document";
            self.findings.push(
                Finding::error(
                    &backend.file,
                    backend.node.at,
                    format!("the backend “{}” has no address", backend.doc.name),
                )
                .help(help),
            );
            return None;
        };
        let is_grpc = backend.doc.kind == BackendKind::Grpc;
        let (mut all, mut path, mut secure) = (Vec::new(), String::new(), Vec::new());
        for address in given.all() {
            let trimmed = address.trim();
            let rest = match (
                trimmed.strip_prefix("http://"),
                trimmed.strip_prefix("https://"),
            ) {
                (Some(rest), _) => (rest, false),
                (_, Some(rest)) if is_grpc => (rest, true),
                _ => {
                    let known = if is_grpc {
                        "http:// and https:// are"
                    } else {
                        "only http:// is so far"
                    };
                    self.findings.push(Finding::error(
                        &backend.file,
                        at,
                        format!("“{trimmed}” is no address that can be called: {known}"),
                    ));
                    return None;
                }
            };
            let (authority, below) = rest
                .0
                .split_once('/')
                .map_or((rest.0, String::new()), |(a, p)| (a, format!("/{p}")));
            if authority.is_empty() || authority.contains(['@', '?', '#', ' ']) {
                self.findings.push(Finding::error(
                    &backend.file,
                    at,
                    format!("“{trimmed}” has no usable host"),
                ));
                return None;
            }
            all.push(authority.to_owned());
            secure.push(rest.1);
            below.trim_end_matches('/').clone_into(&mut path);
        }
        if all.len() > 1 && !is_grpc {
            self.findings.push(Finding::error(
                &backend.file,
                at,
                "only gRPC backends can have several addresses so far",
            ));
            return None;
        }
        if secure.iter().any(|s| *s != secure[0]) {
            self.findings.push(Finding::error(
                &backend.file,
                at,
                "the addresses of a backend all begin with http:// or all with https://",
            ));
            return None;
        }
        let tls = if secure[0] {
            Some(self.trust(op, backend)?)
        } else {
            None
        };
        Some((all, path, tls))
    }

    fn trust(&mut self, op: &Op<'_>, backend: &Document<BackendDoc>) -> Option<Trust> {
        let Some(file) = &backend.doc.trust else {
            return Some(Trust::Machine);
        };
        let path = crate::read::beside(&backend.file, file);
        match op.files.get(&path) {
            Some(text) if text.contains("-----BEGIN CERTIFICATE-----") => {
                Some(Trust::These(text.as_str().into()))
            }
            found => {
                let at = backend.node.locate(&[Step::Key("trust".into())], false);
                let message = if found.is_some() {
                    format!("“{path}” holds no certificates in PEM")
                } else {
                    format!("there is no file “{path}”")
                };
                self.findings
                    .push(Finding::error(&backend.file, at, message));
                None
            }
        }
    }

    fn login(
        &mut self,
        backend: &Document<BackendDoc>,
        kind: &str,
        login: &LoginDoc,
        seen: &mut Vec<String>,
    ) -> (String, String) {
        let mut text = |name: &str, value: &Value, b: &mut Self| match b.fill(
            backend,
            &["credentials", "calling", kind, name],
            value,
            seen,
        ) {
            Value::String(text) => text,
            other => {
                let at = backend.node.locate(
                    &["credentials", "calling", kind, name].map(|k| Step::Key(k.into())),
                    false,
                );
                b.findings.push(
                    Finding::error(&backend.file, at, format!("{other} is no text"))
                        .help("write it in quotes, or `{ secret: NAME }`"),
                );
                String::new()
            }
        };
        (
            text("user", &login.user, self),
            text("password", &login.password, self),
        )
    }

    /// A value with its secrets filled in.
    fn fill(
        &mut self,
        backend: &Document<BackendDoc>,
        path: &[&str],
        value: &Value,
        seen: &mut Vec<String>,
    ) -> Value {
        match value {
            Value::Object(map) => {
                if let (Some(Value::String(name)), 1) = (map.get("secret"), map.len()) {
                    return Value::String(self.secret(backend, path, name, seen));
                }
                Value::Object(
                    map.iter()
                        .map(|(k, v)| {
                            let deeper: Vec<&str> =
                                path.iter().copied().chain([k.as_str()]).collect();
                            (k.clone(), self.fill(backend, &deeper, v, seen))
                        })
                        .collect(),
                )
            }
            other => other.clone(),
        }
    }

    fn secret(
        &mut self,
        backend: &Document<BackendDoc>,
        path: &[&str],
        name: &str,
        seen: &mut Vec<String>,
    ) -> String {
        match &self.secrets {
            Secrets::Placeholder => "secret".into(),
            Secrets::Known(known) => match known.get(name) {
                Some(text) => {
                    seen.push(text.clone());
                    text.clone()
                }
                None => {
                    let steps: Vec<Step> =
                        path.iter().map(|k| Step::Key((*k).to_owned())).collect();
                    let at = backend.node.locate(&steps, false);
                    let near = suggest(name, known.keys().map(String::as_str)).map_or_else(
                        || format!("set it with `porch secret set {name}`"),
                        |n| format!("did you mean “{n}”?"),
                    );
                    self.findings.push(
                        Finding::error(
                            &backend.file,
                            at,
                            format!("the environment has no secret “{name}”"),
                        )
                        .help(near),
                    );
                    String::new()
                }
            },
        }
    }
}
