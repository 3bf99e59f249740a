//! Values that begin: their type, and their attributes.

use std::rc::Rc;

use super::ends::member_value;
use super::*;
use crate::encoded::{item_type, tells_itself};
use crate::xml::{ENCODING_11, ENCODING_12};

/// `xsi:nil` and `xsi:type` of an element.
#[derive(Default)]
struct Instance {
    nil: bool,
    /// Namespace and name.
    named_type: Option<(String, String)>,
}

impl AnswerReader {
    /// Begins the value of an element just started.
    pub(super) fn value(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        slot: Slot,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let member = self.member(plan, slot);
        let mut named_type = None;
        if self.scanner.has_attributes() {
            let instance = self.instance(tag.text);
            named_type = instance.named_type;
            if instance.nil {
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
                self.begin_list(Slot::ItemOf(id, i), true, out);
                return Ok(());
            }
        }
        let type_id = member.type_id;
        match plan.plan.get(type_id) {
            TypePlan::Simple(simple) => match self.leaf(tag.text) {
                // Nearly always: the value stands there as it is.
                Some(text) => {
                    member_value(simple, member, text, out)?;
                    self.gathered(out);
                }
                None => self.begin_simple(tag.text, slot, type_id),
            },
            TypePlan::List(_) => self.begin_list(Slot::ListItem(type_id), false, out),
            TypePlan::Any => match named_type {
                Some((uri, name)) => self.typed_any(plan, tag, slot, (&uri, &name), out)?,
                None => self.generic(tag, false)?,
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
                self.attributes(plan, tag.text, out)?;
            }
        }
        Ok(())
    }

    fn begin_list(&mut self, item: Slot, named: bool, out: &mut Vec<u8>) {
        out.push(b'[');
        self.frames.push(Frame::List {
            item,
            any: false,
            named,
            written: self.inherited(),
            of: None,
        });
    }

    /// The text of the element just begun, where it holds nothing else and no attachment can be meant.
    fn leaf<'t>(&mut self, text: &'t str) -> Option<&'t str> {
        if self.attachments.is_empty() {
            self.scanner.leaf(text)
        } else {
            None
        }
    }

    fn begin_simple(&mut self, text: &str, slot: Slot, type_id: TypeId) {
        self.text.clear();
        if !self.attachments.is_empty() {
            let reference = self.plain_attribute(text, "href");
            if let Some(octets) = reference.and_then(|h| self.attachment(&h)) {
                self.text = octets;
            }
        }
        self.frames.push(Frame::Simple {
            of: slot,
            simple: SimpleOf::Type(type_id),
            close: false,
        });
    }

    /// What attributes of XML Schema's instance namespace say (part 1 §2.6).
    fn instance(&mut self, text: &str) -> Instance {
        let (mut instance, mut undeclared) = (Instance::default(), false);
        for a in self.scanner.attributes(text) {
            let Some((prefix, name)) = a.name.split_once(':') else {
                continue;
            };
            let bound = self.scanner.resolve(prefix);
            // Some servers use the prefix without declaring it; there is only one thing they can mean.
            let meant = bound.is_none() && prefix == "xsi";
            if !matches!(name, "nil" | "null" | "type") || !(meant || bound.is_some_and(is_xsi)) {
                continue;
            }
            undeclared |= meant;
            let value = a.value.trim();
            if name == "type" {
                let (prefix, name) = value.split_once(':').unwrap_or(("", value));
                let uri = self.scanner.resolve(prefix).unwrap_or("");
                instance.named_type = Some((uri.to_owned(), name.to_owned()));
            } else {
                instance.nil = matches!(value, "true" | "1");
            }
        }
        if undeclared {
            self.note("the prefix xsi is used without being declared".into());
        }
        instance
    }

    /// The type that `xsi:type` names, when it is another than the declared one and may stand there.
    pub(super) fn chosen_type(
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
    pub(super) fn typed_any(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        slot: Slot,
        (uri, name): (&str, &str),
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let simple = if is_xsd(uri) {
            Simple::built_in(name)
        } else {
            None
        };
        if plan.encoded && name == "Array" && matches!(uri, ENCODING_11 | ENCODING_12) {
            out.push(b'[');
            let of = self.item_type(tag.text);
            self.frames.push(Frame::List {
                item: slot,
                any: false,
                named: false,
                written: None,
                of,
            });
            return Ok(());
        }
        if let Some(simple) = simple {
            if plan.encoded && tells_itself(name) {
                self.own_simple(slot, simple, false);
                return Ok(());
            }
            out.push(b'{');
            push_json_string(out, TYPE_MEMBER);
            out.push(b':');
            push_json_string(out, name);
            out.extend_from_slice(b",\"value\":");
            self.own_simple(slot, simple, true);
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
                self.attributes(plan, tag.text, out)
            }
            _ => self.generic(tag, false),
        }
    }

    fn own_simple(&mut self, of: Slot, simple: Simple, close: bool) {
        self.text.clear();
        self.frames.push(Frame::Simple {
            of,
            simple: SimpleOf::Own(Box::new(simple)),
            close,
        });
    }

    /// The type of an array's items, which then need not say it themselves (SOAP 1.1 §5.4.2, SOAP 1.2 part 2 §3.1.4.2).
    fn item_type(&self, text: &str) -> Option<Rc<TypeOf>> {
        let mut attributes = self.scanner.attributes(text);
        let array = attributes.find(|a| {
            let local = a.name.rsplit(':').next();
            matches!(local, Some("arrayType" | "itemType"))
        })?;
        let (prefix, name) = item_type(array.value)?.rsplit_once(':')?;
        let uri = self.scanner.resolve(prefix)?;
        Some(Rc::new((uri.to_owned(), name.to_owned())))
    }

    /// An item of an array, whose type the array says unless it says one itself.
    pub(super) fn typed_item(
        &mut self,
        plan: &Arc<AnswerPlan>,
        tag: Tag<'_>,
        slot: Slot,
        of: &TypeOf,
        out: &mut Vec<u8>,
    ) -> Result<(), AnswerError> {
        let instance = self.instance(tag.text);
        if instance.nil || instance.named_type.is_some() {
            return self.value(plan, tag, slot, out);
        }
        self.typed_any(plan, tag, slot, (&of.0, &of.1), out)
    }

    pub(super) fn object_frame(
        &mut self,
        plan: &AnswerPlan,
        type_id: TypeId,
        bare: bool,
        out: &mut Vec<u8>,
    ) {
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
            written: if bare { None } else { self.inherited() },
            gathered,
            reading: None,
        }));
    }

    pub(super) fn type_label(&mut self, label: &str, out: &mut Vec<u8>) {
        push_json_string(out, TYPE_MEMBER);
        out.push(b':');
        push_json_string(out, label);
        if let Some(Frame::Object(frame)) = self.frames.last_mut() {
            frame.any = true;
        }
    }
}
