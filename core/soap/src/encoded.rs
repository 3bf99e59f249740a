//! References of SOAP's encoding (SOAP 1.1 §5.4.1, SOAP 1.2 part 2 §3.1.5): a value may stand once beside the answer and be
//! referred to by `href` and `id`. Here each reference is replaced by what it means, so that the reader sees plain elements.

mod natural;

use std::collections::HashMap;

use roxmltree::{Document, Node, NodeId, ParsingOptions};

pub(crate) use self::natural::{item_type, natural, tells_itself};
use crate::read::AnswerError;
use crate::xml::{ENCODING_12, Scanner, Token, XmlError, escape_attribute, escape_text};

/// What a document may grow to by its references.
const MAX_BYTES: usize = 64 << 20;
const MAX_DEPTH: usize = 256;

/// The envelope with every reference replaced; `None` when it has none.
///
/// # Errors
/// What is not well-formed, a reference that runs in a circle, or growth beyond all bounds.
pub fn inline(text: &str) -> Result<Option<String>, AnswerError> {
    if !text.contains("href=") && !text.contains(":ref=") && !text.contains(" ref=") {
        return Ok(None);
    }
    // The scanner bounds depth and refuses what the parser would accept.
    let mut scanner = Scanner::new();
    loop {
        match scanner.next(text, true)? {
            Token::Eof | Token::More => break,
            _ => {}
        }
    }
    let options = ParsingOptions {
        allow_dtd: false,
        ..ParsingOptions::default()
    };
    let document = Document::parse_with_options(text, options).map_err(|e| XmlError {
        message: e.to_string(),
        offset: 0,
    })?;
    let mut targets = HashMap::new();
    for node in document.descendants().filter(Node::is_element) {
        if let Some(id) = node.attribute("id").or(node.attribute((ENCODING_12, "id"))) {
            targets.entry(id).or_insert(node);
        }
    }
    let mut inliner = Inliner {
        targets,
        out: Vec::with_capacity(text.len()),
        open: Vec::new(),
        roots: 0,
    };
    inliner.element(document.root_element(), None)?;
    String::from_utf8(inliner.out)
        .map(Some)
        .map_err(|_| AnswerError::Encoding(crate::NotEncoded("UTF-8")))
}

struct Inliner<'a, 'i> {
    targets: HashMap<&'a str, Node<'a, 'i>>,
    out: Vec<u8>,
    /// The references being replaced.
    open: Vec<NodeId>,
    roots: usize,
}

fn reference<'a>(node: Node<'a, '_>) -> Option<&'a str> {
    node.attribute("href")
        .or(node.attribute((ENCODING_12, "ref")))?
        .strip_prefix('#')
}

impl<'a, 'i> Inliner<'a, 'i> {
    /// What a reference stands for, in its place.
    fn referred(
        &mut self,
        node: Node<'a, 'i>,
        named: Option<Node<'a, 'i>>,
        target: &str,
    ) -> Result<(), AnswerError> {
        let Some(found) = self.targets.get(target).copied() else {
            return Err(AnswerError::Value(
                node.tag_name().name().to_owned(),
                format!("refers to “{target}”, which is not there"),
            ));
        };
        if self.open.contains(&found.id()) || self.open.len() > MAX_DEPTH {
            return Err(AnswerError::Value(
                node.tag_name().name().to_owned(),
                format!(
                    "refers to “{target}”, which refers back to it: JSON has no way to say that"
                ),
            ));
        }
        self.open.push(found.id());
        self.element(found, Some(named.unwrap_or(node)))?;
        self.open.pop();
        Ok(())
    }

    fn element(
        &mut self,
        node: Node<'a, 'i>,
        named: Option<Node<'a, 'i>>,
    ) -> Result<(), AnswerError> {
        if self.out.len() > MAX_BYTES {
            return Err(AnswerError::Value(
                "the answer".into(),
                format!("its references make it larger than {MAX_BYTES} bytes"),
            ));
        }
        if let Some(target) = reference(node) {
            return self.referred(node, named, target);
        }
        // The element's own name is that of the reference.
        let name = named.unwrap_or(node).tag_name();
        let tag = match name.namespace() {
            None => name.name().to_owned(),
            Some(_) => format!("elm:{}", name.name()),
        };
        self.out.push(b'<');
        self.out.extend_from_slice(tag.as_bytes());
        if let Some(uri) = name.namespace() {
            self.declare("elm", uri);
        }
        self.start_tag(node, named.is_some());
        self.out.push(b'>');
        self.children(node)?;
        self.out.extend_from_slice(b"</");
        self.out.extend_from_slice(tag.as_bytes());
        self.out.push(b'>');
        Ok(())
    }

    /// The namespaces and attributes of an element; `moved` when it stands where it was referred to.
    fn start_tag(&mut self, node: Node<'a, 'i>, moved: bool) {
        let new_scope = moved
            || node.parent_element().is_none_or(|p| {
                p.namespaces().len() != node.namespaces().len()
                    || p.namespaces().zip(node.namespaces()).any(|(a, b)| a != b)
            });
        if new_scope {
            for namespace in node.namespaces() {
                // Elements name their namespaces by a prefix of ours, so that a default one would only be in the way.
                if let Some(prefix) = namespace.name().filter(|p| *p != "xml" && *p != "elm") {
                    self.declare(prefix, namespace.uri());
                }
            }
        }
        for attribute in node.attributes() {
            if matches!(attribute.name(), "id" | "root") {
                continue;
            }
            let prefix = match attribute.namespace() {
                None => String::new(),
                Some(uri) => match node.lookup_prefix(uri) {
                    Some(prefix) if !prefix.is_empty() => format!("{prefix}:"),
                    _ => continue,
                },
            };
            self.out
                .extend_from_slice(format!(" {prefix}{}=\"", attribute.name()).as_bytes());
            let _ = escape_attribute(&mut self.out, attribute.value());
            self.out.push(b'"');
        }
    }

    fn children(&mut self, node: Node<'a, 'i>) -> Result<(), AnswerError> {
        let parent = node.parent_element();
        let body = node.tag_name().name() == "Body"
            && parent.is_some_and(|p| p.parent_element().is_none());
        for child in node.children() {
            if child.is_text() {
                let _ = escape_text(&mut self.out, child.text().unwrap_or_default());
            } else if child.is_element() {
                // What stands beside the answer only serves to be referred to.
                let named = child
                    .attribute("id")
                    .or(child.attribute((ENCODING_12, "id")));
                if body && std::mem::replace(&mut self.roots, 1) > 0 && named.is_some() {
                    continue;
                }
                self.element(child, None)?;
            }
        }
        Ok(())
    }

    fn declare(&mut self, prefix: &str, uri: &str) {
        self.out
            .extend_from_slice(format!(" xmlns:{prefix}=\"").as_bytes());
        let _ = escape_attribute(&mut self.out, uri);
        self.out.push(b'"');
    }
}
