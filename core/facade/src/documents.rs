//! The shapes of the documents that publishers write.

mod addresses;
mod admit;
mod attempts;
mod cache;
mod callers;
mod calls;
mod changes;
mod circuit;
mod cors;
mod credentials;
mod health;
mod json;
mod limits;
mod offers;
mod portal;
mod problems;
mod routing;
mod rules;
mod sensitive;
mod xml;

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer};
use serde_json::Value;

pub use addresses::Addresses;
pub(crate) use admit::{AdmitDoc, AnswersKept, Kept, NetworksDoc, ReadOnly, UnknownQuery};
pub(crate) use attempts::AttemptsDoc;
pub(crate) use cache::CacheDoc;
pub use callers::{Bound, CredentialDoc};
pub(crate) use callers::{
    CallersCertificateDoc, IntrospectDoc, KeyIn, QUERY_NAME, SignatureDoc, TokenDoc,
};
pub(crate) use calls::{NamedCallDoc, PagesDoc, RefusalDoc};
pub use changes::patch_of;
pub(crate) use changes::{ChangeDoc, ChangesDoc, FieldChangeDoc, FieldOp, substitution};
pub(crate) use circuit::CircuitDoc;
pub(crate) use cors::CorsDoc;
pub(crate) use credentials::{
    CertificateDoc, ClientDoc, CredentialsDoc, LoginDoc, PasswordKind, ShownBy,
};
pub(crate) use health::HealthDoc;
pub(crate) use json::*;
pub(crate) use limits::{Amount, Each, LimitDoc, PeriodsFrom, QuotaDoc, QuotaEnd};
pub use limits::{Per, WhenApart};
pub use offers::{
    AcceptDoc, Audience, Granting, OfferDoc, OpensDoc, Renewing, WhenChanged, is_term,
    is_value_of_term,
};
pub use portal::{ColoursDoc, GroupDoc, PageDoc, PortalDoc, SignUp};
pub(crate) use problems::{ProblemDoc, Texts};
pub(crate) use routing::{ChoiceDoc, RoutingDoc, ShadowDoc};
pub use rules::{ParameterDoc, ParameterKind, ReachDoc, Relaxed, RulesDoc, RulesHead, UseDoc};
pub(crate) use sensitive::SensitiveDoc;
pub(crate) use xml::XmlDoc;

use crate::units::{Day, Size, Span};

// What the checker holds texts to, in the words of JSON Schema (2020-12 validation §6.3.3), for editors. Where a pattern
// cannot say all of it (lengths, numbers of ports), it takes more than the checker.
const NAME: &str = "^[a-z][a-z0-9-]{0,63}$";
const BASE: &str = "^/([A-Za-z0-9._~!$&'()*+,;=:@/-]|%[0-9A-Fa-f]{2})*$";
const METHOD: &str = "^[A-Z]+$";
const HOST: &str = r"^([A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)*|\[[0-9A-Fa-f:.]+\])$";

/// A service behind the porch (`elm-porch: backend/1`).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BackendDoc {
    /// Always `backend/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "backend/1"))]
    pub elm_porch: String,
    /// Name, by which facades call it.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Title for people.
    #[serde(default)]
    pub title: String,
    /// Kind of service.
    pub kind: String,
    /// File or folder of its definition, beside this one: a WSDL for SOAP; for gRPC `.proto` files or a descriptor set.
    pub definition: Option<String>,
    /// SOAP: the port to call, by its name in the definition; the first that has the operation unless given.
    pub port: Option<String>,
    /// SOAP: how members are called in JSON; as in the definition unless given.
    #[serde(default)]
    pub names: Names,
    /// HTTP: what its bodies are; `application/json` unless given. XML is converted by the generic mapping.
    pub media_type: Option<MediaType>,
    /// HTTP: options of that mapping.
    pub xml: Option<XmlDoc>,
    /// gRPC: greatest size of one message, either way; 64MiB unless given.
    pub max_message: Option<Size>,
    /// gRPC: whether messages are sent compressed (gzip); answers may always be.
    #[serde(default)]
    pub compress: bool,
    /// Certificates that its own may be signed with, for addresses that begin with `https://`: a file in PEM beside this
    /// one; those of the machine unless given.
    pub trust: Option<String>,
    /// The name that its certificate must have, where that is another than the address's (RFC 6066 §3).
    #[schemars(regex(pattern = HOST))]
    pub server_name: Option<String>,
    /// HTTP and SOAP: whether it may choose HTTP/2 (RFC 7301) where its address begins with `https://`; it may unless given.
    pub http2: Option<bool>,
    /// Where it is called, unless the environment says otherwise.
    pub address: Option<Addresses>,
    /// HTTP and SOAP: how many connections each address takes at the same time; as many as there are calls unless given.
    pub connections: Option<u32>,
    /// Where connections are counted: how many calls may wait for one, in each address's queue; as many as there are unless
    /// given. More of them are refused at once.
    pub waiting: Option<u32>,
    /// How long a connection may take, TLS included; 5s unless given, and never longer than an answer.
    pub connect_timeout: Option<Span>,
    /// How long an answer that has begun may fall silent; as long as it may take unless given.
    pub idle_timeout: Option<Span>,
    /// How long an answer may take; 10s unless given.
    pub timeout: Option<Span>,
    /// Calls that are made again where they fail; none unless given.
    pub attempts: Option<AttemptsDoc>,
    /// When it is left alone for a while; never unless given.
    pub circuit: Option<CircuitDoc>,
    /// How its addresses are asked whether they are well; they are not unless given.
    pub health: Option<HealthDoc>,
    /// Credentials.
    #[serde(default)]
    pub credentials: CredentialsDoc,
}

/// How what a definition names is called in JSON.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Names {
    /// As in the definition.
    #[default]
    AsIs,
    /// In lower camel case: `RouteCode` becomes `routeCode`.
    Camel,
}

/// The API that callers see (`elm-porch: facade/1`).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct FacadeDoc {
    /// Always `facade/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "facade/1"))]
    pub elm_porch: String,
    /// Name.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Title for people.
    #[serde(default)]
    pub title: String,
    /// Host names it answers to; none given: all.
    #[serde(default)]
    #[schemars(inner(regex(pattern = HOST)))]
    pub hosts: Vec<String>,
    /// Base path, as in `/sailings/v2`.
    #[schemars(regex(pattern = BASE))]
    pub base: String,
    /// File of the contract (OpenAPI 3.1), beside this one.
    pub contract: String,
    /// What callers may send and ask for (by `Content-Type` and `Accept`), the first unless they ask; what the backend
    /// speaks passes through unless given.
    #[serde(default)]
    pub media_types: Vec<MediaType>,
    /// Options of the generic mapping, for the XML that callers send and get.
    pub xml: Option<XmlDoc>,
    /// gRPC: what the JSON of messages looks like.
    #[serde(default)]
    pub json: JsonDoc,
    /// gRPC: metadata that crosses the porch.
    #[serde(default)]
    pub metadata: MetadataDoc,
    /// gRPC: whether native callers may call the same methods, under the same rules.
    #[serde(default)]
    pub native: bool,
    /// Shared rules that act on all operations, by their names.
    #[serde(default)]
    pub rules: Vec<UseDoc>,
    /// Who and what may pass, for all operations.
    #[serde(default)]
    pub admit: AdmitDoc,
    /// Pages of other origins that may call from a browser; none unless given.
    pub cors: Option<CorsDoc>,
    /// Replies that are kept and given again; none unless given.
    pub cache: Option<CacheDoc>,
    /// Where calls go in place of a backend, by the name of that.
    #[serde(default)]
    pub routing: IndexMap<String, RoutingDoc>,
    /// When requests of any operation are refused, in the facade's own words; before what operations say themselves.
    #[serde(default)]
    pub refuse: Vec<RefusalDoc>,
    /// Whether replies are compressed for callers who take that (gzip); they are not unless given.
    pub compress: Option<bool>,
    /// What nobody is shown: masked in traces, and in all that is told of messages.
    pub sensitive: Option<SensitiveDoc>,
    /// What callers are told of problems, by reason (the last part of a problem's type), status (`404`) or many of them (`5XX`).
    #[serde(default)]
    pub problems: IndexMap<String, ProblemDoc>,
    /// Changes of the messages of all operations.
    #[serde(default)]
    pub changes: ChangesDoc,
    /// Whether what is answered is held against the contract; `pass` unless given.
    pub answers: Option<AnswersKept>,
    /// From when callers should not begin to use it any more, as in `2027-03-01`: replies say so (`Deprecation`,
    /// RFC 9745), and so does the portal.
    pub deprecation: Option<Day>,
    /// From when it may not be there any more, as in `2027-09-01` (`Sunset`, RFC 8594); nothing is refused by it.
    pub sunset: Option<Day>,
    /// How operations are carried out, by `operationId`.
    #[serde(default, deserialize_with = "or_nothing_said")]
    #[schemars(with = "IndexMap<String, Option<OperationDoc>>")]
    pub operations: IndexMap<String, OperationDoc>,
}

impl FacadeDoc {
    /// The backends of all its operations, as often as they are called, and those that calls may go to in their place.
    pub fn backends(&self) -> impl Iterator<Item = &str> {
        let others = self.routing.values().flat_map(RoutingDoc::backends);
        let called = self.operations.values().flat_map(OperationDoc::backends);
        called.chain(others)
    }

    /// From when an operation should not be used any more, and from when it may not be there: what it says itself, or the facade.
    pub fn dates_of(&self, id: &str) -> (Option<Day>, Option<Day>) {
        let own = self.operations.get(id);
        let deprecation = own.and_then(|o| o.deprecation).or(self.deprecation);
        let sunset = own.and_then(|o| o.sunset).or(self.sunset);
        (deprecation, sunset)
    }

    /// Whether calls of a backend may go to another one.
    pub(crate) fn leads(&self, from: &str, to: &str) -> bool {
        let own = self.operations.values().map(|o| &o.routing);
        let mut all = own.chain([&self.routing]).filter_map(|r| r.get(from));
        all.any(|routing| routing.backends().any(|b| b == to))
    }
}

/// Metadata that crosses the porch, by the names of header fields; those that end with `-bin` hold bytes in base64.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MetadataDoc {
    /// From the caller to the backend.
    #[serde(default)]
    pub request: Vec<String>,
    /// From the backend, before or behind its answer, to the caller.
    #[serde(default)]
    pub reply: Vec<String>,
}

/// An operation of which nothing is said (`quoteFare:`) is one all the same.
fn or_nothing_said<'de, D: Deserializer<'de>>(
    from: D,
) -> Result<IndexMap<String, OperationDoc>, D::Error> {
    let all: IndexMap<String, Option<OperationDoc>> = IndexMap::deserialize(from)?;
    let all = all.into_iter();
    Ok(all.map(|(id, o)| (id, o.unwrap_or_default())).collect())
}

/// How one operation is carried out.
#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OperationDoc {
    /// Shared rules that act on this operation besides, by their names.
    #[serde(default)]
    pub rules: Vec<UseDoc>,
    /// Rules for this operation, on top of the facade's.
    #[serde(default)]
    pub admit: AdmitDoc,
    /// What callers may send and ask for here, in place of what the facade says.
    #[serde(default)]
    pub media_types: Vec<MediaType>,
    /// Which backend is called; none given: examples of the contract are answered.
    pub call: Option<CallDoc>,
    /// Several calls in place of one, by names of their own: those that need nothing of one another run at once.
    #[serde(default)]
    pub calls: IndexMap<String, NamedCallDoc>,
    /// How long several calls may take together; as long as each of them may unless given.
    pub timeout: Option<Span>,
    /// When requests are refused, in the facade's own words; in this order.
    #[serde(default)]
    pub refuse: Vec<RefusalDoc>,
    /// What is sent. For SOAP: the input's members. For HTTP: `path`, `query`, `headers`, `body` or `form`.
    pub send: Option<Value>,
    /// SOAP: header elements of this operation's requests, by their names; on top of the backend's credentials.
    pub soap_headers: Option<Value>,
    /// gRPC: the field that the request's body is; `"*"` for the whole message (`body` of `google.api.HttpRule`).
    pub body: Option<String>,
    /// gRPC: the field that the reply's body is (`response_body` of `google.api.HttpRule`).
    pub response_body: Option<String>,
    /// What is made of the answer; the whole answer unless given.
    pub reply: Option<Value>,
    /// Pages of other origins that may call it, in place of what the facade says.
    pub cors: Option<CorsDoc>,
    /// Whether its replies are kept and given again, in place of what the facade says.
    pub cache: Option<CacheDoc>,
    /// Where its calls go in place of a backend, in place of what the facade says of that.
    #[serde(default)]
    pub routing: IndexMap<String, RoutingDoc>,
    /// Whether its replies are compressed, in place of what the facade says.
    pub compress: Option<bool>,
    /// What nobody is shown of it besides.
    pub sensitive: Option<SensitiveDoc>,
    /// What callers are told of problems here, before what the facade says.
    #[serde(default)]
    pub problems: IndexMap<String, ProblemDoc>,
    /// Changes of its messages, behind the facade's.
    #[serde(default)]
    pub changes: ChangesDoc,
    /// Whether what is answered here is held against the contract, in place of what the facade says.
    pub answers: Option<AnswersKept>,
    /// From when callers should not begin to use this operation any more, as in `2027-03-01`: replies say so (`Deprecation`,
    /// RFC 9745), and so does the portal.
    pub deprecation: Option<Day>,
    /// From when this operation may not be there any more, as in `2027-09-01` (`Sunset`, RFC 8594); nothing is refused by it.
    pub sunset: Option<Day>,
    /// Status of the reply for a declared fault, by the name of its detail element or its code; for gRPC by the code's name.
    #[serde(default)]
    pub faults: IndexMap<String, u16>,
}

impl OperationDoc {
    /// The backend that is called, where it is one call.
    pub fn backend(&self) -> Option<&str> {
        self.call.as_ref().map(|c| c.backend.as_str())
    }

    /// Whether nothing is called, and examples of the contract are answered.
    pub fn calls_nothing(&self) -> bool {
        self.call.is_none() && self.calls.is_empty()
    }

    /// The backends of all its calls, as often as they are called; and those that they may go to by what it says itself.
    pub fn backends(&self) -> impl Iterator<Item = &str> {
        let others = self.routing.values().flat_map(RoutingDoc::backends);
        self.calls_of().chain(others)
    }

    /// The backends that its calls name.
    pub(crate) fn calls_of(&self) -> impl Iterator<Item = &str> {
        let several = self.calls.values().map(|c| c.backend.as_str());
        self.backend().into_iter().chain(several)
    }

    /// The operations of definitions that it calls, with the backends that they are of.
    pub(crate) fn called(&self) -> impl Iterator<Item = (&str, &str)> {
        let one = self.call.iter();
        let one = one.filter_map(|c| Some((c.backend.as_str(), c.operation.as_deref()?)));
        let several = self.calls.values();
        let several = several.flat_map(|c| c.operations().map(|o| (c.backend.as_str(), o)));
        one.chain(several)
    }
}

/// Which backend is called, and what of it.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CallDoc {
    /// Name of the backend.
    pub backend: String,
    /// SOAP: name of the operation in its definition. gRPC: `package.Service/Method`.
    pub operation: Option<String>,
    /// HTTP: method; the caller's unless given.
    #[schemars(regex(pattern = METHOD))]
    pub method: Option<String>,
    /// HTTP: path at the backend; `{name}` is a variable (RFC 6570 §3.2.2). The operation's own path unless given.
    pub path: Option<String>,
}

/// A media type that can be converted.
#[derive(Clone, Copy, Debug, Deserialize, JsonSchema, PartialEq, Eq)]
pub enum MediaType {
    /// JSON (RFC 8259).
    #[serde(rename = "application/json")]
    Json,
    /// XML (RFC 7303).
    #[serde(rename = "application/xml")]
    Xml,
}

/// What differs between environments (`elm-porch: environment/1`).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct EnvironmentDoc {
    /// Always `environment/1`.
    #[serde(rename = "elm-porch")]
    #[schemars(extend("const" = "environment/1"))]
    pub elm_porch: String,
    /// Name.
    #[schemars(regex(pattern = NAME))]
    pub name: String,
    /// Backends' addresses here.
    #[serde(default)]
    pub backends: IndexMap<String, PlaceDoc>,
}

/// Where a backend is in an environment.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PlaceDoc {
    /// Its address here.
    pub address: Addresses,
}
