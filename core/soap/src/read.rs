//! SOAP → JSON: answers, from bytes to bytes.
//!
//! [`AnswerReader`] is fed the answer in pieces of any size and appends JSON as it goes. It is strict where exactness
//! is at stake (a text that its type rules out, an element that is cut off) and tolerant where the meaning is clear
//! (an element nobody declared, a missing one); what it tolerated is kept in [`AnswerReader::notes`].

use std::sync::Arc;

use crate::plan::{Member, ObjectPlan, Plan, TypeId, TypePlan};
use crate::simple::{Simple, push_json_string};
use crate::xml::{SOAP_11, SOAP_12, Scanner, Token, XSI, XmlError, push_text};

/// What an answer may hold.
#[derive(Debug)]
pub struct AnswerPlan {
    /// The types.
    pub plan: Arc<Plan>,
    /// Element of the body, if the operation answers at all.
    pub output: Option<Member>,
    /// Declared faults.
    pub faults: Vec<(String, Member)>,
}

/// What an answer was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The declared answer; its JSON was written.
    Body,
    /// An envelope with an empty body.
    Empty,
    /// A fault; the JSON of its declared detail, if it had one, was written.
    Fault(Fault),
}

/// A SOAP fault (SOAP 1.1 §4.4, SOAP 1.2 part 1 §5.4).
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Fault {
    /// Local part of the code: `Client`, `Server`, `Sender`, `Receiver` …
    pub code: String,
    /// Local part of the innermost subcode.
    pub subcode: String,
    /// The text for people.
    pub reason: String,
    /// Local name of the declared detail element.
    pub detail: Option<String>,
}

impl Fault {
    /// Whether the fault says that the request was wrong, not the server.
    pub fn is_callers(&self) -> bool {
        matches!(self.code.split('.').next(), Some("Client" | "Sender"))
    }
}

/// Why an answer could not be understood.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AnswerError {
    /// Not well-formed.
    #[error("the answer is not well-formed XML: {0}")]
    Xml(#[from] XmlError),
    /// Not UTF-8.
    #[error("the answer is not UTF-8")]
    Encoding,
    /// Well-formed, but no envelope.
    #[error("the answer is no SOAP envelope: it begins with <{0}>")]
    NoEnvelope(String),
    /// An envelope with the wrong element in its body.
    #[error("the answer's body holds <{0}>, not <{1}>")]
    OtherElement(String, String),
    /// A text that its type rules out.
    #[error("{0}: {1}")]
    Value(String, String),
}

enum Frame {
    Envelope,
    Body,
    Skip,
    Nil,
    Simple { of: Slot },
    Object(ObjectFrame),
    List { item: Slot, any: bool },
    FaultRoot,
    FaultGroup { sub: bool },
    FaultText(FaultField),
    FaultDetail,
}

struct ObjectFrame {
    type_id: TypeId,
    seen_from: usize,
    next: usize,
    open_array: bool,
    any: bool,
}

/// A member, found again by index.
#[derive(Clone, Copy)]
enum Slot {
    Root,
    Fault(usize),
    Of(TypeId, usize),
    ItemOf(TypeId, usize),
}

#[derive(Clone, Copy)]
enum FaultField {
    Code,
    Subcode,
    Reason,
}

/// Reads one answer.
pub struct AnswerReader {
    plan: Arc<AnswerPlan>,
    scanner: Scanner,
    rest: Vec<u8>,
    frames: Vec<Frame>,
    seen: Vec<bool>,
    text: String,
    fault: Option<Fault>,
    body_seen: bool,
    envelope_seen: bool,
    /// What was tolerated.
    pub notes: Vec<String>,
}

impl AnswerReader {
    /// A reader for one answer.
    pub fn new(plan: Arc<AnswerPlan>) -> Self {
        Self {
            plan,
            scanner: Scanner::new(),
            rest: Vec::new(),
            frames: Vec::with_capacity(8),
            seen: Vec::with_capacity(32),
            text: String::new(),
            fault: None,
            body_seen: false,
            envelope_seen: false,
            notes: Vec::new(),
        }
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
            Some(fault) => Answer::Fault(fault),
            None if self.body_seen => Answer::Body,
            None => Answer::Empty,
        })
    }

    fn advance(&mut self, bytes: &[u8], out: &mut Vec<u8>, last: bool) -> Result<(), AnswerError> {
        let joined;
        let all = if self.rest.is_empty() {
            bytes
        } else {
            let mut rest = std::mem::take(&mut self.rest);
            rest.extend_from_slice(bytes);
            joined = rest;
            &joined[..]
        };
        let text = match std::str::from_utf8(all) {
            Ok(text) => text,
            Err(e) if e.error_len().is_none() && !last => std::str::from_utf8(&all[..e.valid_up_to()]).map_err(|_| AnswerError::Encoding)?,
            Err(_) => return Err(AnswerError::Encoding),
        };
        let plan = Arc::clone(&self.plan);
        loop {
            match self.scanner.next(text, last)? {
                Token::Start { prefix, local, empty } => {
                    self.start(&plan, text, prefix, local, out)?;
                    if empty {
                        self.end(&plan, out)?;
                    }
                }
                Token::End => self.end(&plan, out)?,
                Token::Text { text, raw } => self.characters(&plan, text, raw)?,
                Token::More | Token::Eof => break,
            }
        }
        let used = self.scanner.consumed();
        self.scanner.rebase();
        self.rest = all[used..].to_vec();
        Ok(())
    }

    fn characters(&mut self, plan: &AnswerPlan, text: &str, raw: bool) -> Result<(), AnswerError> {
        let wanted = match self.frames.last() {
            Some(Frame::Simple { .. } | Frame::FaultText(_)) => true,
            Some(Frame::Object(o)) => {
                matches!(plan.plan.get(o.type_id), TypePlan::Object(p) if p.text.is_some())
            }
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
        result.map_err(|message| AnswerError::Xml(XmlError { message, offset: 0 }))
    }

    fn namespace_is(&self, prefix: &str, uri: &str) -> bool {
        self.scanner.resolve(prefix).unwrap_or("") == uri
    }

    fn start(&mut self, plan: &Arc<AnswerPlan>, text: &str, prefix: &str, local: &str, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        match self.frames.last() {
            None => {
                let soap = self.namespace_is(prefix, SOAP_11) || self.namespace_is(prefix, SOAP_12);
                if local != "Envelope" || !soap {
                    return Err(AnswerError::NoEnvelope(local.to_owned()));
                }
                self.envelope_seen = true;
                self.frames.push(Frame::Envelope);
            }
            Some(Frame::Envelope) => self.frames.push(if local == "Body" { Frame::Body } else { Frame::Skip }),
            Some(Frame::Body) => self.body_child(plan, text, prefix, local, out)?,
            Some(Frame::Object(_)) => self.child(plan, text, prefix, local, out)?,
            Some(Frame::List { item, any }) => {
                let (slot, any) = (*item, *any);
                let member = self.member(plan, slot);
                if member.local != local {
                    self.note(format!("<{local}> among <{}> elements was passed by", member.local));
                    self.frames.push(Frame::Skip);
                    return Ok(());
                }
                if any {
                    out.push(b',');
                }
                if let Some(Frame::List { any, .. }) = self.frames.last_mut() {
                    *any = true;
                }
                self.value(plan, text, slot, out)?;
            }
            Some(Frame::Skip | Frame::Nil | Frame::FaultText(_)) => self.frames.push(Frame::Skip),
            Some(Frame::Simple { .. }) => {
                self.note(format!("<{local}> inside an element that only holds text was passed by"));
                self.frames.push(Frame::Skip);
            }
            Some(Frame::FaultRoot) => {
                let frame = match local {
                    "faultcode" => Frame::FaultText(FaultField::Code),
                    "faultstring" => Frame::FaultText(FaultField::Reason),
                    "Code" | "Reason" => Frame::FaultGroup { sub: false },
                    "detail" | "Detail" => Frame::FaultDetail,
                    _ => Frame::Skip,
                };
                self.text.clear();
                self.frames.push(frame);
            }
            Some(Frame::FaultGroup { sub }) => {
                let frame = match (local, sub) {
                    ("Value", false) => Frame::FaultText(FaultField::Code),
                    ("Value", true) => Frame::FaultText(FaultField::Subcode),
                    ("Text", _) => Frame::FaultText(FaultField::Reason),
                    ("Subcode", _) => Frame::FaultGroup { sub: true },
                    _ => Frame::Skip,
                };
                self.text.clear();
                self.frames.push(frame);
            }
            Some(Frame::FaultDetail) => {
                let free = self.fault.as_ref().is_some_and(|f| f.detail.is_none());
                let found = plan.faults.iter().position(|(_, m)| m.local == local && self.namespace_is(prefix, &plan.plan.namespaces[m.namespace as usize]));
                match found.filter(|_| free) {
                    Some(i) => {
                        if let Some(fault) = &mut self.fault {
                            fault.detail = Some(local.to_owned());
                        }
                        self.value(plan, text, Slot::Fault(i), out)?;
                    }
                    None => {
                        self.note(format!("the fault's detail <{local}> is not declared and was passed by"));
                        self.frames.push(Frame::Skip);
                    }
                }
            }
        }
        Ok(())
    }

    fn body_child(&mut self, plan: &Arc<AnswerPlan>, text: &str, prefix: &str, local: &str, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        if self.body_seen || self.fault.is_some() {
            self.note(format!("a further <{local}> in the body was passed by"));
            self.frames.push(Frame::Skip);
        } else if local == "Fault" && (self.namespace_is(prefix, SOAP_11) || self.namespace_is(prefix, SOAP_12)) {
            self.fault = Some(Fault::default());
            self.frames.push(Frame::FaultRoot);
        } else {
            let expected = plan.output.as_ref();
            match expected {
                Some(member) if member.local == local => {
                    if !self.namespace_is(prefix, &plan.plan.namespaces[member.namespace as usize]) {
                        self.note(format!("<{local}> has another namespace than declared"));
                    }
                    self.body_seen = true;
                    self.value(plan, text, Slot::Root, out)?;
                }
                _ => {
                    let wanted = expected.map_or_else(|| "nothing".to_owned(), |m| m.local.clone());
                    return Err(AnswerError::OtherElement(local.to_owned(), wanted));
                }
            }
        }
        Ok(())
    }

    fn member<'p>(&self, plan: &'p AnswerPlan, slot: Slot) -> &'p Member {
        let of = |id: TypeId, i: usize| match plan.plan.get(id) {
            TypePlan::Object(object) => &object.members[i],
            TypePlan::Simple(_) => unreachable!("slots name members of objects"),
        };
        let items = |m: &'p Member| m.items.as_deref().unwrap_or(m);
        match slot {
            Slot::Root => plan.output.as_ref().unwrap_or_else(|| unreachable!("a root slot needs an output")),
            Slot::Fault(i) => &plan.faults[i].1,
            Slot::Of(id, i) => of(id, i),
            Slot::ItemOf(id, i) => items(of(id, i)),
        }
    }

    /// The child of an object: finds its member, writes its name, begins its value.
    fn child(&mut self, plan: &Arc<AnswerPlan>, text: &str, prefix: &str, local: &str, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        let Some(Frame::Object(frame)) = self.frames.last() else {
            return Ok(());
        };
        let (type_id, next) = (frame.type_id, frame.next);
        let TypePlan::Object(object) = plan.plan.get(type_id) else {
            return Ok(());
        };
        let members = &object.members;
        let uri = self.scanner.resolve(prefix).unwrap_or("");
        let exact = |m: &Member| !m.attribute && m.local == local && plan.plan.namespaces[m.namespace as usize] == uri;
        let around = (next..members.len()).chain(0..next.min(members.len()));
        let (index, strict) = match around.clone().find(|i| exact(&members[*i])) {
            Some(i) => (i, true),
            None => match around.clone().find(|i| !members[*i].attribute && members[*i].local == local) {
                Some(i) => (i, false),
                None => {
                    if !object.open {
                        self.note(format!("<{local}> is not declared in {} and was passed by", object.name));
                    }
                    self.frames.push(Frame::Skip);
                    return Ok(());
                }
            },
        };
        if !strict {
            self.note(format!("<{local}> has another namespace than declared"));
        }
        let Some(Frame::Object(frame)) = self.frames.last_mut() else {
            return Ok(());
        };
        let member = &members[index];
        let seen = &mut self.seen[frame.seen_from + index];
        if frame.open_array && frame.next == index {
            out.push(b',');
        } else {
            if std::mem::take(&mut frame.open_array) {
                out.push(b']');
            }
            if std::mem::replace(seen, true) {
                if member.many {
                    return Err(AnswerError::Value(format!("{}/{}", object.name, member.local), "the elements of this list do not stand together".into()));
                }
                self.note(format!("a second <{local}> in {} was passed by", object.name));
                self.frames.push(Frame::Skip);
                return Ok(());
            }
            if std::mem::replace(&mut frame.any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            if member.many {
                out.push(b'[');
                frame.open_array = true;
            }
            frame.next = index;
        }
        self.value(plan, text, Slot::Of(type_id, index), out)
    }

    /// Begins the value of an element just started.
    fn value(&mut self, plan: &Arc<AnswerPlan>, text: &str, slot: Slot, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        let member = self.member(plan, slot);
        let nil = self.scanner.attributes(text).any(|a| {
            let (prefix, name) = a.name.split_once(':').unwrap_or(("", a.name));
            name == "nil" && self.scanner.resolve(prefix) == Some(XSI) && matches!(a.value.trim(), "true" | "1")
        });
        if nil {
            if !member.nillable {
                self.note(format!("<{}> is nil although it may not be", member.local));
            }
            out.extend_from_slice(b"null");
            self.frames.push(Frame::Nil);
            return Ok(());
        }
        if member.items.is_some() {
            // The body's own element keeps its shape even when it only holds a list.
            if let Slot::Of(id, i) = slot {
                out.push(b'[');
                self.frames.push(Frame::List { item: Slot::ItemOf(id, i), any: false });
                return Ok(());
            }
        }
        match plan.plan.get(member.type_id) {
            TypePlan::Simple(_) => {
                self.text.clear();
                self.frames.push(Frame::Simple { of: slot });
            }
            TypePlan::Object(object) => {
                out.push(b'{');
                self.text.clear();
                let seen_from = self.seen.len();
                self.seen.resize(seen_from + object.members.len(), false);
                let any = self.attributes(plan, object, text, seen_from, out)?;
                self.frames.push(Frame::Object(ObjectFrame { type_id: member.type_id, seen_from, next: 0, open_array: false, any }));
            }
        }
        Ok(())
    }

    fn attributes(&mut self, plan: &AnswerPlan, object: &ObjectPlan, text: &str, seen_from: usize, out: &mut Vec<u8>) -> Result<bool, AnswerError> {
        let mut any = false;
        if !object.members.last().is_some_and(|m| m.attribute) {
            return Ok(any);
        }
        for attribute in self.scanner.attributes(text) {
            let (prefix, name) = attribute.name.split_once(':').unwrap_or(("", attribute.name));
            let uri = if prefix.is_empty() { "" } else { self.scanner.resolve(prefix).unwrap_or("") };
            let found = object.members.iter().position(|m| m.attribute && m.local == name && plan.plan.namespaces[m.namespace as usize] == uri);
            let Some(index) = found else { continue };
            let member = &object.members[index];
            let TypePlan::Simple(simple) = plan.plan.get(member.type_id) else {
                continue;
            };
            let mut value = String::new();
            push_text(&mut value, attribute.value).map_err(|message| AnswerError::Xml(XmlError { message, offset: 0 }))?;
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            simple.to_json(out, &value).map_err(|e| AnswerError::Value(format!("{}/{}", object.name, member.local), e))?;
            self.seen[seen_from + index] = true;
        }
        Ok(any)
    }

    fn end(&mut self, plan: &Arc<AnswerPlan>, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        match self.frames.pop() {
            Some(Frame::Simple { of }) => {
                let member = self.member(plan, of);
                if let TypePlan::Simple(simple) = plan.plan.get(member.type_id) {
                    let text = match &member.default {
                        Some(default) if self.text.is_empty() => default.as_str(),
                        _ => self.text.as_str(),
                    };
                    simple.to_json(out, text).map_err(|e| AnswerError::Value(member.local.clone(), e))?;
                }
            }
            Some(Frame::Object(frame)) => self.end_object(plan, frame, out)?,
            Some(Frame::List { .. }) => out.push(b']'),
            Some(Frame::FaultText(field)) => {
                let text = self.text.trim();
                let local = text.rsplit(':').next().unwrap_or(text);
                if let Some(fault) = &mut self.fault {
                    match field {
                        FaultField::Code => fault.code = local.to_owned(),
                        FaultField::Subcode => fault.subcode = local.to_owned(),
                        FaultField::Reason if fault.reason.is_empty() => fault.reason = text.to_owned(),
                        FaultField::Reason => {}
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn end_object(&mut self, plan: &AnswerPlan, mut frame: ObjectFrame, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        let TypePlan::Object(object) = plan.plan.get(frame.type_id) else {
            return Ok(());
        };
        if frame.open_array {
            out.push(b']');
        }
        let mut comma = |out: &mut Vec<u8>| {
            if std::mem::replace(&mut frame.any, true) {
                out.push(b',');
            }
        };
        for (i, member) in object.members.iter().enumerate() {
            if self.seen[frame.seen_from + i] {
                continue;
            }
            if member.many {
                comma(out);
                out.extend_from_slice(&member.json_key);
                out.extend_from_slice(b"[]");
            } else if member.attribute && member.default.is_some() {
                if let (TypePlan::Simple(simple), Some(default)) = (plan.plan.get(member.type_id), &member.default) {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    default_json(simple, out, default);
                }
            } else if member.required() {
                let message = format!("{} lacks <{}>", object.name, member.local);
                if self.notes.len() < MAX_NOTES && !self.notes.contains(&message) {
                    self.notes.push(message);
                }
            }
        }
        if let Some((name, simple)) = &object.text {
            comma(out);
            push_json_string(out, name);
            out.push(b':');
            simple.to_json(out, &self.text).map_err(|e| AnswerError::Value(object.name.clone(), e))?;
        }
        out.push(b'}');
        self.seen.truncate(frame.seen_from);
        Ok(())
    }

    fn note(&mut self, message: String) {
        if self.notes.len() < MAX_NOTES && !self.notes.contains(&message) {
            self.notes.push(message);
        }
    }
}

const MAX_NOTES: usize = 20;

fn default_json(simple: &Simple, out: &mut Vec<u8>, default: &str) {
    let at = out.len();
    if simple.to_json(out, default).is_err() {
        out.truncate(at);
        push_json_string(out, default);
    }
}
