//! From descriptors to tables.

use std::collections::{HashMap, HashSet};

use porch_contract::{Finding, Position, Severity};

use crate::descriptor::{EnumProto, Features, FieldProto, File, MessageProto, SourceCodeInfo};
use crate::types::*;

/// Defaults of `FeatureSet` by syntax and edition (“Feature Settings for Editions”).
fn defaults(file: &File) -> Features {
    match file.syntax.as_str() {
        // Explicit presence, closed enums, expanded lists.
        "" | "proto2" if file.edition.is_none() => Features {
            field_presence: 1,
            enum_type: 2,
            repeated_field_encoding: 2,
            message_encoding: 1,
        },
        "proto3" => Features {
            field_presence: 2,
            enum_type: 1,
            repeated_field_encoding: 1,
            message_encoding: 1,
        },
        _ => Features {
            field_presence: 1,
            enum_type: 1,
            repeated_field_encoding: 1,
            message_encoding: 1,
        },
    }
}

enum Named {
    Message(MessageId),
    Enum(EnumId),
}

/// A place in a file's descriptor, as `SourceCodeInfo.Location.path` has it.
type Path = Vec<i32>;

/// The comments of a file by place.
pub(crate) struct Comments<'f>(HashMap<&'f [i32], &'f str>);

impl<'f> Comments<'f> {
    pub(crate) fn of(info: Option<&'f SourceCodeInfo>) -> Self {
        let locations = info.map_or(&[][..], |i| &i.location).iter();
        Self(
            locations
                .filter_map(|l| {
                    let text = if l.leading_comments.trim().is_empty() {
                        &l.trailing_comments
                    } else {
                        &l.leading_comments
                    };
                    (!text.trim().is_empty()).then_some((l.path.as_slice(), text.as_str()))
                })
                .collect(),
        )
    }

    pub(crate) fn at(&self, path: &[i32]) -> Box<str> {
        let text = self.0.get(path).copied().unwrap_or_default();
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        lines.join("\n").trim().into()
    }
}

struct Pending<'f> {
    id: MessageId,
    proto: &'f MessageProto,
    features: Features,
    file: &'f File,
    path: Path,
}

struct Extension<'f> {
    proto: &'f FieldProto,
    name: String,
    features: Features,
    file: &'f File,
}

/// What surrounds a declaration.
#[derive(Clone, Copy)]
struct Around<'a, 'f> {
    file: &'f File,
    comments: &'a Comments<'f>,
    features: Features,
    scope: &'a str,
    depth: usize,
}

/// Builds the tables of all types of some files.
#[derive(Default)]
struct TypeBuilder<'f> {
    types: Types,
    named: HashMap<String, Named>,
    pending: Vec<Pending<'f>>,
    extensions: Vec<Extension<'f>>,
    map_entries: HashMap<MessageId, &'f MessageProto>,
    findings: Vec<Finding>,
}

/// The tables of all types of some files, and what was left out of them.
pub(crate) fn build(files: &[File]) -> (Types, Vec<Finding>) {
    let mut builder = TypeBuilder::default();
    files.iter().for_each(|file| builder.file(file));
    builder.all_fields();
    builder.all_extensions();
    let messages = &mut builder.types.messages;
    messages.iter_mut().for_each(MessageType::finish);
    (builder.types, builder.findings)
}

fn joined(scope: &str, name: &str) -> String {
    if scope.is_empty() {
        name.to_owned()
    } else {
        format!("{scope}.{name}")
    }
}

impl<'f> TypeBuilder<'f> {
    fn warn(&mut self, file: &File, text: String) {
        self.findings.push(Finding::new(
            Severity::Warning,
            &file.name,
            Position::default(),
            text,
        ));
    }

    fn file(&mut self, file: &'f File) {
        let options = file.options.as_ref();
        let features = within(options.and_then(|o| o.features), defaults(file));
        let comments = Comments::of(file.source_code_info.as_ref());
        let around = Around {
            file,
            comments: &comments,
            features,
            scope: &file.package,
            depth: 0,
        };
        for (i, m) in file.message_type.iter().enumerate() {
            self.declare(m, vec![4, i as i32], around);
        }
        for (i, e) in file.enum_type.iter().enumerate() {
            self.enumeration(e, &file.package, features, &comments.at(&[5, i as i32]));
        }
        self.extend(&file.extension, around);
    }

    fn extend(&mut self, extensions: &'f [FieldProto], around: Around<'_, 'f>) {
        self.extensions
            .extend(extensions.iter().map(|proto| Extension {
                proto,
                name: joined(around.scope, &proto.name),
                features: around.features,
                file: around.file,
            }));
    }

    fn all_fields(&mut self) {
        let pending = std::mem::take(&mut self.pending);
        for of_file in pending.chunk_by(|a, b| std::ptr::eq(a.file, b.file)) {
            let first = of_file.first();
            let comments = Comments::of(first.and_then(|p| p.file.source_code_info.as_ref()));
            of_file.iter().for_each(|p| self.fields(p, &comments));
        }
    }

    fn all_extensions(&mut self) {
        for extension in std::mem::take(&mut self.extensions) {
            let Extension {
                proto,
                name,
                features,
                file,
            } = extension;
            let extendee = proto.extendee.trim_start_matches('.');
            let Some(Named::Message(id)) = self.named.get(extendee) else {
                continue;
            };
            let id = *id;
            let bracketed = format!("[{name}]");
            if let Some(mut field) = self.field(proto, features, file, "") {
                set_names(&mut field, &bracketed, &bracketed);
                field.presence = true;
                self.types.messages[id.0 as usize].fields.push(field);
            }
        }
    }

    fn declare(&mut self, proto: &'f MessageProto, path: Path, around: Around<'_, 'f>) {
        let name = joined(around.scope, &proto.name);
        if around.depth > MAX_DEPTH {
            let text = format!("{name} lies in more than {MAX_DEPTH} messages and is left out");
            self.warn(around.file, text);
            return;
        }
        let options = proto.options.as_ref();
        let features = within(options.and_then(|o| o.features), around.features);
        let id = self.message(proto, &name, around.comments.at(&path), around.file);
        let below = Around {
            features,
            scope: &name,
            depth: around.depth + 1,
            ..around
        };
        let at = |kind: i32, i: usize| path.iter().copied().chain([kind, i as i32]).collect();
        for (i, e) in proto.enum_type.iter().enumerate() {
            let place: Path = at(4, i);
            self.enumeration(e, &name, features, &around.comments.at(&place));
        }
        for (i, m) in proto.nested_type.iter().enumerate() {
            self.declare(m, at(3, i), below);
        }
        self.extend(&proto.extension, below);
        self.pending.push(Pending {
            id,
            proto,
            features,
            file: around.file,
            path,
        });
    }

    /// A message by its name, its fields still missing.
    fn message(
        &mut self,
        proto: &'f MessageProto,
        name: &str,
        documentation: Box<str>,
        file: &File,
    ) -> MessageId {
        let options = proto.options.as_ref();
        let id = MessageId(self.types.messages.len() as u32);
        let oneofs = proto.oneof_decl.iter().map(|o| o.name.as_str().into());
        self.types.messages.push(MessageType {
            name: name.into(),
            fields: Vec::with_capacity(proto.field.len()),
            oneofs: oneofs.collect(),
            well_known: well_known(name),
            documentation,
            dense: Box::default(),
            names: Names::default(),
            any_required: false,
        });
        if options.is_some_and(|o| o.map_entry) {
            self.map_entries.insert(id, proto);
        }
        if options.is_some_and(|o| o.message_set_wire_format) {
            self.warn(file, format!("{name} has the wire format of message sets, which has no JSON form; its content is left out"));
        }
        let named = self.named.insert(name.to_owned(), Named::Message(id));
        if named.is_some() {
            let text = format!("{name} is defined more than once; the last one counts");
            self.warn(file, text);
        }
        self.types.by_name.insert(name.into(), id);
        id
    }

    fn enumeration(
        &mut self,
        proto: &EnumProto,
        scope: &str,
        outer: Features,
        documentation: &str,
    ) {
        let name = joined(scope, &proto.name);
        let options = proto.options.as_ref();
        let features = within(options.and_then(|o| o.features), outer);
        let mut e = EnumType {
            name: name.as_str().into(),
            values: proto
                .value
                .iter()
                .map(|v| (v.name.as_str().into(), v.number))
                .collect(),
            closed: features.enum_type == 2,
            null: name == "google.protobuf.NullValue",
            documentation: documentation.into(),
            by_number: HashMap::default(),
            names: Names::default(),
        };
        e.finish();
        let id = EnumId(self.types.enums.len() as u32);
        self.types.enums.push(e);
        self.named.insert(name, Named::Enum(id));
    }

    fn fields(&mut self, pending: &Pending<'f>, comments: &Comments<'_>) {
        let message = self.types.message(pending.id).name.clone();
        let mut taken = HashSet::new();
        for (i, proto) in pending.proto.field.iter().enumerate() {
            let at: Path = pending.path.iter().copied().chain([2, i as i32]).collect();
            let Some(mut field) = self.field(proto, pending.features, pending.file, &message)
            else {
                continue;
            };
            field.documentation = comments.at(&at);
            if taken.len() >= usize::from(u16::MAX - 1) || !taken.insert(field.number) {
                let text = format!(
                    "{message}.{}: the number {} is taken; the field is left out",
                    field.name, field.number
                );
                self.warn(pending.file, text);
                continue;
            }
            let fields = &mut self.types.messages[pending.id.0 as usize].fields;
            fields.push(field);
        }
    }

    /// A field; `None`, with a finding, when its type is nowhere.
    fn field(
        &mut self,
        proto: &FieldProto,
        outer: Features,
        file: &File,
        message: &str,
    ) -> Option<Field> {
        let options = proto.options.as_ref();
        let features = within(options.and_then(|o| o.features), outer);
        let (kind, cardinality) = match self.shape(proto, features) {
            Ok(shape) => shape,
            Err(NoType(missing)) => {
                let name = &proto.name;
                let text = format!(
                    "{message}.{name}: its type {missing} is nowhere to be found; the field is left out"
                );
                self.warn(file, text);
                return None;
            }
        };
        let number = u32::try_from(proto.number).ok();
        let number = number.filter(|n| *n > 0 && *n < 1 << 29)?;
        let repeated = proto.label == REPEATED;
        let in_oneof = proto.oneof_index.is_some() && !proto.proto3_optional;
        let explicit = kind.message().is_some()
            || in_oneof
            || proto.proto3_optional
            || features.field_presence != 2;
        let packed = options.and_then(|o| o.packed);
        let packed = packed.unwrap_or(features.repeated_field_encoding == 1);
        let has = |behaviour: i32| options.is_some_and(|o| o.behavior.contains(&behaviour));
        let mut field = Field {
            name: Box::default(),
            json: Box::default(),
            number,
            kind,
            cardinality,
            presence: !repeated && explicit,
            packed: repeated && kind.packable() && packed,
            required: proto.label == REQUIRED || (!repeated && features.field_presence == 3),
            oneof: proto
                .oneof_index
                .filter(|_| in_oneof)
                .and_then(|i| u16::try_from(i).ok()),
            must: has(2),
            output_only: has(3),
            deprecated: options.is_some_and(|o| o.deprecated),
            documentation: Box::default(),
            key: Key::default(),
            own_key: Key::default(),
            tag: Tag::new(number, kind.wire_type()),
        };
        if proto.json_name.is_empty() {
            set_names(&mut field, &proto.name, &lower_camel(&proto.name));
        } else {
            set_names(&mut field, &proto.name, &proto.json_name);
        }
        Some(field)
    }

    /// A field's kind, and whether there are several: a repeated entry is a map.
    fn shape(&self, proto: &FieldProto, features: Features) -> Result<(Kind, Cardinality), NoType> {
        let of = |proto: &FieldProto, features: Features| {
            let kind = self.kind(proto, features);
            kind.ok_or_else(|| NoType(proto.type_name.clone()))
        };
        let kind = of(proto, features)?;
        if proto.label != REPEATED {
            return Ok((kind, Cardinality::Single));
        }
        let entry = match kind {
            Kind::Message(id) => self.map_entries.get(&id),
            _ => None,
        };
        let Some(entry) = entry else {
            return Ok((kind, Cardinality::Repeated));
        };
        let part = |number: i32| {
            let field = entry.field.iter().find(|f| f.number == number);
            let field = field.ok_or_else(|| NoType(proto.type_name.clone()))?;
            let own = field.options.as_ref().and_then(|o| o.features);
            of(field, within(own, features))
        };
        let key = part(1)?;
        Ok((part(2)?, Cardinality::Map { key }))
    }

    /// `FieldDescriptorProto.Type`; a descriptor may leave the type out and give its name only.
    fn kind(&self, proto: &FieldProto, features: Features) -> Option<Kind> {
        let named = self.named.get(proto.type_name.trim_start_matches('.'));
        Some(match (proto.kind, named) {
            (1, _) => Kind::Double,
            (2, _) => Kind::Float,
            (3, _) => Kind::Int64,
            (4, _) => Kind::Uint64,
            (5, _) => Kind::Int32,
            (6, _) => Kind::Fixed64,
            (7, _) => Kind::Fixed32,
            (8, _) => Kind::Bool,
            (9, _) => Kind::String,
            (10, Some(Named::Message(id))) => Kind::Group(*id),
            (12, _) => Kind::Bytes,
            (13, _) => Kind::Uint32,
            (15, _) => Kind::Sfixed32,
            (16, _) => Kind::Sfixed64,
            (17, _) => Kind::Sint32,
            (18, _) => Kind::Sint64,
            (_, Some(Named::Message(id)))
                if features.message_encoding == 2 && !self.map_entries.contains_key(id) =>
            {
                Kind::Group(*id)
            }
            (_, Some(Named::Message(id))) => Kind::Message(*id),
            (_, Some(Named::Enum(id))) => Kind::Enum(*id),
            _ => return None,
        })
    }
}

/// The name of a type that is nowhere.
struct NoType(String);

/// `FieldDescriptorProto.Label`.
const REQUIRED: i32 = 2;
const REPEATED: i32 = 3;

/// The features of a declaration, within those around it.
fn within(own: Option<Features>, outer: Features) -> Features {
    own.unwrap_or_default().within(outer)
}

fn set_names(field: &mut Field, name: &str, json: &str) {
    (field.name, field.json) = (name.into(), json.into());
    (field.key, field.own_key) = (Key::of(json), Key::of(name));
}

/// The lower camel case of a field's name, as compilers make `json_name`: letters behind underscores are raised.
pub(crate) fn lower_camel(name: &str) -> String {
    let (mut out, mut raise) = (String::with_capacity(name.len()), false);
    for c in name.chars() {
        if c == '_' {
            raise = true;
        } else {
            out.push(if raise { c.to_ascii_uppercase() } else { c });
            raise = false;
        }
    }
    out
}

fn well_known(name: &str) -> Option<WellKnown> {
    if name == "google.api.HttpBody" {
        return Some(WellKnown::HttpBody);
    }
    Some(match name.strip_prefix("google.protobuf.")? {
        "Any" => WellKnown::Any,
        "Timestamp" => WellKnown::Timestamp,
        "Duration" => WellKnown::Duration,
        "FieldMask" => WellKnown::FieldMask,
        "Struct" => WellKnown::Struct,
        "Value" => WellKnown::Value,
        "ListValue" => WellKnown::ListValue,
        "Empty" => WellKnown::Empty,
        "DoubleValue" | "FloatValue" | "Int64Value" | "UInt64Value" | "Int32Value"
        | "UInt32Value" | "BoolValue" | "StringValue" | "BytesValue" => WellKnown::Wrapper,
        _ => return None,
    })
}
