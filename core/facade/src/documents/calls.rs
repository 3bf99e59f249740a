//! Several calls behind one operation.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer};
use serde_json::Value;

use super::{CallDoc, METHOD, OperationDoc};
use crate::units::Span;
use crate::wiring::Spot;

/// One of several calls of an operation. Its answer is known by its name: `tide.status`, `tide.header`, `tide.body`, and
/// `tide.failed` where something stands in its place.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NamedCallDoc {
    /// Name of the backend.
    pub backend: String,
    /// SOAP: name of the operation in its definition. gRPC: `package.Service/Method`.
    pub operation: Option<String>,
    /// HTTP: method; `GET` unless given, `POST` where a body is sent.
    #[schemars(regex(pattern = METHOD))]
    pub method: Option<String>,
    /// HTTP: path at the backend; `{name}` is a variable (RFC 6570 §3.2.2).
    pub path: Option<String>,
    /// What is sent; nothing of the caller's request unless it is said here. For SOAP: the input's members. For gRPC: the
    /// message's. For HTTP: `path`, `query`, `headers`, `body` or `form`.
    pub send: Option<Value>,
    /// SOAP: header elements of its requests, by their names; on top of the backend's credentials.
    pub soap_headers: Option<Value>,
    /// Status for a declared fault, by the name of its detail element or its code; for gRPC by the code's name.
    #[serde(default)]
    pub faults: IndexMap<String, u16>,
    /// Whether it is called, as an expression; it is unless given.
    pub when: Option<String>,
    /// A list, as an expression: the call is made for each `item` of it, and the answer's body is the list of what they gave.
    pub each: Option<String>,
    /// Of a list at most so many items are taken, and more are refused; 100 unless given.
    #[schemars(range(min = 1, max = 10_000))]
    pub at_most: Option<u32>,
    /// So many items are called for at once; 4 unless given.
    #[schemars(range(min = 1, max = 64))]
    pub at_once: Option<u32>,
    /// Whether it is made again and again, for what comes in pages: the answer's body is the list of all of their items.
    pub pages: Option<PagesDoc>,
    /// How the messages of a stream are taken, where its answer is one: the answer's body is the list of them.
    pub messages: Option<MessagesDoc>,
    /// What is made of its answer, which is `answer` here; the others see it as its body.
    pub answer: Option<Value>,
    /// Statuses besides those of success that are answers too; any other one fails the call.
    #[serde(default)]
    #[schemars(inner(range(min = 300, max = 599)))]
    pub statuses: Vec<u16>,
    /// What stands for its answer's body where it is not called, or fails; with `each`, for that of an item that fails. A
    /// call that fails ends all of it unless given.
    #[serde(default, deserialize_with = "even_null")]
    #[schemars(with = "Value")]
    pub otherwise: Option<Value>,
    /// Whether it changes something: it waits then for every refusal that can be told without it, and for what changes
    /// something before it. As the method says unless given; for SOAP and gRPC as the operation's own method says.
    pub writes: Option<bool>,
    /// The call that takes back what this one did, where a later one fails or the request is refused behind it.
    pub undo: Option<UndoDoc>,
}

/// How a list that comes in pages is followed. What is sent may name `page`: what `first` says, then what the `next` of the
/// page before gave.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PagesDoc {
    /// What `page` is for the first page; null unless given.
    #[serde(default)]
    pub first: Value,
    /// The items of a page, as an expression over its `answer`.
    pub items: String,
    /// What `page` is for the next one, as an expression over the `answer` and this `page`; there is none where it is absent,
    /// null, false or an empty text.
    pub next: String,
    /// So many pages at most, and more are a failure; 20 unless given.
    #[schemars(range(min = 1, max = 1_000))]
    pub at_most: Option<u32>,
}

/// How many messages of a stream are taken as a list.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MessagesDoc {
    /// So many messages, and the stream is ended there; 100 unless given.
    #[schemars(range(min = 1, max = 10_000))]
    pub at_most: Option<u32>,
    /// For so long, and what came by then is the list; until the stream ends by itself unless given.
    pub within: Option<Span>,
}

/// A call that takes back what another one did, at the same backend.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct UndoDoc {
    /// SOAP: name of the operation in its definition. gRPC: `package.Service/Method`.
    pub operation: Option<String>,
    /// HTTP: method; `POST` unless given.
    #[schemars(regex(pattern = METHOD))]
    pub method: Option<String>,
    /// HTTP: path at the backend.
    pub path: Option<String>,
    /// What is sent.
    pub send: Option<Value>,
}

/// A refusal in the facade's own words (RFC 9457).
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RefusalDoc {
    /// When the request is refused, as an expression; as soon as the answers that it names are there.
    pub when: String,
    /// Status.
    #[schemars(range(min = 400, max = 599))]
    pub status: u16,
    /// What is wrong, in few words; the same for all such refusals.
    pub title: String,
    /// What is wrong this time: a text or an expression.
    pub detail: Option<String>,
    /// A URI that says what kind of problem it is (RFC 9457 §3.1.1).
    #[serde(rename = "type")]
    pub kind: Option<String>,
    /// More members of the problem (RFC 9457 §3.2), whose values may be expressions.
    #[serde(default)]
    pub members: IndexMap<String, Value>,
}

/// A value that may be `null`.
fn even_null<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Value>, D::Error> {
    Value::deserialize(from).map(Some)
}

impl NamedCallDoc {
    /// The same as an operation with one call.
    pub(crate) fn as_operation(&self) -> OperationDoc {
        let sends_body = self.sends_body();
        let method = match sends_body {
            true => "POST",
            false => "GET",
        };
        let is_http = self.operation.is_none();
        let own = || is_http.then(|| method.to_owned());
        OperationDoc {
            call: Some(CallDoc {
                backend: self.backend.clone(),
                operation: self.operation.clone(),
                method: self.method.clone().or_else(own),
                path: self.path.clone(),
            }),
            send: self.send.clone(),
            soap_headers: self.soap_headers.clone(),
            faults: self.faults.clone(),
            ..OperationDoc::default()
        }
    }

    /// Whether a body is sent by HTTP, and as what.
    fn sends_body(&self) -> bool {
        let has = |s: &Value| s.get("body").is_some() || s.get("form").is_some();
        self.send.as_ref().is_some_and(has)
    }

    /// The call that takes it back, as an operation with one call.
    pub(crate) fn undo_as_operation(&self) -> Option<OperationDoc> {
        let undo = self.undo.as_ref()?;
        let is_http = undo.operation.is_none();
        let method = undo.method.clone();
        Some(OperationDoc {
            call: Some(CallDoc {
                backend: self.backend.clone(),
                operation: undo.operation.clone(),
                method: method.or_else(|| is_http.then(|| "POST".to_owned())),
                path: undo.path.clone(),
            }),
            send: undo.send.clone(),
            ..OperationDoc::default()
        })
    }

    /// Whether it changes something: as it says, else as its method does (RFC 9110 §9.2.1), else as the operation's.
    pub(crate) fn changes_something(&self, method: &str) -> bool {
        let is_safe = |method: &str| matches!(method, "GET" | "HEAD" | "OPTIONS" | "TRACE");
        let sends_body = self.sends_body();
        let by_method = || match (&self.operation, &self.method) {
            (Some(_), _) => !is_safe(method),
            (None, Some(own)) => !is_safe(own),
            (None, None) => sends_body,
        };
        self.writes.unwrap_or_else(by_method)
    }

    /// Where what it is made of stands.
    pub(crate) fn spot(&self) -> Spot {
        Spot::Call {
            each: self.each.is_some(),
        }
    }

    /// Whether there may be no answer, and nothing in its place.
    pub(crate) fn may_be_absent(&self) -> bool {
        self.when.is_some() && self.otherwise.is_none() && self.each.is_none()
    }

    /// All operations of the definition that it names, its own first.
    pub(crate) fn operations(&self) -> impl Iterator<Item = &str> {
        let undo = self.undo.as_ref().and_then(|u| u.operation.as_deref());
        self.operation.as_deref().into_iter().chain(undo)
    }
}
