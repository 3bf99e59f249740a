//! The compiled porch: what the data plane works from.
//!
//! Each facade is compiled alone into an [`Arc<CompiledFacade>`] that holds everything it stands on; a [`CompiledPorch`] is a
//! list of them with one router over all. When one facade, address or secret changes, one of them is made anew and the
//! others stay.

mod admission;
mod answers;
mod backend;
mod cache;
mod changes;
mod cors;
mod definition;
mod examples;
mod inside;
mod limits;
mod operation;
mod place;
mod problems;
mod routing;
mod secrets;
mod sensitive;

use std::sync::Arc;

use http::HeaderName;
use porch_contract::{Finding, PathTemplate, Segment, has_errors};

pub use crate::index::OperationIndex;
pub use admission::{
    Admission, BodyPlan, BodyType, Bound, CLAIMS, CertificateRule, CredentialKind, CredentialRule,
    Demanded, FormPlan, Introspection, KeyPlace, Media, Networks, ParamPlan, RoleRule, ShapedKind,
    ShapedPlace, ShapedPlan, SignatureRule, TokenRule,
};
pub use answers::{AnswersPlan, ResponsePlan, Statuses};
pub use backend::{
    Address, Attempts, Circuit, ClientGrant, CompiledBackend, Credentials, HealthCheck,
    OwnCertificate, Transport, Trust, turns,
};
pub use cache::{Apart, CachePlan, Keeping};
pub use changes::{BodyChanges, Changes, FieldAction, FieldChange, StatusChange};
pub use cors::Cors;
pub use definition::Definition;
pub use examples::{Example, Examples, Given};
pub(crate) use inside::circles;
pub use limits::{AtOncePlan, LimitPlan, Limits, Number, PeriodStart, Time, WhenApart, Who};
pub use operation::{
    Call, CallRules, CompiledOperation, Each, Gathering, Overridden, Pages, Refusal, Reply, Route,
    Step, StepPlan,
};
pub use place::RulePlace;
pub use problems::{Of, REASONS, Words};
pub use routing::{Choice, Routing, Shadow, Share, Spare, Way};
pub(crate) use secrets::PLACEHOLDER;
pub use secrets::Secrets;
pub use sensitive::Sensitive;

use crate::route::Router;

/// The method under which native calls of a protocol are matched, which no HTTP request can have.
pub const NATIVE: &str = "native call";

/// Roots that expressions of a request may name, in the order of their numbers.
pub const REQUEST_ROOTS: [&str; 9] = [
    "path", "query", "header", "body", "caller", "cookie", SECRET, "terms", CLAIMS,
];
/// What can be said of the caller.
pub const OF_CALLER: [&str; 6] = [
    "consumer",
    "key",
    "address",
    "account",
    "agreement",
    "roles",
];
/// The root that secrets of the environment are named by. Their values are put in when documents are compiled.
pub const SECRET: &str = "secret";
/// The root that the answer of an operation's only step is named by; the first behind those of the request.
pub const ANSWER: &str = "answer";
/// The root that one of a list is named by, for which a call is made.
pub const ITEM: &str = "item";
/// The same for the page that is asked for, where a list comes in pages.
pub const PAGE: &str = "page";
/// What calls of an operation name besides the request and each other's answers.
pub const OF_CALLS: [&str; 3] = [ITEM, PAGE, ANSWER];

/// The immutable in-memory form of a release.
#[derive(Debug, Default)]
pub struct CompiledPorch {
    /// Number of the release; 0 for a draft.
    pub release: u64,
    /// Routes to operations.
    pub router: Router,
    /// Facades.
    pub facades: Vec<Arc<CompiledFacade>>,
    /// The methods of operations that take back what they did where something fails.
    pub takes_back: Vec<Box<str>>,
    /// Whether callers may show certificates somewhere.
    pub takes_certificates: bool,
}

/// A facade, compiled alone.
#[derive(Debug)]
pub struct CompiledFacade {
    /// Name.
    pub name: String,
    /// Version of its contract.
    pub version: String,
    /// Host names it answers to, in lower case; none: all.
    pub hosts: Vec<String>,
    /// Base path without a slash at its end.
    pub base: String,
    /// Header field that carries the key.
    pub key_header: HeaderName,
    /// The same as the contract writes it, for people.
    pub key_header_shown: String,
    /// Its operations.
    pub operations: Vec<CompiledOperation>,
    /// The backends that they call.
    pub backends: Vec<Arc<CompiledBackend>>,
    /// The definitions that its calls were compiled from, so that a change of a secret or address reads none of them again.
    pub definitions: Vec<Arc<dyn Definition>>,
    /// Names and digests of the secrets that were filled in.
    pub secrets: Vec<(String, [u8; 32])>,
    /// The secrets that its expressions name.
    pub named: Vec<String>,
    /// Takes out their values.
    pub mask: crate::Mask,
}

/// A facade, checked and compiled.
#[derive(Debug)]
pub struct Checked {
    /// Its compiled form; `None` when there is too little to compile. Only fit to be served when no finding is an error.
    pub compiled: Option<Arc<CompiledFacade>>,
    /// What was found.
    pub findings: Vec<Finding>,
}

impl Checked {
    /// Whether it can be served, and was compiled with the values that secrets have now.
    pub(crate) fn is_good(&self, secrets: &Secrets<'_>) -> bool {
        let Some(compiled) = &self.compiled else {
            return false;
        };
        !has_errors(&self.findings) && secrets.still(&compiled.secrets)
    }
}

impl CompiledFacade {
    /// The operation of an `operationId`.
    pub fn operation(&self, id: &str) -> Option<&CompiledOperation> {
        self.operations.iter().find(|o| o.id == id)
    }

    /// The hosts as the router has them.
    fn route_hosts(&self) -> Vec<Option<&str>> {
        match self.hosts.as_slice() {
            [] => vec![None],
            some => some.iter().map(|h| Some(h.as_str())).collect(),
        }
    }
}

impl CompiledPorch {
    /// Puts facades together: one router over all of them. Says where two of them want the same route.
    pub fn assemble(release: u64, facades: Vec<Arc<CompiledFacade>>) -> (Self, Vec<Finding>) {
        let mut porch = Self {
            release,
            router: Router::default(),
            facades,
            takes_back: Vec::new(),
            takes_certificates: false,
        };
        porch.takes_certificates = porch.somewhere_by_certificate();
        porch.takes_back = porch.methods_that_take_back();
        let mut findings = Vec::new();
        let all: Vec<OperationIndex> = porch.indexes().collect();
        for index in &all {
            porch.add_route(*index, &mut findings);
        }
        for index in &all {
            porch.add_shorter_route(*index);
        }
        porch.router.shrink();
        (porch, findings)
    }

    fn somewhere_by_certificate(&self) -> bool {
        let all = self.facades.iter().flat_map(|f| &f.operations);
        let mut rules = all.flat_map(|op| op.admission.credentials.rules.iter());
        rules.any(|r| r.kind.asks_for_certificates())
    }

    fn methods_that_take_back(&self) -> Vec<Box<str>> {
        let all = self.facades.iter().flat_map(|f| &f.operations);
        let all = all.filter(|op| op.takes_back());
        let mut methods: Vec<Box<str>> = all.map(|op| op.route.method.as_str().into()).collect();
        methods.sort();
        methods.dedup();
        methods
    }

    /// All operations.
    pub fn indexes(&self) -> impl Iterator<Item = OperationIndex> + '_ {
        self.facades.iter().enumerate().flat_map(|(f, facade)| {
            (0..facade.operations.len()).map(move |o| OperationIndex {
                facade: f as u32,
                operation: o as u32,
            })
        })
    }

    /// A facade by its name.
    pub fn facade(&self, name: &str) -> Option<&Arc<CompiledFacade>> {
        self.facades.iter().find(|f| f.name == name)
    }

    /// The facade and the operation at a place.
    pub fn at(&self, index: OperationIndex) -> Option<(&Arc<CompiledFacade>, &CompiledOperation)> {
        let facade = self.facades.get(index.facade as usize)?;
        Some((facade, facade.operations.get(index.operation as usize)?))
    }

    fn add_route(&mut self, index: OperationIndex, findings: &mut Vec<Finding>) {
        let Some((facade, operation)) = self.at(index) else {
            return;
        };
        let (facade, route) = (facade.clone(), operation.route.clone());
        let Ok(template) = PathTemplate::parse(&route.path) else {
            return;
        };
        for host in facade.route_hosts() {
            if let Some(path) = &route.native
                && let Ok(path) = PathTemplate::parse(path)
                && let Err(other) = self.router.insert(host, "", &path, NATIVE, index)
                && other.facade != index.facade
            {
                // Additional bindings lead to the same method: the first of them takes its native callers.
                findings.push(self.native_taken(index, other));
            }
            if let Err(other) =
                self.router
                    .insert(host, &facade.base, &template, &route.method, index)
            {
                findings.push(self.route_taken(index, other));
            }
        }
    }

    /// Where a trailing variable may take no segment, the path without it leads to the operation too, where nothing else
    /// has that path.
    fn add_shorter_route(&mut self, index: OperationIndex) {
        let Some((facade, operation)) = self.at(index) else {
            return;
        };
        let (facade, route) = (facade.clone(), operation.route.clone());
        let shorter = PathTemplate::parse(&route.path).ok().filter(|t| {
            route.rest_may_be_empty
                && matches!(t.segments.last(), Some(Segment::Rest(_)))
                && t.verb.is_none()
        });
        let Some(mut template) = shorter else { return };
        template.segments.pop();
        for host in facade.route_hosts() {
            // Taken already: that is what was asked for.
            let _ = self
                .router
                .insert(host, &facade.base, &template, &route.method, index);
        }
    }

    fn native_taken(&self, index: OperationIndex, other: OperationIndex) -> Finding {
        let (_, operation) = &self.known(index);
        let message = format!(
            "native callers of {} are taken by the facade “{}” already",
            operation.route.native.as_deref().map_or("", |p| &p[1..]),
            self.known(other).0.name
        );
        Finding::error(&operation.place.file, operation.at, message)
            .help("let only one of them be `native`, or give them different hosts")
    }

    fn route_taken(&self, index: OperationIndex, other: OperationIndex) -> Finding {
        let ((facade, operation), (by, taken)) = (self.known(index), self.known(other));
        let message = format!(
            "{} {}{} is the route of “{}” in the facade “{}” too",
            operation.route.method, facade.base, operation.route.path, taken.id, by.name
        );
        Finding::error(&operation.place.file, operation.at, message)
            .help("give one of them another path, base path or host")
    }

    fn known(&self, index: OperationIndex) -> (&CompiledFacade, &CompiledOperation) {
        let facade = &self.facades[index.facade as usize];
        (facade, &facade.operations[index.operation as usize])
    }
}
