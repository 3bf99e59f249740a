//! Answers of backends as expressions see them, and what is seen inside of another scope.

use http::HeaderMap;
use serde_json::{Value, json};

use super::Scope;

/// What is seen inside of another scope.
pub(crate) struct Within<'a> {
    pub(crate) around: &'a Scope<'a>,
    pub(crate) item: Option<&'a Value>,
    pub(crate) answer: Option<&'a AnswerView>,
}

/// A backend's answer as expressions see it.
pub(crate) struct AnswerView {
    pub(super) value: Value,
}

impl AnswerView {
    pub(crate) fn new(
        status: u16,
        headers: &HeaderMap,
        body: Value,
        soap_headers: Option<Value>,
    ) -> Self {
        let headers: serde_json::Map<String, Value> = headers
            .iter()
            .map(|(k, v)| {
                (
                    k.to_string(),
                    Value::String(String::from_utf8_lossy(v.as_bytes()).into_owned()),
                )
            })
            .collect();
        let mut value = json!({ "status": status, "header": headers, "body": body });
        if let Some(soap_headers) = soap_headers {
            value["soapHeader"] = soap_headers;
        }
        Self { value }
    }

    /// The answer of one of several calls: whether it failed is said as well.
    pub(crate) fn named(mut self, failed: bool) -> Self {
        self.value["failed"] = failed.into();
        self
    }

    /// Whether something stands in its place.
    pub(crate) fn failed(&self) -> bool {
        self.value["failed"] == Value::Bool(true)
    }

    /// Whether it has a body that is more than nothing.
    pub(crate) fn has_body(&self) -> bool {
        !self.value["body"].is_null()
    }

    /// The body, in place of which another one is put.
    pub(crate) fn replace_body(&mut self, with: Value) -> Value {
        std::mem::replace(&mut self.value["body"], with)
    }
}

impl Within<'_> {
    /// Behind the answers come the item and the own answer, in this order.
    pub(super) fn value(&self, root: usize, step: usize) -> Option<&Value> {
        let steps = self.around.operation.steps.len();
        match step.checked_sub(steps) {
            None => self.around.answer(root),
            Some(0) => self.item,
            Some(_) => self.answer.map(|a| &a.value),
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
