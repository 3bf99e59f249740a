//! Message and enum types as flat tables: what the converters work from.

use std::collections::HashMap;
use std::hash::BuildHasherDefault;

use porch_contract::Fnv;

pub(crate) type Names<T> = HashMap<Box<str>, T, BuildHasherDefault<Fnv>>;

/// Number of a message type in [`Types`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct MessageId(pub u32);

/// Number of an enum type in [`Types`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct EnumId(pub u32);

/// What a field holds (`FieldDescriptorProto.Type`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names of descriptor.proto")]
pub enum Kind {
    Double,
    Float,
    Int64,
    Uint64,
    Int32,
    Fixed64,
    Fixed32,
    Bool,
    String,
    Group(MessageId),
    Message(MessageId),
    Bytes,
    Uint32,
    Enum(EnumId),
    Sfixed32,
    Sfixed64,
    Sint32,
    Sint64,
}

/// Wire types (encoding of protocol buffers, “Message Structure”).
pub(crate) const VARINT: u32 = 0;
pub(crate) const FIXED64: u32 = 1;
pub(crate) const LENGTH: u32 = 2;
pub(crate) const START_GROUP: u32 = 3;
pub(crate) const END_GROUP: u32 = 4;
pub(crate) const FIXED32: u32 = 5;

impl Kind {
    pub(crate) fn wire_type(self) -> u32 {
        match self {
            Kind::Double | Kind::Fixed64 | Kind::Sfixed64 => FIXED64,
            Kind::Float | Kind::Fixed32 | Kind::Sfixed32 => FIXED32,
            Kind::String | Kind::Bytes | Kind::Message(_) => LENGTH,
            Kind::Group(_) => START_GROUP,
            _ => VARINT,
        }
    }

    /// Whether several values can stand in one packed record.
    pub(crate) fn packable(self) -> bool {
        !matches!(self.wire_type(), LENGTH | START_GROUP)
    }

    /// The message type, for messages and groups.
    pub fn message(self) -> Option<MessageId> {
        match self {
            Kind::Message(id) | Kind::Group(id) => Some(id),
            _ => None,
        }
    }
}

/// How often a field may stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cardinality {
    /// At most once.
    Single,
    /// As often as it likes.
    Repeated,
    /// A map; the field's kind is that of its values.
    Map {
        /// Kind of the keys.
        key: Kind,
    },
}

/// One field of a message.
#[derive(Clone, Debug)]
pub struct Field {
    /// Name in the `.proto` file; `[full.name]` for extensions.
    pub name: Box<str>,
    /// Name in JSON.
    pub json: Box<str>,
    /// Number on the wire.
    pub number: u32,
    /// What it holds.
    pub kind: Kind,
    /// How often.
    pub cardinality: Cardinality,
    /// Whether “not there” and “there with its default” are told apart.
    pub presence: bool,
    /// Whether repeated numbers are written packed.
    pub packed: bool,
    /// proto2's `required`, `LEGACY_REQUIRED` of editions.
    pub required: bool,
    /// The choice that it belongs to, if it belongs to one.
    pub oneof: Option<u16>,
    /// `google.api.field_behavior` REQUIRED.
    pub must: bool,
    /// `google.api.field_behavior` OUTPUT_ONLY.
    pub output_only: bool,
    /// Whether it is deprecated.
    pub deprecated: bool,
    /// Its comment.
    pub documentation: Box<str>,
    /// `,"json":`, ready to be written.
    pub(crate) key: Key,
    /// The same with the name of the `.proto` file.
    pub(crate) own_key: Key,
    /// Tag with the wire type of one value, ready to be written.
    pub(crate) tag: Tag,
}

/// A member's name in JSON with the marks around it: `,"name":`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Key {
    /// Short ones: a copy of a length that the compiler knows costs no call.
    short: [u8; SHORT],
    len: u8,
    long: Box<[u8]>,
}

const SHORT: usize = 24;

impl Key {
    pub(crate) fn of(name: &str) -> Self {
        let text = format!(",{}:", serde_json::Value::from(name)).into_bytes();
        let mut key = Self::default();
        match key.short.get_mut(..text.len()) {
            Some(room) => {
                room.copy_from_slice(&text);
                key.len = text.len() as u8;
            }
            None => key.long = text.into(),
        }
        key
    }

    /// All of it; without the comma where it is the first member's.
    #[inline]
    pub(crate) fn text(&self, first: bool) -> &[u8] {
        let text = if self.long.is_empty() {
            &self.short[..usize::from(self.len)]
        } else {
            &self.long
        };
        text.get(usize::from(first)..).unwrap_or_default()
    }

    /// Appends it behind another member.
    #[inline]
    pub(crate) fn put(&self, out: &mut Vec<u8>) {
        if self.long.is_empty() {
            let end = out.len() + usize::from(self.len);
            out.extend_from_slice(&self.short);
            out.truncate(end);
        } else {
            out.extend_from_slice(&self.long);
        }
    }

    /// Appends it as the first member's.
    #[inline]
    pub(crate) fn put_first(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(self.text(true));
    }
}

/// A tag as it stands on the wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Tag {
    bytes: [u8; 5],
    len: u8,
}

impl Tag {
    pub(crate) fn new(number: u32, wire_type: u32) -> Self {
        let (mut bytes, mut len, mut value) = ([0; 5], 0, number << 3 | wire_type);
        loop {
            let rest = value >> 7;
            bytes[len as usize] = (value & 0x7f) as u8 | if rest > 0 { 0x80 } else { 0 };
            len += 1;
            value = rest;
            if value == 0 {
                return Self { bytes, len };
            }
        }
    }

    pub(crate) fn bytes(&self) -> &[u8] {
        &self.bytes[..usize::from(self.len)]
    }
}

impl Field {
    /// Whether it is a list or a map.
    pub fn is_many(&self) -> bool {
        self.cardinality != Cardinality::Single
    }

    /// The tag of a packed record, or of a map's entry.
    pub(crate) fn length_tag(&self) -> Tag {
        Tag::new(self.number, LENGTH)
    }
}

/// Messages with a JSON form of their own (JSON mapping of protocol buffers, table).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names of the standard files")]
pub enum WellKnown {
    Any,
    Timestamp,
    Duration,
    FieldMask,
    Struct,
    Value,
    ListValue,
    Wrapper,
    Empty,
    HttpBody,
}

impl WellKnown {
    /// Whether its JSON stands as the member `value` in an `Any` (`any.proto`, “JSON”): it is no object of the message's
    /// own fields.
    pub(crate) fn stands_as_value(&self) -> bool {
        !matches!(self, Self::HttpBody | Self::Empty)
    }
}

/// A message type.
#[derive(Clone, Debug)]
pub struct MessageType {
    /// Full name without a leading dot.
    pub name: Box<str>,
    /// Fields by number.
    pub fields: Vec<Field>,
    /// Names of its choices.
    pub oneofs: Vec<Box<str>>,
    /// Its JSON form, when it is not the usual one.
    pub well_known: Option<WellKnown>,
    /// Its comment.
    pub documentation: Box<str>,
    pub(crate) dense: Box<[u16]>,
    pub(crate) names: Names<u16>,
    pub(crate) any_required: bool,
}

const NONE: u16 = u16::MAX;

impl MessageType {
    pub(crate) fn finish(&mut self) {
        self.fields.sort_by_key(|f| f.number);
        let most = self
            .fields
            .iter()
            .map(|f| f.number)
            .filter(|n| *n < 256)
            .max()
            .map_or(0, |n| n as usize + 1);
        let mut dense = vec![NONE; most];
        for (i, field) in self.fields.iter().enumerate() {
            if let Some(slot) = dense.get_mut(field.number as usize) {
                *slot = i as u16;
            }
            self.names.entry(field.name.clone()).or_insert(i as u16);
        }
        // A JSON name wins over another field's own name.
        for (i, field) in self.fields.iter().enumerate() {
            self.names.insert(field.json.clone(), i as u16);
        }
        self.dense = dense.into();
        self.any_required = self.fields.iter().any(|f| f.required || f.must);
    }

    #[inline]
    pub(crate) fn index(&self, number: u32) -> Option<usize> {
        match self.dense.get(number as usize) {
            Some(&NONE) => None,
            Some(i) => Some(usize::from(*i)),
            None if (number as usize) < self.dense.len() => None,
            None => self.fields.binary_search_by_key(&number, |f| f.number).ok(),
        }
    }

    /// A field by its JSON name or its own.
    pub fn field(&self, name: &str) -> Option<&Field> {
        self.names.get(name).map(|i| &self.fields[usize::from(*i)])
    }
}

/// An enum type.
#[derive(Clone, Debug)]
pub struct EnumType {
    /// Full name without a leading dot.
    pub name: Box<str>,
    /// Names and numbers, in the order written.
    pub values: Vec<(Box<str>, i32)>,
    /// Whether numbers without a name cannot stand (proto2, `CLOSED` of editions).
    pub closed: bool,
    /// `google.protobuf.NullValue`, which is JSON's `null`.
    pub null: bool,
    /// Its comment.
    pub documentation: Box<str>,
    pub(crate) by_number: HashMap<i32, u32, BuildHasherDefault<Fnv>>,
    pub(crate) names: Names<i32>,
}

impl EnumType {
    pub(crate) fn finish(&mut self) {
        for (i, (name, number)) in self.values.iter().enumerate() {
            // Of several names for a number the first is written (allow_alias).
            self.by_number.entry(*number).or_insert(i as u32);
            self.names.insert(name.clone(), *number);
        }
    }

    /// The name of a number.
    pub fn name_of(&self, number: i32) -> Option<&str> {
        self.by_number
            .get(&number)
            .map(|i| &*self.values[*i as usize].0)
    }
}

/// All types of a definition.
#[derive(Clone, Debug, Default)]
pub struct Types {
    /// Message types by their number.
    pub messages: Vec<MessageType>,
    /// Enum types by their number.
    pub enums: Vec<EnumType>,
    pub(crate) by_name: Names<MessageId>,
}

impl Types {
    /// A message type.
    #[inline]
    pub fn message(&self, id: MessageId) -> &MessageType {
        &self.messages[id.0 as usize]
    }

    /// An enum type.
    #[inline]
    pub fn enumeration(&self, id: EnumId) -> &EnumType {
        &self.enums[id.0 as usize]
    }

    /// The same types, where fields are called in JSON as in their `.proto` files.
    #[must_use]
    pub fn in_own_names(&self) -> Self {
        let mut types = self.clone();
        for message in &mut types.messages {
            for field in &mut message.fields {
                field.json = field.name.clone();
            }
        }
        types
    }

    /// A message type by its full name, without a leading dot.
    pub fn find(&self, name: &str) -> Option<MessageId> {
        self.by_name.get(name).copied()
    }
}

/// What JSON looks like and what is done with members that have no field.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct JsonOptions {
    /// Whether fields without presence are shown when they have their default.
    pub defaults: bool,
    /// Whether fields have the names of the `.proto` file.
    pub own_names: bool,
    /// Whether enums are shown as numbers.
    pub enum_numbers: bool,
    /// Whether members without a field are passed over instead of refused.
    pub ignore_unknown: bool,
    /// Whether fields that are REQUIRED (`google/api/field_behavior.proto`) must be there.
    pub required: bool,
}

/// Messages in messages, at most: as all implementations have it.
pub(crate) const MAX_DEPTH: usize = 100;
