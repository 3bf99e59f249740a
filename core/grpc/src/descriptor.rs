//! What a `.proto` file says, as `google/protobuf/descriptor.proto` defines it.
//!
//! Only what matters here is read, with the extensions that matter (`google.api.http`, `google.api.field_behavior`) and
//! the features of editions, which descriptor crates drop.

use prost::Message;

/// The files of a set, each left undecoded, so that it can be kept as it came.
#[derive(Clone, PartialEq, Message)]
pub struct RawSet {
    #[prost(bytes = "vec", repeated, tag = "1")]
    pub file: Vec<Vec<u8>>,
}

#[derive(Clone, PartialEq, Message)]
pub struct File {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(string, tag = "2")]
    pub package: String,
    #[prost(string, repeated, tag = "3")]
    pub dependency: Vec<String>,
    #[prost(message, repeated, tag = "4")]
    pub message_type: Vec<MessageProto>,
    #[prost(message, repeated, tag = "5")]
    pub enum_type: Vec<EnumProto>,
    #[prost(message, repeated, tag = "6")]
    pub service: Vec<ServiceProto>,
    #[prost(message, repeated, tag = "7")]
    pub extension: Vec<FieldProto>,
    #[prost(message, optional, tag = "8")]
    pub options: Option<FileOptions>,
    #[prost(message, optional, tag = "9")]
    pub source_code_info: Option<SourceCodeInfo>,
    #[prost(string, tag = "12")]
    pub syntax: String,
    #[prost(int32, optional, tag = "14")]
    pub edition: Option<i32>,
}

/// One file from its bytes.
pub fn file(bytes: &[u8]) -> Option<File> {
    File::decode(bytes).ok()
}

#[derive(Clone, PartialEq, Message)]
pub struct FileOptions {
    #[prost(message, optional, tag = "50")]
    pub features: Option<Features>,
}

/// `FeatureSet`; 0 is “not said here”.
#[derive(Clone, Copy, PartialEq, Message)]
pub struct Features {
    #[prost(int32, tag = "1")]
    pub field_presence: i32,
    #[prost(int32, tag = "2")]
    pub enum_type: i32,
    #[prost(int32, tag = "3")]
    pub repeated_field_encoding: i32,
    #[prost(int32, tag = "5")]
    pub message_encoding: i32,
}

impl Features {
    /// What these say, and for the rest what stands around them.
    pub(crate) fn within(self, outer: Self) -> Self {
        let or = |own: i32, other: i32| if own == 0 { other } else { own };
        Self {
            field_presence: or(self.field_presence, outer.field_presence),
            enum_type: or(self.enum_type, outer.enum_type),
            repeated_field_encoding: or(
                self.repeated_field_encoding,
                outer.repeated_field_encoding,
            ),
            message_encoding: or(self.message_encoding, outer.message_encoding),
        }
    }
}

#[derive(Clone, PartialEq, Message)]
pub struct MessageProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(message, repeated, tag = "2")]
    pub field: Vec<FieldProto>,
    #[prost(message, repeated, tag = "3")]
    pub nested_type: Vec<MessageProto>,
    #[prost(message, repeated, tag = "4")]
    pub enum_type: Vec<EnumProto>,
    #[prost(message, repeated, tag = "6")]
    pub extension: Vec<FieldProto>,
    #[prost(message, optional, tag = "7")]
    pub options: Option<MessageOptions>,
    #[prost(message, repeated, tag = "8")]
    pub oneof_decl: Vec<OneofProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct OneofProto {
    #[prost(string, tag = "1")]
    pub name: String,
}

#[derive(Clone, PartialEq, Message)]
pub struct MessageOptions {
    #[prost(bool, tag = "1")]
    pub message_set_wire_format: bool,
    #[prost(bool, tag = "7")]
    pub map_entry: bool,
    #[prost(message, optional, tag = "12")]
    pub features: Option<Features>,
}

#[derive(Clone, PartialEq, Message)]
pub struct FieldProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(string, tag = "2")]
    pub extendee: String,
    #[prost(int32, tag = "3")]
    pub number: i32,
    /// 1 optional, 2 required, 3 repeated.
    #[prost(int32, tag = "4")]
    pub label: i32,
    /// `FieldDescriptorProto.Type`.
    #[prost(int32, tag = "5")]
    pub kind: i32,
    #[prost(string, tag = "6")]
    pub type_name: String,
    #[prost(message, optional, tag = "8")]
    pub options: Option<FieldOptions>,
    #[prost(int32, optional, tag = "9")]
    pub oneof_index: Option<i32>,
    #[prost(string, tag = "10")]
    pub json_name: String,
    #[prost(bool, tag = "17")]
    pub proto3_optional: bool,
}

#[derive(Clone, PartialEq, Message)]
pub struct FieldOptions {
    #[prost(bool, optional, tag = "2")]
    pub packed: Option<bool>,
    #[prost(bool, tag = "3")]
    pub deprecated: bool,
    #[prost(message, optional, tag = "21")]
    pub features: Option<Features>,
    /// `google.api.field_behavior`.
    #[prost(int32, repeated, tag = "1052")]
    pub behavior: Vec<i32>,
}

#[derive(Clone, PartialEq, Message)]
pub struct EnumProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(message, repeated, tag = "2")]
    pub value: Vec<EnumValueProto>,
    #[prost(message, optional, tag = "3")]
    pub options: Option<EnumOptions>,
}

#[derive(Clone, PartialEq, Message)]
pub struct EnumValueProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(int32, tag = "2")]
    pub number: i32,
}

#[derive(Clone, PartialEq, Message)]
pub struct EnumOptions {
    #[prost(message, optional, tag = "7")]
    pub features: Option<Features>,
}

#[derive(Clone, PartialEq, Message)]
pub struct ServiceProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(message, repeated, tag = "2")]
    pub method: Vec<MethodProto>,
}

#[derive(Clone, PartialEq, Message)]
pub struct MethodProto {
    #[prost(string, tag = "1")]
    pub name: String,
    #[prost(string, tag = "2")]
    pub input_type: String,
    #[prost(string, tag = "3")]
    pub output_type: String,
    #[prost(message, optional, tag = "4")]
    pub options: Option<MethodOptions>,
    #[prost(bool, tag = "5")]
    pub client_streaming: bool,
    #[prost(bool, tag = "6")]
    pub server_streaming: bool,
}

#[derive(Clone, PartialEq, Message)]
pub struct MethodOptions {
    #[prost(bool, tag = "33")]
    pub deprecated: bool,
    /// `google.api.http`.
    #[prost(message, optional, tag = "72295728")]
    pub http: Option<HttpRule>,
}

/// `google.api.HttpRule`.
#[derive(Clone, PartialEq, Message)]
pub struct HttpRule {
    #[prost(string, tag = "1")]
    pub selector: String,
    #[prost(string, tag = "2")]
    pub get: String,
    #[prost(string, tag = "3")]
    pub put: String,
    #[prost(string, tag = "4")]
    pub post: String,
    #[prost(string, tag = "5")]
    pub delete: String,
    #[prost(string, tag = "6")]
    pub patch: String,
    #[prost(string, tag = "7")]
    pub body: String,
    #[prost(message, optional, tag = "8")]
    pub custom: Option<CustomPattern>,
    #[prost(message, repeated, tag = "11")]
    pub additional_bindings: Vec<HttpRule>,
    #[prost(string, tag = "12")]
    pub response_body: String,
}

/// `google.api.CustomHttpPattern`.
#[derive(Clone, PartialEq, Message)]
pub struct CustomPattern {
    #[prost(string, tag = "1")]
    pub kind: String,
    #[prost(string, tag = "2")]
    pub path: String,
}

#[derive(Clone, PartialEq, Message)]
pub struct SourceCodeInfo {
    #[prost(message, repeated, tag = "1")]
    pub location: Vec<Location>,
}

#[derive(Clone, PartialEq, Message)]
pub struct Location {
    #[prost(int32, repeated, tag = "1")]
    pub path: Vec<i32>,
    #[prost(string, tag = "3")]
    pub leading_comments: String,
    #[prost(string, tag = "4")]
    pub trailing_comments: String,
}
