//! The reader: one frame for each open element that matters.

mod attributes;
mod ends;
mod members;
mod runs;
mod starts;
mod values;

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use super::{Answer, AnswerError, AnswerPlan, Fault};
use crate::decode::Decoder;
use crate::generic::{GenericBuilder, Mapping};
use crate::plan::{Member, MemberKind, ObjectPlan, TYPE_MEMBER, TypeId, TypePlan};
use crate::simple::{Base, Simple, push_json_string, to_base64};
use crate::xml::{
    SOAP_11, SOAP_12, Scanner, Token, XML, is_xsd, is_xsi, push_attribute, push_text,
};

/// Namespace of `xop:Include` (XML-binary Optimized Packaging §2.1).
const XOP: &str = "http://www.w3.org/2004/08/xop/include";

/// An element that begins: its tag's text, and its name.
#[derive(Clone, Copy)]
struct Tag<'t> {
    text: &'t str,
    prefix: &'t str,
    local: &'t str,
}

enum Frame {
    Envelope,
    Header,
    Body,
    Skip,
    Nil,
    Simple {
        of: Slot,
        simple: SimpleOf,
        close: bool,
    },
    Object(ObjectFrame),
    List {
        item: Slot,
        any: bool,
        named: bool,
        /// How what its items hold is written, as far as that is known.
        written: Option<runs::Written>,
        /// The type of its items, where that is said of the whole.
        of: Option<Rc<TypeOf>>,
    },
    Generic {
        builder: Box<GenericBuilder>,
        depth: usize,
        named: bool,
    },
    FaultRoot,
    FaultGroup {
        sub: bool,
    },
    FaultText(FaultField),
    FaultDetail,
}

/// Namespace and name of a type.
type TypeOf = (String, String);

enum SimpleOf {
    Type(TypeId),
    Own(Box<Simple>),
}

struct ObjectFrame {
    type_id: TypeId,
    seen_from: usize,
    next: usize,
    open_array: bool,
    any: bool,
    /// A group, or a body of several parts: it has no element of its own.
    bare: bool,
    /// How its children are written, as far as that is known.
    written: Option<runs::Written>,
    /// When gathering: the values of each member so far, and the member whose value is being read with its beginning.
    gathered: Vec<Vec<u8>>,
    reading: Option<(usize, usize)>,
}

/// A member, found again by index.
#[derive(Clone, Copy)]
enum Slot {
    Root,
    Fault(usize),
    Header(usize),
    Of(TypeId, usize),
    ItemOf(TypeId, usize),
    ListItem(TypeId),
}

#[derive(Clone, Copy)]
enum FaultField {
    Code,
    Subcode,
    Reason,
    Actor,
}

/// Reads one answer.
pub struct AnswerReader {
    plan: Arc<AnswerPlan>,
    decoder: Decoder,
    scanner: Scanner,
    rest: String,
    frames: Vec<Frame>,
    seen: Vec<bool>,
    text: String,
    language: String,
    fault: Option<Fault>,
    body_seen: bool,
    gather: bool,
    headers: Vec<u8>,
    in_header: bool,
    attachments: HashMap<String, Vec<u8>>,
    /// What was tolerated.
    pub notes: Vec<String>,
}

impl AnswerReader {
    /// A reader for one answer.
    pub fn new(plan: Arc<AnswerPlan>) -> Self {
        Self {
            plan,
            decoder: Decoder::new(None),
            scanner: Scanner::new(),
            rest: String::new(),
            frames: Vec::with_capacity(8),
            seen: Vec::with_capacity(32),
            text: String::new(),
            language: String::new(),
            fault: None,
            body_seen: false,
            gather: false,
            headers: Vec::new(),
            in_header: false,
            attachments: HashMap::new(),
            notes: Vec::new(),
        }
    }

    /// The same, putting lists together whose elements stand apart; nothing it wrote may be let go before the end.
    pub fn gathering(mut self) -> Self {
        self.gather = true;
        self
    }

    /// The same for an answer whose media type names a character encoding, which comes before all others (RFC 7303 §3).
    pub fn charset(mut self, name: Option<&str>) -> Self {
        self.decoder = Decoder::new(name);
        self
    }

    /// The same with the parts that the answer's attachments are, by content id.
    pub fn attachments(mut self, parts: HashMap<String, Vec<u8>>) -> Self {
        self.attachments = parts;
        self
    }

    /// Takes the next piece of the answer and appends the JSON that follows from it.
    ///
    /// # Errors
    /// See [`AnswerError`].
    pub fn feed(&mut self, bytes: &[u8], out: &mut Vec<u8>) -> Result<(), AnswerError> {
        self.advance(bytes, out, false)
    }

    /// Tells that the answer is complete.
    ///
    /// # Errors
    /// See [`AnswerError`]; also when the document is cut off.
    pub fn finish(&mut self, out: &mut Vec<u8>) -> Result<Answer, AnswerError> {
        self.advance(&[], out, true)?;
        Ok(match self.fault.take() {
            Some(mut fault) => {
                choose_reason(&mut fault);
                Answer::Fault(fault)
            }
            None if self.body_seen => Answer::Body,
            None => Answer::Empty,
        })
    }

    /// The declared header elements of the answer as a JSON object, when it had any.
    pub fn headers(&self) -> Option<Vec<u8>> {
        (!self.headers.is_empty()).then(|| [b"{", &self.headers[..], b"}"].concat())
    }

    /// Whether the answer has turned out not to be a fault.
    pub fn is_body(&self) -> bool {
        self.body_seen && self.fault.is_none()
    }

    fn advance(&mut self, bytes: &[u8], out: &mut Vec<u8>, last: bool) -> Result<(), AnswerError> {
        let decoded = self.decoder.decode(bytes, last)?;
        let joined;
        let text: &str = if self.rest.is_empty() {
            &decoded
        } else {
            let mut rest = std::mem::take(&mut self.rest);
            rest.push_str(&decoded);
            joined = rest;
            &joined
        };
        let plan = Arc::clone(&self.plan);
        let mut headers = std::mem::take(&mut self.headers);
        let result = self.tokens(&plan, text, out, &mut headers, last);
        self.headers = headers;
        result?;
        let used = self.scanner.consumed();
        self.scanner.rebase();
        if used < text.len() {
            self.rest = text[used..].to_owned();
        }
        Ok(())
    }

    fn tokens(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        out: &mut Vec<u8>,
        headers: &mut Vec<u8>,
        last: bool,
    ) -> Result<(), AnswerError> {
        loop {
            let target = if self.in_header {
                &mut *headers
            } else {
                &mut *out
            };
            self.run(plan, text, target)?;
            match self.scanner.next(text, last)? {
                Token::Start {
                    prefix,
                    local,
                    empty,
                } => {
                    // What a header element writes is kept apart.
                    let target = if self.in_header {
                        &mut *headers
                    } else {
                        &mut *out
                    };
                    let tag = Tag {
                        text,
                        prefix,
                        local,
                    };
                    self.start(plan, tag, target)?;
                    if empty {
                        let target = if self.in_header {
                            &mut *headers
                        } else {
                            &mut *out
                        };
                        self.end(plan, target)?;
                    }
                }
                Token::End => {
                    let target = if self.in_header {
                        &mut *headers
                    } else {
                        &mut *out
                    };
                    self.end(plan, target)?;
                }
                Token::Text { text, raw } => self.characters(plan, text, raw)?,
                Token::More | Token::Eof => return Ok(()),
            }
        }
    }

    fn characters(&mut self, plan: &AnswerPlan, text: &str, raw: bool) -> Result<(), AnswerError> {
        let wanted = match self.frames.last_mut() {
            Some(Frame::Simple { .. } | Frame::FaultText(_)) => true,
            Some(Frame::Object(o)) => {
                matches!(plan.plan.get(o.type_id), TypePlan::Object(p) if p.text.is_some())
            }
            Some(Frame::Generic { builder, .. }) => return Ok(builder.text(text, raw)?),
            _ => false,
        };
        if !raw {
            if wanted {
                self.text.push_str(text);
            }
            return Ok(());
        }
        let at = self.text.len();
        let result = push_text(&mut self.text, text);
        if !wanted {
            // Even text that nobody wants must be well-formed.
            self.text.truncate(at);
        }
        result.map_err(|wrong| AnswerError::Xml(wrong.into()))
    }

    fn namespace_is(&self, prefix: &str, uri: &str) -> bool {
        self.scanner.resolve(prefix).unwrap_or("") == uri
    }

    fn is_envelope(&self, prefix: &str) -> bool {
        self.namespace_is(prefix, SOAP_11) || self.namespace_is(prefix, SOAP_12)
    }

    fn note(&mut self, message: String) {
        if self.notes.len() < MAX_NOTES && !self.notes.contains(&message) {
            self.notes.push(message);
        }
    }
}

const MAX_NOTES: usize = 20;

fn choose_reason(fault: &mut Fault) {
    let english = fault
        .reasons
        .iter()
        .find(|(l, _)| l.get(..2).is_some_and(|l| l.eq_ignore_ascii_case("en")));
    if let Some((_, text)) = english.or(fault.reasons.first()) {
        fault.reason = text.clone();
    }
    if fault.reasons.len() < 2 {
        fault.reasons.clear();
    }
}

fn percent_decoded(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        let pair = (bytes[i] == b'%')
            .then(|| text.get(i + 1..i + 3))
            .flatten()
            .and_then(|h| u8::from_str_radix(h, 16).ok());
        out.push(pair.unwrap_or(bytes[i]));
        i += if pair.is_some() { 3 } else { 1 };
    }
    String::from_utf8_lossy(&out).into_owned()
}

fn default_json(simple: &Simple, out: &mut Vec<u8>, default: &str) {
    let at = out.len();
    if simple.to_json(out, default).is_err() {
        out.truncate(at);
        push_json_string(out, default);
    }
}
