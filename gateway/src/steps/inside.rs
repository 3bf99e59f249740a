//! Backends that are facades of this porch: carried out in this process, without a connection.
//!
//! All of it lies aside: a call of another backend has no room for it.

use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;

use bytes::Bytes;
use http::uri::PathAndQuery;
use http::{HeaderMap, HeaderValue, Request, Response, Uri, Version, header};
use porch_facade::{CompiledFacade, CompiledPorch};
use tokio::task::JoinError;
use tokio::time::Instant;

use super::one::Call;
use crate::backend::{Answered, CallFailure, Came};
use crate::body::{InBody, OutBody, ReplyBody};
use crate::exchange::state::{Exchange, Mode};
use crate::exchange::{self, Inner, Origin};
use crate::failure::{Failure, Told};
use crate::fields::TRACEPARENT;
use crate::outgoing::Outgoing;
use crate::stage::{each_link, operation_of};
use crate::trace::Trace;
use crate::worker::Worker;

/// So many facades may stand on one another.
const DEEPEST: u8 = 8;

/// Carries a request out at the facade that the backend is.
pub(super) async fn send(
    x: &Exchange<'_>,
    call: &Call<'_>,
    slot: &mut Option<Outgoing>,
    until: Instant,
) -> Result<Answered, Failure> {
    let name = call.backend.inside().unwrap_or_default();
    let mut inner = Inner::of(x);
    if inner.depth > DEEPEST {
        let why = format!(
            "more than {DEEPEST} facades stand on one another, up to “{name}”: perhaps in a circle"
        );
        return Err(in_a_circle(why));
    }
    let Some(facade) = x.porch.facade(name) else {
        return Err(not_served(name));
    };
    let Some(outgoing) = slot.take() else {
        return Err(Failure::Call(CallFailure::Broken(
            "the request is gone".into(),
        )));
    };
    let request = request(x, facade, outgoing).await?;
    inner.full = x.recorder.borrow().full;
    let origin = Origin::inside(x.origin.address, inner);
    let begun = x.recorder.borrow().begin();
    let running = run(x.worker, x.porch, request, origin);
    let (response, trace) = tokio::time::timeout_at(until, running)
        .await
        .map_err(|_| Failure::Call(CallFailure::Timeout))?;
    if let Some(trace) = trace {
        shown(x, name, begun, *trace);
    }
    let (mut head, body) = response.into_parts();
    head.headers.remove(TRACEPARENT);
    for name in [header::LOCATION, header::CONTENT_LOCATION] {
        below(&mut head.headers, &name, &facade.base);
    }
    each_link(&mut head.headers, &mut |target| {
        without_base(target, &facade.base).map(str::to_owned)
    });
    cookies(&mut head.headers, &facade.base);
    Ok(Answered {
        head,
        body: Came::Inside(Box::new(body)),
        lease: None,
    })
}

type Running<'r> = Pin<Box<dyn Future<Output = (Response<ReplyBody>, Option<Box<Trace>>)> + 'r>>;

/// An exchange inside of another one, as a future whose size is its own.
fn run<'r>(
    worker: &'r Rc<Worker>,
    porch: &'r Arc<CompiledPorch>,
    request: Request<InBody>,
    origin: Origin,
) -> Running<'r> {
    let (parts, body) = request.into_parts();
    let takes_back = !porch.takes_back.is_empty()
        && operation_of(porch, &parts).is_some_and(|op| op.takes_back());
    let request = Request::from_parts(parts, body);
    if !takes_back {
        return Box::pin(async move {
            exchange::run(worker, porch, request, &origin, Mode::Inside).await
        });
    }
    // It is carried through, as it would be for a caller of its own.
    let (worker, porch) = (worker.clone(), porch.clone());
    let carried =
        async move { exchange::run(&worker, &porch, request, &origin, Mode::Inside).await };
    let task = tokio::task::spawn_local(carried);
    Box::pin(async move {
        match task.await.map_err(JoinError::try_into_panic) {
            Ok(done) => done,
            Err(Ok(panic)) => std::panic::resume_unwind(panic),
            Err(Err(_)) => (Response::new(ReplyBody::Full(None)), None),
        }
    })
}

/// The request as the facade's own callers make it.
async fn request(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    outgoing: Outgoing,
) -> Result<Request<InBody>, Failure> {
    let (mut parts, body) = outgoing.into_http(Version::HTTP_11).into_parts();
    let target = parts.uri.path_and_query().map_or("/", PathAndQuery::as_str);
    let target = format!("{}{target}", facade.base);
    let uri: Result<Uri, _> = target.parse();
    parts.uri = uri.map_err(|e| Failure::Target(format!("{target}: {e}")))?;
    let host = facade.hosts.first().map_or("localhost", String::as_str);
    let host = HeaderValue::from_str(host).unwrap_or(HeaderValue::from_static("localhost"));
    parts.headers.insert(header::HOST, host);
    let body = match body {
        OutBody::Empty | OutBody::Full(None) => Bytes::new(),
        OutBody::Full(Some(bytes)) => bytes,
        // It is whole before it is taken in once more: how long it is may matter there.
        OutBody::Stream { body, left, .. } => {
            let whole = InBody::Incoming(body).collect(left, &x.share).await;
            whole.map_err(Failure::Body)?
        }
        OutBody::Made(_) => {
            let why = "a body that is made while it is sent cannot be given to a facade".to_owned();
            return Err(Failure::Call(CallFailure::Broken(why)));
        }
    };
    parts.headers.remove(header::TRANSFER_ENCODING);
    parts.headers.remove(header::CONTENT_LENGTH);
    if !body.is_empty() {
        parts
            .headers
            .insert(header::CONTENT_LENGTH, body.len().into());
    }
    Ok(Request::from_parts(parts, InBody::Full(body)))
}

/// What was done inside, as stages of the exchange outside.
fn shown(x: &Exchange<'_>, name: &str, begun: std::time::Instant, trace: Trace) {
    let mut recorder = x.recorder.borrow_mut();
    let later = begun.duration_since(recorder.started).as_micros() as u64;
    let refused = trace.refusal.map(|r| r.why);
    let step = match trace.operation.as_str() {
        "" => name.to_owned(),
        operation => format!("{name}/{operation}"),
    };
    let last = trace.stages.len().saturating_sub(1);
    for (i, mut stage) in trace.stages.into_iter().enumerate() {
        stage.from_us += later;
        stage.step = match stage.step.as_str() {
            "" => step.clone(),
            inner => format!("{step}: {inner}"),
        };
        if let Some(why) = refused
            .as_ref()
            .filter(|why| i == last && !stage.notes.contains(why))
        {
            stage.notes.push(why.clone());
        }
        recorder.stages.push(stage);
    }
}

/// A reference to something of the facade as one to something of a backend: behind its base.
fn below(headers: &mut HeaderMap, name: &header::HeaderName, base: &str) {
    let Some(text) = headers.get(name).and_then(|v| v.to_str().ok()) else {
        return;
    };
    let Some(rest) = without_base(text, base) else {
        return;
    };
    if let Ok(value) = HeaderValue::from_str(rest) {
        headers.insert(name, value);
    }
}

/// What of a reference is behind a facade's base; `None` for what is not below it.
fn without_base<'t>(text: &'t str, base: &str) -> Option<&'t str> {
    match text.strip_prefix(base)? {
        "" => Some("/"),
        rest => rest.starts_with(['/', '?', '#']).then_some(rest),
    }
}

/// Cookies that the facade sets below its base, as a backend sets them that has none (RFC 6265 §5.2.4).
fn cookies(headers: &mut HeaderMap, base: &str) {
    if base.is_empty() || !headers.contains_key(header::SET_COOKIE) {
        return;
    }
    let prefix = format!(" Path={base}");
    let all = headers.get_all(header::SET_COOKIE).iter();
    let all: Vec<HeaderValue> = all.cloned().collect();
    headers.remove(header::SET_COOKIE);
    for cookie in all {
        let Ok(text) = cookie.to_str() else {
            headers.append(header::SET_COOKIE, cookie);
            continue;
        };
        let parts = text
            .split(';')
            .map(|part| match part.strip_prefix(&prefix) {
                Some("") => " Path=/".to_owned(),
                Some(rest) if rest.starts_with('/') => format!(" Path={rest}"),
                _ => part.to_owned(),
            });
        if let Ok(value) = HeaderValue::from_str(&parts.collect::<Vec<_>>().join(";")) {
            headers.append(header::SET_COOKIE, value);
        }
    }
}

fn not_served(name: &str) -> Failure {
    Failure::Told(Box::new(Told {
        status: 502,
        kind: "backend-unreachable",
        title: "The backend cannot be reached",
        text: "The facade that stands behind this one is not served.".into(),
        why: format!("the facade “{name}” is not served: release it"),
        members: Vec::new(),
        fields: Vec::new(),
    }))
}

fn in_a_circle(why: String) -> Failure {
    Failure::Told(Box::new(Told {
        status: 508,
        kind: "loop-detected",
        title: "Loop detected",
        text: "The facades behind this one stand on one another.".into(),
        why,
        members: Vec::new(),
        fields: Vec::new(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_leads_below_the_facade_leads_to_the_root_of_a_backend() {
        for (given, expected) in [
            ("/in/v1/a?b", "/a?b"),
            ("/in/v1", "/"),
            ("/in/v10/a", "/in/v10/a"),
            (
                "http://elsewhere.example/in/v1/a",
                "http://elsewhere.example/in/v1/a",
            ),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(header::LOCATION, given.parse().expect("a value"));
            below(&mut headers, &header::LOCATION, "/in/v1");
            assert_eq!(headers[header::LOCATION], expected);
        }
        for (given, expected) in [
            ("a=1; Path=/in/v1; Secure", "a=1; Path=/; Secure"),
            ("a=1; Path=/in/v1/x", "a=1; Path=/x"),
            ("a=1; Path=/in/v10", "a=1; Path=/in/v10"),
            ("a=1", "a=1"),
        ] {
            let mut headers = HeaderMap::new();
            headers.append(header::SET_COOKIE, given.parse().expect("a value"));
            headers.append(
                header::SET_COOKIE,
                "b=2; Path=/in/v1/y".parse().expect("a value"),
            );
            cookies(&mut headers, "/in/v1");
            let all: Vec<_> = headers.get_all(header::SET_COOKIE).iter().collect();
            assert_eq!(all, [expected, "b=2; Path=/y"]);
        }
    }
}
