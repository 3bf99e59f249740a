//! Header fields of answers on their way back: what ends here, and addresses below the facade.

use http::request::Parts;
use http::{HeaderMap, HeaderValue, header};
use porch_facade::{Address, CompiledBackend, CompiledFacade, CompiledPorch, Miss, normalise};

use super::find::host;
use super::{is_session, wired};
use crate::call::http::without_pairs;
use crate::exchange::state::Exchange;
use crate::fields::strip_hop_by_hop;
use crate::steps::request::Request;

/// Where the paths of a backend are found from outside.
pub(super) struct Below<'a> {
    porch: &'a CompiledPorch,
    parts: &'a Parts,
    facade: &'a CompiledFacade,
}

impl<'a> Below<'a> {
    pub(super) fn of(x: &'a Exchange<'_>, request: &'a Request<'_>) -> Self {
        Self {
            porch: x.porch,
            parts: request.parts,
            facade: request.facade,
        }
    }

    /// A link of a backend as one of the facade, and without what the backend was shown; `None` for what leads elsewhere.
    pub(super) fn link(&self, text: &str, backend: &CompiledBackend) -> Option<String> {
        let mut all = backend.addresses.iter();
        let here = all.find_map(|address| translated(text, address, backend, self));
        without_credentials(here.as_deref().unwrap_or(text), backend).or(here)
    }

    /// Whether anything answers at a path.
    fn answers(&self, path: &str) -> bool {
        let Ok(path) = normalise(path) else {
            return false;
        };
        let host = host(self.parts);
        let found = self.porch.router.find(host.as_deref(), "GET", &path.path);
        !matches!(found, Err(Miss::Path))
    }
}

/// The header fields of an answer that is passed on: hop-by-hop fields gone, addresses and cookies translated.
pub(super) fn pass_on(headers: &mut HeaderMap, backend: &CompiledBackend, below: &Below<'_>) {
    strip_hop_by_hop(headers);
    for name in [header::LOCATION, header::CONTENT_LOCATION] {
        let Some(text) = headers.get(&name).and_then(|v| v.to_str().ok()) else {
            continue;
        };
        let here = below.link(text, backend);
        if let Some(Ok(value)) = here.as_deref().map(HeaderValue::from_str) {
            headers.insert(name, value);
        }
    }
    each_link(headers, &mut |target| below.link(target, backend));
    if headers.contains_key(header::SET_COOKIE) {
        cookies(headers, backend, &below.facade.base);
    }
}

/// So many links of a reply are translated; more are left alone.
const MOST_LINKS: usize = 100;

/// Other targets in place of those of `Link` fields (RFC 8288 §3), where there are others.
pub(crate) fn each_link(headers: &mut HeaderMap, to: &mut dyn FnMut(&str) -> Option<String>) {
    if headers.contains_key(header::LINK) {
        links(headers, to);
    }
}

#[cold]
fn links(headers: &mut HeaderMap, to: &mut dyn FnMut(&str) -> Option<String>) {
    let all = headers.get_all(header::LINK).iter();
    let all: Vec<HeaderValue> = all.cloned().collect();
    headers.remove(header::LINK);
    let mut left = MOST_LINKS;
    for field in all {
        let mut so_many = |target: &str| {
            left = left.checked_sub(1)?;
            to(target)
        };
        let here = field
            .to_str()
            .ok()
            .map(|text| with_targets(text, &mut so_many));
        let here = here.and_then(|text| HeaderValue::from_str(&text).ok());
        headers.append(header::LINK, here.unwrap_or(field));
    }
}

/// A list of links with other targets, where there are others; what stands in quotes is none.
fn with_targets(text: &str, to: &mut dyn FnMut(&str) -> Option<String>) -> String {
    let mut out = String::with_capacity(text.len());
    let (mut rest, mut quoted) = (text, false);
    while let Some(at) = rest.find(['"', '<', '\\']) {
        let (before, behind) = rest.split_at(at);
        out.push_str(before);
        if let Some(target) = behind.strip_prefix('<').filter(|_| !quoted) {
            // Where none ends there is no other one behind it.
            let Some((target, more)) = target.split_once('>') else {
                return out + behind;
            };
            out.push('<');
            out.push_str(to(target).as_deref().unwrap_or(target));
            out.push('>');
            rest = more;
            continue;
        }
        // A letter behind a backslash ends nothing (RFC 9110 §5.6.4).
        let pair = quoted && behind.starts_with('\\');
        quoted ^= behind.starts_with('"');
        let length: usize = behind
            .chars()
            .take(if pair { 2 } else { 1 })
            .map(char::len_utf8)
            .sum();
        out.push_str(&behind[..length]);
        rest = &behind[length..];
    }
    out + rest
}

/// A reference without the credentials that the backend was shown in its query, and said again.
fn without_credentials(reference: &str, backend: &CompiledBackend) -> Option<String> {
    let credentials = &backend.credentials.query;
    if credentials.is_empty() || !reference.contains('?') {
        return None;
    }
    let (reference, fragment) = match reference.split_once('#') {
        Some((reference, fragment)) => (reference, Some(fragment)),
        None => (reference, None),
    };
    let mut kept = reference.to_owned();
    without_pairs(&mut kept, credentials);
    if let Some(fragment) = fragment {
        kept.push('#');
        kept.push_str(fragment);
    }
    Some(kept)
}

/// A reference to something of the backend, as a path of the facade; `None` for what is elsewhere, and for what the facade
/// does not have: it is left alone then.
fn translated(
    text: &str,
    address: &Address,
    backend: &CompiledBackend,
    below: &Below<'_>,
) -> Option<String> {
    let path = path_at(text, address)?;
    let rest = path.strip_prefix(address.path.as_str())?;
    let rest = match rest.as_bytes().first() {
        None | Some(b'/') => rest,
        // `http://host` and `http://host?query` mean its root (RFC 9110 §4.2.3).
        Some(b'?' | b'#') if address.path.is_empty() => rest,
        Some(_) => return None,
    };
    // What the facade has elsewhere is where its wiring says, else where the backend has it.
    let base = &below.facade.base;
    let (path, more) = rest.split_at(rest.find(['?', '#']).unwrap_or(rest.len()));
    let wired = wired::found(below.facade, backend, path);
    let all = wired.into_iter().chain([match path {
        "" => "/".to_owned(),
        path => path.to_owned(),
    }]);
    let mut all = all.map(|path| format!("{base}{path}"));
    let found = all.find(|here| below.answers(here))?;
    Some(format!("{found}{more}"))
}

/// The path of a reference to an address (RFC 3986 §4.2): absolute, with its host, or from the root.
fn path_at<'t>(text: &'t str, address: &Address) -> Option<&'t str> {
    let behind_scheme = match text.split_once("://") {
        Some((scheme, rest)) if !scheme.contains(['/', '?', '#']) => {
            if !scheme.eq_ignore_ascii_case(address.scheme()) {
                return None;
            }
            rest
        }
        _ => match text.strip_prefix("//") {
            Some(rest) => rest,
            None => return text.starts_with('/').then_some(text),
        },
    };
    let end = behind_scheme.find(['/', '?', '#']);
    let (authority, path) = behind_scheme.split_at(end.unwrap_or(behind_scheme.len()));
    let same = |one: &str| authority.eq_ignore_ascii_case(one);
    let port = if address.tls { ":443" } else { ":80" };
    let own = address.authority.as_str();
    (same(own)
        || own.strip_suffix(port).is_some_and(same)
        || authority.strip_suffix(port) == Some(own))
    .then_some(path)
}

/// Cookies of a backend as cookies of the facade (RFC 6265 §5.2): for the caller's host alone, below the facade's path.
/// None may have the name of the console's.
fn cookies(headers: &mut HeaderMap, backend: &CompiledBackend, base: &str) {
    let all: Vec<HeaderValue> = headers
        .get_all(header::SET_COOKIE)
        .iter()
        .cloned()
        .collect();
    headers.remove(header::SET_COOKIE);
    for cookie in all {
        match cookie.to_str() {
            Ok(text) if is_session(text) => {}
            Ok(text) => {
                if let Ok(value) = HeaderValue::from_str(&of_facade(text, backend, base)) {
                    headers.append(header::SET_COOKIE, value);
                }
            }
            Err(_) => drop(headers.append(header::SET_COOKIE, cookie)),
        }
    }
}

fn of_facade(cookie: &str, backend: &CompiledBackend, base: &str) -> String {
    let parts = cookie.split(';').enumerate().filter_map(|(i, part)| {
        let (name, value) = part.split_once('=').unwrap_or((part, ""));
        match name.trim().to_ascii_lowercase().as_str() {
            _ if i == 0 => Some(part.to_owned()),
            "domain" => None,
            "path" => Some(format!(" Path={}", path_below(value.trim(), backend, base))),
            _ => Some(part.to_owned()),
        }
    });
    parts.collect::<Vec<_>>().join(";")
}

/// A cookie's path below the facade's; the whole facade for a path that is above, or beside, the backend's own.
fn path_below(path: &str, backend: &CompiledBackend, base: &str) -> String {
    let rest = backend.addresses.iter().find_map(|address| {
        let rest = path.strip_prefix(address.path.as_str())?;
        rest.starts_with('/').then_some(rest)
    });
    match rest.map_or("/", |rest| rest) {
        "/" if base.is_empty() => "/".to_owned(),
        "/" => base.to_owned(),
        rest => format!("{base}{rest}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_of_links_are_found_and_nothing_else() {
        for (given, expected) in [
            ("<a>; rel=next", "<A>; rel=next"),
            (
                "<a>; rel=\"next <a>\", <b>;title=\"q \\\" <a>\",<a>",
                "<A>; rel=\"next <a>\", <B>;title=\"q \\\" <a>\",<A>",
            ),
            ("<a", "<a"),
            ("<>; rel=x", "<>; rel=x"),
            ("\"<a>", "\"<a>"),
            ("\\<a>\\", "\\<A>\\"),
            ("", ""),
        ] {
            let mut to = |target: &str| (!target.is_empty()).then(|| target.to_uppercase());
            assert_eq!(with_targets(given, &mut to), expected, "{given}");
        }
    }
}
