//! Fields by their paths, and values from the texts of a query.

use std::collections::HashMap;

use crate::json::put_varint;
use crate::types::*;

/// Why a query parameter is no field.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct BindError(pub String);

impl BindError {
    /// The same without the name of the message, which is the backend's own affair.
    fn for_callers(self) -> Self {
        match self.0.split_once(" is no field of ") {
            Some((_, rest)) => {
                let near = rest.find("; did you mean").map_or("", |at| &rest[at..]);
                Self(format!("is not known here{near}"))
            }
            None => self,
        }
    }
}

/// The fields that a query has given so far: each once, whatever it is called, and of a `oneof` one only.
#[derive(Default)]
pub struct Given {
    fields: HashMap<Vec<u32>, String>,
    /// The member of each `oneof`, and the path that gave it.
    members: HashMap<(Vec<u32>, u16), (u32, String)>,
}

impl Given {
    /// Takes in a path.
    ///
    /// # Errors
    /// When there is no such field, it was given by its other name, or another member of its `oneof` was given.
    pub fn add(&mut self, types: &Types, message: MessageId, path: &str) -> Result<(), BindError> {
        let mut numbers = Vec::new();
        let fields = types.resolve(message, path);
        for field in fields.map_err(BindError::for_callers)? {
            if let Some(oneof) = field.oneof {
                let key = (numbers.clone(), oneof);
                let given = self.members.entry(key);
                let (number, by) = given.or_insert_with(|| (field.number, path.to_owned()));
                if *number != field.number {
                    return Err(BindError(format!(
                        "cannot stand beside “{by}”: only one of them has a value"
                    )));
                }
            }
            numbers.push(field.number);
        }
        match self.fields.insert(numbers, path.to_owned()) {
            None => Ok(()),
            Some(before) => Err(BindError(format!("is the same field as “{before}”"))),
        }
    }
}

/// The names of a path; an extension's is in brackets, dots and all: `marks.[skerry.fleet.v1.later].note`.
fn names(path: &str) -> impl Iterator<Item = &str> {
    let mut inside = false;
    path.split(move |c| {
        match c {
            '[' => inside = true,
            ']' => inside = false,
            _ => {}
        }
        c == '.' && !inside
    })
}

impl Types {
    /// The fields that a path such as `vessel.homePort` leads through; both spellings of names are understood.
    ///
    /// # Errors
    /// The name that there is no field for, with a near one.
    pub fn resolve(&self, message: MessageId, path: &str) -> Result<Vec<&Field>, BindError> {
        let mut of = self.message(message);
        let mut found: Vec<&Field> = Vec::new();
        for name in names(path) {
            if let Some(last) = found.last() {
                let below = last
                    .kind
                    .message()
                    .filter(|_| last.cardinality == Cardinality::Single);
                of = match below.map(|id| self.message(id)) {
                    Some(m)
                        if m.well_known.is_none() || m.well_known == Some(WellKnown::HttpBody) =>
                    {
                        m
                    }
                    _ => {
                        return Err(BindError(format!(
                            "“{}” holds no fields, so there is no “{name}” in it",
                            last.json
                        )));
                    }
                };
            }
            let Some(field) = of.field(name) else {
                let near = porch_contract::suggest(name, of.fields.iter().map(|f| &*f.json))
                    .map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
                return Err(BindError(format!(
                    "“{name}” is no field of {}{near}",
                    of.name
                )));
            };
            found.push(field);
        }
        Ok(found)
    }

    /// Appends the wire bytes of a field that is given as texts, as a query gives it: one, or several for a list.
    ///
    /// # Errors
    /// When there is no such field, or the texts do not fit it.
    pub fn bind(
        &self,
        message: MessageId,
        path: &str,
        texts: &[&str],
        out: &mut Vec<u8>,
    ) -> Result<(), BindError> {
        let fields = self
            .resolve(message, path)
            .map_err(BindError::for_callers)?;
        let Some((field, around)) = fields.split_last() else {
            return Ok(());
        };
        let mut content = Vec::new();
        match field.cardinality {
            Cardinality::Map { .. } => {
                return Err(BindError("is a map, which a query cannot carry".into()));
            }
            Cardinality::Single if texts.len() > 1 => {
                return Err(BindError("stands more than once".into()));
            }
            _ => {}
        }
        for text in texts {
            content.extend_from_slice(field.tag.bytes());
            self.text_to_wire(field.kind, text, &mut content)
                .map_err(|unfit| BindError(unfit.to_string()))?;
            if let Kind::Group(_) = field.kind {
                content.extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
            }
        }
        for field in around.iter().rev() {
            let inner = std::mem::take(&mut content);
            content.extend_from_slice(field.tag.bytes());
            if let Kind::Group(_) = field.kind {
                content.extend_from_slice(&inner);
                content.extend_from_slice(Tag::new(field.number, END_GROUP).bytes());
            } else {
                put_varint(&mut content, inner.len() as u64);
                content.extend_from_slice(&inner);
            }
        }
        out.extend_from_slice(&content);
        Ok(())
    }

    /// The fields that a query can carry, by their paths in JSON names: plain values, and lists of them, as deep as
    /// messages that do not contain themselves go.
    pub fn query_fields(&self, message: MessageId) -> Vec<(String, &Field)> {
        let mut all = Vec::new();
        self.collect(message, "", &mut vec![message], &mut all);
        all
    }

    fn collect<'t>(
        &'t self,
        message: MessageId,
        before: &str,
        around: &mut Vec<MessageId>,
        all: &mut Vec<(String, &'t Field)>,
    ) {
        for field in &self.message(message).fields {
            let path = if before.is_empty() {
                field.json.to_string()
            } else {
                format!("{before}.{}", field.json)
            };
            if all.len() >= 200
                || matches!(field.cardinality, Cardinality::Map { .. })
                || field.output_only
            {
                continue;
            }
            match field.kind.message() {
                None => all.push((path, field)),
                Some(id) => match self.message(id).well_known {
                    Some(
                        WellKnown::Timestamp
                        | WellKnown::Duration
                        | WellKnown::FieldMask
                        | WellKnown::Wrapper
                        | WellKnown::Value,
                    ) => all.push((path, field)),
                    None if field.cardinality == Cardinality::Single
                        && !around.contains(&id)
                        && around.len() < 5 =>
                    {
                        around.push(id);
                        self.collect(id, &path, around, all);
                        around.pop();
                    }
                    _ => {}
                },
            }
        }
    }

    /// The field mask of a JSON object: the paths of the members that it has, as the `.proto` file spells them.
    ///
    /// Members that are messages are named by what stands in them, lists and maps as a whole (`field_mask.proto`,
    /// “Field Masks in Update Operations”).
    pub fn mask_of(&self, message: MessageId, value: &serde_json::Value) -> Vec<String> {
        let mut paths = Vec::new();
        self.mask(message, value, "", &mut paths, 0);
        paths
    }

    fn mask(
        &self,
        message: MessageId,
        value: &serde_json::Value,
        before: &str,
        paths: &mut Vec<String>,
        depth: usize,
    ) {
        let Some(object) = value.as_object() else {
            return;
        };
        let of = self.message(message);
        for (name, value) in object {
            let Some(field) = of.field(name) else {
                continue;
            };
            let path = if before.is_empty() {
                field.name.to_string()
            } else {
                format!("{before}.{}", field.name)
            };
            let below = field.kind.message().filter(|id| {
                field.cardinality == Cardinality::Single && self.message(*id).well_known.is_none()
            });
            match below {
                Some(id)
                    if value.as_object().is_some_and(|o| !o.is_empty()) && depth < MAX_DEPTH =>
                {
                    self.mask(id, value, &path, paths, depth + 1)
                }
                _ => paths.push(path),
            }
        }
    }
}
