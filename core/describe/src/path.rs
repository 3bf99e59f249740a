//! Keys of `paths` as they are written, and the path templates that they mean (OpenAPI 3.1 §4.8.8).

use porch_contract::PathTemplate;

/// What a key means.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Route {
    /// The path, without query and fragment.
    pub(crate) path: String,
    /// Names of its variables, from left to right.
    pub(crate) variables: Vec<String>,
    /// The part of the query that is always the same, as it stands behind the question mark.
    pub(crate) query: String,
    /// Query parameters that the key names: the parameter, and the variable that stands as its value.
    pub(crate) named: Vec<(String, String)>,
    /// What else tells it apart from keys with the same path.
    pub(crate) apart: Vec<String>,
    /// Whether the key was written otherwise than paths are.
    pub(crate) mended: bool,
}

/// Keys longer than this are nobody's path.
const LONGEST: usize = 8 << 10;

/// Reads a key.
///
/// # Errors
/// Why no request can have such a path.
pub(crate) fn read(key: &str) -> Result<Route, String> {
    if key.len() > LONGEST {
        return Err("it is longer than requests have it".into());
    }
    let mut route = Route::default();
    let trimmed = key.trim();
    let (rest, fragment) = outside_braces(trimmed, '#');
    if let Some(fragment) = fragment {
        route.apart.push(fragment.to_owned());
    }
    let (path, query) = outside_braces(rest, '?');
    query_of(query.unwrap_or_default(), &mut route);
    let path = if path.starts_with('/') {
        path.to_owned()
    } else {
        format!("/{path}")
    };
    let mut out = String::with_capacity(path.len());
    segments(&path, &mut out, &mut route)?;
    let template = PathTemplate::parse(&out).map_err(|e| e.to_string())?;
    route.variables = template.variables().map(str::to_owned).collect();
    route.mended |= out != key;
    route.path = out;
    Ok(route)
}

/// A text before and behind a character that stands in no variable.
fn outside_braces(text: &str, of: char) -> (&str, Option<&str>) {
    let mut depth = 0usize;
    for (at, c) in text.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth = depth.saturating_sub(1),
            c if c == of && depth == 0 => return (&text[..at], Some(&text[at + c.len_utf8()..])),
            _ => {}
        }
    }
    (text, None)
}

fn query_of(query: &str, route: &mut Route) {
    let (mut fixed, mut plain) = (Vec::new(), String::new());
    let mut rest = query;
    // Further parameters as RFC 6570 §3.2.9 names them.
    while let Some((before, after)) = rest.split_once("{&") {
        let (names, after) = after.split_once('}').unwrap_or((after, ""));
        names_of(names, route);
        plain.push_str(before);
        rest = after;
    }
    plain.push_str(rest);
    let query = plain.as_str();
    for pair in query.split('&').filter(|p| !p.is_empty()) {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let variable = value.strip_prefix('{').and_then(|v| v.strip_suffix('}'));
        match variable {
            Some(variable) => route.named.push((name.to_owned(), variable.to_owned())),
            // A parameter that is only named: its own name is its variable.
            None if !pair.contains('=') && !name.contains('{') => {
                fixed.push(encoded(pair, true));
                route.apart.push(name.to_owned());
            }
            None if name.starts_with('{') => {}
            None => {
                fixed.push(encoded(pair, true));
                route.apart.push(value.to_owned());
            }
        }
    }
    route.query = fixed.join("&");
}

/// Query parameters that are named with commas between them.
fn names_of(names: &str, route: &mut Route) {
    let names = names
        .split(',')
        .map(|n| n.trim_end_matches('*').trim().to_owned());
    let names = names.filter(|n| !n.is_empty());
    route.named.extend(names.map(|n| (n.clone(), n)));
}

/// The path with what cannot stand in one encoded, and variables named as templates name them.
fn segments(path: &str, out: &mut String, route: &mut Route) -> Result<(), String> {
    let mut known: Vec<String> = Vec::new();
    let mut rest = path;
    while !rest.is_empty() {
        let Some(open) = rest.find('{') else {
            out.push_str(&encoded(rest, false));
            break;
        };
        out.push_str(&encoded(&rest[..open], false));
        rest = &rest[open + 1..];
        let close = closing(rest).ok_or("a “{” has no “}”")?;
        let inner = &rest[..close];
        rest = &rest[close + 1..];
        // Parts of a query as RFC 6570 §3.2.8 and §3.2.9 have them.
        if let Some(names) = inner.strip_prefix(['?', '&']) {
            names_of(names, route);
            continue;
        }
        let several = inner.starts_with(['+', '/']) || inner.ends_with('*');
        let name = inner.trim_start_matches(['+', '/', '.', ';', '#']);
        // A pattern behind the name is none of OpenAPI's.
        let name = name.split(':').next().unwrap_or_default();
        let name = name.trim_end_matches(['*', '?']).trim();
        if name.is_empty() {
            return Err("a variable has no name".into());
        }
        let mut own = name.replace(['{', '}', '/', '*'], "_");
        if known.contains(&own) {
            let n = (2..)
                .find(|n| !known.contains(&format!("{own}{n}")))
                .unwrap_or(2);
            own = format!("{own}{n}");
        }
        if inner.starts_with('/') {
            out.push('/');
        }
        let alone = out.ends_with('/') && (rest.is_empty() || rest.starts_with('/'));
        let star = if several && alone { "*" } else { "" };
        out.push_str(&format!("{{{own}{star}}}"));
        route.mended |= own != inner;
        known.push(own);
    }
    Ok(())
}

/// Where the brace that is open ends; patterns have braces of their own.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 0usize;
    for (at, c) in text.char_indices() {
        match c {
            '{' => depth += 1,
            '}' if depth == 0 => return Some(at),
            '}' => depth -= 1,
            _ => {}
        }
    }
    None
}

/// A text as requests have it (RFC 3986 §3.3, §3.4).
fn encoded(text: &str, in_query: bool) -> String {
    let bytes = text.as_bytes();
    let mut out = String::with_capacity(text.len());
    for (at, b) in bytes.iter().enumerate() {
        let hex = |i: usize| bytes.get(at + i).is_some_and(u8::is_ascii_hexdigit);
        let stands = match b {
            b'%' => hex(1) && hex(2),
            b'?' => in_query,
            b => b.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:@/".contains(b),
        };
        match stands {
            true => out.push(char::from(*b)),
            false => out.push_str(&format!("%{b:02X}")),
        }
    }
    out
}

/// What tells a route apart, as the last segment of a path.
pub(crate) fn suffix(route: &Route) -> String {
    let text = route.apart.join("-");
    let words = text.split(|c: char| !c.is_ascii_alphanumeric() && !"-._~".contains(c));
    let words: Vec<&str> = words.filter(|w| !w.is_empty()).collect();
    let mut text = words.join("-");
    text.truncate(60);
    text.trim_matches('.').to_owned()
}

/// A path without the names of its variables: those with the same one fit the same requests.
pub(crate) fn likeness(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    let mut inside = false;
    for c in path.chars() {
        match c {
            '{' => {
                inside = true;
                out.push('{');
            }
            '}' => {
                inside = false;
                out.push('}');
            }
            '*' => out.push('*'),
            c if !inside => out.push(c),
            _ => {}
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_as_they_are_meant() {
        for (key, path, query) in [
            ("/fares/{route}", "/fares/{route}", ""),
            ("fares ", "/fares", ""),
            ("/{page}{extension}", "/{page}{extension}", ""),
            ("/{name}-{version}.zip", "/{name}-{version}.zip", ""),
            ("/tt?action=list", "/tt", "action=list"),
            ("/tt?all", "/tt", "all"),
            ("/tt?a=x y&b={b}", "/tt", "a=x%20y"),
            ("/tt#summary", "/tt", ""),
            ("/Häfen/{hafen}/a b", "/H%C3%A4fen/{hafen}/a%20b", ""),
            ("/quays/{id:[0-9]{1,3}}/x", "/quays/{id}/x", ""),
            ("/quays{?page,size}", "/quays", ""),
            ("/files/{+path}", "/files/{path*}", ""),
            ("/files/{path*}", "/files/{path*}", ""),
            ("/files{/path*}", "/files/{path*}", ""),
            ("/x-{+path}", "/x-{path}", ""),
            ("/{a}/{a}", "/{a}/{a2}", ""),
            ("/{some id}/{a.b}", "/{some id}/{a.b}", ""),
            ("/100%/a", "/100%25/a", ""),
            ("/quays(quayId={quayId})", "/quays(quayId={quayId})", ""),
            ("/quays/{id}:close", "/quays/{id}:close", ""),
            ("/", "/", ""),
        ] {
            let route = read(key).unwrap();
            assert_eq!(
                (route.path.as_str(), route.query.as_str()),
                (path, query),
                "{key}"
            );
        }
        let named = read("/tt?a=1&from={origin}{&page}").unwrap();
        assert_eq!(named.query, "a=1");
        assert_eq!(read("/q{?page,size*}").unwrap().named.len(), 2);
        assert_eq!(
            read("/tt?from={origin}").unwrap().named,
            [("from".to_owned(), "origin".to_owned())]
        );
        for key in ["/a/{", "/a/{}", "/a/../b", "/{x*}/{y*}"] {
            assert!(read(key).is_err(), "{key}");
        }
    }

    #[test]
    fn what_tells_keys_apart_becomes_a_segment() {
        let of = |key: &str| suffix(&read(key).unwrap());
        assert_eq!(of("/tt?action=list&v=2"), "list-2");
        assert_eq!(of("/tt#sum up/ä"), "sum-up");
        assert_eq!(likeness("/a/{b}-{c}/{d*}"), "/a/{}-{}/{*}");
    }
}
