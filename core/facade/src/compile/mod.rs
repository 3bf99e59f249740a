//! From one facade's documents to its compiled form, with every mistake found on the way.

mod addresses;
mod admission;
mod answers;
mod attempts;
mod backend;
mod cache;
mod callers;
mod certificates;
mod changes;
pub(crate) mod cors;
mod credentials;
mod dates;
mod examples;
mod health;
mod keeping;
mod keys;
mod lent;
mod levels;
mod limits;
mod networks;
mod overlaps;
mod problems;
mod refusals;
mod routing;
mod sensitive;
mod several;
mod shaped;
mod signatures;
mod tokens;

pub(crate) use backend::{facade_of, no_address, no_backend};
pub use callers::is_role;
pub use limits::policy;

use std::cell::{OnceCell, RefCell};
use std::collections::{HashMap, HashSet};
use std::rc::Rc;
use std::sync::{Arc, OnceLock};

use http::HeaderName;
use indexmap::IndexMap;
use porch_contract::{
    Contract, Finding, Operation as ContractOperation, PathTemplate, Segment, Severity, Step,
    TemplateError, suggest,
};

use serde_json::Value;

use admission::Behind;
use changes::{Changed, with_changes};
use levels::{Level, Site};
use refusals::Seen;
use routing::Routed;

use crate::compiled::{
    ANSWER, Admission, Changes, CompiledBackend, CompiledFacade, CompiledOperation, Cors,
    Definition, Overridden, Reply, Route, RulePlace, Secrets, Sensitive, Step as Call, Words,
};
use crate::documents::{EnvironmentDoc, FacadeDoc, OperationDoc, Relaxed};
use crate::host::no_host;
use crate::kind::{Compiled, Kind, Kinds};
use crate::library::Library;
use crate::read::Document;
use crate::shared::Ruled;
use crate::wiring::{CallCompiler, Lent, Used};
use crate::{Documents, Files};

/// What one facade is compiled from.
pub(crate) struct Sources<'a> {
    pub(crate) files: &'a Files,
    pub(crate) documents: &'a Documents,
    pub(crate) facade: &'a Document<FacadeDoc>,
    /// The shared rules that reach it.
    pub(crate) ruled: &'a Ruled<'a>,
    pub(crate) contract_file: &'a str,
    pub(crate) contract: &'a Contract,
    pub(crate) environment: Option<&'a EnvironmentDoc>,
    pub(crate) secrets: &'a Secrets<'a>,
    pub(crate) library: &'a Library,
}

/// Compiles a facade. It is only fit to be served when no finding is an error.
pub(crate) fn facade(sources: &Sources<'_>) -> (CompiledFacade, Vec<Finding>) {
    let facade = sources.facade;
    let mut compiler = FacadeCompiler {
        from: sources,
        here: Site::own(sources),
        levels: Rc::from([]),
        told: HashSet::new(),
        said: Vec::new(),
        overridden: Vec::new(),
        facade_words: format!("facade {}", facade.doc.name).into(),
        facade_counted: format!("{}/", facade.doc.name).into(),
        findings: Vec::new(),
        backends: Vec::new(),
        by_name: HashMap::new(),
        secrets: Vec::new(),
        shared: admission::Shared::default(),
        kept: keeping::Kept::default(),
        answered: answers::Answered::default(),
        in_contract: OnceCell::new(),
        written: OnceCell::new(),
        made: examples::Made::default(),
        strangers: 0,
        cors: HashMap::new(),
        worded: HashMap::new(),
        marked: OnceCell::new(),
        hidden: HashMap::new(),
        used: RefCell::default(),
        lent: Lent::new(sources.secrets),
        keeps_any: cache::keeps_any(&facade.doc) || sources.ruled.keeps_any(),
    };
    let compiled = compiler.facade();
    let findings = compiler.findings;
    (compiled, findings)
}

/// A backend with what it says of itself.
#[derive(Clone)]
struct Wired {
    index: usize,
    backend: Arc<CompiledBackend>,
    kind: Arc<dyn Kind>,
    definition: Arc<dyn Definition>,
    /// What the operations that are called take and give, once for all of them: see [`CallCompiler::sides`].
    sides: Arc<OnceLock<Value>>,
}

struct FacadeCompiler<'a> {
    from: &'a Sources<'a>,
    findings: Vec<Finding>,
    backends: Vec<Arc<CompiledBackend>>,
    by_name: HashMap<&'a str, Option<Wired>>,
    /// Names and digests of the secrets that were filled in.
    secrets: Vec<(String, [u8; 32])>,
    shared: admission::Shared,
    kept: keeping::Kept,
    answered: answers::Answered,
    /// All ids that the contract's document has, once somebody asks.
    in_contract: OnceCell<HashSet<&'a str>>,
    /// The operations as the contract has them, once somebody asks.
    written: OnceCell<HashMap<&'a str, porch_contract::Written<'a>>>,
    /// Examples, each once.
    made: examples::Made,
    /// How many operations the contract lacks.
    strangers: usize,
    /// Which pages may call, by the reach and the file that say it, for what reaches several operations.
    cors: HashMap<(Arc<str>, &'a str), Option<Arc<Cors>>>,
    /// What callers are told of problems, by what says it.
    worded: HashMap<String, Arc<[Words]>>,
    /// What the contract marks as sensitive, once somebody asks; and what nobody is shown, by what says it.
    marked: OnceCell<sensitive::Marked>,
    hidden: HashMap<String, Option<Arc<Sensitive>>>,
    /// The document at hand.
    here: Site<'a>,
    /// What is said of the operation at hand, the widest reach first.
    levels: Rc<[Level<'a>]>,
    /// What was told of documents that reach several operations: the place, and what.
    told: HashSet<((String, usize, usize), String)>,
    /// What of the operation at hand shared rules say, and what does not hold of all that is said.
    said: Vec<(Relaxed, RulePlace)>,
    overridden: Vec<Overridden>,
    facade_words: Arc<str>,
    facade_counted: Arc<str>,
    /// What expressions of the operation at hand read of callers.
    used: RefCell<Used>,
    /// Which secrets its expressions name.
    lent: Lent<'a>,
    /// Whether any operation keeps replies.
    keeps_any: bool,
}

/// Whoever has more strangers than this meant another contract, and no nearest names.
const MAX_SUGGESTIONS: usize = 50;

impl<'a> FacadeCompiler<'a> {
    fn kinds(&self) -> &'a Kinds {
        &self.from.library.kinds
    }

    fn facade(&mut self) -> CompiledFacade {
        let (facade, contract) = (self.from.facade, self.from.contract);
        let base = facade.doc.base.trim_end_matches('/');
        self.base();
        self.hosts();
        self.facade_keys();
        self.keeping();
        let mut operations = Vec::new();
        for (id, doc) in &facade.doc.operations {
            let Some(contract_op) = contract.operations.get(id) else {
                self.not_in_the_contract(id);
                continue;
            };
            operations.extend(self.operation_of(id, doc, contract_op));
        }
        self.not_wired();
        self.unrouted();
        self.overlaps(&operations);
        let shown = contract.key_header.as_deref().unwrap_or("API-Key");
        let definitions = self
            .by_name
            .values()
            .flatten()
            .map(|w| w.definition.clone())
            .collect();
        let (named, mask) = self.lent();
        CompiledFacade {
            name: facade.doc.name.clone(),
            version: contract.version.clone(),
            hosts: facade
                .doc
                .hosts
                .iter()
                .map(|h| h.to_ascii_lowercase())
                .collect(),
            base: base.to_owned(),
            key_header: shown.parse().unwrap_or(HeaderName::from_static("api-key")),
            key_header_shown: shown.to_owned(),
            operations,
            backends: std::mem::take(&mut self.backends),
            definitions,
            secrets: std::mem::take(&mut self.secrets),
            named,
            mask,
        }
    }

    /// One of its operations, by what it calls.
    fn operation_of(
        &mut self,
        id: &'a str,
        doc: &'a OperationDoc,
        contract_op: &'a ContractOperation,
    ) -> Option<CompiledOperation> {
        self.used.take();
        self.said.clear();
        self.overridden.clear();
        self.levels = self.levels_of(id, doc).into();
        if !doc.calls.is_empty() {
            return self.several(id, doc, contract_op);
        }
        if doc.timeout.is_some() {
            let message = "“timeout” is for several `calls`".to_owned();
            let help = "how long one may take stands in the backend's document";
            let steps = ["operations", id, "timeout"];
            self.tell_at(Severity::Error, &steps, message, help);
        }
        if doc.call.is_none() {
            return Some(self.of_examples(id, doc, contract_op));
        }
        let wired = self.wired(id, doc)?;
        self.operation_keys(id, doc, &wired);
        self.fault_statuses_of(&["operations", id], &doc.faults);
        self.operation(id, doc, contract_op, &wired)
    }

    fn base(&mut self) {
        let facade = self.from.facade;
        let base = facade.doc.base.as_str();
        let at = facade.node.locate(&[Step::Key("base".into())], false);
        let message = format!("“{base}” is no base path");
        let help = match PathTemplate::parse(base) {
            Ok(path) if path.variables().next().is_none() => return,
            Err(e @ TemplateError::Segment { .. }) => e.to_string(),
            _ => "a base path begins with “/” and has no variables, as in /sailings/v2".into(),
        };
        self.findings
            .push(Finding::error(&facade.file, at, message).help(help));
    }

    /// A fault is an error, and is answered as one (RFC 9110 §15.5, §15.6).
    fn fault_statuses_of(&mut self, steps: &[&str], faults: &IndexMap<String, u16>) {
        for (key, status) in faults.iter().filter(|(_, s)| !(400..600).contains(*s)) {
            let below = ["faults", key];
            let steps: Vec<Step> = steps
                .iter()
                .chain(&below)
                .map(|k| Step::Key((*k).into()))
                .collect();
            let at = self.from.facade.node.locate(&steps, false);
            let message = format!("{status} is no status of an error");
            let help = "faults are answered with 400 to 599";
            self.findings
                .push(Finding::error(&self.from.facade.file, at, message).help(help));
        }
    }

    fn hosts(&mut self) {
        let facade = self.from.facade;
        for (i, host) in facade.doc.hosts.iter().enumerate() {
            let Some(why) = no_host(host) else { continue };
            let at = facade
                .node
                .locate(&[Step::Key("hosts".into()), Step::Index(i)], false);
            let message = format!("“{host}” is no host name");
            self.findings
                .push(Finding::error(&facade.file, at, message).help(why));
        }
    }

    /// Where an operation's name stands in the facade's document.
    fn at_operation(&self, id: &str) -> porch_contract::Position {
        let steps = ["operations", id].map(|k| Step::Key(k.into()));
        self.from.facade.node.locate(&steps, true)
    }

    fn not_in_the_contract(&mut self, id: &str) {
        let contract = self.from.contract;
        if self.in_contract.get_or_init(|| contract.ids()).contains(id) {
            return; // It is there, and what is wrong with it is said where it stands.
        }
        self.strangers += 1;
        let known = || self.from.contract.operations.keys().map(String::as_str);
        let near = (self.strangers <= MAX_SUGGESTIONS).then(|| suggest(id, known()));
        let help = near.flatten().map_or_else(
            || {
                let all: Vec<&str> = known().take(12).collect();
                format!("{} has: {}", self.from.contract_file, all.join(", "))
            },
            |n| format!("did you mean “{n}”?"),
        );
        let message = format!("the contract has no operation “{id}”");
        let at = self.at_operation(id);
        self.findings
            .push(Finding::error(&self.from.facade.file, at, message).help(help));
    }

    fn not_wired(&mut self) {
        let facade = self.from.facade;
        for (id, op) in &self.from.contract.operations {
            if !facade.doc.operations.contains_key(id) {
                let message = format!("“{id}” is not wired: callers get 404");
                let help = format!("add `{id}:` below `operations:` in {}", facade.file);
                let file = self.from.contract_file;
                self.findings
                    .push(Finding::new(Severity::Warning, file, op.at, message).help(help));
            }
        }
    }

    /// The backend of an operation, compiled when it is met first.
    fn wired(&mut self, id: &str, doc: &'a OperationDoc) -> Option<Wired> {
        self.wired_as(doc.backend()?, id, &["call"])
    }

    /// The same for a backend that is named at some steps below the operation.
    fn wired_as(&mut self, name: &'a str, id: &str, steps: &[&str]) -> Option<Wired> {
        if let Some(known) = self.by_name.get(name) {
            return known.clone();
        }
        let wired = self.backend(id, name, steps);
        self.by_name.insert(name, wired.clone());
        wired
    }

    fn operation(
        &mut self,
        id: &'a str,
        doc: &'a OperationDoc,
        contract_op: &'a ContractOperation,
        wired: &Wired,
    ) -> Option<CompiledOperation> {
        let call = doc.call.as_ref()?;
        let facade = self.from.facade;
        let mut compiler = CallCompiler {
            facade,
            text: self.from.files.get(&facade.file).map_or("", String::as_str),
            contract: self.from.contract,
            contract_op,
            id,
            doc,
            call,
            backend: &wired.backend,
            definition: wired.definition.clone(),
            sides: wired.sides.clone(),
            lent: &self.lent,
            among: None,
            used: &self.used,
            findings: &mut self.findings,
        };
        let (at_call, at) = (compiler.at_key(&["call"]), compiler.at_key(&[]));
        let compiled = wired.kind.call(&mut compiler)?;
        let place = self.place_of_one(id, &call.backend, at_call.line);
        let seen = Seen::Answer(compiled.shape.as_ref());
        let refusals = self.refusals(id, contract_op, seen);
        let reply = self.with_refusals(&compiled, &refusals);
        let changes = self.changes_of_one(contract_op, wired, &compiled);
        let behind = Behind::of(wired, &compiled);
        let streams = compiled.call.takes_messages() || compiled.call.gives_messages();
        let routing = self.routing(Routed::one(id, doc, contract_op, (wired, &compiled)));
        let admission = self.admission(doc, contract_op, &behind);
        let answers = self.answers(id, contract_op);
        let cache = self.cache(id, contract_op, streams);
        let route = Route {
            native: compiled.native.clone(),
            rest_may_be_empty: compiled.rest_may_be_empty,
            ..route(contract_op)
        };
        Some(CompiledOperation {
            answers,
            refusals,
            steps: vec![Call {
                name: self.shared.text(ANSWER),
                call: compiled.call,
                backend: wired.index,
                routing,
                needs: Vec::new(),
                faults: doc.faults.iter().map(|(k, v)| (k.clone(), *v)).collect(),
                plan: None,
            }],
            reply: Reply {
                body: compiled.reply.body,
                ..with_changes(reply, changes.as_deref())
            },
            changes,
            cache,
            ..self.around(id, (route, admission), (place, at))
        })
    }

    /// An operation with all that is said around what it calls; to be asked last.
    fn around(
        &mut self,
        id: &str,
        (route, admission): (Route, Admission),
        (place, at): (RulePlace, porch_contract::Position),
    ) -> CompiledOperation {
        CompiledOperation {
            id: id.to_owned(),
            route: Arc::new(route),
            admission,
            examples: None,
            steps: Vec::new(),
            within: None,
            refusals: Box::default(),
            reply: Reply::default(),
            changes: None,
            cache: None,
            answers: None,
            compress: self.compresses(),
            sensitive: self.sensitive(),
            words: self.words(),
            cors: self.cors(),
            said: self.said.drain(..).collect(),
            overridden: self.overridden.drain(..).collect(),
            place: Arc::new(place),
            at,
        }
    }

    fn place_of_one(&mut self, id: &str, backend: &str, line: usize) -> RulePlace {
        RulePlace {
            rule: self.shared.text(&format!("calls {backend}")),
            reach: format!("operation {id}").into(),
            file: self.shared.text(&self.from.facade.file),
            line,
        }
    }

    fn changes_of_one(
        &mut self,
        contract_op: &'a ContractOperation,
        wired: &Wired,
        compiled: &Compiled,
    ) -> Option<Box<Changes>> {
        let shape = compiled.shape.as_ref();
        let made = compiled.reply.body.is_some();
        let of = Changed {
            seen: Seen::Answer(shape),
            // What is made is as the contract says, which was held against it already.
            reply: shape.filter(|_| !made),
            is_http: wired.kind.passes_bodies(),
            one_call: true,
            of_messages: compiled.native.is_some() || compiled.call.gives_messages(),
        };
        self.changes(contract_op, of)
    }
}

/// Where the contract says that an operation is.
fn route(contract_op: &ContractOperation) -> Route {
    let several = contract_op.path.segments.iter().filter_map(|s| match s {
        Segment::Rest(name) => Some(name.clone()),
        _ => None,
    });
    Route {
        method: contract_op.method.clone(),
        path: contract_op.path.to_string(),
        variables: contract_op.path.variables().map(str::to_owned).collect(),
        several: several.collect(),
        native: None,
        rest_may_be_empty: false,
    }
}
