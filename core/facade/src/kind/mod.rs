//! The kinds of backends: one folder each, one line each in [`standard::kinds`].
//!
//! Everything else in this crate works with a kind through [`Kind`] and with what a backend says of itself through
//! [`Definition`], and knows no protocol.

pub mod grpc;
pub mod http;
pub mod soap;
pub mod standard;

use std::collections::HashMap;
use std::sync::Arc;

use crate::Files;
use crate::compiled::{Call, Definition, Reply, Transport};
use crate::derive::{Derived, Wanted};
use crate::documents::BackendDoc;
use crate::look::Look;
use crate::read::Document;
use crate::source::Source;
use crate::wiring::{AnswerShape, CallCompiler};
use porch_contract::Finding;
use porch_grpc::read::Progress;
use porch_rules::expr::Template;

/// A kind of backend.
pub trait Kind: Send + Sync {
    /// The value of `kind` in a backend's document.
    fn name(&self) -> &'static str;

    /// What people call it.
    fn label(&self) -> &'static str;

    /// How its messages travel.
    fn transport(&self) -> Transport;

    /// Keys of documents that have a meaning for it and for some kinds only.
    fn keys(&self) -> Keys {
        Keys::default()
    }

    /// Whether a source is a definition of this kind, by what it holds and never by its name.
    fn recognises(&self, source: &Source) -> bool;

    /// What a definition offers.
    ///
    /// # Errors
    /// When it cannot be read.
    fn look(&self, source: &Source, progress: Progress<'_>) -> Result<Look, Box<Finding>>;

    /// Documents for a definition.
    ///
    /// # Errors
    /// When it cannot be read, or has nothing that can be called.
    fn derive(&self, source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>>;

    /// The files that a backend's definition may be read from, as far as they are there.
    fn sources(&self, files: &Files, backend: &Document<BackendDoc>) -> Vec<String>;

    /// Reads the definition that a backend's document names.
    ///
    /// # Errors
    /// Why there is none.
    fn definition(
        &self,
        files: &Files,
        backend: &Document<BackendDoc>,
    ) -> Result<Arc<dyn Definition>, Box<Finding>>;

    /// Whether bodies pass it as they come, so that the contract alone says what they are.
    fn passes_bodies(&self) -> bool {
        false
    }

    /// Whether query parameters that the contract has not mean something to it all the same.
    fn has_own_query(&self) -> bool {
        false
    }

    /// Compiles one call; `None` when something that was noted down keeps it from being made.
    fn call(&self, compiler: &mut CallCompiler<'_>) -> Option<Compiled>;
}

/// Keys of documents that have a meaning for some kinds only.
#[derive(Clone, Copy, Debug, Default)]
pub struct Keys {
    /// Of backends.
    pub backend: &'static [&'static str],
    /// Of facades.
    pub facade: &'static [&'static str],
    /// Of operations.
    pub operation: &'static [&'static str],
}

/// A call with what its operation must know of it.
#[derive(Debug)]
pub struct Compiled {
    /// The call.
    pub call: Arc<dyn Call>,
    /// What is made of its answer.
    pub reply: Reply,
    /// The path at which native callers find it.
    pub native: Option<String>,
    /// Whether a trailing variable may take no segment.
    pub rest_may_be_empty: bool,
    /// Query parameters that expressions see, where the call reads all others by its own types.
    pub used_query: Option<Vec<String>>,
    /// Other spellings of query parameters, by those that the contract has.
    pub spellings: HashMap<String, String>,
    /// What is known of its answer.
    pub shape: Option<AnswerShape>,
}

impl Compiled {
    /// A call with a reply and nothing out of the ordinary.
    pub fn new(call: Arc<dyn Call>, reply: Option<Template>) -> Self {
        Self {
            call,
            reply: Reply {
                body: reply,
                ..Reply::default()
            },
            native: None,
            rest_may_be_empty: false,
            used_query: None,
            spellings: HashMap::new(),
            shape: None,
        }
    }
}

/// The kinds that are known.
#[derive(Clone)]
pub struct Kinds(Vec<Arc<dyn Kind>>);

impl Kinds {
    /// These; the last takes what no other one recognises.
    pub fn of_these(kinds: Vec<Arc<dyn Kind>>) -> Self {
        Self(kinds)
    }

    /// The same and one more.
    #[must_use]
    pub fn and(mut self, kind: Arc<dyn Kind>) -> Self {
        self.0.insert(0, kind);
        self
    }

    /// All of them.
    pub fn all(&self) -> impl Iterator<Item = &Arc<dyn Kind>> {
        self.0.iter()
    }

    /// One by its name.
    pub fn get(&self, name: &str) -> Option<&Arc<dyn Kind>> {
        self.0.iter().find(|k| k.name() == name)
    }

    /// Their names, sorted.
    pub fn names(&self) -> Vec<&'static str> {
        let mut names: Vec<_> = self.0.iter().map(|k| k.name()).collect();
        names.sort_unstable();
        names
    }

    /// The kind of a definition.
    ///
    /// # Errors
    /// When no kind recognises it.
    pub fn of(&self, source: &Source) -> Result<&Arc<dyn Kind>, Box<Finding>> {
        match self.0.iter().find(|k| k.recognises(source)) {
            Some(kind) => Ok(kind),
            None => Err(Box::new(unknown(source))),
        }
    }

    /// For which kinds a key of documents has a meaning; none: for all.
    pub fn with_key(&self, list: fn(&Keys) -> &'static [&'static str], key: &str) -> Vec<&str> {
        let mut labels: Vec<&str> = self
            .all()
            .filter(|k| list(&k.keys()).contains(&key))
            .map(|k| k.label())
            .collect();
        labels.sort_unstable();
        labels
    }

    /// All keys that have a meaning for some kinds only.
    pub fn keys(&self, list: fn(&Keys) -> &'static [&'static str]) -> Vec<&'static str> {
        let mut keys: Vec<_> = self.all().flat_map(|k| list(&k.keys())).copied().collect();
        keys.sort_unstable();
        keys.dedup();
        keys
    }
}

/// Why a source is no definition.
fn unknown(source: &Source) -> Finding {
    let help =
        "give a WSDL 1.1, .proto files, a descriptor set, an OpenAPI document or OData metadata";
    match porch_contract::Node::parse(source.main_text()) {
        Ok(node) => Finding::error(
            &source.main,
            node.at,
            "this is no definition that can be read",
        )
        .help(help),
        Err(e) => Finding::error(&source.main, e.at, e.message).help(help),
    }
}
