//! Texts of others, read with their places: JSON (RFC 8259) and YAML 1.2 with what real documents have of it.
//!
//! Documents of our own are read strictly ([`Node::parse`]); here anchors, merge keys, tags, doubled keys and further
//! documents in a file are borne, and told where they lose something.

use std::collections::HashMap;

use porch_contract::{Node, NodeKind, Position, ReadError};
use saphyr_parser::{Event, Parser, ScalarStyle};
use serde_json::Value;

/// Deeper than this nobody nests by hand.
const MAX_DEPTH: usize = 100;
/// A text has at most so many values, those that aliases stand for among them.
const MAX_NODES: usize = 2_000_000;

/// A text that was read, and what was borne on the way.
pub(crate) struct Lenient {
    pub(crate) node: Node,
    pub(crate) borne: Vec<(Position, String)>,
}

/// Reads a text.
pub(crate) fn read(text: &str) -> Result<Lenient, ReadError> {
    let text = text.trim_start_matches('\u{feff}');
    let begins = text.trim_start().chars().next();
    if matches!(begins, Some('{' | '[')) {
        let read = Json::new(text).whole();
        // YAML's flow style looks like JSON and is not.
        return read.or_else(|e| yaml(text).map_err(|_| e));
    }
    yaml(text)
}

fn fail(at: Position, message: impl Into<String>) -> ReadError {
    ReadError {
        at,
        message: message.into(),
    }
}

fn too_deep(at: Position) -> ReadError {
    fail(at, format!("nested more than {MAX_DEPTH} levels deep"))
}

fn too_much(at: Position) -> ReadError {
    fail(at, "the document has more than two million values")
}

/// JSON with the place of every value.
struct Json<'t> {
    text: &'t str,
    at: usize,
    line: usize,
    /// Where the line begins, and how many characters of it were counted up to a byte.
    counted: (usize, usize),
    left: usize,
    borne: Vec<(Position, String)>,
}

impl<'t> Json<'t> {
    fn new(text: &'t str) -> Self {
        Self {
            text,
            at: 0,
            line: 1,
            counted: (0, 0),
            left: MAX_NODES,
            borne: Vec::new(),
        }
    }

    fn whole(mut self) -> Result<Lenient, ReadError> {
        let node = self.value(0)?;
        self.blank();
        if self.at < self.text.len() {
            let at = self.place();
            return Err(fail(at, "something stands behind the end of the JSON"));
        }
        let borne = self.borne;
        Ok(Lenient { node, borne })
    }

    fn place(&mut self) -> Position {
        let (from, characters) = self.counted;
        let column = characters + self.text[from..self.at].chars().count();
        self.counted = (self.at, column);
        let line = self.line;
        Position {
            line,
            column: column + 1,
        }
    }

    fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    fn blank(&mut self) {
        while let Some(b' ' | b'\t' | b'\r' | b'\n') = self.peek() {
            let newline = self.peek() == Some(b'\n');
            self.at += 1;
            if newline {
                self.line += 1;
                self.counted = (self.at, 0);
            }
        }
    }

    fn unexpected(&mut self) -> ReadError {
        let at = self.place();
        let message = match self.text[self.at..].chars().next() {
            Some(c) => format!("not readable as JSON: “{c}” is not expected here"),
            None => "not readable as JSON: it ends in its middle".into(),
        };
        fail(at, message)
    }

    fn value(&mut self, depth: usize) -> Result<Node, ReadError> {
        self.blank();
        let at = self.place();
        self.left = self.left.checked_sub(1).ok_or_else(|| too_much(at))?;
        if depth >= MAX_DEPTH {
            return Err(too_deep(at));
        }
        let kind = match self.peek() {
            Some(b'{') => NodeKind::Map(self.members(depth)?.into()),
            Some(b'[') => NodeKind::List(self.items(depth)?),
            Some(b'"') => NodeKind::Scalar(Value::String(self.string()?)),
            _ => NodeKind::Scalar(self.plain()?),
        };
        Ok(Node { at, kind })
    }

    fn items(&mut self, depth: usize) -> Result<Vec<Node>, ReadError> {
        let mut items = Vec::new();
        self.at += 1;
        loop {
            self.blank();
            if self.peek() == Some(b']') {
                self.at += 1;
                return Ok(items);
            }
            items.push(self.value(depth + 1)?);
            self.comma(b']')?;
        }
    }

    fn members(&mut self, depth: usize) -> Result<Vec<(String, Position, Node)>, ReadError> {
        let mut members = Members::default();
        self.at += 1;
        loop {
            self.blank();
            match self.peek() {
                Some(b'}') => {
                    self.at += 1;
                    return Ok(members.done);
                }
                Some(b'"') => {}
                _ => return Err(self.unexpected()),
            }
            let at = self.place();
            let key = self.string()?;
            self.blank();
            if self.peek() != Some(b':') {
                return Err(self.unexpected());
            }
            self.at += 1;
            let value = self.value(depth + 1)?;
            members.put(key, at, value, &mut self.borne);
            self.comma(b'}')?;
        }
    }

    /// A comma, or the end that is not taken yet. One before the end is borne.
    fn comma(&mut self, end: u8) -> Result<(), ReadError> {
        self.blank();
        match self.peek() {
            Some(b',') => self.at += 1,
            Some(b) if b == end => {}
            _ => return Err(self.unexpected()),
        }
        Ok(())
    }

    fn string(&mut self) -> Result<String, ReadError> {
        let (bytes, from) = (self.text.as_bytes(), self.at);
        let mut end = from + 1;
        loop {
            match bytes.get(end) {
                Some(b'"') => break,
                Some(b'\\') => end += 2,
                Some(_) => end += 1,
                None => return Err(self.unexpected()),
            }
        }
        let slice = self.text.get(from..=end).unwrap_or_default();
        match serde_json::from_str(slice) {
            Ok(text) => {
                self.at = end + 1;
                Ok(text)
            }
            Err(_) => {
                let at = self.place();
                Err(fail(at, "this is no text of JSON (RFC 8259 §7)"))
            }
        }
    }

    fn plain(&mut self) -> Result<Value, ReadError> {
        let rest = &self.text[self.at..];
        let stops = |c: char| c.is_ascii_whitespace() || matches!(c, ',' | ']' | '}' | ':' | '"');
        let end = rest.find(stops).unwrap_or(rest.len());
        match serde_json::from_str(&rest[..end]) {
            Ok(value) if end > 0 => {
                self.at += end;
                Ok(value)
            }
            _ => Err(self.unexpected()),
        }
    }
}

/// The members of a mapping, each name once.
#[derive(Default)]
struct Members {
    done: Vec<(String, Position, Node)>,
    known: HashMap<String, ()>,
}

impl Members {
    fn put(&mut self, key: String, at: Position, value: Node, borne: &mut Vec<(Position, String)>) {
        if self.known.insert(key.clone(), ()).is_some() {
            borne.push((at, format!("“{key}” stands here a second time")));
            return;
        }
        self.done.push((key, at, value));
    }
}

enum Open {
    List(Position, usize, Vec<Node>),
    Map(Position, usize, Members, Option<(String, Position)>),
}

/// A YAML text on its way to a tree.
struct Yaml {
    open: Vec<Open>,
    anchors: HashMap<usize, (Node, usize)>,
    root: Option<Node>,
    left: usize,
    borne: Vec<(Position, String)>,
}

fn yaml(text: &str) -> Result<Lenient, ReadError> {
    let mut yaml = Yaml {
        open: Vec::new(),
        anchors: HashMap::new(),
        root: None,
        left: MAX_NODES,
        borne: Vec::new(),
    };
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|e| {
            let at = position(e.marker());
            let told = e.to_string();
            let told = told.split(" at char ").next().unwrap_or_default();
            let told = told.split(" at byte ").next().unwrap_or_default();
            fail(at, format!("not readable as YAML: {told}"))
        })?;
        let at = position(&span.start);
        if yaml.root.is_some() && matches!(event, Event::DocumentStart(_)) {
            yaml.borne.push((
                at,
                "a second document begins here, and is not looked at".into(),
            ));
            break;
        }
        yaml.event(event, at)?;
    }
    let empty = || fail(Position { line: 1, column: 1 }, "the document is empty");
    Ok(Lenient {
        node: yaml.root.ok_or_else(empty)?,
        borne: yaml.borne,
    })
}

fn position(mark: &saphyr_parser::Marker) -> Position {
    Position {
        line: mark.line(),
        column: mark.col() + 1,
    }
}

impl Yaml {
    fn event(&mut self, event: Event<'_>, at: Position) -> Result<(), ReadError> {
        self.left = self.left.checked_sub(1).ok_or_else(|| too_much(at))?;
        match event {
            Event::Alias(id) => {
                let known = self.anchors.get(&id);
                let (node, size) = known.ok_or_else(|| fail(at, "this alias has no anchor"))?;
                self.left = self.left.checked_sub(*size).ok_or_else(|| too_much(at))?;
                let depth = self.open.len() + depth_of(node);
                if depth > MAX_DEPTH {
                    return Err(too_deep(at));
                }
                let node = node.clone();
                self.put(node)
            }
            Event::Scalar(text, style, anchor, tag) => {
                let as_text = tag.is_some_and(|t| t.suffix == "str");
                let plain = style == ScalarStyle::Plain && !as_text;
                let kind = NodeKind::Scalar(porch_contract::yaml_scalar(&text, plain));
                let node = Node { at, kind };
                self.keep(anchor, &node, 1);
                if let Some(Open::Map(_, _, _, key @ None)) = self.open.last_mut() {
                    *key = Some((text.into_owned(), at));
                    return Ok(());
                }
                self.put(node)
            }
            Event::SequenceStart(anchor, _) => self.begin(Open::List(at, anchor, Vec::new())),
            Event::MappingStart(anchor, _) => {
                self.begin(Open::Map(at, anchor, Members::default(), None))
            }
            Event::SequenceEnd | Event::MappingEnd => {
                let Some(open) = self.open.pop() else {
                    return Err(fail(at, "unexpected end"));
                };
                let (node, anchor) = match open {
                    Open::List(at, anchor, items) => {
                        let kind = NodeKind::List(items);
                        (Node { at, kind }, anchor)
                    }
                    Open::Map(at, anchor, members, _) => (self.merged(at, members), anchor),
                };
                if anchor != 0 {
                    let size = size_of(&node);
                    self.keep(anchor, &node, size);
                }
                self.put(node)
            }
            _ => Ok(()),
        }
    }

    fn begin(&mut self, open: Open) -> Result<(), ReadError> {
        let (Open::List(at, ..) | Open::Map(at, ..)) = open;
        if self.open.len() >= MAX_DEPTH {
            return Err(too_deep(at));
        }
        if let Some(Open::Map(_, _, _, None)) = self.open.last() {
            return Err(fail(at, "a mapping's key must be a plain text"));
        }
        self.open.push(open);
        Ok(())
    }

    fn keep(&mut self, anchor: usize, node: &Node, size: usize) {
        if anchor != 0 {
            // What is kept is a copy too.
            self.left = self.left.saturating_sub(size);
            self.anchors.insert(anchor, (node.clone(), size));
        }
    }

    fn put(&mut self, node: Node) -> Result<(), ReadError> {
        match self.open.last_mut() {
            None => self.root = Some(node),
            Some(Open::List(_, _, items)) => items.push(node),
            Some(Open::Map(_, _, members, key)) => match key.take() {
                Some((key, at)) => members.put(key, at, node, &mut self.borne),
                None => return Err(fail(node.at, "a mapping's key must be a plain text")),
            },
        }
        Ok(())
    }

    /// A mapping with what its merge key `<<` brings; its own members stand before those.
    fn merged(&mut self, at: Position, members: Members) -> Node {
        let Members { mut done, .. } = members;
        if let Some(i) = done.iter().position(|(key, ..)| key == "<<") {
            let (_, _, from) = done.remove(i);
            let sources = match &from.kind {
                NodeKind::List(items) => items.as_slice(),
                _ => std::slice::from_ref(&from),
            };
            let mut known: HashMap<String, ()> = HashMap::new();
            known.extend(done.iter().map(|(key, ..)| (key.clone(), ())));
            for (key, key_at, value) in sources.iter().flat_map(Node::entries) {
                if known.insert(key.clone(), ()).is_none() {
                    done.push((key.clone(), *key_at, value.clone()));
                }
            }
        }
        let kind = NodeKind::Map(done.into());
        Node { at, kind }
    }
}

/// How many values a node holds, itself among them.
pub(crate) fn size_of(node: &Node) -> usize {
    1 + match &node.kind {
        NodeKind::Scalar(_) => 0,
        NodeKind::List(items) => items.iter().map(size_of).sum(),
        NodeKind::Map(entries) => entries.iter().map(|(.., value)| 1 + size_of(value)).sum(),
    }
}

fn depth_of(node: &Node) -> usize {
    let below = match &node.kind {
        NodeKind::Scalar(_) => return 0,
        NodeKind::List(items) => items.iter().map(depth_of).max(),
        NodeKind::Map(entries) => entries.iter().map(|(.., value)| depth_of(value)).max(),
    };
    1 + below.unwrap_or_default()
}

#[cfg(test)]
mod tests;
