//! Path templates of OpenAPI 3.1 §4.8.8 ("Path Templating"), with two additions: `{name*}` takes several segments, and
//! `{name}:verb` at the end tells operations on the same resource apart.

/// One segment of a path template.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Segment {
    /// Fixed text, percent-decoded where RFC 3986 §6.2.2.2 allows.
    Literal(String),
    /// `{name}`: exactly one segment.
    Parameter(String),
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
    #[error("“{0}”: a variable is a whole segment: /{{name}}/")]
    Brace(String),
    /// A variable stands twice.
    #[error("the variable “{0}” stands in the path twice")]
    Twice(String),
    /// A `{name*}` stands behind another one with nothing fixed between them.
    #[error(
        "“{{{0}*}}” stands behind another such variable with nothing fixed between them: it is not clear where one ends"
    )]
    RestBehindRest(String),
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
            let segment = match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')) {
                Some(name) if name.ends_with('*') => {
                    let name = name.trim_end_matches('*');
                    if open {
                        return Err(TemplateError::RestBehindRest(name.into()));
                    }
                    Segment::Rest(name.into())
                }
                Some(name) if !name.is_empty() && !name.contains(['{', '}']) => {
                    Segment::Parameter(name.into())
                }
                None if !part.contains(['{', '}']) => Segment::Literal(part.into()),
                _ => return Err(TemplateError::Brace(part.into())),
            };
            open = matches!(segment, Segment::Rest(_))
                || (open && matches!(segment, Segment::Parameter(_)));
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
        self.segments.iter().filter_map(|s| match s {
            Segment::Literal(_) => None,
            Segment::Parameter(name) | Segment::Rest(name) => Some(name.as_str()),
        })
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
            ("/a{b}", TemplateError::Brace("a{b}".into())),
            ("/{a}/{a}", TemplateError::Twice("a".into())),
            ("/{a*}/{b*}", TemplateError::RestBehindRest("b".into())),
            ("/{a}:x/b", TemplateError::Brace("{a}:x".into())),
            ("/{a}:", TemplateError::Brace("{a}:".into())),
        ] {
            assert_eq!(PathTemplate::parse(text), Err(error));
        }
        for text in [
            "/",
            "/a/{b}",
            "/a/{b}/c/{d*}",
            "/{a*}/b",
            "/a/{b}:cancel",
            "/a/{b*}/c/{d*}:read",
            "/a:list",
        ] {
            assert_eq!(PathTemplate::parse(text).unwrap().to_string(), text);
        }
    }
}
