//! The reader: one frame for each open element that matters.

use std::collections::HashMap;
use std::sync::Arc;

use super::{Answer, AnswerError, AnswerPlan, Fault};
use crate::decode::Decoder;
use crate::generic::{Builder, Mapping};
use crate::plan::{Member, MemberKind, ObjectPlan, TYPE_MEMBER, TypeId, TypePlan};
use crate::simple::{Base, Simple, push_json_string, to_base64};
use crate::xml::{
    SOAP_11, SOAP_12, Scanner, Token, XML, XmlError, is_xsd, is_xsi, push_attribute, push_text,
};

/// Namespace of `xop:Include` (XML-binary Optimized Packaging §2.1).
const XOP: &str = "http://www.w3.org/2004/08/xop/include";

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
    },
    Generic {
        builder: Box<Builder>,
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
        let decoded = self
            .decoder
            .decode(bytes, last)
            .map_err(AnswerError::Encoding)?;
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
                    self.start(plan, text, prefix, local, target)?;
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
        result.map_err(|message| AnswerError::Xml(XmlError { message, offset: 0 }))
    }

    fn namespace_is(&self, prefix: &str, uri: &str) -> bool {
        self.scanner.resolve(prefix).unwrap_or("") == uri
    }

    fn is_envelope(&self, prefix: &str) -> bool {
        self.namespace_is(prefix, SOAP_11) || self.namespace_is(prefix, SOAP_12)
    }

    fn start(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        match self.frames.last_mut() {
            None => {
                if local != "Envelope" || !self.is_envelope(prefix) {
                    return Err(AnswerError::NoEnvelope(local.to_owned()));
                }
                self.frames.push(Frame::Envelope);
            }
            Some(Frame::Envelope) => {
                let frame = match local {
                    "Body" => Frame::Body,
                    "Header" if !plan.headers.is_empty() => {
                        self.in_header = true;
                        Frame::Header
                    }
                    _ => Frame::Skip,
                };
                self.frames.push(frame);
            }
            Some(Frame::Header) => match plan.headers.iter().position(|m| m.local == local) {
                Some(i) => self.header(plan, text, i, out)?,
                None => self.frames.push(Frame::Skip),
            },
            Some(Frame::Body) => self.body_child(plan, text, prefix, local, out)?,
            Some(Frame::Object(_)) => self.child(plan, text, prefix, local, out)?,
            Some(Frame::List { item, any, named }) => {
                let (slot, comma, named) = (*item, *any, *named);
                let member = self.member(plan, slot);
                if named && member.local != local {
                    self.note(format!(
                        "<{local}> among <{}> elements was passed by",
                        member.local
                    ));
                    self.frames.push(Frame::Skip);
                    return Ok(());
                }
                if comma {
                    out.push(b',');
                }
                if let Some(Frame::List { any, .. }) = self.frames.last_mut() {
                    *any = true;
                }
                self.value(plan, text, prefix, local, slot, out)?;
            }
            Some(Frame::Generic { builder, depth, .. }) => {
                *depth += 1;
                builder.start(&self.scanner, text, prefix, local)?;
            }
            Some(Frame::Skip | Frame::Nil | Frame::FaultText(_)) => self.frames.push(Frame::Skip),
            Some(Frame::Simple { .. }) => {
                let reference = if local == "Include" && self.namespace_is(prefix, XOP) {
                    self.plain_attribute(text, "href")
                } else {
                    None
                };
                let included = reference.and_then(|r| self.attachment(&r));
                match included {
                    Some(octets) => self.text.push_str(&octets),
                    None => self.note(format!(
                        "<{local}> inside an element that only holds text was passed by"
                    )),
                }
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
                self.begin_text(text);
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
                self.begin_text(text);
                self.frames.push(frame);
            }
            Some(Frame::FaultDetail) => self.detail(plan, text, prefix, local, out)?,
        }
        Ok(())
    }

    fn header(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        index: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if !out.is_empty() {
            out.push(b',');
        }
        out.extend_from_slice(&plan.headers[index].json_key);
        self.value(
            plan,
            text,
            "",
            &plan.headers[index].local,
            Slot::Header(index),
            out,
        )
    }

    fn detail(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if !out.is_empty() {
            self.note(format!(
                "a further <{local}> in the fault's detail was passed by"
            ));
            self.frames.push(Frame::Skip);
            return Ok(());
        }
        let exact = plan.faults.iter().position(|(_, m)| {
            m.local == local
                && self.namespace_is(prefix, &plan.plan.namespaces[m.namespace as usize])
        });
        match exact.or_else(|| plan.faults.iter().position(|(_, m)| m.local == local)) {
            Some(i) => {
                if exact.is_none() {
                    self.note(format!("<{local}> has another namespace than declared"));
                }
                if let Some(fault) = &mut self.fault {
                    fault.detail = Some(local.to_owned());
                }
                self.value(plan, text, prefix, local, Slot::Fault(i), out)
            }
            None => {
                self.note(format!("the fault's detail <{local}> is not declared: it is shown in the generic mapping"));
                self.generic(text, prefix, local, true)
            }
        }
    }

    fn begin_text(&mut self, text: &str) {
        self.text.clear();
        self.language = self
            .scanner
            .attributes(text)
            .find(|a| {
                a.name
                    .split_once(':')
                    .is_some_and(|(p, n)| n == "lang" && self.scanner.resolve(p) == Some(XML))
            })
            .map_or_else(String::new, |a| a.value.to_owned());
    }

    /// The value of an attribute without a prefix.
    fn plain_attribute(&self, text: &str, name: &str) -> Option<String> {
        self.scanner
            .attributes(text)
            .find(|a| a.name == name)
            .map(|a| a.value.to_owned())
    }

    /// An attachment in base64, by the reference to it (RFC 2392).
    fn attachment(&self, reference: &str) -> Option<String> {
        let id = reference.strip_prefix("cid:")?;
        let octets = self
            .attachments
            .get(id)
            .or_else(|| self.attachments.get(&percent_decoded(id)))?;
        Some(to_base64(octets))
    }

    fn body_child(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if self.fault.is_some() || self.body_seen {
            self.note(format!("a further <{local}> in the body was passed by"));
            self.frames.push(Frame::Skip);
            return Ok(());
        }
        let bare_fault = self.namespace_is(prefix, "")
            && plan
                .output
                .as_ref()
                .and_then(|o| o.element.as_ref())
                .is_none_or(|m| m.local != "Fault");
        if local == "Fault" && (self.is_envelope(prefix) || bare_fault) {
            if bare_fault {
                self.note("the fault has no namespace".into());
            }
            self.fault = Some(Fault::default());
            self.frames.push(Frame::FaultRoot);
            return Ok(());
        }
        let Some(output) = &plan.output else {
            self.note(format!(
                "<{local}> came where no answer is declared, and was passed by"
            ));
            self.frames.push(Frame::Skip);
            return Ok(());
        };
        match &output.element {
            Some(member) if member.local == local || output.rpc => {
                if member.local != local {
                    // SOAP 1.1 §7.1: the name of the answer's element means nothing.
                    self.note(format!(
                        "the answer is called <{local}>, not <{}>",
                        member.local
                    ));
                } else if !self
                    .namespace_is(prefix, &plan.plan.namespaces[member.namespace as usize])
                {
                    self.note(format!("<{local}> has another namespace than declared"));
                }
                self.body_seen = true;
                self.value(plan, text, prefix, local, Slot::Root, out)
            }
            Some(member) => Err(AnswerError::OtherElement(
                local.to_owned(),
                member.local.clone(),
            )),
            None => {
                // The parts stand in the body itself.
                self.body_seen = true;
                self.object_frame(plan, output.type_id, true, out);
                self.child(plan, text, prefix, local, out)
            }
        }
    }

    fn member<'p>(&self, plan: &'p AnswerPlan, slot: Slot) -> &'p Member {
        let of = |id: TypeId, i: usize| match plan.plan.get(id) {
            TypePlan::Object(object) => &object.members[i],
            _ => unreachable!("slots name members of objects"),
        };
        match slot {
            Slot::Root => plan
                .output
                .as_ref()
                .and_then(|o| o.element.as_ref())
                .unwrap_or_else(|| unreachable!("a root slot needs an output")),
            Slot::Fault(i) => &plan.faults[i].1,
            Slot::Header(i) => &plan.headers[i],
            Slot::Of(id, i) => of(id, i),
            Slot::ItemOf(id, i) => of(id, i).items.as_deref().unwrap_or_else(|| of(id, i)),
            Slot::ListItem(id) => match plan.plan.get(id) {
                TypePlan::List(item) => item,
                _ => unreachable!("list items stand in lists"),
            },
        }
    }

    /// The child of an object: finds its member, writes its name, begins its value.
    fn child(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        loop {
            let Some(Frame::Object(frame)) = self.frames.last() else {
                return Ok(());
            };
            let (type_id, next, bare) = (frame.type_id, frame.next, frame.bare);
            let TypePlan::Object(object) = plan.plan.get(type_id) else {
                return Ok(());
            };
            let in_group = bare
                && !matches!(
                    self.frames.get(self.frames.len().wrapping_sub(2)),
                    Some(Frame::Body)
                );
            let found = self.find(plan, object, frame, prefix, local);
            if in_group {
                // Another instance begins where the element does not fit behind the last one.
                let fits = found.is_some_and(|(i, _)| {
                    next == usize::MAX
                        || (i == next && object.members[i].many)
                        || object.content.follows(next, i)
                });
                if !fits {
                    self.close_bare(plan, out)?;
                    continue;
                }
            }
            let Some((index, exact)) = found else {
                self.note(format!(
                    "<{local}> is not declared in {} and was passed by",
                    object.name
                ));
                self.frames.push(Frame::Skip);
                return Ok(());
            };
            let member = &object.members[index];
            if !exact && member.kind != MemberKind::Any {
                self.note(format!("<{local}> has another namespace than declared"));
            }
            if !self.begin_member(object, index, local, out)? {
                self.frames.push(Frame::Skip);
                return Ok(());
            }
            match member.kind {
                MemberKind::Group => {
                    self.object_frame(plan, member.type_id, true, out);
                    continue;
                }
                MemberKind::Any => return self.generic(text, prefix, local, true),
                _ => return self.value(plan, text, prefix, local, Slot::Of(type_id, index), out),
            }
        }
    }

    /// The member that an element means, and whether its namespace is the declared one.
    fn find(
        &self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        frame: &ObjectFrame,
        prefix: &str,
        local: &str,
    ) -> Option<(usize, bool)> {
        let members = &object.members;
        let uri = self.scanner.resolve(prefix).unwrap_or("");
        let next = if frame.next == usize::MAX {
            0
        } else {
            frame.next
        };
        // Nearly always: the member that was last seen, or one behind it.
        for (i, member) in members.iter().enumerate().skip(next) {
            if member.kind == MemberKind::Element
                && member.local == local
                && plan.plan.namespaces[member.namespace as usize] == uri
                && (member.many || !self.seen[frame.seen_from + i])
            {
                return Some((i, true));
            }
        }
        self.find_elsewhere(plan, object, frame, uri, local, next)
    }

    #[cold]
    fn find_elsewhere(
        &self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        frame: &ObjectFrame,
        uri: &str,
        local: &str,
        next: usize,
    ) -> Option<(usize, bool)> {
        let members = &object.members;
        let around = || (next..members.len()).chain(0..next.min(members.len()));
        let is = |m: &Member, any_namespace: bool| match m.kind {
            MemberKind::Element => {
                m.local == local
                    && (any_namespace || plan.plan.namespaces[m.namespace as usize] == uri)
            }
            MemberKind::Group => m.starts.iter().any(|(n, l)| {
                l == local && (any_namespace || plan.plan.namespaces[*n as usize] == uri)
            }),
            _ => false,
        };
        // One that has no room left is only taken when there is no other.
        let free = |i: usize| members[i].many || !self.seen[frame.seen_from + i];
        let wildcard = members.iter().position(|m| m.kind == MemberKind::Any);
        around()
            .find(|i| free(*i) && is(&members[*i], false))
            .or_else(|| around().find(|i| is(&members[*i], false)))
            .map(|i| (i, true))
            .or_else(|| {
                wildcard
                    .filter(|_| {
                        !around().any(|i| members[i].namespace == 0 && is(&members[i], true))
                    })
                    .map(|i| (i, true))
            })
            .or_else(|| {
                around()
                    .find(|i| is(&members[*i], true))
                    .map(|i| (i, false))
            })
    }

    /// Writes what comes before a member's value; false when there is no room for it.
    fn begin_member(
        &mut self,
        object: &ObjectPlan,
        index: usize,
        local: &str,
        out: &mut Vec<u8>,
    ) -> Result<bool, AnswerError> {
        let gather = self.gather;
        let member = &object.members[index];
        let Some(Frame::Object(frame)) = self.frames.last_mut() else {
            return Ok(false);
        };
        let seen = &mut self.seen[frame.seen_from + index];
        if gather {
            if std::mem::replace(seen, true) && !member.many {
                self.note(format!(
                    "a second <{local}> in {} was passed by",
                    object.name
                ));
                return Ok(false);
            }
            frame.next = index;
            frame.reading = Some((index, out.len()));
            return Ok(true);
        }
        if frame.open_array && frame.next == index {
            out.push(b',');
            return Ok(true);
        }
        if std::mem::replace(seen, true) {
            if member.many {
                return Err(AnswerError::Apart(format!(
                    "{}/{}",
                    object.name, member.local
                )));
            }
            self.note(format!(
                "a second <{local}> in {} was passed by",
                object.name
            ));
            return Ok(false);
        }
        if std::mem::take(&mut frame.open_array) {
            out.push(b']');
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
        Ok(true)
    }

    fn generic(
        &mut self,
        text: &str,
        prefix: &str,
        local: &str,
        named: bool,
    ) -> Result<(), AnswerError> {
        let builder = Builder::new(Mapping::default());
        let mut builder = Box::new(if named { builder } else { builder.nameless() });
        builder.start(&self.scanner, text, prefix, local)?;
        self.frames.push(Frame::Generic {
            builder,
            depth: 1,
            named,
        });
        Ok(())
    }

    /// Begins the value of an element just started.
    fn value(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        slot: Slot,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let member = self.member(plan, slot);
        let mut named_type = None;
        if self.scanner.has_attributes() {
            let (mut nil, mut undeclared) = (false, false);
            for a in self.scanner.attributes(text) {
                let Some((prefix, name)) = a.name.split_once(':') else {
                    continue;
                };
                let bound = self.scanner.resolve(prefix);
                // Some servers use the prefix without declaring it; there is only one thing they can mean.
                let meant = bound.is_none() && prefix == "xsi";
                if !matches!(name, "nil" | "null" | "type") || !(meant || bound.is_some_and(is_xsi))
                {
                    continue;
                }
                undeclared |= meant;
                if name == "type" {
                    let (prefix, name) = a
                        .value
                        .trim()
                        .split_once(':')
                        .unwrap_or(("", a.value.trim()));
                    named_type = Some((
                        self.scanner.resolve(prefix).unwrap_or("").to_owned(),
                        name.to_owned(),
                    ));
                } else {
                    nil = matches!(a.value.trim(), "true" | "1");
                }
            }
            if undeclared {
                self.note("the prefix xsi is used without being declared".into());
            }
            if nil {
                if !member.nillable && !plan.encoded {
                    self.note(format!("<{}> is nil although it may not be", member.local));
                }
                out.extend_from_slice(b"null");
                self.frames.push(Frame::Nil);
                return Ok(());
            }
        }
        if member.items.is_some() {
            // The body's own element keeps its shape even when it only holds a list.
            if let Slot::Of(id, i) = slot {
                out.push(b'[');
                self.frames.push(Frame::List {
                    item: Slot::ItemOf(id, i),
                    any: false,
                    named: true,
                });
                return Ok(());
            }
        }
        let type_id = member.type_id;
        match plan.plan.get(type_id) {
            TypePlan::Simple(_) => {
                self.text.clear();
                if !self.attachments.is_empty()
                    && let Some(octets) = self
                        .plain_attribute(text, "href")
                        .and_then(|h| self.attachment(&h))
                {
                    self.text = octets;
                }
                self.frames.push(Frame::Simple {
                    of: slot,
                    simple: SimpleOf::Type(type_id),
                    close: false,
                });
            }
            TypePlan::List(_) => {
                out.push(b'[');
                self.frames.push(Frame::List {
                    item: Slot::ListItem(type_id),
                    any: false,
                    named: false,
                });
            }
            TypePlan::Any => match named_type {
                Some((uri, name)) => {
                    self.typed_any(plan, text, prefix, local, slot, (&uri, &name), out)?
                }
                None => self.generic(text, prefix, local, false)?,
            },
            TypePlan::Object(object) => {
                let chosen = self.chosen_type(plan, object, named_type, member);
                self.object_frame(plan, chosen.unwrap_or(type_id), false, out);
                if let TypePlan::Object(ObjectPlan {
                    label: Some(label), ..
                }) = plan.plan.get(chosen.unwrap_or(type_id))
                {
                    self.type_label(label, out);
                }
                self.attributes(plan, text, out)?;
            }
        }
        Ok(())
    }

    /// The type that `xsi:type` names, when it is another than the declared one and may stand there.
    fn chosen_type(
        &mut self,
        plan: &AnswerPlan,
        object: &ObjectPlan,
        named: Option<(String, String)>,
        member: &Member,
    ) -> Option<TypeId> {
        let (uri, name) = named?;
        let is = |n: &(u16, String)| n.1 == name && plan.plan.namespaces[n.0 as usize] == uri;
        if let Some(found) = object.derived.iter().find(|d| is(&d.name)) {
            return Some(found.type_id);
        }
        if let Some(found) = object.derived.iter().find(|d| d.name.1 == name) {
            self.note(format!(
                "xsi:type of <{}>: “{name}” of another namespace is taken",
                member.local
            ));
            return Some(found.type_id);
        }
        if !member.type_name.as_ref().is_some_and(is) && !plan.encoded {
            self.note(format!(
                "xsi:type of <{}> names “{name}”, which cannot stand there; it is read as {}",
                member.local, object.name
            ));
        }
        None
    }

    /// An element of any type whose `xsi:type` says what it is.
    #[expect(
        clippy::too_many_arguments,
        reason = "the same surroundings as every value"
    )]
    fn typed_any(
        &mut self,
        plan: &Arc<AnswerPlan>,
        text: &str,
        prefix: &str,
        local: &str,
        slot: Slot,
        (uri, name): (&str, &str),
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let simple = if is_xsd(uri) {
            Simple::built_in(name)
        } else {
            None
        };
        if let Some(simple) = simple {
            out.push(b'{');
            push_json_string(out, TYPE_MEMBER);
            out.push(b':');
            push_json_string(out, name);
            out.extend_from_slice(b",\"value\":");
            self.text.clear();
            self.frames.push(Frame::Simple {
                of: slot,
                simple: SimpleOf::Own(Box::new(simple)),
                close: true,
            });
            return Ok(());
        }
        match plan
            .plan
            .named
            .iter()
            .find(|d| d.name.1 == name && plan.plan.namespaces[d.name.0 as usize] == uri)
        {
            Some(found) if matches!(plan.plan.get(found.type_id), TypePlan::Object(_)) => {
                self.object_frame(plan, found.type_id, false, out);
                self.type_label(&found.json, out);
                self.attributes(plan, text, out)
            }
            _ => self.generic(text, prefix, local, false),
        }
    }

    fn object_frame(&mut self, plan: &AnswerPlan, type_id: TypeId, bare: bool, out: &mut Vec<u8>) {
        let TypePlan::Object(object) = plan.plan.get(type_id) else {
            return;
        };
        out.push(b'{');
        self.text.clear();
        let seen_from = self.seen.len();
        self.seen.resize(seen_from + object.members.len(), false);
        let gathered = if self.gather {
            vec![Vec::new(); object.members.len()]
        } else {
            Vec::new()
        };
        let next = if bare { usize::MAX } else { 0 };
        self.frames.push(Frame::Object(ObjectFrame {
            type_id,
            seen_from,
            next,
            open_array: false,
            any: false,
            bare,
            gathered,
            reading: None,
        }));
    }

    fn type_label(&mut self, label: &str, out: &mut Vec<u8>) {
        push_json_string(out, TYPE_MEMBER);
        out.push(b':');
        push_json_string(out, label);
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = true;
        }
    }

    /// Writes the attributes of the object just begun.
    fn attributes(
        &mut self,
        plan: &AnswerPlan,
        text: &str,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if !self.scanner.has_attributes() {
            return Ok(());
        }
        let Some(Frame::Object(frame)) = self.frames.last() else {
            return Ok(());
        };
        let (type_id, seen_from, mut any) = (frame.type_id, frame.seen_from, frame.any);
        let TypePlan::Object(object) = plan.plan.get(type_id) else {
            return Ok(());
        };
        let mut open: Vec<(String, String)> = Vec::new();
        let mut unknown = Vec::new();
        for attribute in self.scanner.attributes(text) {
            let (prefix, name) = attribute
                .name
                .split_once(':')
                .unwrap_or(("", attribute.name));
            if prefix == "xmlns" || (prefix.is_empty() && name == "xmlns") {
                continue;
            }
            let uri = if prefix.is_empty() {
                ""
            } else {
                self.scanner.resolve(prefix).unwrap_or("")
            };
            if is_xsi(uri) {
                continue;
            }
            let mut value = String::new();
            push_attribute(&mut value, attribute.value)
                .map_err(|message| AnswerError::Xml(XmlError { message, offset: 0 }))?;
            let found = object.members.iter().position(|m| {
                m.kind == MemberKind::Attribute
                    && m.local == name
                    && plan.plan.namespaces[m.namespace as usize] == uri
            });
            let Some(index) = found else {
                if object
                    .members
                    .last()
                    .is_some_and(|m| m.kind == MemberKind::AnyAttribute)
                {
                    if !prefix.is_empty()
                        && prefix != "xml"
                        && !open
                            .iter()
                            .any(|(n, _)| n.strip_prefix("xmlns:") == Some(prefix))
                    {
                        open.push((format!("xmlns:{prefix}"), uri.to_owned()));
                    }
                    open.push((attribute.name.to_owned(), value));
                } else {
                    unknown.push(name);
                }
                continue;
            };
            let member = &object.members[index];
            let TypePlan::Simple(simple) = plan.plan.get(member.type_id) else {
                continue;
            };
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            simple
                .to_json(out, &value)
                .map_err(|e| AnswerError::Value(format!("{}/{}", object.name, member.local), e))?;
            self.seen[seen_from + index] = true;
        }
        if let (false, Some((index, member))) = (
            open.is_empty(),
            object.members.iter().enumerate().next_back(),
        ) {
            if std::mem::replace(&mut any, true) {
                out.push(b',');
            }
            out.extend_from_slice(&member.json_key);
            for (i, (name, value)) in open.iter().enumerate() {
                out.push(if i == 0 { b'{' } else { b',' });
                push_json_string(out, name);
                out.push(b':');
                push_json_string(out, value);
            }
            out.push(b'}');
            self.seen[seen_from + index] = true;
        }
        let notes: Vec<String> = unknown
            .iter()
            .filter(|_| !plan.encoded)
            .map(|n| {
                format!(
                    "the attribute {n} is not declared in {} and was passed by",
                    object.name
                )
            })
            .collect();
        notes.into_iter().for_each(|n| self.note(n));
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = any;
        }
        Ok(())
    }

    fn end(&mut self, plan: &Arc<AnswerPlan>, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        while matches!(self.frames.last(), Some(Frame::Object(f)) if f.bare) {
            self.close_bare(plan, out)?;
        }
        if let Some(Frame::Generic { builder, depth, .. }) = self.frames.last_mut() {
            builder.end();
            *depth -= 1;
            if *depth > 0 {
                return Ok(());
            }
        }
        match self.frames.pop() {
            Some(Frame::Simple { of, simple, close }) => {
                self.end_simple(plan, of, &simple, out)?;
                if close {
                    out.push(b'}');
                }
            }
            Some(Frame::Object(frame)) => self.end_object(plan, frame, out)?,
            Some(Frame::List { .. }) => out.push(b']'),
            Some(Frame::Generic {
                mut builder, named, ..
            }) => {
                let (name, value) = builder.finish().unwrap_or_default();
                if named {
                    out.push(b'{');
                    push_json_string(out, &name);
                    out.push(b':');
                }
                // Writing to memory cannot fail.
                let _ = serde_json::to_writer(&mut *out, &value);
                if named {
                    out.push(b'}');
                }
            }
            Some(Frame::Header) => self.in_header = false,
            Some(Frame::FaultText(field)) => {
                let text = self.text.trim();
                let local = text.rsplit(':').next().unwrap_or(text);
                if let Some(fault) = &mut self.fault {
                    match field {
                        FaultField::Code => local.clone_into(&mut fault.code),
                        FaultField::Subcode => local.clone_into(&mut fault.subcode),
                        FaultField::Reason => fault
                            .reasons
                            .push((std::mem::take(&mut self.language), text.to_owned())),
                    }
                }
            }
            _ => {}
        }
        self.gathered(out);
        Ok(())
    }

    /// When gathering: takes the value just read from the end of what was written.
    fn gathered(&mut self, out: &mut Vec<u8>) {
        let Some(Frame::Object(frame)) = self.frames.last_mut() else {
            return;
        };
        if let Some((index, from)) = frame.reading.take() {
            let into = &mut frame.gathered[index];
            if !into.is_empty() {
                into.push(b',');
            }
            into.extend_from_slice(&out[from..]);
            out.truncate(from);
        }
    }

    fn close_bare(&mut self, plan: &Arc<AnswerPlan>, out: &mut Vec<u8>) -> Result<(), AnswerError> {
        if let Some(Frame::Object(frame)) = self.frames.pop() {
            self.end_object(plan, frame, out)?;
        }
        self.gathered(out);
        Ok(())
    }

    fn end_simple(
        &mut self,
        plan: &AnswerPlan,
        of: Slot,
        simple: &SimpleOf,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let member = self.member(plan, of);
        let simple = match simple {
            SimpleOf::Own(simple) => simple,
            SimpleOf::Type(id) => match plan.plan.get(*id) {
                TypePlan::Simple(simple) => simple,
                _ => return Ok(()),
            },
        };
        let mut text = match &member.default {
            Some(default) if self.text.is_empty() => default.as_str(),
            _ => self.text.as_str(),
        };
        let octets;
        if !self.attachments.is_empty()
            && matches!(simple.base, Base::Token | Base::Text)
            && let Some(found) = self.attachment(text.trim())
        {
            octets = found;
            text = &octets;
        }
        simple
            .to_json(out, text)
            .map_err(|e| AnswerError::Value(member.local.clone(), e))
    }

    fn end_object(
        &mut self,
        plan: &AnswerPlan,
        mut frame: ObjectFrame,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
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
                if let Some(bytes) = frame.gathered.get(i).filter(|b| !b.is_empty()) {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    if member.many {
                        out.push(b'[');
                    }
                    out.extend_from_slice(bytes);
                    if member.many {
                        out.push(b']');
                    }
                }
                continue;
            }
            if member.many {
                if !member.in_choice {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    out.extend_from_slice(b"[]");
                }
            } else if member.kind == MemberKind::Attribute && member.default.is_some() {
                if let (TypePlan::Simple(simple), Some(default)) =
                    (plan.plan.get(member.type_id), &member.default)
                {
                    comma(out);
                    out.extend_from_slice(&member.json_key);
                    default_json(simple, out, default);
                }
            } else if member.required() && !plan.encoded {
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
            simple
                .to_json(out, &self.text)
                .map_err(|e| AnswerError::Value(object.name.clone(), e))?;
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
