//! What a request must be to pass.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use http::{HeaderName, HeaderValue};
use ipnet::IpNet;
use porch_contract::{ParamType, Place, Shape, Style};
use porch_soap::generic::Mapping;
use porch_valid::Validator;

use porch_proof::{Expected, SignedBy};
use porch_rules::expr::Template;
use porch_tls::Authorities;

use super::RulePlace;
use super::{CompiledBackend, Limits};
pub use crate::documents::Bound;
use crate::documents::MediaType;

/// Who and what may pass.
#[derive(Debug)]
pub struct Admission {
    /// From which networks callers may call: all of these rules hold; none: from every one.
    pub networks: Box<[Arc<Networks>]>,
    /// Demanded, of which one must be shown, in the order in which they are tried; none: nobody is asked.
    pub credentials: Arc<Demanded>,
    /// Roles that callers must have, those of the widest reach first; all of them hold.
    pub roles: Vec<Arc<RoleRule>>,
    /// Limits and quotas, those of the widest reach first; all of them hold.
    pub limits: Limits,
    /// Greatest size of a request body in bytes.
    pub max_body: u64,
    /// Where that stands.
    pub max_body_place: Arc<RulePlace>,
    /// Whether a body must be sent.
    pub body_required: bool,
    /// Parameters.
    pub parameters: Box<[ParamPlan]>,
    /// Parameters that are objects, lists in a path, JSON or cookies: looked at besides. Few operations have any.
    pub shaped: Box<[ShapedPlan]>,
    /// Whether one of those in the query has more to its schema than a type.
    pub query_schemas: bool,
    /// Whether query parameters that are none of these are refused.
    pub only_known_query: bool,
    /// Whether those are taken out of what the backend gets.
    pub drops_unknown_query: bool,
    /// What a body must be, where it is held against the contract and not read by types of its own.
    pub body: Option<Arc<BodyPlan>>,
    /// How forms are read, where callers may send some.
    pub form: Option<Arc<FormPlan>>,
    /// What callers may send and ask for; `None`: whatever the backend speaks.
    pub media: Option<Arc<Media>>,
}

/// How a form that callers send is read (`application/x-www-form-urlencoded`).
#[derive(Debug)]
pub struct FormPlan {
    /// Its members by name: whether it is a list, and the type of its value or of each.
    pub members: HashMap<Box<str>, (bool, ParamType)>,
    /// Its schema.
    pub schema: Option<Validator>,
}

/// Networks whose callers may call.
#[derive(Debug)]
pub struct Networks {
    /// Only these; none: all.
    pub allow: Vec<IpNet>,
    /// Not these.
    pub deny: Vec<IpNet>,
    /// Where it stands.
    pub place: RulePlace,
}

impl Networks {
    /// Whether a caller's address may call. One of IPv4 is the same however it came (RFC 4291 §2.5.5.2).
    pub fn lets(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        let is_in = |all: &[IpNet]| all.iter().any(|net| net.contains(&address));
        !is_in(&self.deny) && (self.allow.is_empty() || is_in(&self.allow))
    }
}

/// A kind of credential, and where it is shown.
#[derive(Clone, Debug)]
pub enum CredentialKind {
    /// A consumer's key.
    Key(KeyPlace),
    /// A consumer's name and password (RFC 7617).
    Basic,
    /// A token that an issuer signed.
    Token(Arc<TokenRule>),
    /// A signature of the request (RFC 9421).
    Signature(Arc<SignatureRule>),
    /// A certificate, shown by TLS.
    Certificate(Arc<CertificateRule>),
}

/// Which certificates are taken.
#[derive(Debug)]
pub struct CertificateRule {
    /// A number for what follows, by which what was found out of a certificate is remembered.
    pub id: u64,
    /// Who must have signed them; none: they are known by their fingerprints.
    pub authorities: Option<Authorities>,
}

/// Which signed requests are taken.
#[derive(Debug)]
pub struct SignatureRule {
    /// What must be signed.
    pub covers: Box<[String]>,
    /// Whether a body must be.
    pub digest: bool,
    /// How old it may be, in seconds.
    pub within: i64,
    /// By how many seconds clocks may differ.
    pub skew: i64,
    /// Whether it must have a nonce.
    pub nonce: bool,
    /// The algorithms that are taken.
    pub algorithms: Box<[SignedBy]>,
    /// What it must be for.
    pub tag: Option<String>,
}

/// How an issuer is asked whether a token is good.
#[derive(Debug)]
pub struct Introspection {
    /// What this gateway shows there.
    pub authorization: HeaderValue,
    /// How long what is said is remembered.
    pub remember: Duration,
}

/// Tokens of an issuer, and what follows from them.
#[derive(Debug)]
pub struct TokenRule {
    /// What they must be.
    pub expected: Expected,
    /// Who has the keys: what is learned hangs on its identity.
    pub server: CompiledBackend,
    /// Path and query of the keys, or of the discovery document.
    pub target: String,
    /// Whether it is that of the discovery document.
    pub discovers: bool,
    /// How the issuer is asked of each, where it is.
    pub introspection: Option<Introspection>,
    /// How they must be bound; nothing: as they are.
    pub bound: Box<[Bound]>,
    /// What a consumer is found by.
    pub consumer: Template,
    /// The roles that it gives.
    pub roles: Option<Template>,
}

/// The root that the claims of a token are named by, in what follows from them.
pub const CLAIMS: &str = "claims";

/// Where a key is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyPlace {
    /// In a header field, with its name for people.
    Header(HeaderName, Box<str>),
    /// As `Authorization: Bearer` (RFC 6750 §2.1).
    Bearer,
    /// As a query parameter.
    Query(Box<str>),
}

impl CredentialKind {
    /// Whether it stands in `Authorization`.
    pub fn is_in_authorization(&self) -> bool {
        matches!(
            self,
            Self::Key(KeyPlace::Bearer) | Self::Basic | Self::Token(_)
        )
    }

    /// Whether it takes more than a look at the table of grants to hold it good.
    pub fn is_proven(&self) -> bool {
        !matches!(self, Self::Key(_))
    }

    /// Whether callers are asked for a certificate for it.
    pub fn asks_for_certificates(&self) -> bool {
        match self {
            Self::Certificate(_) => true,
            Self::Token(rule) => rule.bound.contains(&Bound::Certificate),
            _ => false,
        }
    }

    /// Where it is shown, in words.
    pub fn shown_in(&self) -> String {
        match self {
            Self::Key(KeyPlace::Header(_, name)) => format!("in the header {name}"),
            Self::Key(KeyPlace::Query(name)) => format!("in the query, as {name}"),
            Self::Key(KeyPlace::Bearer) => "as Authorization: Bearer".to_owned(),
            Self::Basic => "as Authorization: Basic".to_owned(),
            Self::Token(_) => "as Authorization: Bearer".to_owned(),
            Self::Signature(_) => "in Signature-Input and Signature".to_owned(),
            Self::Certificate(_) => "by TLS".to_owned(),
        }
    }
}

/// Roles of callers that may call: one of them is enough.
#[derive(Debug)]
pub struct RoleRule {
    /// Their names.
    pub any: Box<[String]>,
    /// Where it stands.
    pub place: RulePlace,
}

/// The credentials that are demanded: one of them is enough.
#[derive(Debug, Default)]
pub struct Demanded {
    /// In the order in which they are looked for.
    pub rules: Box<[CredentialRule]>,
    /// Whether one of them stands in `Authorization`.
    pub in_authorization: bool,
    /// Whether one of them takes more than a look at the table of grants.
    pub proven: bool,
    /// The query parameters that may carry one.
    pub in_query: Box<[Box<str>]>,
    /// The header fields of their own that do.
    pub in_fields: Box<[HeaderName]>,
}

impl Demanded {
    /// These.
    pub fn new(rules: Box<[CredentialRule]>) -> Self {
        let kinds = || rules.iter().map(|r| &r.kind);
        let query = kinds().filter_map(|k| match k {
            CredentialKind::Key(KeyPlace::Query(name)) => Some(name.clone()),
            _ => None,
        });
        let fields = kinds().filter_map(|k| match k {
            CredentialKind::Key(KeyPlace::Header(name, _)) => Some(name.clone()),
            _ => None,
        });
        Self {
            in_authorization: kinds().any(CredentialKind::is_in_authorization),
            proven: kinds().any(CredentialKind::is_proven),
            in_query: query.collect(),
            in_fields: fields.collect(),
            rules,
        }
    }

    /// Whether none is demanded.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }
}

/// A credential that is demanded.
#[derive(Debug)]
pub struct CredentialRule {
    /// Its kind.
    pub kind: CredentialKind,
    /// Where it is demanded.
    pub place: RulePlace,
}

/// One parameter, compiled.
#[derive(Debug)]
pub struct ParamPlan {
    /// Its name.
    pub name: Box<str>,
    /// Another spelling of its name that is read too.
    pub other: Option<Box<str>>,
    /// Where it stands in the request.
    pub place: Place,
    /// Type of its value; of each, where it may stand several times.
    pub kind: ParamType,
    /// Whether it is a list: it stands once for each value (OpenAPI 3.1 §4.8.12.2, style `form`, exploded).
    pub many: bool,
    /// Whether it must be there.
    pub required: bool,
    /// Whether the call reads it by its own types, and expressions do not see it.
    pub of_call: bool,
    /// Allowed texts; none given: all.
    pub enumeration: Box<[String]>,
    /// What stands between the values of a list that stands once.
    pub between: Option<char>,
    /// What else its schema says.
    pub schema: Option<Validator>,
    /// Whether it may be there without a value.
    pub may_be_empty: bool,
}

/// A parameter that is no plain value and no list of them in query or header.
#[derive(Debug)]
pub struct ShapedPlan {
    /// Its name.
    pub name: Box<str>,
    /// Where it stands.
    pub place: ShapedPlace,
    /// How it is written.
    pub shape: Shape,
    /// What is read of it.
    pub kind: ShapedKind,
    /// Whether it must be there.
    pub required: bool,
    /// What its schema says.
    pub schema: Option<Validator>,
}

/// Where such a parameter stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShapedPlace {
    /// In the path: the variable, by its index.
    Path(usize),
    /// In the query.
    Query,
    /// In a header field.
    Header,
    /// Among the cookies.
    Cookie,
}

/// What is read of such a parameter.
#[derive(Debug)]
pub enum ShapedKind {
    /// One value.
    One(ParamType),
    /// Several.
    List(ParamType),
    /// Members: the types of those that are known, whether they are lists, and the type of all others.
    Object(Box<[(String, ParamType, bool)]>, ParamType),
}

impl ShapedPlan {
    /// Whether it is an object of the query, written as `name[member]=value`.
    pub fn is_deep(&self) -> bool {
        self.place == ShapedPlace::Query && self.shape.style == Style::Deep
    }

    /// Whether it is an object whose members stand in the query by their own names.
    pub fn takes_any_name(&self) -> bool {
        self.place == ShapedPlace::Query
            && self.shape.style == Style::Form
            && self.shape.explode
            && matches!(self.kind, ShapedKind::Object(..))
    }
}

/// A media type of bodies.
#[derive(Debug)]
pub struct BodyType {
    /// Its name, or a range.
    pub name: String,
    /// The schema of its JSON, where it is one that may be JSON.
    pub json: Option<Validator>,
}

/// What a body must be to pass.
#[derive(Debug)]
pub struct BodyPlan {
    /// Media types that the contract has, ranges among them.
    pub types: Vec<BodyType>,
    /// Whether there must be one.
    pub required: bool,
    /// Whether members that only the service sets are taken out, and not refused.
    pub drops_read_only: bool,
}

/// The media types that callers of an operation can choose from.
#[derive(Debug, PartialEq, Eq)]
pub struct Media {
    /// The types, the default first.
    pub offered: Vec<MediaType>,
    /// How their XML and JSON stand for each other.
    pub mapping: Mapping,
}
