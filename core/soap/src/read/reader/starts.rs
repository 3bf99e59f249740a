//! Elements that begin: envelope, header, body, faults, and what stands in them.

use super::*;

impl AnswerReader {
    pub(super) fn start(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        match self.frames.last_mut() {
            None => {
                if tag.local != "Envelope" || !self.is_envelope(tag.prefix) {
                    return Err(AnswerError::NoEnvelope(tag.local.to_owned()));
                }
                self.frames.push(Frame::Envelope);
            }
            Some(Frame::Envelope) => {
                let frame = match tag.local {
                    "Body" => Frame::Body,
                    "Header" if !plan.headers.is_empty() => {
                        self.in_header = true;
                        Frame::Header
                    }
                    _ => Frame::Skip,
                };
                self.frames.push(frame);
            }
            Some(Frame::Header) => match plan.headers.iter().position(|m| m.local == tag.local) {
                Some(i) => self.header(plan, tag, i, out)?,
                None => self.frames.push(Frame::Skip),
            },
            Some(Frame::Body) => self.body_child(plan, tag, out)?,
            Some(Frame::Object(_)) => self.child(plan, tag, out)?,
            Some(Frame::List { .. }) => self.list_item(plan, tag, out)?,
            Some(Frame::Generic { builder, depth, .. }) => {
                *depth += 1;
                builder.start(&self.scanner, tag.text, tag.prefix, tag.local)?;
            }
            Some(Frame::Skip | Frame::Nil | Frame::FaultText(_)) => self.frames.push(Frame::Skip),
            Some(Frame::Simple { .. }) => self.inside_text(tag),
            Some(Frame::FaultRoot) => {
                let frame = match tag.local {
                    "faultcode" => Frame::FaultText(FaultField::Code),
                    "faultstring" => Frame::FaultText(FaultField::Reason),
                    "faultactor" | "Role" => Frame::FaultText(FaultField::Actor),
                    "Code" | "Reason" => Frame::FaultGroup { sub: false },
                    "detail" | "Detail" => Frame::FaultDetail,
                    _ => Frame::Skip,
                };
                self.begin_text(tag.text);
                self.frames.push(frame);
            }
            Some(Frame::FaultGroup { sub }) => {
                let frame = match (tag.local, sub) {
                    ("Value", false) => Frame::FaultText(FaultField::Code),
                    ("Value", true) => Frame::FaultText(FaultField::Subcode),
                    ("Text", _) => Frame::FaultText(FaultField::Reason),
                    ("Subcode", _) => Frame::FaultGroup { sub: true },
                    _ => Frame::Skip,
                };
                self.begin_text(tag.text);
                self.frames.push(frame);
            }
            Some(Frame::FaultDetail) => self.detail(plan, tag, out)?,
        }
        Ok(())
    }

    fn list_item(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let Some(Frame::List {
            item,
            any,
            named,
            of,
            ..
        }) = self.frames.last()
        else {
            return Ok(());
        };
        let (slot, comma, named, of) = (*item, *any, *named, of.clone());
        let member = self.member(plan, slot);
        if named && member.local != tag.local {
            self.note(format!(
                "<{}> among <{}> elements was passed by",
                tag.local, member.local
            ));
            self.frames.push(Frame::Skip);
            return Ok(());
        }
        if comma {
            out.push(b',');
        } else if let Some(Frame::List { any, .. }) = self.frames.last_mut() {
            *any = true;
        }
        match of {
            Some(of) => self.typed_item(plan, tag, slot, &of, out),
            None => self.value(plan, tag, slot, out),
        }
    }

    /// An element inside one that only holds text: an attachment, or nothing we know.
    fn inside_text(&mut self, tag: Tag<'_>) {
        let reference = if tag.local == "Include" && self.namespace_is(tag.prefix, XOP) {
            self.plain_attribute(tag.text, "href")
        } else {
            None
        };
        match reference.and_then(|r| self.attachment(&r)) {
            Some(octets) => self.text.push_str(&octets),
            None => self.note(format!(
                "<{}> inside an element that only holds text was passed by",
                tag.local
            )),
        }
        self.frames.push(Frame::Skip);
    }

    fn header(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        index: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        if !out.is_empty() {
            out.push(b',');
        }
        out.extend_from_slice(&plan.headers[index].json_key);
        self.value(plan, tag, Slot::Header(index), out)
    }

    pub(super) fn detail(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let Tag { prefix, local, .. } = tag;
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
                self.value(plan, tag, Slot::Fault(i), out)
            }
            None => {
                self.note(format!("the fault's detail <{local}> is not declared: it is shown in the generic mapping"));
                self.generic(tag, true)
            }
        }
    }

    pub(super) fn begin_text(&mut self, text: &str) {
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
    pub(super) fn plain_attribute(&self, text: &str, name: &str) -> Option<String> {
        self.scanner
            .attributes(text)
            .find(|a| a.name == name)
            .map(|a| a.value.to_owned())
    }

    /// An attachment in base64, by the reference to it (RFC 2392).
    pub(super) fn attachment(&self, reference: &str) -> Option<String> {
        let id = reference.strip_prefix("cid:")?;
        let octets = self
            .attachments
            .get(id)
            .or_else(|| self.attachments.get(&percent_decoded(id)))?;
        Some(to_base64(octets))
    }

    pub(super) fn body_child(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let Tag { prefix, local, .. } = tag;
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
                self.value(plan, tag, Slot::Root, out)
            }
            Some(member) => Err(AnswerError::OtherElement(
                local.to_owned(),
                member.local.clone(),
            )),
            None => {
                // The parts stand in the body itself.
                self.body_seen = true;
                self.object_frame(plan, output.type_id, true, out);
                self.child(plan, tag, out)
            }
        }
    }
}
