//! Evaluation over borrowed data.

use std::borrow::Cow;
use std::cmp::Ordering;

use serde_json::Value;

use super::functions::call;
use super::parse::{Literal, Macro, Node, Op};
use super::value::Val;

/// A text that is no XML document, or none that can be read: what is the matter with it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NoXml(pub String);

/// Where an expression's roots come from.
pub trait Scope {
    /// A member of a root; `None` when there is none.
    fn member<'s>(&'s self, root: usize, name: &str) -> Option<Val<'s>>;
    /// A root as a whole.
    fn whole(&self, root: usize) -> Val<'_>;
    /// The value of an XML document that a text holds, for the function `xml`.
    ///
    /// # Errors
    /// What is wrong with the document, or that none can be read here.
    fn open_xml(&self, _text: &str) -> Result<serde_json::Value, NoXml> {
        Err(NoXml("cannot be read here".into()))
    }
}

/// Why an expression has no value.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EvalError {
    /// A member that is not there, and what is there instead.
    #[error("there is no “{0}”{1}")]
    Missing(String, String),
    /// An operation that the values do not have.
    #[error("{0}")]
    Type(String),
    /// Too much work.
    #[error("the expression needs more than {MAX_STEPS} steps")]
    TooMuch,
}

const MAX_STEPS: u32 = 100_000;

pub(super) struct Run<'s> {
    scope: &'s dyn Scope,
    locals: Vec<Val<'s>>,
    steps: u32,
}

pub(super) type Got<'s> = Result<Val<'s>, EvalError>;

pub(super) fn wrong<T>(message: impl Into<String>) -> Result<T, EvalError> {
    Err(EvalError::Type(message.into()))
}

impl<'s> Run<'s> {
    pub(super) fn new(scope: &'s dyn Scope) -> Self {
        Self {
            scope,
            locals: Vec::new(),
            steps: 0,
        }
    }

    pub(super) fn eval(&mut self, node: &'s Node) -> Got<'s> {
        self.spend(1)?;
        match node {
            Node::Literal(literal) => Ok(of_literal(literal)),
            Node::Root(root) => Ok(self.scope.whole(*root)),
            Node::Local(i) => self.local(*i),
            Node::Secret(hidden) => Ok(Val::Str(Cow::Borrowed(hidden.text()))),
            Node::Member { of, name, optional } => self.member(of, name, *optional),
            Node::Has { of, name } => Ok(Val::Bool(!matches!(
                self.member(of, name, true)?,
                Val::Absent
            ))),
            Node::Index { of, at, optional } => self.index(of, at, *optional),
            Node::Not(inner) => self.not(inner),
            Node::Negate(inner) => self.negated(inner),
            Node::And(a, b) => self.logic(a, b, false),
            Node::Or(a, b) => self.logic(a, b, true),
            Node::If(condition, then, other) => match self.eval(condition)? {
                Val::Bool(true) => self.eval(then),
                Val::Bool(false) => self.eval(other),
                value => wrong(format!(
                    "the condition before “?” is {}, not true or false",
                    value.kind()
                )),
            },
            Node::Binary(op @ (Op::Eq | Op::Ne), a, b) if is_secret(a) || is_secret(b) => {
                self.compared(*op, a, b)
            }
            Node::Binary(op, a, b) => {
                let (a, b) = (self.eval(a)?, self.eval(b)?);
                // Whatever is made of two values, or found by comparing them, is no larger than both.
                self.spend(a.weight(MAX_STEPS).saturating_add(b.weight(MAX_STEPS)))?;
                binary(*op, a, b)
            }
            Node::Call("xml", arguments) => self.xml(&arguments[0]),
            Node::Call(name, arguments) => {
                let values = arguments
                    .iter()
                    .map(|a| self.eval(a))
                    .collect::<Result<Vec<_>, _>>()?;
                for value in &values {
                    self.spend(value.weight(MAX_STEPS))?;
                }
                call(name, values)
            }
            Node::Matches(of, regex) => match self.eval(of)? {
                Val::Str(s) => Ok(Val::Bool(regex.is_match(&s))),
                other => wrong(format!("matches needs a text, not {}", other.kind())),
            },
            Node::Macro {
                kind,
                over,
                local,
                body,
            } => self.run_macro(*kind, over, *local, body),
            Node::List(items) => {
                let items = items.iter().map(|i| self.eval(i));
                Ok(Val::List(items.collect::<Result<_, _>>()?))
            }
            Node::Map(entries) => self.map(entries),
        }
    }

    /// A comparison with a secret.
    #[cold]
    fn compared(&mut self, op: Op, a: &'s Node, b: &'s Node) -> Got<'s> {
        let (hidden, other) = match (a, b) {
            (Node::Secret(hidden), other) | (other, Node::Secret(hidden)) => (hidden, other),
            _ => return wrong("no secret is compared"),
        };
        let other = self.eval(other)?;
        self.spend(other.weight(MAX_STEPS))?;
        Ok(Val::Bool(
            super::secret::is_same(hidden, &other) == (op == Op::Eq),
        ))
    }

    /// A copy, which costs what it is large.
    fn local(&mut self, i: usize) -> Got<'s> {
        let weight = self.locals.get(i).map_or(0, |v| v.weight(MAX_STEPS));
        self.spend(weight)?;
        Ok(self.locals.get(i).cloned().unwrap_or(Val::Absent))
    }

    fn spend(&mut self, steps: u32) -> Result<(), EvalError> {
        self.steps = self.steps.saturating_add(steps);
        if self.steps > MAX_STEPS {
            return Err(EvalError::TooMuch);
        }
        Ok(())
    }

    fn xml(&mut self, text: &'s Node) -> Got<'s> {
        match self.eval(text)? {
            Val::Absent => Ok(Val::Absent),
            Val::Str(text) => self.scope.open_xml(&text).map_or_else(
                |why| wrong(format!("xml: the text {why}")),
                |v| Ok(Val::owned(v)),
            ),
            other => wrong(format!("xml has no meaning for {}", other.kind())),
        }
    }

    fn map(&mut self, entries: &'s [(Node, Node)]) -> Got<'s> {
        let mut map = Vec::with_capacity(entries.len());
        for (key, value) in entries {
            match self.eval(key)? {
                Val::Str(key) => map.push((key.into_owned(), self.eval(value)?)),
                other => {
                    return wrong(format!("a map's key is a text, not {}", other.kind()));
                }
            }
        }
        Ok(Val::Map(map))
    }

    fn not(&mut self, inner: &'s Node) -> Got<'s> {
        match self.eval(inner)? {
            Val::Bool(b) => Ok(Val::Bool(!b)),
            other => wrong(format!("“!” needs true or false, not {}", other.kind())),
        }
    }

    fn negated(&mut self, inner: &'s Node) -> Got<'s> {
        match self.eval(inner)?.number() {
            Some(Val::Int(i)) => i
                .checked_neg()
                .map_or_else(|| wrong("the number is too large"), |i| Ok(Val::Int(i))),
            Some(Val::Double(d)) => Ok(Val::Double(-d)),
            _ => wrong("“-” needs a number"),
        }
    }

    fn member(&mut self, of: &'s Node, name: &'s str, optional: bool) -> Got<'s> {
        let (found, there) = match of {
            Node::Root(root) => match self.scope.member(*root, name) {
                Some(value) => return Ok(value),
                None if optional => return Ok(Val::Absent),
                None => (None, there(&self.scope.whole(*root))),
            },
            other => match self.eval(other)? {
                Val::Absent => return Ok(Val::Absent),
                value @ (Val::Json(Value::Object(_)) | Val::Map(_)) => {
                    let found = value.member(name);
                    let there = match (&found, optional) {
                        (None, false) => there(&value),
                        _ => String::new(),
                    };
                    (found, there)
                }
                _ if optional => (None, String::new()),
                value => {
                    return wrong(format!(
                        "“{name}” is asked of {}, not of a map",
                        value.kind()
                    ));
                }
            },
        };
        match found {
            Some(value) => Ok(value),
            None if optional => Ok(Val::Absent),
            None => Err(EvalError::Missing(name.to_owned(), there)),
        }
    }

    fn index(&mut self, of: &'s Node, at: &'s Node, optional: bool) -> Got<'s> {
        let index = self.eval(at)?;
        if let (Val::Str(name), Node::Root(root)) = (&index, of) {
            return match self.scope.member(*root, name) {
                Some(value) => Ok(value),
                None if optional => Ok(Val::Absent),
                None => {
                    let there = there(&self.scope.whole(*root));
                    Err(EvalError::Missing(name.to_string(), there))
                }
            };
        }
        let value = self.eval(of)?;
        let found = match (&value, &index) {
            (Val::Absent, _) => return Ok(Val::Absent),
            (Val::Json(Value::Object(_)) | Val::Map(_), Val::Str(name)) => value.member(name),
            (Val::Json(Value::Array(items)), _) if index.number().is_some() => {
                at_index(&index).and_then(|i| items.get(i)).map(Val::of)
            }
            (Val::List(items), _) if index.number().is_some() => {
                at_index(&index).and_then(|i| items.get(i)).cloned()
            }
            _ => {
                return wrong(format!(
                    "{} has no item at a {}",
                    value.kind(),
                    index.kind()
                ));
            }
        };
        match found {
            Some(value) => Ok(value),
            None if optional => Ok(Val::Absent),
            None => Err(EvalError::Missing(
                index
                    .to_text()
                    .map_or_else(|| "item".to_owned(), |t| format!("[{t}]")),
                there(&value),
            )),
        }
    }

    /// `&&` and `||`: an error on one side is forgiven when the other decides (CEL, "Logical Operators").
    fn logic(&mut self, a: &'s Node, b: &'s Node, decides: bool) -> Got<'s> {
        let left = self.truth(a);
        if left == Ok(decides) {
            return Ok(Val::Bool(decides));
        }
        let right = self.truth(b);
        if right == Ok(decides) {
            return Ok(Val::Bool(decides));
        }
        left.and(right).map(Val::Bool)
    }

    fn truth(&mut self, node: &'s Node) -> Result<bool, EvalError> {
        match self.eval(node)? {
            Val::Bool(b) => Ok(b),
            other => wrong(format!("true or false is needed, not {}", other.kind())),
        }
    }

    fn run_macro(&mut self, kind: Macro, over: &'s Node, local: usize, body: &'s Node) -> Got<'s> {
        let value = self.eval(over)?;
        let Some(items) = value.items() else {
            return wrong(format!(
                "only lists and maps have items, not {}",
                value.kind()
            ));
        };
        let mut kept = Vec::new();
        let (mut hits, mut failed) = (0u32, None);
        for item in items {
            self.locals.truncate(local);
            self.spend(item.weight(MAX_STEPS))?;
            self.locals.push(item.clone());
            if kind == Macro::Map {
                kept.push(self.eval(body)?);
                continue;
            }
            let truth = self.truth(body);
            match (kind, truth) {
                (_, Err(EvalError::TooMuch)) => return Err(EvalError::TooMuch),
                (Macro::All, Ok(false)) => return Ok(Val::Bool(false)),
                (Macro::Exists, Ok(true)) => return Ok(Val::Bool(true)),
                (Macro::Filter, Ok(true)) => kept.push(item),
                (Macro::ExistsOne, Ok(true)) => hits += 1,
                (Macro::All | Macro::Exists, Err(e)) => failed = Some(e),
                (_, Err(e)) => return Err(e),
                _ => {}
            }
        }
        self.locals.truncate(local);
        match (kind, failed) {
            (_, Some(e)) => Err(e),
            (Macro::All, None) => Ok(Val::Bool(true)),
            (Macro::Exists, None) => Ok(Val::Bool(false)),
            (Macro::ExistsOne, None) => Ok(Val::Bool(hits == 1)),
            (Macro::Map | Macro::Filter, None) => Ok(Val::List(kept)),
        }
    }
}

fn is_secret(node: &Node) -> bool {
    matches!(node, Node::Secret(_))
}

/// What there is in place of what was asked for, in few words.
#[cold]
fn there(value: &Val<'_>) -> String {
    const SHOWN: usize = 8;
    const LETTERS: usize = 40;
    let names: Vec<&str> = match value {
        Val::Json(Value::Object(map)) => map.keys().take(SHOWN + 1).map(String::as_str).collect(),
        Val::Map(map) => map
            .iter()
            .take(SHOWN + 1)
            .map(|(k, _)| k.as_str())
            .collect(),
        Val::Json(Value::Array(items)) => return of_items(items.len()),
        Val::List(items) => return of_items(items.len()),
        _ => return String::new(),
    };
    let more = if names.len() > SHOWN { " …" } else { "" };
    let shown = names.iter().take(SHOWN);
    let shown: Vec<String> = shown.map(|n| n.chars().take(LETTERS).collect()).collect();
    match shown.is_empty() {
        true => "; nothing is there".to_owned(),
        false => format!("; there are: {}{more}", shown.join(", ")),
    }
}

fn of_items(number: usize) -> String {
    match number {
        0 => "; the list is empty".to_owned(),
        1 => "; the list has one item".to_owned(),
        n => format!("; the list has {n} items"),
    }
}

fn at_index(index: &Val<'_>) -> Option<usize> {
    match index.number()? {
        Val::Int(i) => usize::try_from(i).ok(),
        _ => None,
    }
}

fn binary<'s>(op: Op, a: Val<'s>, b: Val<'s>) -> Got<'s> {
    match op {
        Op::Eq => Ok(Val::Bool(a.same(&b))),
        Op::Ne => Ok(Val::Bool(!a.same(&b))),
        Op::In => match (&b, &a) {
            (Val::Json(Value::Object(_)) | Val::Map(_), Val::Str(name)) => {
                Ok(Val::Bool(b.member(name).is_some()))
            }
            _ => match b.items() {
                Some(items) => Ok(Val::Bool(items.iter().any(|i| i.same(&a)))),
                None => wrong(format!("“in” needs a list or a map, not {}", b.kind())),
            },
        },
        Op::Lt | Op::Le | Op::Gt | Op::Ge => {
            let order = compare(&a, &b)?;
            Ok(Val::Bool(match op {
                Op::Lt => order == Some(Ordering::Less),
                Op::Le => matches!(order, Some(Ordering::Less | Ordering::Equal)),
                Op::Gt => order == Some(Ordering::Greater),
                _ => matches!(order, Some(Ordering::Greater | Ordering::Equal)),
            }))
        }
        Op::Add | Op::Sub | Op::Mul | Op::Div | Op::Rem => arithmetic(op, a, b),
    }
}

fn compare(a: &Val<'_>, b: &Val<'_>) -> Result<Option<Ordering>, EvalError> {
    match (a, b) {
        (Val::Str(a), Val::Str(b)) => Ok(Some(a.cmp(b))),
        (Val::Bool(a), Val::Bool(b)) => Ok(Some(a.cmp(b))),
        _ => match (a.number(), b.number()) {
            (Some(Val::Int(a)), Some(Val::Int(b))) => Ok(Some(a.cmp(&b))),
            (Some(a), Some(b)) => Ok(a.as_f64().partial_cmp(&b.as_f64())),
            _ => wrong(format!("{} and {} have no order", a.kind(), b.kind())),
        },
    }
}

fn arithmetic<'s>(op: Op, a: Val<'s>, b: Val<'s>) -> Got<'s> {
    let sign = match op {
        Op::Add => "+",
        Op::Sub => "-",
        Op::Mul => "*",
        Op::Div => "/",
        _ => "%",
    };
    // What may be absent was asked for as such; nothing comes of it here, as of functions.
    if matches!(a, Val::Absent) || matches!(b, Val::Absent) {
        return Ok(Val::Absent);
    }
    match (a.number(), b.number()) {
        (Some(Val::Int(x)), Some(Val::Int(y))) => {
            let result = match op {
                Op::Add => x.checked_add(y),
                Op::Sub => x.checked_sub(y),
                Op::Mul => x.checked_mul(y),
                Op::Div => x.checked_div(y),
                _ => x.checked_rem(y),
            };
            result.map(Val::Int).map_or_else(
                || wrong(format!("{x} {sign} {y} has no value of 64 bits")),
                Ok,
            )
        }
        (Some(x), Some(y)) => {
            let (x, y) = (
                x.as_f64().unwrap_or(f64::NAN),
                y.as_f64().unwrap_or(f64::NAN),
            );
            match op {
                Op::Add => Ok(Val::Double(x + y)),
                Op::Sub => Ok(Val::Double(x - y)),
                Op::Mul => Ok(Val::Double(x * y)),
                Op::Div => Ok(Val::Double(x / y)),
                _ => wrong("“%” needs whole numbers"),
            }
        }
        _ => match (op, a, b) {
            (Op::Add, Val::Str(a), Val::Str(b)) => {
                let mut text = a.into_owned();
                if text.len() + b.len() > 1 << 20 {
                    return wrong("a text of more than 1 MiB");
                }
                text.push_str(&b);
                Ok(Val::Str(Cow::Owned(text)))
            }
            (Op::Add, a, b) if a.kind() == "list" && b.kind() == "list" => {
                let mut items = a.items().unwrap_or_default();
                items.extend(b.items().unwrap_or_default());
                Ok(Val::List(items))
            }
            (_, a, b) => wrong(format!("{} {sign} {} has no value", a.kind(), b.kind())),
        },
    }
}

fn of_literal(literal: &Literal) -> Val<'_> {
    match literal {
        Literal::Null => Val::Null,
        Literal::Bool(b) => Val::Bool(*b),
        Literal::Int(i) => Val::Int(*i),
        Literal::Double(d) => Val::Double(*d),
        Literal::Str(s) => Val::Str(Cow::Borrowed(s)),
    }
}
