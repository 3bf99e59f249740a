//! Attempts again: of what is safe to repeat, spaced, within a budget and the time that an answer may take.
//!
//! All of it lies aside of calls that are answered well.

use std::time::{Duration, SystemTime};

use bytes::Bytes;
use http::{HeaderName, StatusCode, header};
use porch_facade::{Attempts, Circuit, Transport};
use tokio::time::Instant;

use super::made::made_anew;
use super::one::Call;
use super::{inside, shown};
use crate::backend::{Answered, CallFailure, DialError};
use crate::body::OutBody;
use crate::call::CallerBody;
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::outgoing::Outgoing;
use crate::scope::Scope;
use crate::steps::request::Request;

type Came = Result<Answered, Failure>;

/// An answer of gRPC that is none, in its head (trailers only).
const GRPC_STATUS: HeaderName = HeaderName::from_static("grpc-status");
const UNAVAILABLE: &str = "14";

/// Whether what came is asked for again.
fn fails(policy: &Attempts, came: &Came) -> bool {
    match came {
        Ok(answered) => {
            let has = |status| policy.statuses.contains(&status);
            has(answered.head.status.as_u16()) || (is_unavailable(answered) && has(503))
        }
        // What is wrong with its certificate is wrong the next time too.
        Err(Failure::Call(failure)) => matches!(
            failure,
            CallFailure::Connect(DialError::Refused(_) | DialError::Handshake(_))
                | CallFailure::ConnectTimeout
                | CallFailure::Broken(_)
        ),
        Err(_) => false,
    }
}

/// Whether an answer of gRPC says, in its head, that the backend is not available (status codes of gRPC: 14).
fn is_unavailable(answered: &Answered) -> bool {
    let status = answered.head.headers.get(GRPC_STATUS);
    status.is_some_and(|code| code == UNAVAILABLE)
}

/// How long a backend asks to be left alone (RFC 9110 §10.2.3).
fn asked_for(came: &Came) -> Option<Duration> {
    let Ok(answered) = came else { return None };
    let value = answered.head.headers.get(header::RETRY_AFTER)?;
    let text = value.to_str().ok()?.trim();
    match text.parse() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => {
            let until = httpdate::parse_http_date(text).ok()?;
            until.duration_since(SystemTime::now()).ok()
        }
    }
}

/// Whether a call may be repeated: its request is safe, or that of the caller is (RFC 9110 §9.2.1), or the caller says so.
fn may_repeat(policy: &Attempts, request: &Request<'_>, call: &Call<'_>, again: bool) -> bool {
    may_be_repeated(request, call, again)
        || (may_be_made(request, call) && has_key(policy, request))
}

/// Whether a call can be made anew: what callers stream is gone by then.
pub(super) fn may_be_made(request: &Request<'_>, call: &Call<'_>) -> bool {
    !request.native && !call.made.takes_messages()
}

/// The same, whatever its backend says of callers' keys.
pub(super) fn may_be_repeated(request: &Request<'_>, call: &Call<'_>, again: bool) -> bool {
    if !may_be_made(request, call) {
        return false;
    }
    let writes = call.step.plan.as_ref().is_some_and(|p| p.writes);
    let is_safe = matches!(request.operation.route.method.as_str(), "GET" | "HEAD");
    again || (is_safe && !writes)
}

/// Whether the caller says that the request may be repeated.
pub(super) fn has_key(policy: &Attempts, request: &Request<'_>) -> bool {
    let key = policy.idempotency_key.as_ref();
    key.is_some_and(|name| request.parts.headers.contains_key(name))
}

/// The caller's body, for attempts again.
pub(super) enum Kept {
    /// There is none.
    None,
    /// It was read.
    Read(Box<Bytes>),
    /// It goes on as it comes, once.
    Gone,
}

impl Kept {
    pub(super) fn of(body: &CallerBody) -> Self {
        match body {
            CallerBody::Bytes(bytes) => Self::Read(Box::new(bytes.clone())),
            CallerBody::Unread(body) if body.length() != Some(0) => Self::Gone,
            CallerBody::Unread(_) | CallerBody::Gone => Self::None,
        }
    }
}

/// What a call is made again of.
pub(super) struct Again<'r, 'a> {
    request: &'r Request<'a>,
    call: &'r Call<'a>,
    scope: &'r Scope<'r>,
    body: Kept,
    until: Instant,
    /// Whether its request is safe by itself.
    safe: bool,
}

impl<'r, 'a> Again<'r, 'a> {
    pub(super) fn of(
        request: &'r Request<'a>,
        (call, scope): (&'r Call<'a>, &'r Scope<'r>),
        (body, until, safe): (Kept, Instant, bool),
    ) -> Self {
        Self {
            request,
            call,
            scope,
            body,
            until,
            safe,
        }
    }
}

/// Sends a request, and makes the call again as long as it fails and may be made.
pub(super) async fn send<'a>(
    x: &Exchange<'_>,
    of: Again<'_, 'a>,
    (slot, within): (&mut Option<Outgoing>, Duration),
    anew: &dyn Fn() -> Option<Outgoing>,
) -> Came {
    let backends = &x.worker.backends;
    backends.called(of.call.backend);
    let sending = shown::Sending {
        slot,
        until: of.until,
        within,
        anew,
    };
    let mut came = sent(x, of.call, sending).await;
    let Some(policy) = &of.call.backend.attempts else {
        return came;
    };
    if !may_repeat(policy, of.request, of.call, of.safe) {
        return came;
    }
    for number in 2..=policy.most {
        if !fails(policy, &came) {
            break;
        }
        let pause = match next(x, policy, number, &came, of.until) {
            Ok(pause) => pause,
            Err(told) => {
                of.call.tell(x, told);
                break;
            }
        };
        if !backends.may_repeat(of.call.backend) {
            let told = "no other attempt: they would be more than a tenth of the backend's calls";
            of.call.tell(x, told.into());
            break;
        }
        let Some((own, outgoing)) = made(x, &of) else {
            break;
        };
        let (before, ms) = (told(&came), pause.as_millis());
        let text = format!("attempt {number}, {ms} ms behind one that failed: {before}");
        of.call.tell(x, text);
        tokio::time::sleep(pause).await;
        let sending = shown::Sending {
            slot: &mut Some(outgoing),
            until: of.until,
            within: of.until.saturating_duration_since(Instant::now()),
            anew: &|| None,
        };
        came = sent(x, &own, sending).await;
    }
    came
}

/// How long the next attempt waits; or why there is none.
fn next(
    x: &Exchange<'_>,
    policy: &Attempts,
    number: u32,
    came: &Came,
    until: Instant,
) -> Result<Duration, String> {
    let asked = asked_for(came);
    let pause = pause(x, policy, number).max(asked.unwrap_or_default());
    if pause < until.saturating_duration_since(Instant::now()) {
        return Ok(pause);
    }
    Err(match asked {
        Some(asked) => format!(
            "no other attempt: it asks to be left alone for {} s, and no time is left then",
            asked.as_secs()
        ),
        None => "no time is left for another attempt".into(),
    })
}

/// The call once more, at the address whose turn it is.
fn made<'a>(x: &Exchange<'_>, of: &Again<'_, 'a>) -> Option<(Call<'a>, Outgoing)> {
    let own = of.call.again(x);
    let body = match &of.body {
        Kept::Read(bytes) => CallerBody::Bytes(Bytes::clone(bytes)),
        Kept::None => CallerBody::Gone,
        Kept::Gone => return None,
    };
    let outgoing = {
        let cx = own.context(x, of.request, of.scope);
        made_anew(x, of.request, &own, &cx, body)
    };
    Some((own, outgoing?))
}

/// How long an attempt waits: twice as long as the one before, and not all of them alike.
fn pause(x: &Exchange<'_>, policy: &Attempts, number: u32) -> Duration {
    let base = policy.spaced.saturating_mul(1 << (number - 2).min(8));
    // From a half to one and a half of it.
    let part = (x.worker.random() % 1_000) as u32 + 500;
    base.saturating_mul(part) / 1_000
}

/// One attempt, unless its backend is left alone.
async fn sent(x: &Exchange<'_>, call: &Call<'_>, sending: shown::Sending<'_>) -> Came {
    // Whoever tries something changes nothing of what callers get.
    let rule = call.backend.circuit.as_ref().filter(|_| !x.is_trial());
    let Some(rule) = rule else {
        return sent_on(x, call, sending).await;
    };
    let circuits = &x.worker.shared.circuits;
    circuits
        .ask(call.backend, rule, x.worker.random())
        .map_err(|left| Failure::Call(CallFailure::Resting(left)))?;
    let whole = sending.slot.as_ref();
    let whole = whole.is_some_and(|o| matches!(o.body, OutBody::Empty | OutBody::Full(_)));
    let in_a_hurry = sending.within < call.backend.timeout;
    let came = sent_on(x, call, sending).await;
    if let Some(failed) = is_lost(rule, &came, whole, in_a_hurry) {
        circuits.tell(call.backend, rule, failed);
    }
    came
}

/// Whether a backend failed; nothing where that is not its fault, or not known: a caller who sends slowly, breaks off, or is in a
/// hurry says nothing of it.
fn is_lost(rule: &Circuit, came: &Came, whole: bool, in_a_hurry: bool) -> Option<bool> {
    match came {
        Ok(answered) => {
            let status = answered.head.status.as_u16();
            Some(is_unavailable(answered) || rule.statuses.contains(&status))
        }
        Err(Failure::Call(failure)) => match failure {
            CallFailure::Connect(_) | CallFailure::ConnectTimeout => Some(true),
            CallFailure::Broken(_) => whole.then_some(true),
            CallFailure::Timeout => (whole && !in_a_hurry).then_some(true),
            CallFailure::Busy(_) | CallFailure::Resting(_) => None,
        },
        Err(_) => None,
    }
}

async fn sent_on(x: &Exchange<'_>, call: &Call<'_>, sending: shown::Sending<'_>) -> Came {
    let shown::Sending {
        slot,
        until,
        within,
        anew,
    } = sending;
    match &call.backend.credentials.client {
        None if call.backend.transport == Transport::Inside => {
            inside::send(x, call, slot, until).await
        }
        None => {
            let backends = &x.worker.backends;
            let sent = backends.send(call.backend, call.at(), slot, until, within, anew);
            sent.await.map_err(Failure::Call)
        }
        Some(grant) => {
            let sending = shown::Sending {
                slot,
                until,
                within,
                anew,
            };
            shown::send(x, call, grant, sending).await
        }
    }
}

fn told(came: &Came) -> String {
    let of = |status: StatusCode| status.to_string();
    match came {
        Ok(answered) => of(answered.head.status),
        Err(Failure::Call(CallFailure::Broken(why))) => format!("it broke off: {why}"),
        Err(Failure::Call(CallFailure::Connect(why))) => format!("no connection: {why}"),
        Err(Failure::Call(CallFailure::Resting(_))) => "it is left alone".into(),
        Err(_) => "no connection in time".into(),
    }
}
