//! The exchange: match → admit → prepare → call → reply → record.

use std::cell::Cell;
use std::net::IpAddr;
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use bytes::Bytes;
use http::Method;
use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Request, Response, StatusCode, header};
use porch_facade::{CompiledOperation, CompiledPorch, MediaType, Miss, NATIVE, Wiring, normalise};
use serde_json::Value;

use crate::admit::{self, Caller, RATE_LIMIT, RATE_LIMIT_POLICY, RateFields};
use crate::grpc;
use crate::media;
use crate::pool::{CallFailure, Lease};
use crate::problem::Problem;
use crate::record::{NO_OPERATION, Record};
use crate::reply;
use crate::reply_body::ReplyBody;
use crate::request_body::{InBody, OutBody, ReadFailure};
use crate::scope::{self, Parameters, Values};
use crate::trace::{Message, Recorder, Stage, Trace};
use crate::worker::{Ending, FULL_TRACES, SHORT_TRACES, Worker};

/// Whether an exchange is a caller's or a publisher's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    Live,
    /// A trial run: no key is demanded, no limit counts, everything is recorded.
    Trial,
}

const BODY_IDLE: Duration = Duration::from_secs(15);
const TRACEPARENT: HeaderName = HeaderName::from_static("traceparent");

fn unix_ms() -> i64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |d| d.as_millis() as i64)
}

pub(crate) struct Exchange<'w> {
    pub(crate) worker: &'w Rc<Worker>,
    porch: &'w Arc<CompiledPorch>,
    pub(crate) mode: Mode,
    address: IpAddr,
    now: i64,
    pub(crate) recorder: Recorder,
    pub(crate) traceparent: HeaderValue,
    operation: u32,
    caller: Caller,
    rate: Option<RateFields>,
    /// The media type that the caller gets, when there is a choice.
    pub(crate) chosen: Option<MediaType>,
    bytes_in: u64,
}

pub(crate) type Outcome = Result<Response<ReplyBody>, Box<Problem>>;

/// Carries out one exchange. The trace is given for trial runs; those of live traffic are handed out as records.
pub(crate) async fn run(
    worker: &Rc<Worker>,
    porch: &Arc<CompiledPorch>,
    request: Request<InBody>,
    address: IpAddr,
    mode: Mode,
) -> (Response<ReplyBody>, Option<Box<Trace>>) {
    let (mut parts, body) = request.into_parts();
    // HTTP/2 has the host in its target (RFC 9113 §8.3.1).
    if let Some(authority) = parts
        .uri
        .authority()
        .filter(|_| !parts.headers.contains_key(header::HOST))
        && let Ok(value) = HeaderValue::from_str(authority.as_str())
    {
        parts.headers.insert(header::HOST, value);
    }
    let now = unix_ms();
    let full = mode == Mode::Trial || worker.may_trace(now, FULL_TRACES);
    let context = trace_context(worker, &parts.headers);
    let id = std::str::from_utf8(&context[3..35]).unwrap_or_default();
    let traceparent =
        HeaderValue::from_bytes(&context).unwrap_or_else(|_| HeaderValue::from_static(""));
    let mut x = Exchange {
        worker,
        porch,
        mode,
        address,
        now,
        recorder: Recorder::new(full),
        traceparent,
        operation: NO_OPERATION,
        caller: Caller::default(),
        rate: None,
        chosen: None,
        bytes_in: body.length().unwrap_or(0),
    };
    let outcome = x.stages(&parts, id, body).await;
    let mut refusal = None;
    let mut response = match outcome {
        Ok(response) => response,
        Err(problem) => {
            let mut response = if grpc::is_native(&parts.method, &parts.headers) {
                grpc::refusal(&problem)
            } else {
                let (kind, bytes) = problem.render(id, &parts.headers);
                let mut response = Response::new(ReplyBody::Full(Some(bytes)));
                *response.status_mut() = problem.status;
                response.headers_mut().insert(header::CONTENT_TYPE, kind);
                response
            };
            for (name, value) in &problem.headers {
                response.headers_mut().insert(name, value.clone());
            }
            refusal = Some(problem.refusal);
            response
        }
    };
    if let Some(rate) = x.rate.take() {
        response
            .headers_mut()
            .insert(RATE_LIMIT_POLICY, rate.policy);
        response.headers_mut().insert(RATE_LIMIT, rate.state);
    }
    response
        .headers_mut()
        .insert(TRACEPARENT, x.traceparent.clone());
    let trace = x.conclude(&parts, id, refusal, &mut response);
    (response, trace)
}

/// The `traceparent` to send on: the caller's trace is continued (W3C Trace Context §3.2).
fn trace_context(worker: &Worker, headers: &HeaderMap) -> [u8; 55] {
    let mut out = *b"00-00000000000000000000000000000000-0000000000000000-01";
    let given = headers
        .get(TRACEPARENT)
        .map(HeaderValue::as_bytes)
        .filter(|b| {
            let hex = |part: &[u8]| {
                part.iter()
                    .all(|c| c.is_ascii_digit() || (b'a'..=b'f').contains(c))
            };
            b.len() == 55
                && b.starts_with(b"00-")
                && b[35] == b'-'
                && b[52] == b'-'
                && hex(&b[3..35])
                && hex(&b[36..52])
                && hex(&b[53..55])
                && b[3..35].iter().any(|c| *c != b'0')
                && b[36..52].iter().any(|c| *c != b'0')
        });
    match given {
        Some(given) => out[3..35].copy_from_slice(&given[3..35]),
        None => {
            write_hex(&mut out[3..19], worker.random());
            write_hex(&mut out[19..35], worker.random());
        }
    }
    write_hex(&mut out[36..52], worker.random());
    out
}

fn write_hex(out: &mut [u8], number: u64) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    for (i, digit) in out.iter_mut().enumerate() {
        *digit = DIGITS[(number >> (60 - 4 * i)) as usize & 15];
    }
}

impl Exchange<'_> {
    async fn stages(&mut self, parts: &Parts, id: &str, body: InBody) -> Outcome {
        let from = Instant::now();
        let porch: Arc<CompiledPorch> = Arc::clone(self.porch);
        let path = normalise(parts.uri.path()).map_err(|why| {
            Problem::new(
                400,
                "path",
                "The path is not valid",
                format!("{why}."),
                "match",
            )
        })?;
        let host = if porch.router.has_hosts() {
            host(parts)
        } else {
            None
        };
        let native = grpc::is_native(&parts.method, &parts.headers);
        let found = porch.router.find(
            host.as_deref(),
            if native {
                NATIVE
            } else {
                parts.method.as_str()
            },
            &path.path,
        );
        let matched = match found {
            Ok(matched) => matched,
            Err(miss) => return self.missed(miss, parts),
        };
        self.operation = matched.operation;
        let op = &porch.operations[matched.operation as usize];
        let facade = &porch.facades[op.facade];
        self.recorder.stage("match", from, |s| {
            s.notes.push(format!(
                "{} {}{} is the operation “{}” of the facade “{}” {}",
                op.method, facade.base, op.path, op.id, facade.name, facade.version
            ));
            s.before = Some(Message::new(
                format!("{} {}", parts.method, target(parts)),
                &parts.headers,
                facade.key_header.as_str(),
            ));
        });
        if self.mode == Mode::Live && self.worker.shared.pauses.load().stops(&facade.name, &op.id) {
            let problem = Problem::new(
                503,
                "paused",
                "Paused",
                "This operation is paused by its publisher.",
                "match",
            )
            .why("the facade or the operation is paused")
            .by(&op.place);
            return Err(problem.header(header::RETRY_AFTER, "60"));
        }
        let (path_values, query) = match self.admit(
            &porch,
            op,
            if native {
                None
            } else {
                Some(&matched.captured)
            },
            parts,
            &body,
        ) {
            Ok(parameters) => parameters,
            Err(problem) => {
                if problem.status == StatusCode::PAYLOAD_TOO_LARGE {
                    body.discard().await;
                }
                return Err(problem);
            }
        };
        if let Some(offer) = &op.media {
            self.chosen = media::choose(&parts.headers, &offer.offered);
            if self.chosen.is_none() {
                let names: Vec<&str> = offer.offered.iter().map(|k| media::name(*k)).collect();
                let problem = Problem::new(
                    406,
                    "not-acceptable",
                    "Not in a media type you accept",
                    format!("This operation gives {}.", names.join(" or ")),
                    "admit",
                );
                return Err(problem.by(&op.place));
            }
        }
        let consumer = self.caller.consumer.clone();
        let key = self.caller.key.clone();
        let mut values = Values {
            operation: op,
            path: path_values,
            query,
            headers: &parts.headers,
            body: None,
            consumer: consumer.as_ref().map_or("", |c| c.name.as_str()),
            key: &key,
            address: self.address,
            answer: None,
        };
        match &op.wiring {
            Wiring::Soap(_) => self.soap(&porch, &mut values, body).await,
            Wiring::Grpc(_) if native => self.native(&porch, op, parts, body).await,
            Wiring::Grpc(_) => {
                let asked = grpc::Asked {
                    parts,
                    operation: matched.operation,
                    id,
                };
                self.grpc(&porch, &mut values, &asked, body).await
            }
            Wiring::Http(_) => {
                self.http(&porch, &mut values, &matched.captured, parts, body)
                    .await
            }
        }
    }

    fn missed(&mut self, miss: Miss, parts: &Parts) -> Outcome {
        match miss {
            Miss::Path => Err(Problem::new(
                404,
                "not-found",
                "Nothing here",
                "Nothing is published at this host and path.",
                "match",
            )
            .why(format!("no facade has {}", parts.uri.path()))),
            Miss::Method(allowed) => {
                let list = allowed.join(", ");
                if parts.method == Method::OPTIONS {
                    let mut response = Response::new(ReplyBody::Full(None));
                    *response.status_mut() = StatusCode::NO_CONTENT;
                    if let Ok(value) = HeaderValue::from_str(&format!("{list}, OPTIONS")) {
                        response.headers_mut().insert(header::ALLOW, value);
                    }
                    return Ok(response);
                }
                Err(Problem::new(
                    405,
                    "method",
                    "Method not allowed",
                    format!("This path takes {list}."),
                    "match",
                )
                .header(header::ALLOW, &list))
            }
        }
    }

    fn admit<'o>(
        &mut self,
        porch: &CompiledPorch,
        op: &'o CompiledOperation,
        captured: Option<&[&str]>,
        parts: &Parts,
        body: &InBody,
    ) -> Result<Parameters<'o>, Box<Problem>> {
        let from = Instant::now();
        let live = self.mode == Mode::Live;
        let shared = &self.worker.shared;
        if live {
            self.caller = admit::key(
                porch,
                op,
                &shared.keys.load(),
                &parts.headers,
                self.now / 1000,
            )?;
            if !op.limits.is_empty() {
                self.rate = admit::limits(shared, op, &self.caller, self.address, shared.now_ms())?;
            }
        }
        if body.length().is_some_and(|n| n > op.max_body.0) {
            return Err(admit::too_large(op));
        }
        // A native call has its values in its messages.
        let result = match captured {
            Some(captured) => scope::parameters(op, captured, parts.uri.query(), &parts.headers)
                .map_err(|list| admit::mistakes(list, op, "admit"))?,
            None => Parameters::default(),
        };
        let caller = &self.caller;
        let rate = self.rate.as_ref();
        self.recorder.stage("admit", from, |s| {
            match (&caller.consumer, live) {
                (Some(consumer), _) => s.notes.push(format!(
                    "the key “{}…” is of the consumer “{}”",
                    caller.key, consumer.name
                )),
                (None, true) => s.notes.push("no key is demanded".into()),
                (None, false) if op.key.is_some() => s
                    .notes
                    .push("a trial run: the key that callers must show is not demanded".into()),
                (None, false) => {}
            }
            for limit in &op.limits {
                let state = if live {
                    rate.and_then(|r| r.state.to_str().ok()).unwrap_or_default()
                } else {
                    "not counted in a trial run"
                };
                s.notes.push(format!(
                    "{} ({}): {state}",
                    limit.place.rule, limit.place.reach
                ));
            }
            for (name, value) in op
                .variables
                .iter()
                .zip(&result.0)
                .map(|(n, v)| (n.as_str(), v))
                .chain(result.1.iter().map(|(n, v)| (*n, v)))
            {
                s.notes.push(format!("{name} = {value}"));
            }
        });
        Ok(result)
    }

    /// The caller's body as a value.
    pub(crate) async fn read_value(
        &mut self,
        op: &CompiledOperation,
        headers: &HeaderMap,
        body: InBody,
    ) -> Result<Option<Value>, Box<Problem>> {
        let bytes = self.read(op, body).await?;
        if bytes.is_empty() {
            if op.body_required {
                return Err(admit::mistakes(
                    vec![("/body".into(), "must be there".into())],
                    op,
                    "admit",
                ));
            }
            return Ok(None);
        }
        let essence = media::essence(headers);
        let taken: &[MediaType] = op.media.as_ref().map_or(&[MediaType::Json], |m| &m.offered);
        let Some(kind) = media::kind(&essence).filter(|k| taken.contains(k)) else {
            let shown = if essence.is_empty() {
                "no media type"
            } else {
                &essence
            };
            let names: Vec<&str> = taken.iter().map(|k| media::name(*k)).collect();
            return Err(Problem::new(
                415,
                "media-type",
                "Media type not understood",
                format!("Send {}; {shown} came.", names.join(" or ")),
                "admit",
            )
            .by(&op.place)
            .header(header::ACCEPT, &names.join(", ")));
        };
        let mapping = op
            .media
            .as_ref()
            .map(|m| m.mapping.clone())
            .unwrap_or_default();
        media::parse(kind, &bytes, headers, &mapping)
            .map(Some)
            .map_err(|why| admit::mistakes(vec![("/body".into(), why)], op, "admit"))
    }

    pub(crate) async fn read(
        &mut self,
        op: &CompiledOperation,
        body: InBody,
    ) -> Result<Bytes, Box<Problem>> {
        let bytes =
            body.collect(op.max_body.0, BODY_IDLE)
                .await
                .map_err(|failure| match failure {
                    ReadFailure::TooLarge => admit::too_large(op),
                    ReadFailure::TooSlow => Problem::new(
                        408,
                        "request-slow",
                        "The request is too slow",
                        "Its body did not arrive in time.",
                        "admit",
                    )
                    .by(&op.place),
                    ReadFailure::BrokenOff => Problem::new(
                        400,
                        "request-broke-off",
                        "The request broke off",
                        "Its body is not complete.",
                        "admit",
                    )
                    .by(&op.place),
                })?;
        self.bytes_in = bytes.len() as u64;
        Ok(bytes)
    }

    pub(crate) fn forwarded(&self, headers: &HeaderMap) -> HeaderValue {
        let host = headers
            .get(header::HOST)
            .and_then(|h| h.to_str().ok())
            .filter(|h| !h.contains(['"', '\\', ';', ',']))
            .unwrap_or("unknown");
        let mut text = String::with_capacity(64);
        text.push_str("for=");
        match self.address {
            // By hand: this is written for every call, and the general way costs ten times as much.
            IpAddr::V4(v4) => {
                for (i, octet) in v4.octets().into_iter().enumerate() {
                    if i > 0 {
                        text.push('.');
                    }
                    for (unit, least) in [(100, 100), (10, 10), (1, 0)] {
                        if octet >= least {
                            text.push(char::from(b'0' + octet / unit % 10));
                        }
                    }
                }
            }
            IpAddr::V6(v6) => text.push_str(&format!("\"[{v6}]\"")),
        }
        text.push_str(";host=\"");
        text.push_str(host);
        text.push_str("\";proto=http");
        HeaderValue::from_maybe_shared(Bytes::from(text))
            .unwrap_or_else(|_| HeaderValue::from_static("for=unknown"))
    }

    /// A reply's JSON in the media type that the caller gets.
    pub(crate) fn in_chosen_type(
        &self,
        op: &CompiledOperation,
        json: Bytes,
    ) -> Result<Bytes, Box<Problem>> {
        let (Some(MediaType::Xml), Some(offer)) = (self.chosen, &op.media) else {
            return Ok(json);
        };
        if json.is_empty() {
            return Ok(json);
        }
        let value = reply::json_of(&json, op)?;
        media::render(MediaType::Xml, &value, &offer.mapping)
            .map(Bytes::from)
            .map_err(|errors| {
                let list: Vec<String> = errors
                    .iter()
                    .map(|e| format!("{} {}", e.pointer, e.message))
                    .collect();
                reply::bad_answer(
                    op,
                    format!("it cannot be written as XML: {}", list.join("; ")),
                )
            })
    }

    /// Calls the backend; a connection that had gone stale is replaced once, when that is safe.
    pub(crate) async fn call(
        &mut self,
        op: &CompiledOperation,
        backend: &Arc<porch_facade::CompiledBackend>,
        request: Request<OutBody>,
        again: impl FnOnce() -> Option<Request<OutBody>>,
    ) -> Result<(Response<hyper::body::Incoming>, Lease, Instant), Box<Problem>> {
        let from = Instant::now();
        let mut result = self.worker.pool.send(backend, request, false).await;
        let second = match &mut result {
            Err(CallFailure::Broken {
                reused: true,
                unsent,
                ..
            }) => unsent.take().map(|r| *r).or_else(again),
            _ => None,
        };
        if let Some(request) = second {
            result = self.worker.pool.send(backend, request, true).await;
        }
        match result {
            Ok((answer, lease)) => Ok((answer, lease, from)),
            Err(failure) => {
                let problem = reply::call_failed(&failure, op, backend);
                self.recorder
                    .stage("call", from, |s| s.notes.push(problem.refusal.why.clone()));
                Err(problem)
            }
        }
    }

    fn conclude(
        mut self,
        parts: &Parts,
        id: &str,
        refusal: Option<crate::trace::Refusal>,
        response: &mut Response<ReplyBody>,
    ) -> Option<Box<Trace>> {
        let status = response.status().as_u16();
        let consumer = self.caller.consumer.as_ref().map_or(0, |c| c.id);
        if self.mode == Mode::Live {
            let ending = Ending {
                worker: self.worker.clone(),
                porch: self.porch.clone(),
                started: self.recorder.started,
                operation: self.operation,
                consumer,
                status,
                bytes_in: self.bytes_in,
                bytes_out: Cell::new(0),
            };
            match response.body_mut() {
                ReplyBody::Stream(stream) => stream.ending = Some(Rc::new(ending)),
                ReplyBody::Convert(converting) => converting.ending = Some(Rc::new(ending)),
                ReplyBody::Messages(messages) => messages.ending = Some(Rc::new(ending)),
                ReplyBody::Native { ending: own, .. } => *own = Some(Rc::new(ending)),
                ReplyBody::Full(bytes) => {
                    ending.add_bytes(bytes.as_ref().map_or(0, |b| b.len() as u64))
                }
            }
        }
        let keep = self.recorder.full
            || (refusal.is_some() && self.worker.may_trace(self.now, SHORT_TRACES));
        if !keep {
            return None;
        }
        if let Some(refusal) = &refusal
            && !self.recorder.stages.iter().any(|s| s.name == refusal.stage)
        {
            self.recorder.stage(&refusal.stage, Instant::now(), |s| {
                s.notes.push(refusal.why.clone())
            });
        }
        if let ReplyBody::Full(bytes) = response.body()
            && self.recorder.full
        {
            let head = response.status().to_string();
            let message = Message::new(head, response.headers(), "")
                .body(bytes.as_deref().unwrap_or_default());
            let last = match self.recorder.stages.last_mut() {
                Some(last) if last.name == "reply" => last,
                _ => {
                    self.recorder.stage("reply", Instant::now(), |_| ());
                    self.recorder.stages.last_mut()?
                }
            };
            last.after = Some(message);
        }
        let op = self.porch.operations.get(self.operation as usize);
        let trace = Box::new(Trace {
            id: id.to_owned(),
            at: self.now,
            release: if self.mode == Mode::Live {
                self.porch.release
            } else {
                0
            },
            facade: op.map_or_else(String::new, |o| self.porch.facades[o.facade].name.clone()),
            operation: op.map_or_else(String::new, |o| o.id.clone()),
            consumer,
            consumer_name: self
                .caller
                .consumer
                .as_ref()
                .map_or_else(String::new, |c| c.name.clone()),
            key: self.caller.key.to_string(),
            address: self.address.to_string(),
            method: parts.method.to_string(),
            target: target(parts),
            status,
            us: self.recorder.started.elapsed().as_micros() as u64,
            refusal,
            stages: std::mem::take(&mut self.recorder.stages),
        });
        match self.mode {
            Mode::Trial => Some(trace),
            Mode::Live => {
                self.worker.shared.send(Record::Trace(trace));
                None
            }
        }
    }
}

pub(crate) fn no_wiring(op: &CompiledOperation) -> Box<Problem> {
    Problem::new(
        500,
        "wiring",
        "Not wired",
        "This operation cannot be carried out.",
        "prepare",
    )
    .by(&op.place)
}

pub(crate) fn note_reply<T>(stage: &mut Stage, outcome: &Result<T, Box<Problem>>) {
    if let Err(problem) = outcome {
        stage.notes.push(problem.refusal.why.clone());
    }
}

/// Path and query, whichever way the target was written.
fn target(parts: &Parts) -> String {
    parts
        .uri
        .path_and_query()
        .map_or_else(|| parts.uri.to_string(), ToString::to_string)
}

/// The host that was asked for, in lower case and without its port.
fn host(parts: &Parts) -> Option<String> {
    let text = parts
        .headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok())
        .or_else(|| parts.uri.authority().map(|a| a.as_str()))?;
    let name = if text.starts_with('[') {
        text
    } else {
        text.split(':').next().unwrap_or(text)
    };
    Some(name.to_ascii_lowercase())
}
