//! Changes of header fields and query parameters.

use http::{HeaderName, HeaderValue};
use porch_contract::{Position, Step};
use porch_rules::expr::Template;
use serde_json::Value;

use super::super::FacadeCompiler;
use super::Context;
use crate::compiled::{FieldAction, FieldChange};
use crate::documents::{FieldChangeDoc, FieldOp, substitution};
use crate::wiring::looks_into;

/// Where a change stands, and what it may not be of: the fixed names of header fields; none for query parameters.
pub(super) struct Place<'p> {
    pub(super) steps: &'p [Step],
    pub(super) fixed: Option<&'p [&'p str]>,
}

impl Place<'_> {
    fn below(&self, key: &str) -> Vec<Step> {
        [self.steps, &[Step::Key(key.into())]].concat()
    }
}

impl<'a> FacadeCompiler<'a> {
    pub(super) fn field(
        &mut self,
        place: &Place<'_>,
        doc: &FieldChangeDoc,
        cx: &mut Context<'_, 'a>,
    ) -> Option<FieldChange> {
        let (all, plain) = match (doc.op, doc.name.strip_suffix('*')) {
            (FieldOp::Remove, Some(begin)) if !begin.is_empty() => (true, begin),
            _ => (false, doc.name.as_str()),
        };
        let name = self.name(place, ("name", plain), all)?;
        let to = self.other_name(place, doc)?;
        let value = self.field_value(place, doc, cx)?;
        let when = match &doc.when {
            Some(text) => Some(cx.condition(self, &place.below("when"), text)?),
            None => None,
        };
        let of_success = looks_into(&value) || when.as_ref().is_some_and(looks_into);
        let action = match doc.op {
            FieldOp::Set => FieldAction::Set(value),
            FieldOp::Add => FieldAction::Add(value),
            FieldOp::Remove if all => FieldAction::RemoveAll,
            FieldOp::Remove => FieldAction::Remove,
            FieldOp::Rename => FieldAction::Rename(to),
            FieldOp::Copy => FieldAction::Copy(to),
            FieldOp::Substitute => match substitution(&doc.pattern, &doc.with) {
                Ok(made) => FieldAction::Substitute(made),
                Err((key, why)) => {
                    self.wrong_at(place, key, &why, "");
                    return None;
                }
            },
        };
        let meant = doc.op == FieldOp::Substitute;
        for (key, there) in [
            ("pattern", doc.pattern.is_some()),
            ("with", doc.with.is_some()),
        ] {
            if there && !meant {
                self.wrong_at(place, key, &format!("“{key}” has no meaning here"), "");
            }
        }
        let what = match place.fixed {
            Some(_) => "field",
            None => "parameter",
        };
        let other = doc.to.as_ref();
        let other = other.map_or_else(String::new, |to| format!(" → {to}"));
        let rule = format!("{} the {what} {}{other}", doc.op.name(), doc.name);
        let line = self.here.node.locate(place.steps, false).line;
        Some(FieldChange {
            action,
            name,
            when,
            of_success,
            place: self.change_place(rule, cx.at.reach, line),
        })
    }

    /// A mistake at a key of a change.
    fn wrong_at(&mut self, place: &Place<'_>, key: &str, message: &str, help: &str) {
        let at = self.here.node.locate(&place.below(key), false);
        self.wrong(at, message.to_owned(), help);
    }

    /// The name that a field gets, where it gets one.
    fn other_name(&mut self, place: &Place<'_>, doc: &FieldChangeDoc) -> Option<String> {
        match (&doc.to, doc.op) {
            (Some(to), FieldOp::Rename | FieldOp::Copy) => self.name(place, ("to", to), false),
            (None, FieldOp::Rename | FieldOp::Copy) => {
                let message = format!("{} needs `to:`", doc.op.name());
                self.wrong_at(place, "op", &message, "add `to: NAME`");
                None
            }
            (Some(_), _) => {
                self.wrong_at(place, "to", "“to” has no meaning here", "");
                None
            }
            (None, _) => Some(String::new()),
        }
    }

    /// The value that a field gets, where it gets one.
    fn field_value(
        &mut self,
        place: &Place<'_>,
        doc: &FieldChangeDoc,
        cx: &mut Context<'_, 'a>,
    ) -> Option<Template> {
        let value = match (&doc.value, doc.op) {
            (Some(value), FieldOp::Set | FieldOp::Add) => value,
            (None, FieldOp::Set | FieldOp::Add) => {
                let message = format!("{} needs `value:`", doc.op.name());
                self.wrong_at(place, "op", &message, "add `value: …`");
                return None;
            }
            (Some(_), _) => {
                self.wrong_at(place, "value", "“value” has no meaning here", "");
                return None;
            }
            (None, _) => return Some(Template::Literal(Value::Null)),
        };
        if value.is_array() || value.is_object() {
            self.wrong_at(place, "value", "a list or map has no plain text", "");
            return None;
        }
        let made = cx.template(self, &place.below("value"), value)?;
        if let (Template::Literal(Value::String(text)), Some(_)) = (&made, place.fixed)
            && HeaderValue::from_str(text).is_err()
        {
            let message = "this text cannot stand in a header field";
            self.wrong_at(place, "value", message, "");
            return None;
        }
        Some(made)
    }

    /// The name of a header field in lower case, or of a query parameter as it is.
    fn name(
        &mut self,
        place: &Place<'_>,
        (key, name): (&str, &str),
        begins: bool,
    ) -> Option<String> {
        let at: Position = self.here.node.locate(&place.below(key), false);
        let Some(fixed) = place.fixed else {
            if name.is_empty() {
                self.wrong(at, "a query parameter has a name".into(), "");
                return None;
            }
            return Some(name.to_owned());
        };
        let lower = name.to_ascii_lowercase();
        if lower.parse::<HeaderName>().is_err() {
            self.wrong(at, format!("“{name}” is no name of a header field"), "");
            return None;
        }
        let hits = |f: &&&str| match begins {
            true => f.starts_with(&lower),
            false => **f == lower,
        };
        if let Some(own) = fixed.iter().find(hits) {
            let message = format!("the field {own} is not for documents to change");
            let help = "it says how a message travels, or is set behind all changes";
            self.wrong(at, message, help);
            return None;
        }
        Some(lower)
    }
}
