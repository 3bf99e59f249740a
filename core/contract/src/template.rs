//! Path templates of OpenAPI 3.1 §4.8.8 ("Path Templating"), with two additions: `{name*}` takes several segments, and
//! `{name}:verb` at the end tells operations on the same resource apart.

mod mixed;

pub use mixed::{Mixed, Piece};

/// One segment of a path template.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Segment {
    /// Fixed text, percent-decoded where RFC 3986 §6.2.2.2 allows.
    Literal(String),
    /// `{name}`: exactly one segment.
    Parameter(String),
    /// `{name}-{version}.zip`: variables and fixed text within one segment.
    Mixed(Mixed),
    /// `{name*}`: several segments, at least one; at the end, all that remain.
    Rest(String),
}

/// A path with `{name}` variables.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct PathTemplate {
    /// The segments between the slashes.
    pub segments: Vec<Segment>,
    /// What stands behind a colon after a last variable; after fixed text it is part of that.
    pub verb: Option<String>,
}

/// Why a path template was refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// It does not begin with a slash.
    #[error("a path begins with “/”")]
    NoSlash,
    /// A brace stands where none may.
    #[error("“{0}”: a variable stands between one “{{” and one “}}”, and has a name")]
    Brace(String),
    /// A variable stands twice.
    #[error("the variable “{0}” stands in the path twice")]
    Twice(String),
    /// A `{name*}` stands behind another one with nothing fixed between them.
    #[error(
        "“{{{0}*}}” stands behind another such variable with nothing fixed between them: it is not clear where one ends"
    )]
    RestBehindRest(String),
    /// No request can have a segment such as this.
    #[error("“{text}”: {why}")]
    Segment {
        /// The segment.
        text: String,
        /// Why, and how it is written instead.
        why: String,
    },
}

/// Why no request can have this segment (RFC 3986 §3.3), if so.
fn unreachable(text: &str, whole: bool) -> Option<String> {
    if text.contains(['?', '#']) {
        let why = "a path has no query and no fragment; query parameters are named one by one";
        return Some(why.into());
    }
    // §5.2.4; spelt with percent they are the same (§6.2.2.2).
    if whole && [".", ".."].contains(&text.to_ascii_lowercase().replace("%2e", ".").as_str()) {
        return Some("clients take dot segments away before they send a path".into());
    }
    let bytes = text.as_bytes();
    let hex = |at: usize| bytes.get(at).is_some_and(u8::is_ascii_hexdigit);
    if (0..bytes.len()).any(|i| bytes[i] == b'%' && !(hex(i + 1) && hex(i + 2))) {
        return Some("a % is followed by two hexadecimal digits".into());
    }
    if bytes.iter().all(|b| stands_in_a_segment(*b)) {
        return None;
    }
    let written: String = bytes
        .iter()
        .map(|b| match stands_in_a_segment(*b) {
            true => char::from(*b).to_string(),
            false => format!("%{b:02X}"),
        })
        .collect();
    Some(format!("requests have it as “{written}”: write that"))
}

/// `pchar` of RFC 3986 §3.3, and the percent sign of its encodings.
fn stands_in_a_segment(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:@%".contains(&b)
}

/// What a part between two slashes is.
fn segment(part: &str) -> Result<Segment, TemplateError> {
    let brace = || TemplateError::Brace(part.into());
    match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')) {
        Some(name) if !name.contains(['{', '}']) => match name.trim_end_matches('*') {
            "" => Err(brace()),
            several if several.len() < name.len() => Ok(Segment::Rest(several.into())),
            name => Ok(Segment::Parameter(name.into())),
        },
        _ if !part.contains(['{', '}']) => Ok(Segment::Literal(part.into())),
        _ => Mixed::parse(part).map(Segment::Mixed).ok_or_else(brace),
    }
}

impl Segment {
    /// The names of its variables, from left to right.
    pub fn variables(&self) -> impl Iterator<Item = &str> {
        let (one, several) = match self {
            Segment::Literal(_) => (None, None),
            Segment::Parameter(name) | Segment::Rest(name) => (Some(name.as_str()), None),
            Segment::Mixed(mixed) => (None, Some(mixed.variables())),
        };
        one.into_iter().chain(several.into_iter().flatten())
    }

    /// Its fixed texts.
    fn texts(&self) -> impl Iterator<Item = &str> {
        let (one, several) = match self {
            Segment::Literal(text) => (Some(text.as_str()), None),
            Segment::Parameter(_) | Segment::Rest(_) => (None, None),
            Segment::Mixed(mixed) => (None, Some(mixed.texts())),
        };
        one.into_iter().chain(several.into_iter().flatten())
    }
}

impl PathTemplate {
    /// Reads a template such as `/fares/{route}/{fareClass}`.
    ///
    /// ```
    /// use porch_contract::PathTemplate;
    /// let path = PathTemplate::parse("/fares/{route}").unwrap();
    /// assert_eq!(path.variables().collect::<Vec<_>>(), ["route"]);
    /// ```
    ///
    /// # Errors
    /// See [`TemplateError`].
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let rest = text.strip_prefix('/').ok_or(TemplateError::NoSlash)?;
        let mut segments = Vec::new();
        if rest.is_empty() {
            return Ok(Self {
                segments,
                verb: None,
            });
        }
        let (mut verb, mut open) = (None, false);
        let parts: Vec<&str> = rest.split('/').collect();
        for (i, part) in parts.iter().enumerate() {
            let part = match part.split_once("}:") {
                Some((variable, after))
                    if i + 1 == parts.len()
                        && !after.is_empty()
                        && !after.contains(['{', '}', ':']) =>
                {
                    verb = Some(after.to_owned());
                    &part[..=variable.len()]
                }
                _ => part,
            };
            let segment = segment(part)?;
            if let (Segment::Rest(name), true) = (&segment, open) {
                return Err(TemplateError::RestBehindRest(name.clone()));
            }
            open = matches!(segment, Segment::Rest(_))
                || (open && matches!(segment, Segment::Parameter(_)));
            let whole = !matches!(segment, Segment::Mixed(_));
            let fixed = segment.texts().chain(verb.as_deref());
            let wrong = { fixed }.find_map(|t| Some((t.to_owned(), unreachable(t, whole)?)));
            if let Some((text, why)) = wrong {
                return Err(TemplateError::Segment { text, why });
            }
            segments.push(segment);
        }
        let template = Self { segments, verb };
        let names: Vec<&str> = template.variables().collect();
        for (i, name) in names.iter().enumerate() {
            if names[..i].contains(name) {
                return Err(TemplateError::Twice((*name).into()));
            }
        }
        Ok(template)
    }

    /// The names of the variables, from left to right.
    pub fn variables(&self) -> impl Iterator<Item = &str> {
        self.segments.iter().flat_map(Segment::variables)
    }
}

impl std::fmt::Display for PathTemplate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.segments.is_empty() {
            return f.write_str("/");
        }
        for segment in &self.segments {
            match segment {
                Segment::Literal(text) => write!(f, "/{text}")?,
                Segment::Parameter(name) => write!(f, "/{{{name}}}")?,
                Segment::Rest(name) => write!(f, "/{{{name}*}}")?,
                Segment::Mixed(mixed) => write!(f, "/{mixed}")?,
            }
        }
        if let Some(verb) = &self.verb {
            write!(f, ":{verb}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_a_template_says_why() {
        for (text, error) in [
            ("fares", TemplateError::NoSlash),
            ("/a{b", TemplateError::Brace("a{b".into())),
            ("/a{}", TemplateError::Brace("a{}".into())),
            ("/{a}-{a}", TemplateError::Twice("a".into())),
            ("/x-{a*}", TemplateError::Brace("x-{a*}".into())),
            ("/a{b{c}}", TemplateError::Brace("a{b{c}}".into())),
            ("/{a}/{a}", TemplateError::Twice("a".into())),
            ("/{a*}/{b*}", TemplateError::RestBehindRest("b".into())),
        ] {
            assert_eq!(PathTemplate::parse(text), Err(error));
        }
        for text in [
            "/",
            "/a/{b}",
            "/a/{b}/c/{d*}",
            "/{a*}/b",
            "/a/{b}:cancel",
            "/a{b}",
            "/{name}-{version}.zip",
            "/{name}.{format}",
            "/{page}{extension}/x",
            "/{a}:x/b",
            "/{a}:",
            "/{a}:{b}",
            "/a/{b*}/c/{d*}:read",
            "/a:list",
            "/caf%C3%A9/b%2Fc",
            "/a;v=1/b,c/(d)/e@f/$batch/~g",
            "/.../a.b/..c",
        ] {
            assert_eq!(PathTemplate::parse(text).unwrap().to_string(), text);
        }
    }

    #[test]
    fn segments_that_no_request_has_are_refused_with_the_spelling_that_they_have() {
        for (path, expected) in [
            ("/a b/c", "“a b”: requests have it as “a%20b”: write that"),
            (
                "/café",
                "“café”: requests have it as “caf%C3%A9”: write that",
            ),
            (
                "/a\\b/{c}",
                "“a\\b”: requests have it as “a%5Cb”: write that",
            ),
            (
                "/{c}:let go",
                "“let go”: requests have it as “let%20go”: write that",
            ),
            (
                "/tt?x=1",
                "“tt?x=1”: a path has no query and no fragment; query parameters are named one by one",
            ),
            (
                "/tt/#top",
                "“#top”: a path has no query and no fragment; query parameters are named one by one",
            ),
            (
                "/a/../b",
                "“..”: clients take dot segments away before they send a path",
            ),
            (
                "/a/%2e%2E",
                "“%2e%2E”: clients take dot segments away before they send a path",
            ),
            (
                "/a/100%",
                "“100%”: a % is followed by two hexadecimal digits",
            ),
            ("/a/%4é", "“%4é”: a % is followed by two hexadecimal digits"),
        ] {
            assert_eq!(PathTemplate::parse(path).unwrap_err().to_string(), expected);
        }
    }
}
