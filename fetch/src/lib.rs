//! Fetching definitions by HTTP: the document, what it imports, and no more than that.
//!
//! Whoever names an address could make the porch call places that only the porch can reach. So everything is bounded:
//! size, number, depth and time; only HTTP, by TLS or not; few redirects; and addresses of the porch's own host, of its link, and
//! those where clouds keep their machines' credentials are only called when the publisher allows it.

mod address;
mod catalogue;
mod health;
mod http;
mod probe;
mod reflection;
mod sample;

use std::collections::{BTreeMap, HashSet, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use ::http::{HeaderValue, Request};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use http_body_util::Full;
use porch_facade::{Files, Source, is_zip};
use porch_soap::decode_document;
use porch_soap::localise::references;
use url::{Position, Url};

use self::address::{is_local, is_public};

const MAX_FILE: usize = 16 << 20;
const MAX_TOTAL: usize = 64 << 20;
const MAX_FILES: usize = 500;
const MAX_DEPTH: usize = 20;
const MAX_REDIRECTS: usize = 5;
const TIME: Duration = Duration::from_secs(30);

pub use catalogue::{Offer, offers, only_own};
pub use health::ask as ask_health;
pub use http::call;
pub use http::{Connection, Got};
pub use probe::{Probed, Reached, probe};
pub use reflection::{is_server, reflect};
pub use sample::{Sampled, is_sample, sample};

/// What may be called, and how.
#[derive(Clone, Debug, Default)]
pub struct Allowed {
    /// Whether loopback, link-local and unspecified addresses may be called.
    pub local: bool,
    /// Whether only addresses that everybody can reach may be called: a stranger says what is called.
    pub only_public: bool,
    /// An answer may have at most so many bytes; 0: as many as a definition.
    pub most: usize,
    /// Name and password for the definition's own host (RFC 7617), never sent to another.
    pub login: Option<(String, String)>,
    /// Certificates, in PEM, that a server's own may be signed with; those of the machine when empty.
    pub trust: String,
    /// The name that the certificate of the definition's own server must have, where that is another than the address's; empty:
    /// that one.
    pub server_name: String,
    /// A certificate and its key, in PEM, that the definition's own server is shown, never another.
    pub own: Option<std::sync::Arc<porch_facade::OwnCertificate>>,
}

impl Allowed {
    /// What holds for servers that a definition or a redirect leads to: nobody else is shown what one server asks for, and a name
    /// that its certificate has is its own.
    fn elsewhere(&self) -> Self {
        Self {
            local: self.local,
            only_public: self.only_public,
            most: self.most,
            trust: self.trust.clone(),
            ..Self::default()
        }
    }
}

/// Why a definition could not be had.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// The address is none that can be called.
    #[error("{0}: {1}")]
    Address(String, String),
    /// It must be allowed first.
    #[error("{0} is an address of the porch's own host or link ({1})")]
    Local(String, IpAddr),
    /// It did not answer as it should.
    #[error("{0}: {1}")]
    Answer(String, String),
    /// It demands credentials, or others than were given.
    #[error("{0} answers {1}")]
    Login(String, u16),
    /// It is too large, or there is too much of it.
    #[error("{0}: {1}")]
    TooMuch(String, String),
    /// Its certificate is not one that is trusted.
    #[error("{0}: its certificate is not trusted: {1}")]
    Certificate(String, String),
    /// What was given is no sample call.
    #[error("{0}")]
    Sample(porch_sample::NoSample),
    /// What came is no definition.
    #[error("{}", .0.message)]
    Unreadable(Box<porch_contract::Finding>),
}

impl FetchError {
    /// What can be done about it.
    pub fn help(&self) -> String {
        match self {
            FetchError::Local(..) => "allow it if that is where the backend is".into(),
            FetchError::Login(..) => "give name and password for the definition".into(),
            FetchError::Certificate(..) => {
                "give the certificate that its own is signed with, in PEM".into()
            }
            FetchError::Unreadable(finding) => finding.help.clone(),
            FetchError::Sample(told) => told.help.clone(),
            FetchError::Address(..) => "save the definition as a file or ZIP and give that".into(),
            _ => String::new(),
        }
    }
}

/// A login that is none of the form `NAME:PASSWORD`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the login is not of the form NAME:PASSWORD")]
pub struct NoLogin;

/// What was fetched.
#[derive(Debug)]
pub struct Fetched {
    /// The files, each named by its address.
    pub source: Source,
    /// Imports that could not be had, and why; what needs them is told when the definition is read.
    pub missing: Vec<String>,
}

/// Name and password from `NAME:PASSWORD`, white space around them taken away; with whether there was some.
///
/// # Errors
/// When there is no colon.
pub fn login(text: &str) -> Result<((String, String), bool), NoLogin> {
    let (name, password) = text.split_once(':').ok_or(NoLogin)?;
    let trimmed = (name.trim().to_owned(), password.trim().to_owned());
    let spaces = trimmed.0.len() != name.len() || trimmed.1.len() != password.len();
    Ok((trimmed, spaces))
}

/// Whether an address that somebody wrote names the host itself or its link, as far as it can be told without asking.
pub fn names_local(address: &str) -> bool {
    let full = if is_server(address) && !address.contains("://") {
        format!("http://{}", address.trim())
    } else {
        address.trim().to_owned()
    };
    let Ok(url) = Url::parse(&full) else {
        return false;
    };
    let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
    host == "localhost" || host.parse().is_ok_and(is_local)
}

/// Fetches a definition and what it imports.
///
/// # Errors
/// When the document itself cannot be had; an import that cannot is only listed.
pub async fn fetch(address: &str, allowed: &Allowed) -> Result<Fetched, FetchError> {
    let address = address.trim();
    if is_server(address) {
        return reflect(address, allowed).await;
    }
    let until = Instant::now() + TIME;
    let main = parse(address)?;
    let origin = main.origin().ascii_serialization();
    let body = get(&main, allowed, &origin, until).await?;
    if is_zip(&body) {
        let source = Source::from_bytes(address, &body, None).map_err(FetchError::Unreadable)?;
        let source = Source {
            trust: allowed.trust.clone(),
            read_as: read_as(allowed),
            ..source
        };
        return Ok(Fetched {
            source,
            missing: Vec::new(),
        });
    }
    let text = text_of(&body, address)?;
    let (mut files, mut missing, mut total) = (Files::new(), Vec::new(), text.len());
    let mut seen = HashSet::from([main.to_string()]);
    let mut open: VecDeque<(Url, String, usize)> = VecDeque::from([(main.clone(), text, 0)]);
    while let Some((url, text, depth)) = open.pop_front() {
        for target in imports(&url, &text, &mut missing) {
            if !seen.insert(target.to_string()) || is_known(&target) {
                continue;
            }
            let room = seen.len() <= MAX_FILES;
            match import(&target, (room, depth), allowed, &origin, until).await {
                Ok(text) if total + text.len() > MAX_TOTAL => {
                    missing.push(format!("{target}: more than {MAX_TOTAL} bytes in all"))
                }
                Ok(text) => {
                    total += text.len();
                    open.push_back((target, text, depth + 1));
                }
                Err(e) => missing.push(if e.help().is_empty() {
                    e.to_string()
                } else {
                    format!("{e}: {}", e.help())
                }),
            }
        }
        files.insert(url.to_string(), text);
    }
    // Files are named by where they are, and refer to one another by what that means there.
    let files = absolute(files);
    Ok(Fetched {
        source: Source {
            files,
            main: main.to_string(),
            trust: allowed.trust.clone(),
            read_as: read_as(allowed),
            ..Source::default()
        },
        missing,
    })
}

/// What a document imports: of a WSDL or schema what it names, of a description what it refers to on its own server. What it
/// refers to elsewhere is not asked for: whoever writes a description does not say whom the porch calls.
fn imports(url: &Url, text: &str, missing: &mut Vec<String>) -> Vec<Url> {
    if text.trim_start().starts_with('<') {
        let locations = references(text).into_iter();
        return locations.filter_map(|(_, l)| url.join(&l).ok()).collect();
    }
    let files = porch_describe::files_beside(url.as_str(), text);
    let targets = files.iter().filter_map(|file| Url::parse(file).ok());
    let (own, others): (Vec<Url>, Vec<Url>) = targets.partition(|t| t.origin() == url.origin());
    const TOLD: usize = 20;
    let room = TOLD.saturating_sub(missing.len());
    missing.extend(
        others.iter().take(room).map(|t| {
            format!("{t}: it is on another server than the description, and not asked for")
        }),
    );
    own
}

/// The text of what a document imports.
async fn import(
    target: &Url,
    (room, depth): (bool, usize),
    allowed: &Allowed,
    origin: &str,
    until: Instant,
) -> Result<String, FetchError> {
    let too_much = |what: String| FetchError::TooMuch(shown(target), what);
    if !room {
        return Err(too_much(format!("more than {MAX_FILES} files")));
    }
    if depth >= MAX_DEPTH {
        return Err(too_much(format!("imports more than {MAX_DEPTH} deep")));
    }
    let bytes = get(target, allowed, origin, until).await?;
    text_of(&bytes, target.as_str())
}

fn text_of(bytes: &[u8], address: &str) -> Result<String, FetchError> {
    decode_document(bytes, None).map_err(|e| {
        let what = format!("what it answers is not {}", e.0);
        FetchError::Answer(address.to_owned(), what)
    })
}

/// The same files with every reference written out as the address it means.
fn absolute(files: Files) -> Files {
    let mut out = BTreeMap::new();
    for (name, text) in files {
        let mut rewritten = String::with_capacity(text.len());
        let mut from = 0;
        if let Ok(base) = Url::parse(&name) {
            for (range, location) in references(&text) {
                if let Ok(target) = base.join(&location) {
                    rewritten.push_str(&text[from..range.start]);
                    rewritten.push_str(
                        &target
                            .as_str()
                            .replace('&', "&amp;")
                            .replace('"', "&quot;")
                            .replace('\'', "&apos;"),
                    );
                    from = range.end;
                }
            }
        }
        rewritten.push_str(&text[from..]);
        out.insert(name, rewritten);
    }
    out
}

/// Schemas that everybody has built in need no fetching.
fn is_known(url: &Url) -> bool {
    matches!(url.host_str(), Some("www.w3.org" | "schemas.xmlsoap.org"))
}

fn parse(address: &str) -> Result<Url, FetchError> {
    let url =
        Url::parse(address).map_err(|e| FetchError::Address(address.to_owned(), e.to_string()))?;
    check(&url)?;
    Ok(url)
}

fn check(url: &Url) -> Result<(), FetchError> {
    if !matches!(url.scheme(), "http" | "https") {
        return Err(FetchError::Address(
            shown(url),
            format!(
                "{}:// is not read, only http:// and https:// are",
                url.scheme()
            ),
        ));
    }
    if !url.username().is_empty() || url.password().is_some() {
        return Err(FetchError::Address(
            format!("{}…", url.scheme()),
            "credentials do not belong into an address".into(),
        ));
    }
    Ok(())
}

/// The addresses of a host, none of which is local unless that is allowed.
async fn addresses(
    url: &Url,
    (host, port): (&str, u16),
    left: Duration,
    allowed: &Allowed,
) -> Result<Vec<SocketAddr>, FetchError> {
    let failed = |what: String| FetchError::Answer(shown(url), what);
    let looked_up = tokio::time::timeout(left, tokio::net::lookup_host((host, port)))
        .await
        .map_err(|_| failed("its name is not found in time".into()))?;
    let found: Vec<SocketAddr> = looked_up
        .map_err(|_| failed("there is no such host".into()))?
        .collect();
    if let Some(local) = found.iter().map(SocketAddr::ip).find(|ip| is_local(*ip))
        && !allowed.local
    {
        return Err(FetchError::Local(shown(url), local));
    }
    if allowed.only_public && !found.iter().all(|a| is_public(a.ip())) {
        let what = "it is an address that not everybody can reach";
        return Err(FetchError::Address(shown(url), what.into()));
    }
    Ok(found)
}

async fn get(
    url: &Url,
    allowed: &Allowed,
    origin: &str,
    until: Instant,
) -> Result<Vec<u8>, FetchError> {
    let mut url = url.clone();
    for _ in 0..=MAX_REDIRECTS {
        let failed = |what: String| FetchError::Answer(shown(&url), what);
        if until <= Instant::now() {
            return Err(failed(format!("it took more than {TIME:?} in all")));
        }
        let own = url.origin().ascii_serialization() == origin;
        let request = asked(&url, allowed.login.as_ref().filter(|_| own)).map_err(&failed)?;
        let got = match own {
            true => http::exchange(&url, request, allowed, until).await?,
            false => http::exchange(&url, request, &allowed.elsewhere(), until).await?,
        };
        let status = got.status;
        if status.is_redirection() {
            let target = got.fields.get(::http::header::LOCATION);
            let target = target
                .and_then(|v| v.to_str().ok())
                .ok_or_else(|| failed(format!("it answers {status} without a place to go")))?;
            url = url
                .join(target)
                .map_err(|e| failed(format!("it leads to “{target}”: {e}")))?;
            continue;
        }
        if matches!(status.as_u16(), 401 | 403) {
            return Err(FetchError::Login(shown(&url), status.as_u16()));
        }
        return match status.is_success() {
            true => Ok(got.body),
            false => Err(failed(format!("it answers {status}"))),
        };
    }
    Err(FetchError::Answer(
        shown(&url),
        format!("more than {MAX_REDIRECTS} redirects"),
    ))
}

/// The request for a definition.
fn asked(url: &Url, login: Option<&(String, String)>) -> Result<Request<Full<Bytes>>, String> {
    let target = &url[Position::BeforePath..Position::AfterQuery];
    let mut request = Request::get(target).header(::http::header::ACCEPT, "*/*");
    if let Some((name, password)) = login {
        request = request.header(::http::header::AUTHORIZATION, basic(name, password)?);
    }
    request.body(Full::default()).map_err(|e| e.to_string())
}

/// Whose name a definition was read with.
fn read_as(allowed: &Allowed) -> String {
    let login = allowed.login.as_ref();
    login.map_or_else(String::new, |(name, _)| name.clone())
}

/// An address as it is told: what its query calls a secret is none of anybody's business.
fn shown(url: &Url) -> String {
    if !url
        .query_pairs()
        .any(|(name, _)| porch_sample::is_secret(&name))
    {
        return url.to_string();
    }
    let mut told = url.clone();
    let pairs = url
        .query_pairs()
        .map(|(name, value)| match porch_sample::is_secret(&name) {
            true => format!("{name}={}", porch_facade::MASK),
            false => format!("{name}={value}"),
        });
    let query = pairs.collect::<Vec<String>>().join("&");
    told.set_query(None);
    format!("{told}?{query}")
}

/// The Basic scheme (RFC 7617 §2).
fn basic(name: &str, password: &str) -> Result<HeaderValue, String> {
    let encoded = STANDARD.encode(format!("{name}:{password}"));
    let value = HeaderValue::from_str(&format!("Basic {encoded}"));
    let mut value = value.map_err(|e| e.to_string())?;
    value.set_sensitive(true);
    Ok(value)
}
