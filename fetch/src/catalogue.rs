//! What an address offers: a catalogue of APIs (RFC 9727), or definitions at their usual places.

use std::collections::{HashSet, VecDeque};
use std::time::Instant;

use serde_json::Value;
use url::Url;

use crate::{Allowed, FetchError, TIME, get, is_server, parse, reflect};

/// So many definitions are listed.
const MAX_OFFERS: usize = 500;
/// Catalogues may refer to catalogues; so many are read.
const MAX_CATALOGUES: usize = 20;

/// A catalogue has at most so many bytes.
const MAX_TEXT: usize = 1 << 20;

/// Where a catalogue is (RFC 9727 §2), below the root of a server.
const CATALOGUE: &str = "/.well-known/api-catalog";
/// Where descriptions are usually found, below the address.
const USUAL: [&str; 3] = ["openapi.json", "openapi.yaml", "openapi.yml"];

/// A definition that an address offers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Offer {
    /// Where it is.
    pub address: String,
    /// What it is called; empty where nothing says so.
    pub title: String,
    /// Its media type, where the catalogue says so.
    pub media_type: String,
    /// How it was found, in words.
    pub found: &'static str,
}

/// The only one of what an address offers, where it is on the same server: nobody else is called unless somebody chose it.
pub fn only_own<'o>(address: &str, offers: &'o [Offer]) -> Option<&'o Offer> {
    let origin = |text: &str| Some(Url::parse(text.trim()).ok()?.origin());
    match offers {
        // By reflection: it was asked at the same place.
        [one] if is_server(&one.address) => Some(one),
        [one] if origin(&one.address)? == origin(address)? => Some(one),
        _ => None,
    }
}

/// What there is to publish at an address that is no definition itself: what its catalogue lists, else what is found at the usual
/// places. Nothing found is no mistake.
///
/// # Errors
/// When the address is none that may be called.
pub async fn offers(address: &str, allowed: &Allowed) -> Result<Vec<Offer>, FetchError> {
    let address = address.trim();
    let base = parse(address)?;
    let until = Instant::now() + TIME;
    let asking = Asking {
        allowed,
        origin: base.origin().ascii_serialization(),
        until,
    };
    let listed = asking.catalogue(&base).await?;
    if !listed.is_empty() {
        return Ok(listed);
    }
    let mut found = asking.usual(&base).await?;
    if found.is_empty() && base.path() == "/" {
        found.extend(server(&base, allowed).await);
    }
    Ok(found)
}

struct Asking<'a> {
    allowed: &'a Allowed,
    /// The server that the login is for.
    origin: String,
    until: Instant,
}

impl Asking<'_> {
    /// The text at an address; none where it does not answer with one.
    async fn text(&self, url: &Url) -> Result<Option<String>, FetchError> {
        match get(url, self.allowed, &self.origin, self.until).await {
            Ok(bytes) => Ok(String::from_utf8(bytes).ok()),
            // It is not there. Whatever keeps all of them from being asked is told.
            Err(FetchError::Answer(..) | FetchError::TooMuch(..)) => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// What a catalogue lists, and those that it refers to on its own server (RFC 9727 §3, RFC 9264 §4.2).
    async fn catalogue(&self, base: &Url) -> Result<Vec<Offer>, FetchError> {
        let Ok(first) = base.join(CATALOGUE) else {
            return Ok(Vec::new());
        };
        let mut seen = HashSet::from([first.to_string()]);
        let mut open = VecDeque::from([first]);
        let mut all: Vec<Offer> = Vec::new();
        while let Some(url) = open.pop_front() {
            let Some(text) = self.text(&url).await? else {
                continue;
            };
            let short = Some(&text).filter(|t| t.len() <= MAX_TEXT);
            let Some(Ok(linkset)) = short.map(|t| serde_json::from_str::<Value>(t)) else {
                continue;
            };
            for link in links(&url, &linkset) {
                match link {
                    Link::Offer(offer) if all.len() < MAX_OFFERS => {
                        if all.iter().all(|o| o.address != offer.address) {
                            all.push(offer);
                        }
                    }
                    Link::Offer(_) => {}
                    Link::Catalogue(url) => {
                        // Whoever writes a catalogue does not say whom the porch calls.
                        let own = url.origin().ascii_serialization() == self.origin;
                        let room = seen.len() < MAX_CATALOGUES;
                        if own && room && seen.insert(url.to_string()) {
                            open.push_back(url);
                        }
                    }
                }
            }
        }
        Ok(all)
    }

    /// Descriptions at their usual places.
    async fn usual(&self, base: &Url) -> Result<Vec<Offer>, FetchError> {
        let mut below = base.clone();
        below.set_query(None);
        if !below.path().ends_with('/') {
            let path = format!("{}/", below.path());
            below.set_path(&path);
        }
        for name in USUAL {
            let Ok(url) = below.join(name) else { continue };
            let text = self.text(&url).await?;
            if text.is_some_and(|t| porch_describe::is_description(&t)) {
                return Ok(vec![offer(&url, "at its usual place")]);
            }
        }
        // The metadata of an OData service (OData URL Conventions 4.01 §3), below its root.
        if let Ok(url) = below.join("$metadata")
            && let Some(text) = self.text(&url).await?
            && porch_odata::is_metadata(text.trim_start_matches('\u{feff}').trim_start())
        {
            return Ok(vec![offer(&url, "at its usual place")]);
        }
        let mut wsdl = base.clone();
        wsdl.set_query(Some("wsdl"));
        let text = self.text(&wsdl).await?;
        let is_wsdl = text.is_some_and(|t| t.contains("http://schemas.xmlsoap.org/wsdl/"));
        Ok(match is_wsdl {
            true => vec![offer(&wsdl, "at its usual place")],
            false => Vec::new(),
        })
    }
}

fn offer(url: &Url, found: &'static str) -> Offer {
    Offer {
        address: url.to_string(),
        title: String::new(),
        media_type: String::new(),
        found,
    }
}

/// A gRPC server that tells of itself.
async fn server(base: &Url, allowed: &Allowed) -> Option<Offer> {
    let (host, port) = (base.host_str()?, base.port_or_known_default()?);
    let text = match base.scheme() {
        "https" => format!("https://{host}:{port}"),
        _ => format!("{host}:{port}"),
    };
    if !is_server(&text) {
        return None;
    }
    reflect(&text, allowed).await.ok()?;
    Some(Offer {
        address: text,
        title: String::new(),
        media_type: String::new(),
        found: "by reflection",
    })
}

enum Link {
    Offer(Offer),
    Catalogue(Url),
}

/// The links of a catalogue that lead to definitions and to other catalogues, made absolute.
fn links(catalogue: &Url, linkset: &Value) -> Vec<Link> {
    let contexts = linkset.get("linkset").and_then(Value::as_array);
    let mut all = Vec::new();
    for context in contexts.into_iter().flatten() {
        let anchor = context.get("anchor").and_then(Value::as_str);
        let of = |relation: &str| {
            let targets = context.get(relation).and_then(Value::as_array);
            let targets = targets.into_iter().flatten();
            let targets = targets.filter_map(|t| {
                let href = t.get("href")?.as_str()?;
                Some((catalogue.join(href).ok()?, t))
            });
            targets.collect::<Vec<_>>()
        };
        for (url, target) in of("service-desc") {
            let text = |name: &str| target.get(name).and_then(Value::as_str);
            let title = text("title").or(anchor).unwrap_or_default();
            all.push(Link::Offer(Offer {
                address: url.to_string(),
                title: title.chars().take(200).collect(),
                media_type: text("type").unwrap_or_default().chars().take(100).collect(),
                found: "in its catalogue",
            }));
        }
        let described = context.get("service-desc").is_some();
        for (url, _) in of("item").into_iter().filter(|_| !described) {
            all.push(Link::Offer(offer(&url, "in its catalogue")));
        }
        all.extend(
            of("api-catalog")
                .into_iter()
                .map(|(url, _)| Link::Catalogue(url)),
        );
    }
    all
}
