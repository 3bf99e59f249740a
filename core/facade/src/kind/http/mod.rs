//! HTTP with any bodies.

mod backwards;
mod compile;
mod derive;
mod described;
mod fixed;
mod look;
mod shown;

use std::sync::Arc;

use ::http::{HeaderName, HeaderValue, Method};
use porch_contract::Finding;
use porch_grpc::read::Progress;
use porch_rules::expr::{Expr, Template};
use serde_json::Value;

pub use self::fixed::{FixedFields, name_bit};
use super::{Compiled, Keys, Kind};
use crate::Files;
use crate::compiled::{Call, CallRules, CompiledBackend, Definition, Reply, Transport};
use crate::derive::{Derived, Wanted};
use crate::documents::{BackendDoc, OperationDoc};
use crate::look::Look;
use crate::read::Document;
use crate::source::Source;
use crate::wiring::CallCompiler;

/// The value of `kind`.
pub const NAME: &str = "http";

/// HTTP with any bodies.
pub struct Http;

impl Kind for Http {
    fn name(&self) -> &'static str {
        NAME
    }

    fn label(&self) -> &'static str {
        "HTTP"
    }

    fn transport(&self) -> Transport {
        Transport::Http1
    }

    fn keys(&self) -> Keys {
        Keys {
            backend: &["media-type", "xml", "http2", "connections"],
            ..Keys::default()
        }
    }

    fn recognises(&self, source: &Source) -> bool {
        let text = source.main_text();
        porch_odata::is_metadata(text) || porch_describe::is_description(text)
    }

    fn look(&self, source: &Source, _: Progress<'_>) -> Result<Look, Box<Finding>> {
        look::look(source)
    }

    fn derive(&self, source: &Source, wanted: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
        derive::derive(source, wanted)
    }

    fn sources(&self, files: &Files, backend: &Document<BackendDoc>) -> Vec<String> {
        described::sources(files, backend)
    }

    fn definition(
        &self,
        files: &Files,
        backend: &Document<BackendDoc>,
    ) -> Result<Arc<dyn Definition>, Box<Finding>> {
        match &backend.doc.definition {
            Some(name) => Ok(Arc::new(described::read(files, backend, name)?)),
            None => Ok(Arc::new(Undescribed)),
        }
    }

    fn passes_bodies(&self) -> bool {
        true
    }

    fn call(&self, compiler: &mut CallCompiler<'_>) -> Option<Compiled> {
        compiler.http()
    }
}

/// A backend that says nothing of itself.
#[derive(Debug)]
struct Undescribed;

impl Definition for Undescribed {
    fn findings(&self) -> &[Finding] {
        &[]
    }

    fn sides(&self, _: &OperationDoc) -> Option<Value> {
        None
    }
}

/// A part of a backend path.
#[derive(Debug)]
pub enum PathPart {
    /// Fixed text.
    Fixed(String),
    /// A value, percent-encoded.
    Value(Expr),
    /// A path variable of the facade, by index.
    Captured(usize),
    /// A trailing variable, its slashes kept.
    CapturedRest(usize),
}

/// What becomes of a header field.
#[derive(Debug)]
pub enum HeaderRule {
    /// Always this.
    Set(HeaderValue),
    /// What an expression says; removed when that is absent.
    Make(Template),
}

/// An HTTP call, compiled.
#[derive(Debug)]
pub struct HttpCall {
    /// Whether nothing of the caller's request is sent but what is said here.
    pub own: bool,
    /// Method; the caller's when not given.
    pub method: Option<Method>,
    /// Path behind the backend's own.
    pub path: Vec<PathPart>,
    /// What the query always begins with.
    pub fixed_query: Option<Box<str>>,
    /// Query parameters; the caller's own query when not given.
    pub query: Option<Vec<(String, Template)>>,
    /// Header fields that every request gets.
    pub fixed: Option<Arc<FixedFields>>,
    /// Other header fields to set.
    pub headers: Vec<(HeaderName, HeaderRule)>,
    /// Body to build; the caller's own, streamed, when not given.
    pub body: Option<Template>,
    /// Whether that is a form (`application/x-www-form-urlencoded`) of its members.
    pub is_form: bool,
    /// Whether an expression needs the caller's body.
    pub reads_body: bool,
}

impl Call for HttpCall {
    fn kind(&self) -> &'static str {
        NAME
    }

    /// What it says of itself then decides.
    fn may_give_messages(&self) -> bool {
        true
    }

    fn rules(&self, backend: &CompiledBackend, reply: &Reply) -> CallRules {
        let prepare = if self.is_form {
            "path, query, headers and a form are built"
        } else if self.body.is_some() {
            "path, query, headers and body are built"
        } else if self.own {
            "path, query and headers are built; nothing else of the request is sent"
        } else if reply.reads_body {
            "path, query and headers are built; the body is read, and sent on"
        } else {
            "path, query and headers are built; the body streams through"
        };
        let reply = if reply.body.is_some() {
            "the answer is shaped as `reply` says"
        } else if reply.looks_into || reply.is_changed {
            "the answer is read, and passed on"
        } else {
            "the answer streams through"
        };
        CallRules {
            prepare: vec![prepare.into()],
            call: format!("{} within {:?}", backend.name, backend.timeout),
            reply: reply.into(),
        }
    }
}
