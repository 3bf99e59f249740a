//! The exchange: match → admit → prepare → call → reply → record.

mod context;

use std::cell::{Cell, RefCell};
use std::net::IpAddr;
use std::rc::Rc;
use std::sync::Arc;

use http::request::Parts;
use http::{HeaderValue, Request, Response, StatusCode, header};
use porch_facade::{CompiledPorch, MediaType, OperationIndex};

use crate::body::{InBody, ReplyBody};
use crate::call::fields::{RATE_LIMIT, RATE_LIMIT_POLICY, TRACEPARENT};
use crate::call::grpc;
use crate::problem::{Problem, Tell};
use crate::stage::{self, Caller, RateFields};
use crate::steps::{self, Scope};
use crate::trace::{Recorder, Trace};
use crate::worker::{FULL_TRACES, Worker};
use context::{forwarded, trace_context, unix_ms};

/// Whether an exchange is a caller's or a publisher's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    Live,
    /// A trial run: no key is demanded, no limit counts, everything is recorded.
    Trial,
}

/// One request and its reply passing through.
pub(crate) struct Exchange<'x> {
    pub(crate) worker: &'x Rc<Worker>,
    pub(crate) porch: &'x Arc<CompiledPorch>,
    pub(crate) mode: Mode,
    pub(crate) address: IpAddr,
    /// Milliseconds since 1970.
    pub(crate) now: i64,
    /// `traceparent` as it is sent on; the exchange's id is its trace id (W3C Trace Context §3.2.2.3).
    context: [u8; 55],
    pub(crate) traceparent: HeaderValue,
    pub(crate) forwarded: HeaderValue,
    pub(crate) recorder: RefCell<Recorder>,
    /// The operation, once it is known.
    pub(crate) at: Cell<Option<OperationIndex>>,
    pub(crate) caller: Caller,
    pub(crate) rate: Option<RateFields>,
    /// The media type that the caller gets, when there is a choice.
    pub(crate) chosen: Option<MediaType>,
    pub(crate) bytes_in: Cell<u64>,
}

/// Carries out one exchange. The trace is given for trial runs; those of live traffic are handed out as records.
pub(crate) async fn run(
    worker: &Rc<Worker>,
    porch: &Arc<CompiledPorch>,
    request: Request<InBody>,
    address: IpAddr,
    mode: Mode,
) -> (Response<ReplyBody>, Option<Box<Trace>>) {
    let (mut parts, body) = request.into_parts();
    host_of_http2(&mut parts);
    let mut x = Exchange::begin(worker, porch, &parts, &body, address, mode);
    let (mut response, refusal) = match x.stages(&parts, body).await {
        Ok(response) => (response, None),
        Err(problem) => {
            let response = x.refusal(&parts, &problem);
            (response, Some(problem.refusal))
        }
    };
    let headers = response.headers_mut();
    if let Some(rate) = x.rate.take() {
        headers.insert(RATE_LIMIT_POLICY, rate.policy);
        headers.insert(RATE_LIMIT, rate.state);
    }
    headers.insert(TRACEPARENT, x.traceparent.clone());
    let trace = stage::record(x, &parts, refusal, &mut response);
    (response, trace)
}

/// HTTP/2 has the host in its target (RFC 9113 §8.3.1).
fn host_of_http2(parts: &mut Parts) {
    if let Some(authority) = parts.uri.authority()
        && !parts.headers.contains_key(header::HOST)
        && let Ok(value) = HeaderValue::from_str(authority.as_str())
    {
        parts.headers.insert(header::HOST, value);
    }
}

impl<'x> Exchange<'x> {
    fn begin(
        worker: &'x Rc<Worker>,
        porch: &'x Arc<CompiledPorch>,
        parts: &Parts,
        body: &InBody,
        address: IpAddr,
        mode: Mode,
    ) -> Self {
        let now = unix_ms();
        let full = mode == Mode::Trial || worker.may_trace(now, FULL_TRACES);
        let context = trace_context(worker, &parts.headers);
        Self {
            worker,
            porch,
            mode,
            address,
            now,
            context,
            traceparent: HeaderValue::from_bytes(&context)
                .unwrap_or_else(|_| HeaderValue::from_static("")),
            forwarded: forwarded(address, &parts.headers),
            recorder: RefCell::new(Recorder::new(full)),
            at: Cell::new(None),
            caller: Caller::default(),
            rate: None,
            chosen: None,
            bytes_in: Cell::new(body.length().unwrap_or(0)),
        }
    }

    /// The exchange's id.
    pub(crate) fn id(&self) -> &str {
        std::str::from_utf8(&self.context[3..35]).unwrap_or_default()
    }

    /// The stages, in order.
    async fn stages(
        &mut self,
        parts: &Parts,
        body: InBody,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let found = match stage::find(self, parts)? {
            Ok(found) => found,
            Err(response) => return Ok(response),
        };
        self.at.set(Some(found.index));
        let captured = found.captured();
        let admitted = match stage::admit(self, &found, &captured, parts, &body) {
            Ok(admitted) => admitted,
            Err(problem) => {
                if problem.status == StatusCode::PAYLOAD_TOO_LARGE {
                    body.discard().await;
                }
                return Err(problem);
            }
        };
        let request = steps::Request {
            facade: found.facade,
            operation: found.operation,
            parts,
            captured: &captured,
            native: found.native,
            tell: Tell::new(found.facade, found.index.operation, self.id()),
        };
        let caller = self.caller.clone();
        let mut scope = Scope {
            operation: found.operation,
            path: admitted.parameters.0,
            query: admitted.parameters.1,
            headers: &parts.headers,
            body: None,
            caller: &caller,
            address: self.address,
            answers: Vec::new(),
        };
        let outcome = steps::run(self, &request, &mut scope, body).await?;
        stage::reply(self, &request, outcome, &mut scope)
    }

    /// A refusal as the caller understands it.
    fn refusal(&self, parts: &Parts, problem: &Problem) -> Response<ReplyBody> {
        let mut response = if grpc::is_native(&parts.method, &parts.headers) {
            grpc::refusal(problem)
        } else {
            let (kind, bytes) = problem.render(self.id(), &parts.headers);
            let mut response = Response::new(ReplyBody::Full(Some(bytes)));
            *response.status_mut() = problem.status;
            response.headers_mut().insert(header::CONTENT_TYPE, kind);
            response
        };
        for (name, value) in &problem.headers {
            response.headers_mut().insert(name, value.clone());
        }
        response
    }
}

/// Path and query, whichever way the target was written.
pub(crate) fn target(parts: &Parts) -> String {
    parts
        .uri
        .path_and_query()
        .map_or_else(|| parts.uri.to_string(), ToString::to_string)
}
