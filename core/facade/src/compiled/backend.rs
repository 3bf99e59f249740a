//! Backends, compiled.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderName, HeaderValue};
use porch_soap::security::UsernameToken;
use serde_json::{Map, Value};

use crate::Mask;

/// A backend, compiled.
#[derive(Clone, Debug)]
pub struct CompiledBackend {
    /// Name.
    pub name: String,
    /// Kind, for people.
    pub kind: &'static str,
    /// What connections, health and everything else that is learned of it between releases hangs on: the same for the same
    /// addresses, transport, trust and credentials, and for nothing else.
    pub identity: u64,
    /// How its messages travel.
    pub transport: Transport,
    /// Whether addresses with TLS may choose HTTP/2 (RFC 7301) where it would be HTTP/1.1.
    pub offers_http2: bool,
    /// Where it is called; at least one, and calls are shared among them.
    pub addresses: Vec<Address>,
    /// The order in which they take turns; empty where there is one.
    pub turns: Box<[u16]>,
    /// How its certificate is checked, where it is called by TLS.
    pub trust: Trust,
    /// The name that its certificate must have, where that is another than the address's.
    pub server_name: Option<String>,
    /// How many connections each address takes, where that is limited.
    pub connections: Option<u32>,
    /// How many calls wait for one at each address; `None`: as many as there are.
    pub waiting: Option<u32>,
    /// How long an answer may take.
    pub timeout: Duration,
    /// How often a call is made, where it is made more than once.
    pub attempts: Option<Attempts>,
    /// When it is left alone for a while.
    pub circuit: Option<Circuit>,
    /// How its addresses are asked whether they are well, where they are.
    pub health: Option<Arc<HealthCheck>>,
    /// How long a connection may take.
    pub connect: Duration,
    /// How long an answer that has begun may fall silent.
    pub idle: Duration,
    /// Greatest size of one message in bytes, where it has messages.
    pub max_message: usize,
    /// Whether messages are sent compressed.
    pub compress: bool,
    /// How its XML and JSON stand for each other, when it speaks XML without a schema.
    pub xml: Option<porch_soap::generic::Mapping>,
    /// What it is shown when it is called.
    pub credentials: Credentials,
}

/// How often a call is made that is safe to repeat.
#[derive(Clone, Debug)]
pub struct Attempts {
    /// So many times at most, the first among them.
    pub most: u32,
    /// How long the second waits, by half more or less.
    pub spaced: Duration,
    /// Statuses that are failures too.
    pub statuses: Vec<u16>,
    /// The field with which callers say that what is not safe may be repeated.
    pub idempotency_key: Option<HeaderName>,
}

/// How addresses are asked whether they are well.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct HealthCheck {
    /// What is known of its addresses hangs on this: the backend's identity, and how they are asked.
    pub identity: u64,
    /// What is asked for, behind the address's own path.
    pub path: Option<String>,
    /// How often.
    pub every: Duration,
    /// How long an answer may take.
    pub within: Duration,
    /// So many failures one behind the other, and an address is left alone.
    pub fails: u32,
    /// So many good answers one behind the other, and it is called again.
    pub passes: u32,
    /// Statuses of those that are well.
    pub statuses: Vec<RangeInclusive<u16>>,
}

/// When a backend is left alone for a while.
#[derive(Clone, Debug)]
pub struct Circuit {
    /// Where so many of a hundred calls fail.
    pub share: u32,
    /// Of so many at least.
    pub calls: u32,
    /// Within this time.
    pub within: Duration,
    /// So long.
    pub rest: Duration,
    /// So long it gets more and more of its calls behind that.
    pub back: Duration,
    /// Statuses that are failures too.
    pub statuses: Vec<u16>,
}

/// What a backend is shown when it is called, secrets filled in.
#[derive(Clone, Debug, Default)]
pub struct Credentials {
    /// Header fields.
    pub headers: Vec<(HeaderName, HeaderValue)>,
    /// Query parameters: each name as it is meant, and the pair as it is sent.
    pub query: Vec<(String, String)>,
    /// Whether it is shown the caller's own key.
    pub callers_key: bool,
    /// The certificate that it is shown.
    pub certificate: Option<Arc<OwnCertificate>>,
    /// Whose token it is shown, where it demands one.
    pub client: Option<Arc<ClientGrant>>,
    /// Elements of a SOAP header, by their JSON names.
    pub soap_headers: Map<String, Value>,
    /// User and password for WS-Security.
    pub token: Option<UsernameToken>,
    /// Takes out texts that must never be shown.
    pub mask: Mask,
}

/// A certificate of the porch's own, with its key.
#[derive(PartialEq, Eq, Hash)]
pub struct OwnCertificate {
    /// The certificate, and those between it and an authority, in PEM.
    pub chain: String,
    /// Its private key, in PEM.
    pub key: String,
}

/// Never its key.
impl std::fmt::Debug for OwnCertificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OwnCertificate")
    }
}

/// How a token is asked for (RFC 6749 §4.4.2).
#[derive(Debug)]
pub struct ClientGrant {
    /// What tokens hang on: the same for the same server, client, secret and scope.
    pub identity: u64,
    /// The authorization server.
    pub server: CompiledBackend,
    /// Path and query of the address where tokens are asked for.
    pub target: String,
    /// What the server is shown in `Authorization`.
    pub authorization: Option<HeaderValue>,
    /// The form that is sent.
    pub body: Bytes,
}

/// How messages travel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Transport {
    /// HTTP/1.1, one exchange a connection at a time.
    Http1,
    /// HTTP/2, all exchanges on one connection (RFC 9113).
    Http2,
    /// Not at all: another facade of this porch, whose name is the address's authority.
    Inside,
}

/// One address of a backend.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    /// `host:port`, or `host` where the port is the scheme's.
    pub authority: String,
    /// The same as the value of a `Host` field.
    pub host: HeaderValue,
    /// Path without a slash at its end.
    pub path: String,
    /// Whether it is called by TLS.
    pub tls: bool,
    /// So many calls of as many as all weights are together.
    pub weight: u32,
}

/// The order in which addresses take turns, each as often as its weight says and as evenly as that goes (in each turn all
/// gain their weight, and the one that has most takes it for the sum of all).
pub fn turns(addresses: &[Address]) -> Box<[u16]> {
    if addresses.len() < 2 {
        return Box::default();
    }
    let divisor = addresses.iter().fold(0, |a, b| gcd(a, b.weight)).max(1);
    let weights: Vec<i64> = addresses
        .iter()
        .map(|a| i64::from(a.weight / divisor))
        .collect();
    let all: i64 = weights.iter().sum();
    let mut gained = vec![0i64; weights.len()];
    let mut order = Vec::new();
    for _ in 0..all {
        let mut best = 0;
        for (i, weight) in weights.iter().enumerate() {
            gained[i] += weight;
            if gained[i] > gained[best] {
                best = i;
            }
        }
        gained[best] -= all;
        order.push(best as u16);
    }
    order.into()
}

fn gcd(a: u32, b: u32) -> u32 {
    match b {
        0 => a,
        b => gcd(b, a % b),
    }
}

impl CompiledBackend {
    /// Whether an address may choose how it is called.
    pub fn may_choose(&self, at: usize) -> bool {
        self.offers_http2 && self.addresses.get(at).is_some_and(|a| a.tls)
    }

    /// Whether an address is called by HTTP/1.1, whatever comes.
    pub fn is_simple(&self, at: usize) -> bool {
        self.transport == Transport::Http1 && !self.may_choose(at)
    }

    /// The name of the facade of this porch that it is, where it is one.
    pub fn inside(&self) -> Option<&str> {
        let address = self.addresses.first()?;
        (self.transport == Transport::Inside).then_some(address.authority.as_str())
    }
}

impl Address {
    /// How it begins for people: scheme and host, or the facade that is meant.
    pub fn origin(&self, transport: Transport) -> String {
        match transport {
            Transport::Inside => format!("{}{}", Self::INSIDE, self.authority),
            _ => format!("{}://{}", self.scheme(), self.authority),
        }
    }

    /// Another facade of the porch as the address of a backend.
    pub const INSIDE: &str = "facade:";

    /// `http` or `https`.
    pub fn scheme(&self) -> &'static str {
        if self.tls { "https" } else { "http" }
    }
}

/// Whose signatures a backend's certificate may have.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Trust {
    /// Those that the machine trusts.
    Machine,
    /// These, in PEM.
    These(Arc<str>),
}
