//! From descriptors to tables.

use std::collections::HashMap;

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

/// Builds the tables of all types of some files.
pub(crate) struct Builder<'f> {
    types: Types,
    named: HashMap<String, Named>,
    pending: Vec<Pending<'f>>,
    extensions: Vec<(&'f FieldProto, String, Features, &'f File)>,
    map_entries: HashMap<MessageId, &'f MessageProto>,
    pub(crate) findings: Vec<Finding>,
}

fn joined(scope: &str, name: &str) -> String {
    if scope.is_empty() {
        name.to_owned()
    } else {
        format!("{scope}.{name}")
    }
}

impl<'f> Builder<'f> {
    pub(crate) fn build(files: &'f [File]) -> (Types, Vec<Finding>) {
        let mut b = Self {
            types: Types::default(),
            named: HashMap::new(),
            pending: Vec::new(),
            extensions: Vec::new(),
            map_entries: HashMap::new(),
            findings: Vec::new(),
        };
        for file in files {
            let features = file
                .options
                .as_ref()
                .and_then(|o| o.features)
                .unwrap_or_default()
                .within(defaults(file));
            let comments = Comments::of(file.source_code_info.as_ref());
            for (i, m) in file.message_type.iter().enumerate() {
                b.declare(
                    file,
                    m,
                    &file.package,
                    features,
                    vec![4, i as i32],
                    &comments,
                    0,
                );
            }
            for (i, e) in file.enum_type.iter().enumerate() {
                b.enumeration(e, &file.package, features, &comments.at(&[5, i as i32]));
            }
            b.extensions.extend(
                file.extension
                    .iter()
                    .map(|x| (x, joined(&file.package, &x.name), features, file)),
            );
        }
        let pending = std::mem::take(&mut b.pending);
        for of_file in pending.chunk_by(|a, b| std::ptr::eq(a.file, b.file)) {
            let comments = Comments::of(
                of_file
                    .first()
                    .and_then(|p| p.file.source_code_info.as_ref()),
            );
            of_file.iter().for_each(|p| b.fields(p, &comments));
        }
        for (proto, name, features, file) in std::mem::take(&mut b.extensions) {
            let Some(Named::Message(id)) = b.named.get(proto.extendee.trim_start_matches('.'))
            else {
                continue;
            };
            let id = *id;
            let bracketed = format!("[{name}]");
            if let Some(mut field) = b.field(proto, features, file, "") {
                set_names(&mut field, &bracketed, &bracketed);
                field.presence = true;
                b.types.messages[id.0 as usize].fields.push(field);
            }
        }
        b.types.messages.iter_mut().for_each(MessageType::finish);
        (b.types, b.findings)
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "one recursion with its whole surroundings"
    )]
    fn declare(
        &mut self,
        file: &'f File,
        proto: &'f MessageProto,
        scope: &str,
        outer: Features,
        path: Path,
        comments: &Comments<'_>,
        depth: usize,
    ) {
        let name = joined(scope, &proto.name);
        if depth > MAX_DEPTH {
            self.findings.push(Finding::new(
                Severity::Warning,
                &file.name,
                Position::default(),
                format!("{name} lies in more than {MAX_DEPTH} messages and is left out"),
            ));
            return;
        }
        let options = proto.options.as_ref();
        let features = options
            .and_then(|o| o.features)
            .unwrap_or_default()
            .within(outer);
        let id = MessageId(self.types.messages.len() as u32);
        self.types.messages.push(MessageType {
            name: name.as_str().into(),
            fields: Vec::with_capacity(proto.field.len()),
            oneofs: proto
                .oneof_decl
                .iter()
                .map(|o| o.name.as_str().into())
                .collect(),
            well_known: well_known(&name),
            documentation: comments.at(&path),
            dense: Box::default(),
            names: Names::default(),
            any_required: false,
        });
        if options.is_some_and(|o| o.map_entry) {
            self.map_entries.insert(id, proto);
        }
        if options.is_some_and(|o| o.message_set_wire_format) {
            self.findings.push(Finding::new(
                Severity::Warning,
                &file.name,
                Position::default(),
                format!("{name} has the wire format of message sets, which has no JSON form; its content is left out"),
            ));
        }
        if self
            .named
            .insert(name.clone(), Named::Message(id))
            .is_some()
        {
            self.findings.push(Finding::new(
                Severity::Warning,
                &file.name,
                Position::default(),
                format!("{name} is defined more than once; the last one counts"),
            ));
        }
        self.types.by_name.insert(name.as_str().into(), id);
        for (i, e) in proto.enum_type.iter().enumerate() {
            let at: Path = path.iter().copied().chain([4, i as i32]).collect();
            self.enumeration(e, &name, features, &comments.at(&at));
        }
        for (i, m) in proto.nested_type.iter().enumerate() {
            let below: Path = path.iter().copied().chain([3, i as i32]).collect();
            self.declare(file, m, &name, features, below, comments, depth + 1);
        }
        self.extensions.extend(
            proto
                .extension
                .iter()
                .map(|x| (x, joined(&name, &x.name), features, file)),
        );
        self.pending.push(Pending {
            id,
            proto,
            features,
            file,
            path,
        });
    }

    fn enumeration(
        &mut self,
        proto: &EnumProto,
        scope: &str,
        outer: Features,
        documentation: &str,
    ) {
        let name = joined(scope, &proto.name);
        let features = proto
            .options
            .as_ref()
            .and_then(|o| o.features)
            .unwrap_or_default()
            .within(outer);
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
        for (i, proto) in pending.proto.field.iter().enumerate() {
            let at: Path = pending.path.iter().copied().chain([2, i as i32]).collect();
            let Some(mut field) = self.field(proto, pending.features, pending.file, &message)
            else {
                continue;
            };
            field.documentation = comments.at(&at);
            let taken = |f: &Field| f.number == field.number;
            if self.types.message(pending.id).fields.iter().any(taken)
                || self.types.message(pending.id).fields.len() >= usize::from(u16::MAX - 1)
            {
                self.findings.push(Finding::new(
                    Severity::Warning,
                    &pending.file.name,
                    Position::default(),
                    format!(
                        "{message}.{}: the number {} is taken; the field is left out",
                        field.name, field.number
                    ),
                ));
                continue;
            }
            self.types.messages[pending.id.0 as usize]
                .fields
                .push(field);
        }
    }

    fn field(
        &mut self,
        proto: &FieldProto,
        outer: Features,
        file: &File,
        message: &str,
    ) -> Option<Field> {
        let options = proto.options.as_ref();
        let features = options
            .and_then(|o| o.features)
            .unwrap_or_default()
            .within(outer);
        let missing = |b: &mut Self| {
            let text = format!(
                "{message}.{}: its type {} is nowhere to be found; the field is left out",
                proto.name, proto.type_name
            );
            b.findings.push(Finding::new(
                Severity::Warning,
                &file.name,
                Position::default(),
                text,
            ));
            None
        };
        let named = self.named.get(proto.type_name.trim_start_matches('.'));
        let mut kind = match (proto.kind, named) {
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
            // A descriptor may leave the type out and give its name only.
            (_, Some(Named::Message(id)))
                if features.message_encoding == 2 && !self.map_entries.contains_key(id) =>
            {
                Kind::Group(*id)
            }
            (_, Some(Named::Message(id))) => Kind::Message(*id),
            (_, Some(Named::Enum(id))) => Kind::Enum(*id),
            _ => return missing(self),
        };
        let repeated = proto.label == 3;
        let mut cardinality = if repeated {
            Cardinality::Repeated
        } else {
            Cardinality::Single
        };
        if let (Kind::Message(id), true) = (kind, repeated)
            && let Some(entry) = self.map_entries.get(&id).copied()
        {
            let part = |number: i32| entry.field.iter().find(|f| f.number == number);
            let (Some(key), Some(value)) = (part(1), part(2)) else {
                return missing(self);
            };
            let key = self.field(key, features, file, message)?.kind;
            kind = self.field(value, features, file, message)?.kind;
            cardinality = Cardinality::Map { key };
        }
        let message_like = kind.message().is_some();
        let in_oneof = proto.oneof_index.is_some() && !proto.proto3_optional;
        let presence = !repeated
            && (message_like || in_oneof || proto.proto3_optional || features.field_presence != 2);
        let packed = repeated
            && kind.packable()
            && options
                .and_then(|o| o.packed)
                .unwrap_or(features.repeated_field_encoding == 1);
        let has = |behaviour: i32| options.is_some_and(|o| o.behavior.contains(&behaviour));
        let json = if proto.json_name.is_empty() {
            lower_camel(&proto.name)
        } else {
            proto.json_name.clone()
        };
        let mut field = Field {
            name: Box::default(),
            json: Box::default(),
            number: u32::try_from(proto.number)
                .ok()
                .filter(|n| *n > 0 && *n < 1 << 29)?,
            kind,
            cardinality,
            presence,
            packed,
            required: proto.label == 2 || (!repeated && features.field_presence == 3),
            oneof: proto
                .oneof_index
                .filter(|_| in_oneof)
                .and_then(|i| u16::try_from(i).ok()),
            must: has(2),
            output_only: has(3),
            deprecated: options.is_some_and(|o| o.deprecated),
            documentation: Box::default(),
            key: Box::default(),
            own_key: Box::default(),
            tag: Tag::new(proto.number as u32, kind.wire_type()),
        };
        set_names(&mut field, &proto.name, &json);
        Some(field)
    }
}

fn set_names(field: &mut Field, name: &str, json: &str) {
    let key = |name: &str| {
        format!("{}:", serde_json::Value::from(name))
            .into_bytes()
            .into_boxed_slice()
    };
    (field.name, field.json) = (name.into(), json.into());
    (field.key, field.own_key) = (key(json), key(name));
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
