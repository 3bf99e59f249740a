//! Answers of backends as expressions see them, and what is seen inside of another scope.

use std::cell::OnceCell;
use std::net::IpAddr;

use http::{HeaderMap, HeaderValue};
use porch_facade::CompiledOperation;
use porch_rules::expr::Val;
use serde_json::{Value, json};

use super::{Parameters, Scope};
use crate::caller::Caller;

/// What is seen inside of another scope.
pub(crate) struct Within<'a> {
    pub(crate) around: &'a Scope<'a>,
    pub(crate) item: Option<&'a Value>,
    pub(crate) answer: Option<&'a AnswerView>,
}

/// A backend's answer as expressions see it. What it has besides its body is only made into values where one is named.
pub(crate) struct AnswerView {
    status: u16,
    headers: HeaderMap,
    body: Value,
    soap_headers: Option<Value>,
    /// Whether something stands in its place, where that is said.
    failed: Option<bool>,
    header: OnceCell<Value>,
    whole: OnceCell<Value>,
}

impl AnswerView {
    pub(crate) fn new(
        status: u16,
        headers: HeaderMap,
        body: Value,
        soap_headers: Option<Value>,
    ) -> Self {
        Self {
            status,
            headers,
            body,
            soap_headers,
            failed: None,
            header: OnceCell::new(),
            whole: OnceCell::new(),
        }
    }

    /// One without header fields.
    pub(crate) fn bare(status: u16, body: Value) -> Self {
        Self::new(status, HeaderMap::new(), body, None)
    }

    /// The answer of one of several calls: whether it failed is said as well.
    pub(crate) fn named(mut self, failed: bool) -> Self {
        self.failed = Some(failed);
        self
    }

    /// Whether something stands in its place.
    pub(crate) fn failed(&self) -> bool {
        self.failed == Some(true)
    }

    /// Whether it has a body that is more than nothing.
    pub(crate) fn has_body(&self) -> bool {
        !self.body.is_null()
    }

    /// The body, in place of which another one is put.
    pub(crate) fn replace_body(&mut self, with: Value) -> Value {
        std::mem::replace(&mut self.body, with)
    }

    fn header(&self) -> &Value {
        self.header.get_or_init(|| {
            let text = |v: &HeaderValue| String::from_utf8_lossy(v.as_bytes()).into_owned();
            let all = self.headers.iter();
            let all = all.map(|(name, value)| (name.to_string(), Value::String(text(value))));
            Value::Object(all.collect())
        })
    }

    fn member(&self, name: &str) -> Option<Val<'_>> {
        match name {
            "status" => Some(Val::Int(self.status.into())),
            "header" => Some(Val::of(self.header())),
            "body" => Some(Val::of(&self.body)),
            "soapHeader" => self.soap_headers.as_ref().map(Val::of),
            "failed" => self.failed.map(Val::Bool),
            _ => None,
        }
    }

    fn whole(&self) -> &Value {
        self.whole.get_or_init(|| {
            let mut whole =
                json!({ "status": self.status, "header": self.header(), "body": self.body });
            if let Some(soap_headers) = &self.soap_headers {
                whole["soapHeader"] = soap_headers.clone();
            }
            if let Some(failed) = self.failed {
                whole["failed"] = failed.into();
            }
            whole
        })
    }
}

/// What a root behind those of the request stands for.
pub(super) enum Named<'a> {
    Answer(&'a AnswerView),
    Item(&'a Value),
}

impl<'a> Named<'a> {
    pub(super) fn member(self, name: &str) -> Option<Val<'a>> {
        match self {
            Self::Answer(answer) => answer.member(name),
            Self::Item(item) => item.get(name).map(Val::of),
        }
    }

    pub(super) fn whole(self) -> Val<'a> {
        match self {
            Self::Answer(answer) => Val::of(answer.whole()),
            Self::Item(item) => Val::of(item),
        }
    }
}

impl Within<'_> {
    /// Behind the answers come the item and the own answer, in this order.
    pub(super) fn value(&self, root: usize, step: usize) -> Option<Named<'_>> {
        let steps = self.around.operation.steps.len();
        match step.checked_sub(steps) {
            None => self.around.answer(root),
            Some(0) => self.item.map(Named::Item),
            Some(_) => self.answer.map(Named::Answer),
        }
    }
}

impl<'a> Scope<'a> {
    /// What is seen of a request before anything was answered.
    #[inline(always)]
    pub(crate) fn of(
        operation: &'a CompiledOperation,
        headers: &'a HeaderMap,
        (path, query): Parameters<'a>,
        (caller, address): (&'a Caller, IpAddr),
    ) -> Self {
        Self {
            operation,
            path,
            query,
            headers,
            body: None,
            caller,
            address,
            answers: Vec::new(),
            within: None,
        }
    }
}

impl Scope<'_> {
    /// What is seen of a scope for an item of a list, or by what is made of an answer.
    pub(crate) fn inside<'s>(within: &'s Within<'s>) -> Scope<'s> {
        let around = within.around;
        Scope {
            operation: around.operation,
            path: Vec::new(),
            query: Vec::new(),
            headers: around.headers,
            body: None,
            caller: around.caller,
            address: around.address,
            answers: Vec::new(),
            within: Some(within),
        }
    }
}
