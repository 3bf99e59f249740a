//! Every reference against the contract and the definition, every structure against its target.

mod secrets;
mod several;
mod walk;

use std::cell::RefCell;
use std::sync::LazyLock;

use porch_contract::{
    Contract, Finding, Node, Operation, Parameter, Place, SchemaView, Step, suggest,
};
use porch_rules::expr::{Expr, Reference, Step as PathStep, Template};
use serde_json::{Value, json};

use self::walk::{absent, one_of, walk, walk_behind};
use super::among::Among;
use super::lent::{Lent, Use};
use super::used::Used;
use crate::compiled::{ANSWER, ITEM, REQUEST_ROOTS, SECRET};
use crate::read::inside;

/// What is known of answers: the schema of their body with the document it stands in.
#[derive(Default)]
pub struct Shapes<'a> {
    /// The answer's body.
    pub answer: Option<(&'a Value, &'a Value)>,
    /// The same for the header elements of SOAP answers.
    pub soap_header: Option<(&'a Value, &'a Value)>,
}

impl<'a> Shapes<'a> {
    /// Of answers that have no header elements.
    pub fn of_answer(document: &'a Value, body: &'a Value) -> Self {
        Self {
            answer: Some((document, body)),
            soap_header: None,
        }
    }
}

/// What a structure must fit.
pub struct Target<'a> {
    /// What it is, for people.
    pub what: String,
    /// The document that its schema stands in.
    pub root: &'a Value,
    /// Its schema.
    pub schema: &'a Value,
}

/// Compiles and checks the structures of one operation.
pub(crate) struct Templates<'a> {
    pub(crate) file: &'a str,
    pub(crate) text: &'a str,
    pub(crate) node: &'a Node,
    pub(crate) contract: &'a Contract,
    pub(crate) operation: &'a Operation,
    pub(crate) among: Option<&'a Among<'a>>,
    /// Whether an item of a list may be named, where there is no more than one call.
    pub(crate) of_item: bool,
    /// What becomes of the values.
    pub(crate) values_are: Use,
    /// Where secrets come from.
    pub(crate) lent: &'a Lent<'a>,
    /// Where it is noted down what they read of callers.
    pub(crate) used: &'a RefCell<Used>,
}

impl Templates<'_> {
    pub(crate) fn compile(
        &self,
        value: &Value,
        path: &[Step],
        reply: bool,
        shapes: &Shapes<'_>,
        target: Option<&Target<'_>>,
    ) -> (Option<Template>, Vec<Finding>) {
        let mut roots = REQUEST_ROOTS.to_vec();
        match self.among {
            Some(among) => roots.extend(among.roots()),
            None if self.of_item => roots.extend([ANSWER, ITEM]),
            None if reply => roots.push(ANSWER),
            None => {}
        }
        let mut findings = Vec::new();
        let mut template = match Template::compile(value, &roots) {
            Ok(template) => template,
            Err(errors) => {
                for (inner, e) in errors {
                    let at = self.node.locate(&self.full(path, &inner), false);
                    findings.push(Finding::error(
                        self.file,
                        inside(self.text, at, e.offset),
                        e.message,
                    ));
                }
                return (None, findings);
            }
        };
        template.each_expr(&mut Vec::new(), &mut |inner, expr| {
            for reference in expr.references() {
                self.used.borrow_mut().note(reference);
                let root = &reference.steps[0];
                let may = self.may_name(&root.name, reply);
                let may = may.map_err(|told| (root.offset, told, String::new()));
                if let Err((offset, message, help)) =
                    may.and_then(|()| self.reference(reference, shapes))
                {
                    let at = self.node.locate(&self.full(path, inner), false);
                    // One for the “=” before the expression.
                    findings.push(
                        Finding::error(self.file, inside(self.text, at, offset + 1), message)
                            .help(help),
                    );
                }
            }
        });
        if let Some(target) = target {
            let view = SchemaView::new(target.root, target.schema);
            Fitting {
                of: self,
                target,
                shapes,
                path,
                inner: Vec::new(),
                findings: &mut findings,
            }
            .fits(&template, view);
        }
        self.bind_all(&mut template, path, &mut findings);
        (Some(template), findings)
    }

    /// The steps to a place of the structure; the same steps lead there in the document.
    fn full(&self, path: &[Step], inner: &[String]) -> Vec<Step> {
        let mut steps = path.to_vec();
        for name in inner {
            let list = match self.node_at(&steps) {
                Some(node) => !node.items().is_empty(),
                None => false,
            };
            steps.push(match name.parse() {
                Ok(i) if list => Step::Index(i),
                _ => Step::Key(name.clone()),
            });
        }
        steps
    }

    fn node_at(&self, steps: &[Step]) -> Option<&Node> {
        steps.iter().try_fold(self.node, |node, step| match step {
            Step::Key(k) => node.get(k),
            Step::Index(i) => node.items().get(*i),
        })
    }

    fn parameters(&self, place: Place) -> impl Iterator<Item = &Parameter> {
        self.operation
            .parameters
            .iter()
            .filter(move |p| p.place == place)
    }

    /// Whether what a reference names exists and is there for sure.
    fn reference(&self, reference: &Reference, shapes: &Shapes<'_>) -> Result<(), Missing> {
        let (root, rest) = reference
            .steps
            .split_first()
            .map_or(("", &[][..]), |(r, s)| (r.name.as_str(), s));
        if root == SECRET {
            return self.a_secret(reference);
        }
        let Some(first) = rest.first() else {
            return Ok(());
        };
        match root {
            "path" => {
                let known: Vec<&str> = self.operation.path.variables().collect();
                one_of(first, "the path has no variable", &known)
            }
            "query" => match self.parameters(Place::Query).find(|p| p.name == first.name) {
                None => unknown(
                    first,
                    "the contract has no query parameter",
                    &names_of(self.parameters(Place::Query)),
                ),
                Some(p) if !p.required && !first.optional => Err(absent(first, "query")),
                Some(_) => Ok(()),
            },
            "header" => {
                let required = self
                    .parameters(Place::Header)
                    .any(|p| p.required && p.name.eq_ignore_ascii_case(&first.name));
                if required || first.optional {
                    Ok(())
                } else {
                    Err(absent(first, "header"))
                }
            }
            "cookie" | "terms" | "claims" | "caller" => self.of_caller(root, first),
            "body" => match &self.operation.body {
                None => Err((
                    first.offset,
                    format!(
                        "{} {} takes no body in the contract",
                        self.operation.method, self.operation.path
                    ),
                    "use path and query, or give the operation a requestBody".into(),
                )),
                Some((schema, _)) => walk(self.contract.view(schema), rest, "the request's body"),
            },
            name => match self.among {
                None if name == ANSWER => self.answer(first, rest, shapes),
                None => Ok(()),
                Some(among) => self.of_several(among, name, (first, rest), shapes),
            },
        }
    }

    /// Whether what a reference names of the answer is there.
    fn answer(
        &self,
        first: &PathStep,
        rest: &[PathStep],
        shapes: &Shapes<'_>,
    ) -> Result<(), Missing> {
        self.of_answer((first, rest), shapes, "the answer's body", false)
    }

    /// The same for an answer with another name; whether what is below it may be absent was said already.
    fn of_answer(
        &self,
        (first, rest): (&PathStep, &[PathStep]),
        shapes: &Shapes<'_>,
        what: &str,
        said: bool,
    ) -> Result<(), Missing> {
        match first.name.as_str() {
            "status" | "header" => Ok(()),
            "failed" if self.among.is_some() => Ok(()),
            "body" => match shapes.answer {
                Some((root, schema)) => {
                    let view = SchemaView::new(root, schema);
                    match said {
                        true => walk_behind(view, &rest[1..], what),
                        false => walk(view, &rest[1..], what),
                    }
                }
                None => Ok(()),
            },
            "soapHeader" => match shapes.soap_header {
                Some((root, schema)) => walk(
                    SchemaView::new(root, schema),
                    &rest[1..],
                    "the answer's SOAP header",
                ),
                None => Err((
                    first.offset,
                    "the answer declares no SOAP header elements".into(),
                    String::new(),
                )),
            },
            _ => {
                let last = match self.among {
                    Some(_) => "failed",
                    None => "soapHeader",
                };
                unknown(
                    first,
                    "an answer has no",
                    &["status", "header", "body", last],
                )
            }
        }
    }

    /// The schema of what a plain reference names.
    fn view_of<'v>(&'v self, expr: &Expr, shapes: &Shapes<'v>) -> Option<SchemaView<'v>> {
        let steps = expr.as_path()?;
        let names: Vec<&str> = steps.iter().map(|s| s.name.as_str()).collect();
        let (mut view, rest) = match names.as_slice() {
            ["query", name] => {
                return self
                    .parameters(Place::Query)
                    .find(|p| p.name == *name)
                    .map(|p| self.contract.view(&p.schema));
            }
            ["path", name] => {
                return self
                    .parameters(Place::Path)
                    .find(|p| p.name == *name)
                    .map(|p| self.contract.view(&p.schema));
            }
            // Header fields are texts, whatever the contract says of them, and so is what is known of the caller.
            ["caller", "roles"] => return None,
            ["header" | "caller" | "cookie" | "secret", _] => {
                return Some(SchemaView::new(&TEXT, &TEXT));
            }
            ["body", rest @ ..] => (
                self.operation
                    .body
                    .as_ref()
                    .map(|(s, _)| self.contract.view(s))?,
                rest,
            ),
            ["answer", "body", rest @ ..] => (
                shapes
                    .answer
                    .map(|(root, schema)| SchemaView::new(root, schema))?,
                rest,
            ),
            [name, "body", rest @ ..] => {
                let known = self.among?.answer(name)?.shape.as_ref()?;
                let (root, schema) = known.of_body()?;
                (SchemaView::new(root, schema), rest)
            }
            _ => return None,
        };
        for name in rest {
            view = view.property(name)?;
        }
        Some(view)
    }
}

type Missing = (usize, String, String);

static TEXT: LazyLock<Value> = LazyLock::new(|| json!({ "type": "string" }));

/// A name that is none of the known ones.
fn unknown(first: &PathStep, what: &str, known: &[&str]) -> Result<(), Missing> {
    let help = match suggest(&first.name, known.iter().copied()) {
        Some(near) => format!("did you mean “{near}”?"),
        None if known.is_empty() => String::new(),
        None => format!("there are: {}", known.join(", ")),
    };
    Err((first.offset, format!("{what} “{}”", first.name), help))
}

fn names_of<'p>(parameters: impl Iterator<Item = &'p Parameter>) -> Vec<&'p str> {
    parameters.map(|p| p.name.as_str()).collect()
}

/// A structure on the way through what it must fit.
struct Fitting<'a, 'f> {
    of: &'a Templates<'a>,
    target: &'a Target<'a>,
    shapes: &'a Shapes<'a>,
    path: &'a [Step],
    /// Where in the structure.
    inner: Vec<String>,
    findings: &'f mut Vec<Finding>,
}

impl Fitting<'_, '_> {
    fn found(&mut self, key: bool, message: String, help: &str) {
        let at = self.of.full(self.path, &self.inner);
        let at = self.of.node.locate(&at, key);
        self.findings
            .push(Finding::error(self.of.file, at, message).help(help));
    }

    fn fits(&mut self, template: &Template, view: SchemaView<'_>) {
        match template {
            Template::Map(_) if self.is_no("object", "a structure", &view) => {}
            Template::List(_) if self.is_no("array", "a list", &view) => {}
            Template::Map(entries) if !view.is_open() && !view.property_names().is_empty() => {
                self.members(entries, &view);
                self.missing(entries, &view);
            }
            Template::List(items) => {
                for (i, item) in items.iter().enumerate() {
                    if let Some(below) = view.items() {
                        self.inner.push(i.to_string());
                        self.fits(item, below);
                        self.inner.pop();
                    }
                }
            }
            Template::Expr(expr) => self.value(expr, &view),
            Template::Literal(Value::Object(members)) => {
                let literal = |(k, v): (&String, &Value)| (k.clone(), Template::Literal(v.clone()));
                self.fits(&Template::Map(members.iter().map(literal).collect()), view);
            }
            Template::Literal(Value::Array(items)) => {
                let items = items.iter().cloned().map(Template::Literal).collect();
                self.fits(&Template::List(items), view);
            }
            Template::Literal(value) => self.constant(value, &view),
            _ => {}
        }
    }

    /// A constant that can never stand here: of another type, or none of those that are listed.
    fn constant(&mut self, value: &Value, view: &SchemaView<'_>) {
        let types = view.types();
        let (is, shown) = match value {
            Value::String(_) => ("string", "a text"),
            Value::Number(_) => ("number", "a number"),
            Value::Bool(_) => ("boolean", "a boolean"),
            _ => return,
        };
        // Numbers of 64 bits and of enums are written as texts and read as either.
        let either = ["format", "enum"]
            .iter()
            .any(|k| view.value().get(*k).is_some());
        let written = is == "number" && types.contains(&"string") && either;
        let numeric = is == "number" && types.contains(&"integer");
        let (what, wants) = (&self.target.what, view.kind());
        if !types.is_empty() && !types.contains(&is) && !written && !numeric {
            let message = format!("{what} wants {wants} here, and {value} is {shown}");
            self.found(false, message, "");
        } else if is == "string" && types == ["string"] && !view.fits(value) {
            let message = format!("{what} wants {wants} here, which {value} is not");
            self.found(false, message, "");
        }
    }

    /// Whether something that is made of members or items, as `is` says, can never stand here.
    fn is_no(&mut self, is: &str, shown: &str, view: &SchemaView<'_>) -> bool {
        let types = view.types();
        let never = !view.is_open() && !types.is_empty() && !types.contains(&is);
        if never {
            let (what, wants) = (&self.target.what, view.kind());
            let message = format!("{what} wants {wants} here, and this is {shown}");
            self.found(false, message, "");
        }
        never
    }

    fn members(&mut self, entries: &[(String, Template)], view: &SchemaView<'_>) {
        for (name, value) in entries {
            self.inner.push(name.clone());
            match view.property(name) {
                Some(below) => self.fits(value, below),
                None if view.allows_other_members() && !self.target.what.contains("contract") => {}
                None => {
                    let near = suggest(name, view.property_names()).map_or_else(
                        || format!("there are: {}", view.property_names().join(", ")),
                        |n| format!("did you mean “{n}”?"),
                    );
                    self.found(true, format!("{} has no “{name}”", self.target.what), &near);
                }
            }
            self.inner.pop();
        }
    }

    fn missing(&mut self, entries: &[(String, Template)], view: &SchemaView<'_>) {
        // A misspelt member is one mistake, not also a missing one.
        let misspelt: Vec<&str> = entries
            .iter()
            .filter(|(k, _)| view.property(k).is_none())
            .filter_map(|(k, _)| suggest(k, view.property_names()))
            .collect();
        let missing = |n: &str| {
            view.requires(n) && !entries.iter().any(|(k, _)| k == n) && !misspelt.contains(&n)
        };
        for name in view.property_names().into_iter().filter(|n| missing(n)) {
            let message = format!("{} needs “{name}”", self.target.what);
            self.found(true, message, &format!("add `{name}: …`"));
        }
    }

    fn value(&mut self, expr: &Expr, view: &SchemaView<'_>) {
        let Some(from) = self.of.view_of(expr, self.shapes) else {
            return;
        };
        if let Some((is, wants)) = clash(&from, view) {
            let what = &self.target.what;
            let message = format!("{what} wants {wants} here, and {} is {is}", expr.source());
            self.found(
                false,
                message,
                "change the type in the contract, or convert it: int(…), double(…), string(…)",
            );
        }
    }
}

/// The two types when one can never stand for the other.
fn clash(from: &SchemaView<'_>, to: &SchemaView<'_>) -> Option<(String, String)> {
    let (a, b) = (from.types(), to.types());
    let fits = a.iter().any(|t| {
        b.contains(t)
            || (*t == "integer" && b.contains(&"number"))
            || (*t == "number" && b.contains(&"integer"))
    });
    (!a.is_empty() && !b.is_empty() && !fits).then(|| (from.kind(), to.kind()))
}
