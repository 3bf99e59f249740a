//! HTTP rules: the path templates of `google/api/http.proto`, and what a method's rules say.

use crate::descriptor::HttpRule;

/// One piece between two slashes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// Fixed text.
    Literal(String),
    /// `*`: one segment.
    One,
    /// `**`: any number of segments.
    Many,
}

/// A variable of a template: the parts that it spans.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Variable {
    /// The field that gets its value, name by name.
    pub field: Vec<String>,
    /// Its first part.
    pub from: usize,
    /// Behind its last part.
    pub to: usize,
}

/// A path template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    /// Its parts.
    pub parts: Vec<Part>,
    /// Its variables, from left to right.
    pub variables: Vec<Variable>,
    /// What stands behind the colon at its end.
    pub verb: Option<String>,
}

/// Why a text is no path template; with the character where that shows.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message} at character {at} of “{template}”")]
pub struct TemplateError {
    message: &'static str,
    at: usize,
    template: String,
}

struct Parser<'a> {
    text: &'a str,
    pos: usize,
    out: Template,
}

impl Template {
    /// Reads a template.
    ///
    /// ```
    /// use porch_grpc::rule::Template;
    /// let t = Template::parse("/v1/{name=vessels/*/reports/**}:archive").unwrap();
    /// assert_eq!((t.parts.len(), t.verb.as_deref()), (5, Some("archive")));
    /// ```
    ///
    /// # Errors
    /// When it breaks the grammar that stands in `google/api/http.proto`.
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut p = Parser {
            text,
            pos: 0,
            out: Template {
                parts: Vec::new(),
                variables: Vec::new(),
                verb: None,
            },
        };
        p.template()?;
        Ok(p.out)
    }
}

impl Parser<'_> {
    fn fail<T>(&self, message: &'static str) -> Result<T, TemplateError> {
        Err(TemplateError {
            message,
            at: self.text[..self.pos].chars().count() + 1,
            template: self.text.to_owned(),
        })
    }

    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.pos).copied()
    }

    fn take(&mut self, b: u8) -> bool {
        let found = self.peek() == Some(b);
        self.pos += usize::from(found);
        found
    }

    /// `"/" Segments [ Verb ]`
    fn template(&mut self) -> Result<(), TemplateError> {
        if !self.take(b'/') {
            return self.fail("a template begins with “/”");
        }
        if self.pos == self.text.len() {
            return Ok(());
        }
        self.segments(false)?;
        if self.take(b':') {
            self.out.verb = Some(self.literal()?);
        }
        if self.pos < self.text.len() {
            self.fail("something that no template has")
        } else {
            Ok(())
        }
    }

    /// `Segment { "/" Segment }`
    fn segments(&mut self, inside: bool) -> Result<(), TemplateError> {
        loop {
            match self.peek() {
                Some(b'*') => {
                    self.pos += 1;
                    let part = if self.take(b'*') {
                        Part::Many
                    } else {
                        Part::One
                    };
                    self.out.parts.push(part);
                }
                Some(b'{') if inside => return self.fail("a variable in a variable"),
                Some(b'{') => self.variable()?,
                _ => {
                    let text = self.literal()?;
                    self.out.parts.push(Part::Literal(text));
                }
            }
            if !self.take(b'/') {
                return Ok(());
            }
        }
    }

    /// `"{" FieldPath [ "=" Segments ] "}"`
    fn variable(&mut self) -> Result<(), TemplateError> {
        self.pos += 1;
        let mut field = Vec::new();
        loop {
            let from = self.pos;
            while self
                .peek()
                .is_some_and(|b| b.is_ascii_alphanumeric() || b == b'_')
            {
                self.pos += 1;
            }
            let name = &self.text[from..self.pos];
            if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
                self.pos = from;
                return self.fail("the name of a field should stand here");
            }
            field.push(name.to_owned());
            if !self.take(b'.') {
                break;
            }
        }
        let from = self.out.parts.len();
        if self.take(b'=') {
            self.segments(true)?;
        } else {
            self.out.parts.push(Part::One);
        }
        if !self.take(b'}') {
            return self.fail("a variable should end here with “}”");
        }
        if self.out.variables.iter().any(|v| v.field == field) {
            return self.fail("a variable that stands in the template already");
        }
        let to = self.out.parts.len();
        self.out.variables.push(Variable { field, from, to });
        Ok(())
    }

    fn literal(&mut self) -> Result<String, TemplateError> {
        let from = self.pos;
        // RFC 3986 §3.3, `pchar` without the colon, which begins a verb.
        while self.peek().is_some_and(|b| {
            b.is_ascii_alphanumeric() || b"-._~!$&'()+,;@%".contains(&b) || b >= 0x80
        }) {
            self.pos += 1;
        }
        if from == self.pos {
            return self.fail("a segment should stand here");
        }
        Ok(self.text[from..self.pos].to_owned())
    }
}

/// One way to call a method by HTTP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Method in capitals; `*` for any.
    pub method: String,
    /// Path.
    pub template: Template,
    /// The field that the request's body is; `*` for the whole message; empty for none.
    pub body: String,
    /// The field that the reply's body is; empty for the whole message.
    pub response_body: String,
}

/// The rules of a method, the additional bindings behind the first; and what is wrong with any.
pub fn rules(http: &HttpRule) -> (Vec<Rule>, Vec<String>) {
    let (mut rules, mut wrong) = (Vec::new(), Vec::new());
    for (i, one) in std::iter::once(http)
        .chain(&http.additional_bindings)
        .enumerate()
    {
        if i > 0 && !one.additional_bindings.is_empty() {
            wrong.push(
                "additional bindings in additional bindings are not allowed, and are left out"
                    .into(),
            );
        }
        let custom = one
            .custom
            .as_ref()
            .map_or(("", ""), |c| (c.kind.as_str(), c.path.as_str()));
        let patterns = [
            ("GET", one.get.as_str()),
            ("PUT", &one.put),
            ("POST", &one.post),
            ("DELETE", &one.delete),
            ("PATCH", &one.patch),
            custom,
        ];
        let Some((method, path)) = patterns.into_iter().find(|(_, p)| !p.is_empty()) else {
            wrong.push("a rule without a path".into());
            continue;
        };
        if method.is_empty()
            || !method
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
        {
            wrong.push(format!("“{method}” is no method (RFC 9110 §5.6.2)"));
            continue;
        }
        match Template::parse(path) {
            Ok(template) => rules.push(Rule {
                method: method.to_uppercase(),
                template,
                body: one.body.clone(),
                response_body: one.response_body.clone(),
            }),
            Err(e) => wrong.push(e.to_string()),
        }
    }
    (rules, wrong)
}

/// Where the values of a template's variables stand in a contract's path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    /// The field, name by name.
    pub field: Vec<String>,
    /// Its value: fixed texts and the path's variables, to be joined with slashes.
    pub pieces: Vec<Piece>,
    /// Whether it spans several segments, so that encoded slashes stay encoded.
    pub several: bool,
}

/// One segment of a variable's value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// Fixed text.
    Fixed(String),
    /// A variable of the contract's path.
    Variable(String),
    /// One that takes several segments.
    Several(String),
}

/// A template as a contract's path, where each `*` is a variable of its own, and what the fields get from it.
pub fn contract_path(template: &Template) -> (String, Vec<Bound>) {
    let mut path = String::new();
    let mut names: Vec<String> = Vec::new();
    let mut of_part: Vec<Option<String>> = Vec::new();
    for (i, part) in template.parts.iter().enumerate() {
        path.push('/');
        let name = match part {
            Part::Literal(text) => {
                path.push_str(text);
                of_part.push(None);
                continue;
            }
            _ => unused(&variable_name(template, i), &names),
        };
        path.push('{');
        path.push_str(&name);
        path.push_str(if *part == Part::Many { "*}" } else { "}" });
        names.push(name.clone());
        of_part.push(Some(name));
    }
    if let Some(verb) = &template.verb {
        path.push(':');
        path.push_str(verb);
    }
    if path.is_empty() {
        path.push('/');
    }
    let bound = template.variables.iter().map(|v| Bound {
        field: v.field.clone(),
        pieces: (v.from..v.to)
            .map(|i| match (&template.parts[i], &of_part[i]) {
                (Part::Literal(text), _) => Piece::Fixed(text.clone()),
                (Part::Many, name) => Piece::Several(name.clone().unwrap_or_default()),
                (_, name) => Piece::Variable(name.clone().unwrap_or_default()),
            })
            .collect(),
        several: v.to - v.from > 1 || template.parts[v.from..v.to].contains(&Part::Many),
    });
    (path, bound.collect())
}

/// What a `*` is called: its field when that is all of it, else after the segment before it.
fn variable_name(template: &Template, part: usize) -> String {
    let of = template
        .variables
        .iter()
        .find(|v| (v.from..v.to).contains(&part));
    match (of, part.checked_sub(1).map(|i| &template.parts[i])) {
        (Some(v), _) if v.to - v.from == 1 => crate::build::lower_camel(&v.field.join("_")),
        (None, _) => "segment".into(),
        (_, Some(Part::Literal(before))) => singular(before),
        (Some(v), _) => crate::build::lower_camel(&v.field.join("_")),
    }
}

/// A name for one of several: `vessels` becomes `vessel`.
pub(crate) fn singular(word: &str) -> String {
    let clean: String = word
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '_' })
        .collect();
    let name = match clean.as_str() {
        w if w.ends_with("ies") && w.len() > 4 => format!("{}y", &w[..w.len() - 3]),
        w if ["sses", "shes", "ches", "xes"]
            .iter()
            .any(|e| w.ends_with(e)) =>
        {
            w[..w.len() - 2].to_owned()
        }
        w if w.ends_with('s') && !w.ends_with("ss") && w.len() > 2 => w[..w.len() - 1].to_owned(),
        w => w.to_owned(),
    };
    let name = crate::build::lower_camel(&name);
    if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
        "segment".into()
    } else {
        name
    }
}

fn unused(name: &str, taken: &[String]) -> String {
    let mut all = std::iter::once(name.to_owned()).chain((2..).map(|i| format!("{name}{i}")));
    all.find(|n| !taken.contains(n)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_become_paths_and_fields() {
        let shown = |text: &str| {
            let (path, bound) = contract_path(&Template::parse(text).unwrap());
            let fields: Vec<String> = bound
                .iter()
                .map(|b| {
                    let pieces: Vec<String> = b
                        .pieces
                        .iter()
                        .map(|p| match p {
                            Piece::Variable(v) => format!("<{v}>"),
                            Piece::Several(v) => format!("<{v}…>"),
                            Piece::Fixed(t) => t.clone(),
                        })
                        .collect();
                    format!(
                        "{}={}{}",
                        b.field.join("."),
                        pieces.join("/"),
                        if b.several { " several" } else { "" }
                    )
                })
                .collect();
            (path, fields.join("; "))
        };
        for (template, path, fields) in [
            ("/", "/", ""),
            ("/v1/vessels", "/v1/vessels", ""),
            ("/v1/{name}", "/v1/{name}", "name=<name>"),
            (
                "/v1/{name=vessels/*}",
                "/v1/vessels/{vessel}",
                "name=vessels/<vessel> several",
            ),
            (
                "/v1/{report.vessel.name=vessels/*/berths/*}:move",
                "/v1/vessels/{vessel}/berths/{berth}:move",
                "report.vessel.name=vessels/<vessel>/berths/<berth> several",
            ),
            (
                "/v1/{path=files/**}:read",
                "/v1/files/{file*}:read",
                "path=files/<file…> several",
            ),
            ("/v1/**/history", "/v1/{segment*}/history", ""),
            (
                "/v1/{a=**}/{b=x/**}/end",
                "/v1/{a*}/x/{x*}/end",
                "a=<a…> several; b=x/<x…> several",
            ),
            (
                "/v1/*/*/{home_port.code}",
                "/v1/{segment}/{segment2}/{homePortCode}",
                "home_port.code=<homePortCode>",
            ),
            (
                "/v1/{a=parties/*}/{b=parties/*}",
                "/v1/parties/{party}/parties/{party2}",
                "a=parties/<party> several; b=parties/<party2> several",
            ),
        ] {
            assert_eq!(
                shown(template),
                (path.to_owned(), fields.to_owned()),
                "{template}"
            );
        }
    }

    #[test]
    fn what_is_no_template_is_told_with_its_place() {
        for (text, at) in [
            ("v1", 1),
            ("/v1/", 5),
            ("/{a", 4),
            ("/{a=b/{c}}", 7),
            ("/{}", 3),
            ("/{1a}", 3),
            ("/{a}/{a}", 9),
            ("/a:b:c", 5),
            ("/a b", 3),
            ("/{a=}", 5),
            ("/a//b", 4),
            ("/***", 4),
        ] {
            assert_eq!(Template::parse(text).unwrap_err().at, at, "{text}");
        }
    }
}
