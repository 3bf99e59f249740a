//! A document tree that remembers where everything stood.
//!
//! Documents are YAML or JSON. Every check wants to name a line and a column, so the tree is
//! built from parser events with their positions. Scalars follow the YAML 1.2 core schema, with
//! the traps left out: `no` is a text, `010` is a text, numbers keep all their digits.

use std::collections::HashSet;

use saphyr_parser::{Event, Marker, Parser, ScalarStyle};
use serde_json::{Map, Number, Value};

use crate::members::{Member, Members};

/// A place in a text, line and column from 1 (0 and 0: nowhere in particular).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Position {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

/// One value of a document with its place.
#[derive(Clone, Debug)]
pub struct Node {
    /// Where the value begins.
    pub at: Position,
    /// The value.
    pub kind: NodeKind,
}

/// What a [`Node`] holds.
#[derive(Clone, Debug)]
pub enum NodeKind {
    /// Null, a truth value, a number or a text.
    Scalar(Value),
    /// A sequence.
    List(Vec<Node>),
    /// A mapping: keys with the places they stand at, in the order written.
    Map(Members),
}

/// Why a text could not be read.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{message}")]
pub struct ReadError {
    /// Where.
    pub at: Position,
    /// What is wrong.
    pub message: String,
}

/// One step of a path into a document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A member of a mapping.
    Key(String),
    /// An item of a sequence, from 0.
    Index(usize),
}

const MAX_DEPTH: usize = 100;
const MAX_NODES: usize = 2_000_000;

enum Open {
    List(Position, Vec<Node>),
    Map(Position, Entries),
}

/// A mapping that is not closed yet.
#[derive(Default)]
struct Entries {
    done: Vec<(String, Position, Node)>,
    /// The key whose value is awaited.
    key: Option<(String, Position)>,
    /// The keys so far, once there are many.
    keys: HashSet<String>,
}

impl Entries {
    /// Whether a key is new; a few are looked through, many are hashed.
    fn is_new(&mut self, key: &str) -> bool {
        const FEW: usize = 16;
        if self.done.len() < FEW {
            return self.done.iter().all(|(k, ..)| k != key);
        }
        if self.keys.is_empty() {
            self.keys.extend(self.done.iter().map(|(k, ..)| k.clone()));
        }
        self.keys.insert(key.to_owned())
    }
}

fn position(mark: &Marker) -> Position {
    Position {
        line: mark.line(),
        column: mark.col() + 1,
    }
}

impl Open {
    fn closed(self) -> Node {
        match self {
            Open::List(at, items) => Node {
                at,
                kind: NodeKind::List(items),
            },
            Open::Map(at, entries) => Node {
                at,
                kind: NodeKind::Map(entries.done.into()),
            },
        }
    }
}

/// What an event makes of what is open; a value when one is complete.
fn step(open: &mut Vec<Open>, event: Event<'_>, at: Position) -> Result<Option<Node>, ReadError> {
    let starts = matches!(event, Event::SequenceStart(..) | Event::MappingStart(..));
    if starts && open.len() >= MAX_DEPTH {
        let message = format!("nested more than {MAX_DEPTH} levels deep");
        return Err(fail(at, message));
    }
    if starts && matches!(open.last(), Some(Open::Map(_, entries)) if entries.key.is_none()) {
        return Err(fail(at, "a mapping's key must be a plain text").quote_hint());
    }
    match event {
        Event::Alias(_) => Err(fail(
            at,
            "aliases (*name) are not used in documents: write the value out",
        )),
        Event::Scalar(_, _, _, Some(_)) => Err(fail(at, "tags (!name) are not used in documents")),
        Event::Scalar(text, style, _, None) => match open.last_mut() {
            Some(Open::Map(_, entries)) if entries.key.is_none() => {
                if !entries.is_new(&text) {
                    return Err(fail(at, format!("“{text}” stands here a second time")));
                }
                entries.key = Some((text.into_owned(), at));
                Ok(None)
            }
            _ => Ok(Some(Node {
                at,
                kind: NodeKind::Scalar(yaml_scalar(&text, style == ScalarStyle::Plain)),
            })),
        },
        Event::SequenceStart(..) => {
            open.push(Open::List(at, Vec::new()));
            Ok(None)
        }
        Event::MappingStart(..) => {
            open.push(Open::Map(at, Entries::default()));
            Ok(None)
        }
        Event::SequenceEnd | Event::MappingEnd => match open.pop() {
            Some(open) => Ok(Some(open.closed())),
            None => Err(fail(at, "unexpected end")),
        },
        _ => Ok(None),
    }
}

/// Puts a value into what is open; gives it back when nothing is, as the whole.
fn put(open: &mut [Open], done: Node) -> Result<Option<Node>, ReadError> {
    match open.last_mut() {
        None => return Ok(Some(done)),
        Some(Open::List(_, items)) => items.push(done),
        Some(Open::Map(_, entries)) => match entries.key.take() {
            Some((key, key_at)) => entries.done.push((key, key_at, done)),
            None => return Err(fail(done.at, "a mapping's key must be a plain text")),
        },
    }
    Ok(None)
}

impl Node {
    /// Reads YAML or JSON.
    ///
    /// # Errors
    /// Syntax errors, duplicate keys, aliases, tags, nesting beyond 100 levels and documents of more than
    /// two million values, each with its place.
    pub fn parse(text: &str) -> Result<Node, ReadError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let mut open: Vec<Open> = Vec::new();
        let mut root = None;
        let mut count = 0usize;
        for event in Parser::new_from_str(text) {
            let (event, span) =
                event.map_err(|e| fail(position(e.marker()), yaml_message(&e.to_string())))?;
            let at = position(&span.start);
            count += 1;
            if count > MAX_NODES {
                return Err(fail(at, "the document has more than two million values"));
            }
            if root.is_some() && matches!(event, Event::DocumentStart(_)) {
                return Err(fail(at, "one file holds one document"));
            }
            let Some(done) = step(&mut open, event, at)? else {
                continue;
            };
            if let Some(whole) = put(&mut open, done)? {
                root = Some(whole);
            }
        }
        root.ok_or_else(|| fail(Position { line: 1, column: 1 }, "the document is empty"))
    }

    /// The member of a mapping.
    pub fn get(&self, key: &str) -> Option<&Node> {
        match &self.kind {
            NodeKind::Map(entries) => entries.named(key).map(|(.., v)| v),
            _ => None,
        }
    }

    /// The members of a mapping; none when it is not one.
    pub fn entries(&self) -> &[Member] {
        match &self.kind {
            NodeKind::Map(entries) => entries,
            _ => &[],
        }
    }

    /// The items of a sequence; none when it is not one.
    pub fn items(&self) -> &[Node] {
        match &self.kind {
            NodeKind::List(items) => items,
            _ => &[],
        }
    }

    /// The text of a scalar that is one.
    pub fn text(&self) -> Option<&str> {
        match &self.kind {
            NodeKind::Scalar(Value::String(s)) => Some(s),
            _ => None,
        }
    }

    /// The same as a JSON value.
    pub fn to_value(&self) -> Value {
        match &self.kind {
            NodeKind::Scalar(v) => v.clone(),
            NodeKind::List(items) => Value::Array(items.iter().map(Node::to_value).collect()),
            NodeKind::Map(entries) => Value::Object(
                entries
                    .iter()
                    .map(|(k, _, v)| (k.clone(), v.to_value()))
                    .collect::<Map<_, _>>(),
            ),
        }
    }

    /// The way to the innermost value, or member's name, that stands at a place or begins last before it, as a JSON Pointer
    /// (RFC 6901).
    pub fn pointer_to(&self, at: Position) -> Option<String> {
        let (mut node, mut pointer) = (self, String::new());
        let before = |p: Position| (p.line, p.column) <= (at.line, at.column);
        loop {
            let next = match &node.kind {
                NodeKind::Scalar(_) => None,
                NodeKind::List(items) => {
                    let last = items.iter().rposition(|item| before(item.at));
                    last.map(|i| (i.to_string(), &items[i]))
                }
                NodeKind::Map(entries) => {
                    let last = entries.iter().rev().find(|(_, key_at, _)| before(*key_at));
                    // Section 3: `~` and `/` are written as `~0` and `~1`.
                    last.map(|(key, _, child)| (key.replace('~', "~0").replace('/', "~1"), child))
                }
            };
            let Some((step, child)) = next else {
                return (!pointer.is_empty()).then_some(pointer);
            };
            pointer.push('/');
            pointer.push_str(&step);
            node = child;
        }
    }

    /// The place of what a path leads to, or of the nearest thing on the way.
    ///
    /// A path that ends in a member gives the place of the member's key when `key` is asked for.
    pub fn locate(&self, path: &[Step], key: bool) -> Position {
        let mut node = self;
        let mut at = self.at;
        for (i, step) in path.iter().enumerate() {
            match (step, &node.kind) {
                (Step::Key(k), NodeKind::Map(entries)) => match entries.named(k) {
                    Some((_, key_at, child)) => {
                        at = if key && i + 1 == path.len() {
                            *key_at
                        } else {
                            child.at
                        };
                        node = child;
                    }
                    None => return at,
                },
                (Step::Index(n), NodeKind::List(items)) if *n < items.len() => {
                    node = &items[*n];
                    at = node.at;
                }
                _ => return at,
            }
        }
        at
    }
}

impl ReadError {
    fn quote_hint(mut self) -> Self {
        self.message
            .push_str("; an expression that holds { }, “: ” or “, ” must stand in quotes");
        self
    }
}

fn fail(at: Position, message: impl Into<String>) -> ReadError {
    ReadError {
        at,
        message: message.into(),
    }
}

/// The parser's message without the place it appends.
fn yaml_message(text: &str) -> String {
    let text = text.split(" at char ").next().unwrap_or(text);
    let text = text.split(" at byte ").next().unwrap_or(text);
    let mut message = format!("not readable as YAML: {text}");
    if text.contains("flow mapping") {
        message.push_str(
            " (inside { }, a text that itself holds { }, “, ” or “: ” must stand in quotes)",
        );
    }
    if text.contains("mapping values") {
        message.push_str(" (a text or expression that holds “: ” must stand in quotes)");
    }
    message
}

/// The value of a scalar of YAML: a text unless it is plain and looks like something else (YAML 1.2 §10.3, without its traps).
pub fn yaml_scalar(text: &str, plain: bool) -> Value {
    if !plain {
        return Value::String(text.to_owned());
    }
    match text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null,
        "true" | "True" | "TRUE" => Value::Bool(true),
        "false" | "False" | "FALSE" => Value::Bool(false),
        _ if text.starts_with(|c: char| c == '-' || c.is_ascii_digit()) => {
            match text.parse::<Number>() {
                Ok(number) => Value::Number(number),
                Err(_) => Value::String(text.to_owned()),
            }
        }
        _ => Value::String(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_in_one_long_line_has_its_pointer() {
        let text = r#"{"a": {"b/c": [1, {"d": "x"}]}, "e": 2}"#;
        let doc = Node::parse(text).unwrap();
        let pointer = |of: &str| {
            let column = text.find(of).unwrap() + 1;
            doc.pointer_to(Position { line: 1, column })
        };
        assert_eq!(pointer("\"x\"").as_deref(), Some("/a/b~1c/1/d"));
        assert_eq!(pointer("1,").as_deref(), Some("/a/b~1c/0"));
        assert_eq!(pointer("\"e\"").as_deref(), Some("/e"));
        assert_eq!(pointer("{\"a\""), None);
    }

    #[test]
    fn places_are_those_an_editor_shows() {
        let doc = Node::parse(
            "name: sailings\noperations:\n  quoteFare:\n    send:\n      RouteCode: =path.route\n",
        )
        .unwrap();
        let path = ["operations", "quoteFare", "send", "RouteCode"].map(|k| Step::Key(k.into()));
        assert_eq!(
            doc.locate(&path, false),
            Position {
                line: 5,
                column: 18
            }
        );
        assert_eq!(doc.locate(&path, true), Position { line: 5, column: 7 });
    }

    #[test]
    fn traps_of_yaml_stay_texts_and_digits_stay() {
        let doc = Node::parse(
            "a: no\nb: 010\nc: 1520.250\nd: 18446744073709551616\ne: 2026-11-23\nf: '5'",
        )
        .unwrap();
        assert_eq!(
            doc.to_value().to_string(),
            r#"{"a":"no","b":"010","c":1520.250,"d":18446744073709551616,"e":"2026-11-23","f":"5"}"#
        );
    }

    #[test]
    fn duplicates_bombs_and_depth_are_refused_with_a_place() {
        let twice = Node::parse("a: 1\nb: 2\na: 3").unwrap_err();
        assert_eq!(twice.at, Position { line: 3, column: 1 });
        // However far apart.
        let many: String = (0..5000).map(|i| format!("k{i}: 1\n")).collect();
        assert!(Node::parse(&many).is_ok());
        let far = Node::parse(&format!("{many}k1: 2")).unwrap_err();
        assert_eq!(
            far.at,
            Position {
                line: 5001,
                column: 1
            }
        );
        assert!(far.message.contains("k1"), "{}", far.message);
        assert!(
            Node::parse("a: &x [1]\nb: *x")
                .unwrap_err()
                .message
                .contains("aliases")
        );
        assert!(
            Node::parse(&"[".repeat(200))
                .unwrap_err()
                .message
                .contains("nested")
        );
        assert!(Node::parse(&"[".repeat(100_000)).is_err());
        assert!(Node::parse("a: {b: =x ? {y: 1} : 2}").is_err());
    }
}
