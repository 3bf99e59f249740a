//! Compiling backends: addresses, credentials, definitions.

use std::sync::Arc;
use std::time::Duration;

use porch_contract::{Finding, Position, Severity, Step, suggest};

pub(crate) use super::addresses::facade_of;
use super::addresses::{MOST_ADDRESSES, NoAddress, weighted, within};
use super::{FacadeCompiler, Sources, Wired};
use crate::compiled::{Address, CompiledBackend, Credentials, Definition, Transport, Trust, turns};
use crate::documents::{BackendDoc, MediaType};
use crate::host::no_host;
use crate::kind::Kind;
use crate::read::{Document, beside};

pub(super) const DEFAULT_MESSAGE: usize = 64 << 20;
pub(super) const DEFAULT_TIMEOUT: Duration = Duration::from_secs(10);
/// How long a connection may take where nothing is said.
pub(super) const DEFAULT_CONNECT: Duration = Duration::from_secs(5);

impl FacadeCompiler<'_> {
    pub(super) fn backend(&mut self, id: &str, name: &str, steps: &[&str]) -> Option<Wired> {
        let documents = self.from.documents;
        let Some(backend) = documents.backends.get(name) else {
            self.no_backend(id, name, steps);
            return None;
        };
        let kind = self.kinds().get(&backend.doc.kind)?.clone();
        let credentials = self.credentials_of(backend);
        let definition = self.definition(backend, &*kind)?;
        let (addresses, inside) = self.addresses(backend)?;
        let transport = match inside {
            true => Transport::Inside,
            false => kind.transport(),
        };
        let trust = self.trust(backend)?;
        self.only_by_tls(backend, &addresses);
        self.backend_keys(backend, kind.keys().backend);
        let xml = (backend.doc.media_type == Some(MediaType::Xml))
            .then(|| backend.doc.xml.clone().unwrap_or_default().mapping());
        let timeout = backend.doc.timeout.map_or(DEFAULT_TIMEOUT, |t| t.0);
        let connections = self.connections(backend, inside);
        let may = connections.is_none() && backend.doc.http2.unwrap_or(true);
        let offers_http2 = transport == Transport::Http1 && may;
        let identity = identity(&addresses, transport, &trust, &credentials)
            ^ named(backend.doc.server_name.as_deref())
            ^ named((!offers_http2).then_some("http/1.1"))
            ^ named(connections.map(|n| format!("{n} connections")).as_deref());
        let compiled = Arc::new(CompiledBackend {
            name: name.to_owned(),
            kind: kind.name(),
            identity,
            transport,
            offers_http2,
            turns: turns(&addresses),
            addresses,
            trust,
            server_name: self.server_name(backend),
            connections,
            waiting: self.waiting(backend, connections),
            timeout,
            attempts: self.attempts(backend),
            circuit: self.circuit(backend),
            health: self.health(backend, (identity, transport)),
            connect: connect_time(backend).min(timeout),
            idle: backend.doc.idle_timeout.map_or(timeout, |t| t.0),
            max_message: backend
                .doc
                .max_message
                .map_or(DEFAULT_MESSAGE, |m| m.0 as usize),
            compress: backend.doc.compress,
            xml,
            credentials,
        });
        self.backends.push(compiled.clone());
        Some(Wired {
            index: self.backends.len() - 1,
            backend: compiled,
            kind,
            definition,
            sides: Arc::default(),
        })
    }

    /// What a backend says of itself.
    fn definition(
        &mut self,
        backend: &Document<BackendDoc>,
        kind: &dyn Kind,
    ) -> Option<Arc<dyn Definition>> {
        let library = self.from.library;
        match library.definition(kind, self.from.files, backend) {
            Ok(definition) => {
                self.findings.extend(definition.findings().iter().cloned());
                Some(definition)
            }
            Err(finding) => {
                self.findings.push(*finding);
                None
            }
        }
    }

    fn no_backend(&mut self, id: &str, name: &str, steps: &[&str]) {
        let known = self.from.documents.backends.keys().map(String::as_str);
        let near =
            suggest(name, known).map_or_else(String::new, |n| format!("did you mean “{n}”?"));
        let facade = self.from.facade;
        let all = ["operations", id].into_iter().chain(steps.iter().copied());
        let steps: Vec<Step> = all
            .chain(["backend"])
            .map(|k| Step::Key(k.into()))
            .collect();
        let at = facade.node.locate(&steps, false);
        let message = no_backend(name);
        self.findings
            .push(Finding::error(&facade.file, at, message).help(near));
    }

    /// Where a backend is called: what the environment says, else its own document; and whether that is another facade.
    fn addresses(&mut self, backend: &Document<BackendDoc>) -> Option<(Vec<Address>, bool)> {
        let here = self
            .from
            .environment
            .and_then(|e| e.backends.get(&backend.doc.name))
            .map(|p| &p.address);
        let Some(given) = here
            .or(backend.doc.address.as_ref())
            .filter(|a| !a.all().is_empty())
        else {
            let help = "add `address: http://…`, or name it in the environment's document";
            let message = no_address(&backend.doc.name);
            self.findings
                .push(Finding::error(&backend.file, backend.node.at, message).help(help));
            return None;
        };
        let inside = given.all().iter().any(|t| facade_of(t).is_some());
        let number = given.all().len();
        let all: Result<Vec<Address>, NoAddress> = match (inside, given.weighted().as_slice()) {
            (true, [(one, _)]) if backend.doc.kind == crate::kind::http::NAME => {
                within(one).map(|address| vec![address])
            }
            (true, _) => Err(NoAddress::Inside),
            (false, all) => all
                .iter()
                .map(|(text, weight)| weighted(text.trim(), *weight))
                .collect(),
        };
        let all = match number > MOST_ADDRESSES {
            true => Err(NoAddress::Many(number)),
            false => all,
        };
        let all = all.and_then(|all| match all.iter().any(|a| a.tls != all[0].tls) {
            false => Ok((all, inside)),
            true => Err(NoAddress::Mixed),
        });
        all.map_err(|why| {
            let (file, at) = self.place_of_address(backend);
            self.findings
                .push(Finding::error(&file, at, why.to_string()));
        })
        .ok()
    }

    /// Where a backend's address stands: in the environment's document, or in its own.
    fn place_of_address(&self, backend: &Document<BackendDoc>) -> (String, Position) {
        let name = backend.doc.name.as_str();
        let environments = &self.from.documents.environments;
        let here = self
            .from
            .environment
            .filter(|e| e.backends.contains_key(name));
        match here.and_then(|e| environments.get(&e.name)) {
            Some(e) => {
                let steps = ["backends", name, "address"].map(|k| Step::Key(k.into()));
                (e.file.clone(), e.node.locate(&steps, false))
            }
            None => {
                let at = backend.node.locate(&[Step::Key("address".into())], false);
                (backend.file.clone(), at)
            }
        }
    }

    /// How many connections it takes. By HTTP/2 one carries all calls: it is not offered where they are counted.
    fn connections(&mut self, backend: &Document<BackendDoc>, inside: bool) -> Option<u32> {
        let most = backend.doc.connections?;
        let at = backend
            .node
            .locate(&[Step::Key("connections".into())], true);
        if most == 0 {
            let message = "a backend takes at least one connection";
            self.findings
                .push(Finding::error(&backend.file, at, message));
        } else if inside || backend.doc.http2 == Some(true) {
            let message = match inside {
                true => "a facade of this porch is called without connections",
                false => "where connections are counted HTTP/2 is not offered",
            };
            let told = Finding::new(Severity::Warning, &backend.file, at, message);
            self.findings.push(told);
        }
        Some(most.max(1)).filter(|_| !inside)
    }

    /// How many calls wait for a connection.
    fn waiting(&mut self, backend: &Document<BackendDoc>, connections: Option<u32>) -> Option<u32> {
        let most = backend.doc.waiting?;
        if connections.is_none() {
            let at = backend.node.locate(&[Step::Key("waiting".into())], true);
            let message = "calls wait only where connections are counted";
            let told = Finding::new(Severity::Warning, &backend.file, at, message);
            self.findings.push(told.help("add `connections: …`"));
        }
        Some(most)
    }

    /// Tells what has no meaning where a backend is called without TLS.
    fn only_by_tls(&mut self, backend: &Document<BackendDoc>, addresses: &[Address]) {
        if addresses.iter().any(|a| a.tls) {
            return;
        }
        let certificate = backend.doc.credentials.calling.certificate.is_some();
        let all = [
            (
                backend.doc.server_name.is_some(),
                &["server-name"][..],
                "a server's name is looked at",
            ),
            (
                certificate,
                &["credentials", "calling", "certificate"],
                "a certificate is shown",
            ),
        ];
        for (_, path, what) in all.into_iter().filter(|(there, ..)| *there) {
            let steps: Vec<Step> = path.iter().map(|k| Step::Key((*k).into())).collect();
            let at = backend.node.locate(&steps, true);
            let message = format!("{what} by TLS only, and no address begins with https://");
            let told = Finding::new(Severity::Warning, &backend.file, at, message);
            self.findings.push(told);
        }
    }

    fn server_name(&mut self, backend: &Document<BackendDoc>) -> Option<String> {
        let name = backend.doc.server_name.as_ref()?;
        let Some(why) = no_host(name) else {
            return Some(name.clone());
        };
        let at = backend
            .node
            .locate(&[Step::Key("server-name".into())], false);
        let message = format!("“{name}” is no host name");
        self.findings
            .push(Finding::error(&backend.file, at, message).help(why));
        None
    }

    pub(super) fn trust(&mut self, backend: &Document<BackendDoc>) -> Option<Trust> {
        let Some(file) = &backend.doc.trust else {
            return Some(Trust::Machine);
        };
        let message = match self.from.trust(&backend.file, file) {
            Ok(trust) => return Some(trust),
            Err(message) => message,
        };
        let at = backend.node.locate(&[Step::Key("trust".into())], false);
        self.findings
            .push(Finding::error(&backend.file, at, message));
        None
    }
}

impl Sources<'_> {
    /// The certificates that a document trusts, in a file beside it.
    pub(super) fn trust(&self, document: &str, file: &str) -> Result<Trust, String> {
        let path = beside(document, file);
        match self.files.get(&path) {
            Some(text) if text.contains("-----BEGIN CERTIFICATE-----") => {
                Ok(Trust::These(text.as_str().into()))
            }
            Some(_) => Err(format!("“{path}” holds no certificates in PEM")),
            None => Err(format!("there is no file “{path}”")),
        }
    }
}

/// A server that is asked for something besides calls: tokens, keys.
pub(super) fn of_addresses(
    addresses: Vec<Address>,
    trust: Trust,
    identity: u64,
    timeout: Duration,
) -> CompiledBackend {
    CompiledBackend {
        name: format!("{}://{}", addresses[0].scheme(), addresses[0].authority),
        kind: crate::kind::http::NAME,
        identity,
        transport: Transport::Http1,
        offers_http2: false,
        turns: turns(&addresses),
        addresses,
        trust,
        server_name: None,
        attempts: None,
        circuit: None,
        health: None,
        connections: None,
        waiting: None,
        timeout,
        connect: DEFAULT_CONNECT.min(timeout),
        idle: timeout,
        max_message: DEFAULT_MESSAGE,
        compress: false,
        xml: None,
        credentials: Credentials::default(),
    }
}

/// How long a connection may take.
fn connect_time(backend: &Document<BackendDoc>) -> Duration {
    backend.doc.connect_timeout.map_or(DEFAULT_CONNECT, |t| t.0)
}

/// A number for everything that what is learned of a backend depends on.
pub(super) fn identity(
    addresses: &[Address],
    transport: Transport,
    trust: &Trust,
    credentials: &Credentials,
) -> u64 {
    let mut hash = blake3::Hasher::new();
    let mut add = |bytes: &[u8]| {
        hash.update(&(bytes.len() as u64).to_le_bytes());
        hash.update(bytes);
    };
    for address in addresses {
        add(address.scheme().as_bytes());
        add(address.authority.as_bytes());
    }
    add(format!("{transport:?}").as_bytes());
    if let Trust::These(pem) = trust {
        add(pem.as_bytes());
    }
    for (name, value) in &credentials.headers {
        add(name.as_str().as_bytes());
        add(value.as_bytes());
    }
    if let Some(own) = &credentials.certificate {
        add(own.chain.as_bytes());
        add(own.key.as_bytes());
    }
    if let Some(client) = &credentials.client {
        add(&client.identity.to_le_bytes());
    }
    for (_, pair) in &credentials.query {
        add(pair.as_bytes());
    }
    add(serde_json::to_string(&credentials.soap_headers)
        .unwrap_or_default()
        .as_bytes());
    if let Some(token) = &credentials.token {
        add(token.user.as_bytes());
        add(token.password.as_bytes());
    }
    let digest = hash.finalize();
    digest
        .as_bytes()
        .first_chunk::<8>()
        .map_or(0, |first| u64::from_le_bytes(*first))
}

/// A number for the name that a certificate must have; none for the address's own.
pub(super) fn named(name: Option<&str>) -> u64 {
    name.map_or(0, |name| {
        let digest = blake3::hash(name.as_bytes());
        let first = digest.as_bytes().first_chunk::<8>();
        first.map_or(0, |first| u64::from_le_bytes(*first))
    })
}

/// What is said of a backend that is not among the documents.
pub(crate) fn no_backend(name: &str) -> String {
    format!("there is no backend “{name}”")
}

/// What is said of a backend that nobody gives an address.
pub(crate) fn no_address(name: &str) -> String {
    format!("the backend “{name}” has no address")
}

#[cfg(test)]
mod tests {
    use super::super::addresses::address;
    use super::*;
    use http::HeaderValue;

    #[test]
    fn only_what_can_be_called_is_an_address() {
        for good in [
            "http://a",
            "https://a.example:8443/in/ner/",
            "http://[::1]:8080",
        ] {
            assert!(address(good).is_ok(), "{good}");
        }
        for bad in [
            "a",
            "ftp://a",
            "http://",
            "http://u@a",
            "http://a?x=1",
            "http://x/{v}",
            "http://x/a?b",
            "http://x/a#f",
            "http://x/a b",
            "http://x/a/../c",
        ] {
            assert!(address(bad).is_err(), "{bad}");
        }
        let a = address("https://a.example:8443/in/ner/").unwrap();
        assert_eq!(
            (a.authority.as_str(), a.path.as_str(), a.tls),
            ("a.example:8443", "/in/ner", true)
        );
    }

    #[test]
    fn another_trust_or_credential_is_another_identity() {
        let at = [address("https://a").unwrap()];
        let none = Credentials::default();
        let of = |trust: &Trust, c: &Credentials| identity(&at, Transport::Http2, trust, c);
        let plain = of(&Trust::Machine, &none);
        assert_eq!(plain, of(&Trust::Machine, &none));
        assert_ne!(plain, of(&Trust::These("pem".into()), &none));
        let other = Credentials {
            headers: vec![(http::header::ETAG, HeaderValue::from_static("x"))],
            ..Credentials::default()
        };
        assert_ne!(plain, of(&Trust::Machine, &other));
        assert_ne!(
            plain,
            identity(&at, Transport::Http1, &Trust::Machine, &none)
        );
    }
}
