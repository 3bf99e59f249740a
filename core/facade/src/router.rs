//! From host, method and path to an operation.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

use porch_contract::{PathTemplate, Segment};

/// FNV-1a: quick for short texts. Only publishers put texts into the table, so nobody can provoke collisions.
#[derive(Clone)]
pub(crate) struct Fnv(u64);

impl Default for Fnv {
    fn default() -> Self {
        Self(0xcbf2_9ce4_8422_2325)
    }
}

impl Hasher for Fnv {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        for b in bytes {
            self.0 = (self.0 ^ u64::from(*b)).wrapping_mul(0x100_0000_01b3);
        }
    }
}

type Literals = HashMap<Box<str>, u32, BuildHasherDefault<Fnv>>;

#[derive(Debug, Default)]
struct Node {
    literals: Literals,
    parameter: Option<u32>,
    rest: Option<u32>,
    /// What stands behind a colon at the end of the last segment, when the template ends here with a verb.
    verbs: Literals,
    methods: Vec<(Box<str>, u32)>,
}

/// All routes of a release.
///
/// Literal segments win over parameters, parameters over multi-segment parameters, from left to right; a template with a
/// verb wins over the same without one.
#[derive(Debug)]
pub struct Router {
    nodes: Vec<Node>,
    any_host: u32,
    hosts: HashMap<Box<str>, u32, BuildHasherDefault<Fnv>>,
}

/// An operation that was found.
#[derive(Debug, PartialEq, Eq)]
pub struct Matched<'p> {
    /// Index of the operation.
    pub operation: u32,
    /// The segments that the variables took, as they stand in the path; the last may hold several.
    pub captured: Vec<&'p str>,
}

/// Why nothing was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Miss {
    /// Nothing is published there.
    Path,
    /// Something is, with these methods only.
    Method(Vec<Box<str>>),
}

/// Paths with more segments than this match nothing.
const MAX_SEGMENTS: usize = 64;
/// A search that has not found anything after so many steps gives up: several multi-segment parameters in one template
/// can be laid over a path in many ways.
const MAX_STEPS: u32 = 20_000;

impl Default for Router {
    fn default() -> Self {
        Self {
            nodes: vec![Node::default()],
            any_host: 0,
            hosts: HashMap::default(),
        }
    }
}

impl Router {
    /// Adds a route.
    ///
    /// # Errors
    /// The operation that has the same route already: names of variables do not tell routes apart.
    pub fn insert(
        &mut self,
        host: Option<&str>,
        base: &str,
        path: &PathTemplate,
        method: &str,
        operation: u32,
    ) -> Result<(), u32> {
        let mut at = match host {
            None => self.any_host,
            Some(host) => match self.hosts.get(host.to_ascii_lowercase().as_str()) {
                Some(at) => *at,
                None => {
                    let at = self.add();
                    self.hosts.insert(host.to_ascii_lowercase().into(), at);
                    at
                }
            },
        };
        let base: Vec<Segment> = base
            .split('/')
            .filter(|s| !s.is_empty())
            .map(|s| Segment::Literal(s.to_owned()))
            .collect();
        for segment in base.iter().chain(&path.segments) {
            at = match segment {
                Segment::Literal(text) => {
                    let text =
                        normalise(text).map_or_else(|_| text.clone(), |n| n.path.into_owned());
                    match self.nodes[at as usize].literals.get(text.as_str()) {
                        Some(next) => *next,
                        None => {
                            let next = self.add();
                            self.nodes[at as usize].literals.insert(text.into(), next);
                            next
                        }
                    }
                }
                Segment::Parameter(_) => match self.nodes[at as usize].parameter {
                    Some(next) => next,
                    None => {
                        let next = self.add();
                        self.nodes[at as usize].parameter = Some(next);
                        next
                    }
                },
                Segment::Rest(_) => match self.nodes[at as usize].rest {
                    Some(next) => next,
                    None => {
                        let next = self.add();
                        self.nodes[at as usize].rest = Some(next);
                        next
                    }
                },
            };
        }
        if let Some(verb) = &path.verb {
            at = match self.nodes[at as usize].verbs.get(verb.as_str()) {
                Some(next) => *next,
                None => {
                    let next = self.add();
                    self.nodes[at as usize]
                        .verbs
                        .insert(verb.as_str().into(), next);
                    next
                }
            };
        }
        let methods = &mut self.nodes[at as usize].methods;
        if let Some((_, other)) = methods.iter().find(|(m, _)| **m == *method) {
            return Err(*other);
        }
        methods.push((method.into(), operation));
        Ok(())
    }

    /// Whether any route is for one host only.
    pub fn has_hosts(&self) -> bool {
        !self.hosts.is_empty()
    }

    fn add(&mut self) -> u32 {
        self.nodes.push(Node::default());
        self.nodes.len() as u32 - 1
    }

    /// Finds the operation for a normalised path. `HEAD` is answered by `GET` where it has no operation of its own
    /// (RFC 9110 §9.3.2).
    ///
    /// # Errors
    /// See [`Miss`].
    pub fn find<'p>(
        &self,
        host: Option<&str>,
        method: &str,
        path: &'p str,
    ) -> Result<Matched<'p>, Miss> {
        let mut offsets = [0usize; MAX_SEGMENTS];
        let mut count = 0;
        let body = path.strip_prefix('/').unwrap_or(path);
        if !body.is_empty() {
            for segment in body.split('/') {
                if count == MAX_SEGMENTS {
                    return Err(Miss::Path);
                }
                offsets[count] = segment.as_ptr() as usize - path.as_ptr() as usize;
                count += 1;
            }
        }
        let mut search = Search {
            router: self,
            path,
            offsets: &offsets[..count],
            method,
            allowed: Vec::new(),
            captured: Vec::new(),
            steps: MAX_STEPS,
        };
        let own_host = host.and_then(|h| self.hosts.get(h)).copied();
        for start in own_host.into_iter().chain([self.any_host]) {
            if let Some(operation) = search.walk(start, 0) {
                return Ok(Matched {
                    operation,
                    captured: search.captured,
                });
            }
        }
        let mut allowed = search.allowed;
        if allowed.is_empty() {
            return Err(Miss::Path);
        }
        if allowed.iter().any(|m| **m == *"GET") && !allowed.iter().any(|m| **m == *"HEAD") {
            allowed.push("HEAD".into());
        }
        allowed.sort();
        allowed.dedup();
        Err(Miss::Method(allowed))
    }
}

struct Search<'r, 'p> {
    router: &'r Router,
    path: &'p str,
    offsets: &'r [usize],
    method: &'r str,
    allowed: Vec<Box<str>>,
    captured: Vec<&'p str>,
    steps: u32,
}

impl<'p> Search<'_, 'p> {
    fn segment(&self, i: usize) -> &'p str {
        let end = self
            .offsets
            .get(i + 1)
            .map_or(self.path.len(), |next| next - 1);
        &self.path[self.offsets[i]..end]
    }

    fn walk(&mut self, at: u32, i: usize) -> Option<u32> {
        let router = self.router;
        let node = &router.nodes[at as usize];
        if i == self.offsets.len() {
            return self.leaf(node);
        }
        self.steps = self.steps.checked_sub(1)?;
        let segment = self.segment(i);
        if let Some(found) = node
            .literals
            .get(segment)
            .and_then(|next| self.walk(*next, i + 1))
        {
            return Some(found);
        }
        if let Some(next) = node.parameter.filter(|_| !segment.is_empty()) {
            self.captured.push(segment);
            if let Some(found) = self.with_verb(next, i).or_else(|| self.walk(next, i + 1)) {
                return Some(found);
            }
            self.captured.pop();
        }
        let next = node.rest.filter(|_| !segment.is_empty())?;
        let below = &router.nodes[next as usize];
        let goes_on = !below.literals.is_empty() || below.parameter.is_some();
        self.captured.push(&self.path[self.offsets[i]..]);
        let depth = self.captured.len();
        // As many segments as can be; fewer only where something may follow.
        let shortest = if goes_on { i + 1 } else { self.offsets.len() };
        for end in (shortest..=self.offsets.len()).rev() {
            self.captured.truncate(depth);
            let to = self.offsets.get(end).map_or(self.path.len(), |o| o - 1);
            self.captured[depth - 1] = &self.path[self.offsets[i]..to];
            let found = if end == self.offsets.len() {
                self.with_verb(next, end - 1)
            } else {
                None
            };
            if let Some(found) = found.or_else(|| self.walk(next, end)) {
                return Some(found);
            }
        }
        self.captured.truncate(depth - 1);
        None
    }

    /// A last segment with a verb behind it, when a template has that.
    fn with_verb(&mut self, at: u32, i: usize) -> Option<u32> {
        let router = self.router;
        let node = &router.nodes[at as usize];
        if node.verbs.is_empty() || i + 1 != self.offsets.len() {
            return None;
        }
        let whole = *self.captured.last()?;
        let (value, verb) = whole
            .rsplit_once(':')
            .filter(|(value, verb)| !value.is_empty() && !verb.contains('/'))?;
        let next = *node.verbs.get(verb)?;
        let found = self.leaf(&router.nodes[next as usize])?;
        if let Some(last) = self.captured.last_mut() {
            *last = value;
        }
        Some(found)
    }

    fn leaf(&mut self, node: &Node) -> Option<u32> {
        let by = |name: &str| {
            node.methods
                .iter()
                .find(|(m, _)| **m == *name)
                .map(|(_, o)| *o)
        };
        let found = by(self.method)
            .or_else(|| {
                if self.method == "HEAD" {
                    by("GET")
                } else {
                    None
                }
            })
            .or_else(|| by("*"));
        if found.is_none() {
            self.allowed
                .extend(node.methods.iter().map(|(m, _)| m.clone()));
        }
        found
    }
}

/// A path after normalisation.
#[derive(Debug, PartialEq, Eq)]
pub struct Normalised<'p> {
    /// The path.
    pub path: Cow<'p, str>,
}

/// Normalises a path (RFC 3986 §6.2.2): percent-encoded unreserved characters are decoded, the hexadecimal digits of the
/// others made upper-case, dot segments removed. Encoded slashes stay encoded, so they never make or leave a segment.
///
/// # Errors
/// What is wrong: a broken percent-encoding, or a control character.
pub fn normalise(path: &str) -> Result<Normalised<'_>, &'static str> {
    let bytes = path.as_bytes();
    if bytes.iter().any(|b| *b < 0x21 || *b == 0x7f || *b == b'\\') {
        return Err("a path has no spaces, control characters or backslashes");
    }
    let decoded = if bytes.contains(&b'%') {
        Cow::Owned(decode_unreserved(path)?)
    } else {
        Cow::Borrowed(path)
    };
    if !decoded.split('/').any(|s| s == "." || s == "..") {
        return Ok(Normalised { path: decoded });
    }
    let mut out: Vec<&str> = Vec::new();
    let mut segments = decoded.split('/').skip(1).peekable();
    while let Some(segment) = segments.next() {
        let last = segments.peek().is_none();
        match segment {
            "." | ".." => {
                if segment == ".." {
                    out.pop();
                }
                if last {
                    out.push("");
                }
            }
            other => out.push(other),
        }
    }
    Ok(Normalised {
        path: Cow::Owned(format!("/{}", out.join("/"))),
    })
}

fn decode_unreserved(path: &str) -> Result<String, &'static str> {
    let bytes = path.as_bytes();
    let mut out = String::with_capacity(path.len());
    let mut i = 0;
    while i < bytes.len() {
        if bytes[i] != b'%' {
            let end = path[i..].find('%').map_or(path.len(), |n| i + n);
            out.push_str(&path[i..end]);
            i = end;
            continue;
        }
        let code = path
            .get(i + 1..i + 3)
            .filter(|h| h.bytes().all(|b| b.is_ascii_hexdigit()))
            .ok_or("a % is followed by two hexadecimal digits")?;
        let byte = u8::from_str_radix(code, 16)
            .map_err(|_| "a % is followed by two hexadecimal digits")?;
        if byte == 0 {
            return Err("a path has no NUL");
        }
        if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) {
            out.push(byte as char);
        } else {
            out.push('%');
            out.push_str(&code.to_ascii_uppercase());
        }
        i += 3;
    }
    Ok(out)
}

/// Decodes all percent-encodings of a text; `None` when the result is not UTF-8 or an encoding is broken.
pub fn percent_decode(text: &str, plus_is_space: bool) -> Option<Cow<'_, str>> {
    let encoded = text.contains('%') || (plus_is_space && text.contains('+'));
    if !encoded {
        return Some(Cow::Borrowed(text));
    }
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        match bytes[i] {
            b'%' => {
                let hex = text.get(i + 1..i + 3)?;
                out.push(
                    u8::from_str_radix(hex, 16)
                        .ok()
                        .filter(|_| hex.bytes().all(|b| b.is_ascii_hexdigit()))?,
                );
                i += 3;
            }
            b'+' if plus_is_space => {
                out.push(b' ');
                i += 1;
            }
            b => {
                out.push(b);
                i += 1;
            }
        }
    }
    String::from_utf8(out).ok().map(Cow::Owned)
}

/// Appends a text with everything but unreserved characters percent-encoded (RFC 6570 §3.2.2, simple expansion).
pub fn percent_encode_segment(out: &mut String, text: &str) {
    for b in text.bytes() {
        if b.is_ascii_alphanumeric() || b"-._~".contains(&b) {
            out.push(b as char);
        } else {
            out.push('%');
            out.push(
                char::from_digit(u32::from(b >> 4), 16)
                    .unwrap_or('0')
                    .to_ascii_uppercase(),
            );
            out.push(
                char::from_digit(u32::from(b & 15), 16)
                    .unwrap_or('0')
                    .to_ascii_uppercase(),
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn router(routes: &[(&str, &str)]) -> Router {
        let mut router = Router::default();
        for (i, (method, path)) in routes.iter().enumerate() {
            router
                .insert(
                    None,
                    "/v2",
                    &PathTemplate::parse(path).unwrap(),
                    method,
                    i as u32,
                )
                .unwrap();
        }
        router
    }

    #[test]
    fn literals_win_over_parameters_over_the_rest_from_left_to_right() {
        let r = router(&[
            ("GET", "/a/{x}"),
            ("GET", "/a/b"),
            ("GET", "/{y}/c"),
            ("GET", "/{r*}"),
            ("POST", "/a/{x}"),
            ("GET", "/"),
        ]);
        let find = |path: &str| {
            r.find(None, "GET", path)
                .map(|m| (m.operation, m.captured.join(",")))
        };
        for (path, op, captured) in [
            ("/v2/a/b", 1, ""),
            ("/v2/a/z", 0, "z"),
            ("/v2/a/c", 0, "c"),
            ("/v2/q/c", 2, "q"),
            ("/v2/q/d", 3, "q/d"),
            ("/v2/a/b/c", 3, "a/b/c"),
            ("/v2", 5, ""),
            ("/v2/a%2Fb", 3, "a%2Fb"),
        ] {
            assert_eq!(find(path), Ok((op, captured.to_owned())), "{path}");
        }
        assert_eq!(find("/v3/a"), Err(Miss::Path));
        assert_eq!(
            find(&format!("/v2{}", "/a".repeat(100_000))),
            Err(Miss::Path)
        );
        assert_eq!(r.find(None, "HEAD", "/v2/a/b").unwrap().operation, 1);
        assert_eq!(r.find(None, "POST", "/v2/a/b").unwrap().operation, 4);
        assert_eq!(
            r.find(None, "PUT", "/v2/a/b"),
            Err(Miss::Method(vec![
                "GET".into(),
                "HEAD".into(),
                "POST".into()
            ]))
        );
    }

    #[test]
    fn names_of_variables_do_not_tell_routes_apart() {
        let mut r = router(&[("GET", "/a/{x}")]);
        assert_eq!(
            r.insert(
                None,
                "/v2",
                &PathTemplate::parse("/a/{other}").unwrap(),
                "GET",
                9
            ),
            Err(0)
        );
        r.insert(
            Some("Ferry.example"),
            "/v2",
            &PathTemplate::parse("/a/{x}").unwrap(),
            "GET",
            7,
        )
        .unwrap();
        assert_eq!(
            r.find(Some("ferry.example"), "GET", "/v2/a/1")
                .unwrap()
                .operation,
            7
        );
        assert_eq!(
            r.find(Some("other"), "GET", "/v2/a/1").unwrap().operation,
            0
        );
    }

    #[test]
    fn verbs_and_parameters_of_several_segments_in_the_middle() {
        let r = router(&[
            ("GET", "/{a}/{b}:cancel"),
            ("GET", "/{a}/{b}"),
            ("GET", "/files/{f*}/history"),
            ("GET", "/files/{f*}:read"),
            ("GET", "/x/{a*}/y/{b*}/z"),
            ("GET", "/x/{a*}/end/{last}"),
            ("*", "/any"),
        ]);
        let find = |path: &str| {
            r.find(None, "GET", path)
                .map(|m| (m.operation, m.captured.join(",")))
        };
        for (path, op, captured) in [
            ("/v2/q/w:cancel", 0, "q,w"),
            ("/v2/q/w:other", 1, "q,w:other"),
            ("/v2/q/w:x:cancel", 0, "q,w:x"),
            ("/v2/files/a/b/history", 2, "a/b"),
            ("/v2/files/a/history/history", 2, "a/history"),
            ("/v2/files/a/b:read", 3, "a/b"),
            ("/v2/files/history", 1, "files,history"),
            ("/v2/x/1/y/2/y/3/z", 4, "1/y/2,3"),
            ("/v2/x/1/2/end/3", 5, "1/2,3"),
            ("/v2/any", 6, ""),
        ] {
            assert_eq!(find(path), Ok((op, captured.to_owned())), "{path}");
        }
        assert_eq!(find("/v2/files/a/b/c"), Err(Miss::Path));
        let many = router(&[("GET", "/{a*}/x/{b*}/x/{c*}/x/{d*}/end")]);
        assert_eq!(
            many.find(None, "GET", &format!("/v2{}", "/x".repeat(60))),
            Err(Miss::Path)
        );
    }

    #[test]
    fn paths_are_normalised_and_cannot_escape() {
        for (path, normal) in [
            ("/a/./b/../c", "/a/c"),
            ("/%61/%2e%2E/b", "/b"),
            ("/a%2f..%2fb", "/a%2F..%2Fb"),
            ("/../../x", "/x"),
            ("/a/..", "/"),
            ("/a/.", "/a/"),
        ] {
            assert_eq!(normalise(path).unwrap().path, normal, "{path}");
        }
        for path in ["/%", "/%g0", "/%00", "/a b", "/a\\b", "/%é"] {
            assert!(normalise(path).is_err(), "{path}");
        }
    }

    proptest! {
        #[test]
        fn normalising_twice_changes_nothing_more(path in "/[a.%2eEfF/]{0,20}") {
            if let Ok(once) = normalise(&path) {
                prop_assert!(!once.path.split('/').any(|s| s == ".."));
                prop_assert_eq!(&normalise(&once.path).unwrap().path, &once.path);
            }
        }

        #[test]
        fn encoding_and_decoding_give_the_same(text in "\\PC{0,20}") {
            let mut out = String::new();
            percent_encode_segment(&mut out, &text);
            prop_assert_eq!(percent_decode(&out, false).unwrap(), text);
        }
    }
}
