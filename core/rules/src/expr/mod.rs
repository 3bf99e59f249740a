//! Expressions: the part of CEL (Common Expression Language, language definition 0.24) that documents use.
//!
//! An expression is parsed and compiled once ([`Expr::compile`]), its references can be listed so that documents are
//! checked against contracts and definitions ([`Expr::references`]), and it is evaluated over borrowed request data
//! ([`Expr::eval`]). Length, nesting and work are bounded, so untrusted texts and data neither overflow nor hang.
//!
//! What is there: literals, member and index access with CEL's optional forms (`a.?b`, `a[?i]`, `.orValue(x)`),
//! arithmetic, comparison, `in`, logic with CEL's commutative `&&` and `||`, the conditional, lists and maps, the macros
//! `has`, `all`, `exists`, `exists_one`, `map`, `filter`, and the functions of [`FUNCTIONS`]. Numbers that are only
//! passed on keep all their digits; arithmetic is done in 64-bit integers or doubles.

mod eval;
mod functions;
mod parse;
mod secret;
mod template;
mod value;

pub use eval::{EvalError, NoXml, Scope};
pub use parse::{ParseError, Reference, Step};
pub use template::{Template, TemplateErrors};
pub use value::Val;

/// The functions that expressions may call, besides the macros.
pub const FUNCTIONS: [&str; 17] = [
    "size",
    "int",
    "double",
    "string",
    "bool",
    "type",
    "startsWith",
    "endsWith",
    "contains",
    "matches",
    "lowerAscii",
    "upperAscii",
    "trim",
    "replace",
    "split",
    "orValue",
    "xml",
];

/// A compiled expression.
#[derive(Debug)]
pub struct Expr {
    source: String,
    root: parse::Node,
    references: Vec<Reference>,
}

impl Expr {
    /// Parses and compiles an expression over the given roots.
    ///
    /// ```
    /// use porch_rules::expr::Expr;
    /// assert!(Expr::compile("path.route == 'FAR-MAR'", &["path"]).is_ok());
    /// let error = Expr::compile("pth.route", &["path"]).unwrap_err();
    /// assert_eq!(error.message, "“pth” is not known here; did you mean “path”?");
    /// ```
    ///
    /// # Errors
    /// What is wrong, with its offset in characters.
    pub fn compile(source: &str, roots: &[&str]) -> Result<Self, ParseError> {
        let (root, references) = parse::parse(source, roots)?;
        Ok(Self {
            source: source.to_owned(),
            root,
            references,
        })
    }

    /// The text it was compiled from.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Every value that it names, with its full path as far as it is fixed.
    pub fn references(&self) -> &[Reference] {
        &self.references
    }

    /// Its value in a scope.
    ///
    /// # Errors
    /// What went wrong, and at which part of the expression.
    pub fn eval<'s>(&'s self, scope: &'s dyn Scope) -> Result<Val<'s>, EvalError> {
        eval::Run::new(scope).eval(&self.root)
    }

    /// Puts the values of secrets in their places; `value` knows a root's number and a member of it. From then on they are
    /// no references to anything that a scope has, are compared in constant time, and are not shown by any `Debug`.
    pub fn bind(&mut self, value: &mut dyn FnMut(usize, &str) -> Option<std::sync::Arc<str>>) {
        secret::bind(&mut self.root, value);
    }

    /// Whether a bound secret, or something made of one, is its value; comparing one with `==` and `!=` shows nothing.
    pub fn shows_secrets(&mut self) -> bool {
        secret::is_shown(&mut self.root)
    }

    /// Whether it takes a bound secret apart: makes something else of it than a text that it stands in whole.
    pub fn takes_secrets_apart(&mut self) -> bool {
        secret::is_taken_apart(&mut self.root)
    }

    /// Whether it may have no value where something is not there: it names something in an optional form, and says nothing
    /// of what stands in its place.
    pub fn may_be_absent(&self) -> bool {
        may_be_absent(&self.root)
    }

    /// The whole root that it names and nothing else (`body`, `answer.body` …), by its full path.
    pub fn as_plain_path(&self) -> Option<&[Step]> {
        self.as_path()
            .filter(|steps| steps.iter().all(|s| !s.optional))
    }

    /// The same of a path whose value may be absent.
    pub fn as_path(&self) -> Option<&[Step]> {
        match (&self.root, self.references.as_slice()) {
            (parse::Node::Root(_) | parse::Node::Member { .. }, [only]) if only.fixed => {
                Some(&only.steps)
            }
            _ => None,
        }
    }
}

/// Whether a part of an expression may have no value; parts are nested no deeper than the parser lets them be.
fn may_be_absent(node: &parse::Node) -> bool {
    use parse::{Node, Op};
    match node {
        Node::Member { of, optional, .. } | Node::Index { of, optional, .. } => {
            *optional || may_be_absent(of)
        }
        Node::Call("orValue", arguments) => arguments.get(1).is_some_and(may_be_absent),
        // What is made of an absent value is absent.
        Node::Call(_, arguments) => arguments.iter().any(may_be_absent),
        Node::If(_, then, other) => may_be_absent(then) || may_be_absent(other),
        Node::Binary(Op::Add | Op::Sub | Op::Mul | Op::Div | Op::Rem, a, b) => {
            may_be_absent(a) || may_be_absent(b)
        }
        Node::Macro { over, .. } => may_be_absent(over),
        _ => false,
    }
}
