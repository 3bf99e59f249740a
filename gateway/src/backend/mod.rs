//! Backends as one worker sees them: connections, choice of an address, health, attempts, times. One for all protocols.

mod asked;
mod busy;
mod chosen;
pub(crate) mod circuit;
mod dial;
mod failure;
mod health;
mod http1;
mod http2;
mod lean;
pub(crate) mod places;
mod repeats;
mod tls;
pub(crate) mod tokens;
pub(crate) mod watched;

use std::cell::Cell;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http::uri::PathAndQuery;
use http::{Uri, response};
use http_body::{Body, Frame, SizeHint};
use hyper::body::Incoming;
use porch_facade::{Address, CompiledBackend, Transport};

pub(crate) use asked::{failed, whole};
pub(crate) use failure::{CallFailure, DialError, deepest};

use tokio::time::Instant;

use crate::body::ReplyBody;
use crate::outgoing::Outgoing;

/// What is learned of a backend hangs on its identity and the address, and on nothing else.
type Key = (u64, u32);

/// The backends of one worker.
#[derive(Default)]
pub(crate) struct Backends {
    lean: Rc<lean::Pool>,
    http1: Rc<http1::Pool>,
    http2: http2::Channels,
    chosen: chosen::Chosen,
    limits: Arc<places::Limits>,
    health: health::Health,
    repeats: repeats::Repeats,
    tls: tls::Configs,
    busy: busy::Busy,
}

/// An answer whose head is there.
pub(crate) struct Answered {
    pub(crate) head: response::Parts,
    pub(crate) body: Came,
    pub(crate) lease: Option<Lease>,
}

/// The body of an answer, by whichever client it comes.
pub(crate) enum Came {
    Lean(lean::Body),
    Hyper(Incoming),
    Http2(http2::Body),
    /// From another facade of this porch.
    Inside(Box<ReplyBody>),
}

impl Body for Came {
    type Data = Bytes;
    type Error = lean::Wrong;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, lean::Wrong>>> {
        match &mut *self {
            Self::Lean(body) => Pin::new(body).poll_frame(cx),
            Self::Hyper(body) => Pin::new(body).poll_frame(cx).map_err(lean::Wrong::from),
            Self::Http2(body) => Pin::new(body).poll_frame(cx),
            Self::Inside(body) => Pin::new(body)
                .poll_frame(cx)
                .map_err(|e| lean::Wrong::broken(e.to_string())),
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            Self::Lean(body) => body.is_end_stream(),
            Self::Hyper(body) => body.is_end_stream(),
            Self::Http2(body) => body.is_end_stream(),
            Self::Inside(body) => body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Self::Lean(body) => body.size_hint(),
            Self::Hyper(body) => body.size_hint(),
            Self::Http2(body) => body.size_hint(),
            Self::Inside(body) => body.size_hint(),
        }
    }
}

/// The connection that an answer comes by, while it does; where the body has it, there is none.
pub(crate) enum Lease {
    /// It is this exchange's alone.
    Http1(http1::Kept),
}

impl Lease {
    /// Lets others have it, to be called behind the last frame only.
    pub(crate) fn give_back(self) {
        match self {
            Self::Http1(kept) => kept.give_back(),
        }
    }
}

/// A request that is to be sent. It lies in one place until it is, since it is large; it is there again when nothing of it
/// was sent.
type Slot = Option<Outgoing>;

/// One attempt that failed.
struct Attempt {
    failure: CallFailure,
    /// Whether the connection was an old one, which may have been closed behind our back.
    reused: bool,
}

/// Where an attempt goes, and how long it may take.
struct Going<'b> {
    backend: &'b CompiledBackend,
    /// The address that the request is written for as it stands.
    from: usize,
    at: usize,
    /// Whether no old connection is used.
    fresh: bool,
    until: Instant,
    within: Duration,
}

impl Attempt {
    fn connect(failure: CallFailure) -> Self {
        Self {
            failure,
            reused: false,
        }
    }

    /// Nothing is left to be sent.
    fn nothing() -> Self {
        Self::connect(CallFailure::Broken("the request is gone".into()))
    }
}

impl Backends {
    /// Those of a worker that shares places with others.
    pub(crate) fn sharing(limits: Arc<places::Limits>, watched: Arc<watched::Watched>) -> Self {
        Self {
            limits,
            health: health::Health::sharing(watched),
            ..Self::default()
        }
    }

    /// Closes connections that are not in use each time somebody waits for one; never ends.
    pub(crate) async fn give_way(&self) {
        loop {
            self.limits.wanted().await;
            self.lean.give_way();
        }
    }

    /// The address for the next exchange: they take turns by their weights. Of the next two the one that has less to do for
    /// its weight is taken, and one that took no connection lately is left alone while there are others.
    pub(crate) fn choose(&self, backend: &CompiledBackend) -> usize {
        match backend.turns.len() {
            0 => 0,
            _ => self.busy.choose(backend, &self.health),
        }
    }

    /// Whether no address of a backend took a connection lately, or is well.
    pub(crate) fn is_down(&self, backend: &CompiledBackend) -> bool {
        let mut all = 0..backend.addresses.len();
        all.all(|at| self.health.is_down(backend, at))
    }

    /// Counts a call of a backend whose calls may be made again.
    pub(crate) fn called(&self, backend: &CompiledBackend) {
        self.repeats.earned(backend.identity);
    }

    /// Whether one more attempt may be made; it counts.
    pub(crate) fn may_repeat(&self, backend: &CompiledBackend) -> bool {
        self.repeats.spend(backend.identity)
    }

    /// Sends a request and waits for the head of its answer.
    ///
    /// The request is made for the address `at`. An address that takes no connection is passed over: nothing was sent to it.
    /// A connection that was closed behind our back is replaced once, when nothing was sent, or when `again` makes the request
    /// anew because it may be repeated.
    pub(crate) async fn send(
        &self,
        backend: &CompiledBackend,
        mut at: usize,
        slot: &mut Slot,
        until: Instant,
        within: Duration,
        again: &dyn Fn() -> Option<Outgoing>,
    ) -> Result<Answered, CallFailure> {
        // The address that the request is written for as it stands.
        let (first, mut made) = (at, at);
        let (mut tries, mut fresh) = (backend.addresses.len() + 1, false);
        loop {
            let from = std::mem::replace(&mut made, at);
            let common = backend.is_simple(at) && backend.turns.is_empty();
            let answer = if common && lean::takes(slot) {
                if let Some(request) = slot {
                    aim(request, backend, Transport::Http1, from, at);
                }
                let (key, to) = self.to(backend, at);
                lean::send(&self.lean, key, &to, slot, fresh, until).await
            } else {
                // Boxed: what streams, what may choose, HTTP/2 and several addresses need more room than the common way.
                let going = Going {
                    backend,
                    from,
                    at,
                    fresh,
                    until,
                    within,
                };
                Box::pin(self.attempt(going, slot)).await
            };
            let attempt = match answer {
                Ok(answered) => return Ok(answered),
                Err(attempt) => attempt,
            };
            tries -= 1;
            match &attempt.failure {
                CallFailure::Timeout => {
                    // Only where the backend had all the time that it is given: a caller in a hurry says nothing of it.
                    if within >= backend.timeout {
                        self.http2.forget(backend.identity);
                    }
                    return Err(CallFailure::Timeout);
                }
                CallFailure::Connect(_)
                    if self.chosen.forget((backend.identity, at as u32)) && tries > 0 =>
                {
                    // It may choose otherwise than it did.
                }
                CallFailure::Connect(_) | CallFailure::ConnectTimeout => {
                    let (from, key) = (at, (backend.identity, at as u32));
                    self.health.set_down(key);
                    at = (at + 1) % backend.addresses.len();
                    *slot = slot.take().filter(|_| at != from);
                }
                _ => {
                    fresh = true;
                    if !attempt.reused {
                        *slot = None;
                    } else if slot.is_none() {
                        made = first;
                        *slot = again();
                    }
                }
            }
            if slot.is_none() || tries == 0 {
                return Err(attempt.failure);
            }
        }
    }

    /// One attempt, by what the address speaks.
    async fn attempt(&self, going: Going<'_>, slot: &mut Slot) -> Result<Answered, Attempt> {
        let Going { backend, at, .. } = going;
        let _busy = self.busy.begin(backend, at);
        let asked = match self.transport(backend, at) {
            Some(known) => Ok(known),
            // Boxed: it is asked for once.
            None => Box::pin(self.ask(backend, at, going.until)).await,
        };
        // Also where it cannot be asked: whichever address is next takes it from here.
        let transport = *asked.as_ref().unwrap_or(&backend.transport);
        let moved = slot.as_mut().and_then(|request| {
            aim(request, backend, transport, going.from, at);
            request.body.moved()
        });
        asked.map_err(Attempt::connect)?;
        if transport == Transport::Http1 && lean::takes(slot) {
            let (key, to) = self.to(backend, at);
            return lean::send(&self.lean, key, &to, slot, going.fresh, going.until).await;
        }
        let once = std::pin::pin!(self.once(backend, transport, at, slot, going.fresh));
        let answer = in_time(once, going.until, going.within, moved).await;
        answer.unwrap_or_else(|_| Err(Attempt::connect(CallFailure::Timeout)))
    }

    async fn once(
        &self,
        backend: &CompiledBackend,
        transport: Transport,
        at: usize,
        slot: &mut Slot,
        fresh: bool,
    ) -> Result<Answered, Attempt> {
        let (key, to) = self.to(backend, at);
        match transport {
            // What is inside is not sent.
            Transport::Http1 | Transport::Inside => {
                http1::send(&self.http1, key, &to, slot, fresh).await
            }
            Transport::Http2 => self.http2.send(key, &to, slot).await,
        }
    }

    fn to<'a>(&'a self, backend: &'a CompiledBackend, at: usize) -> (Key, dial::To<'a>) {
        let to = dial::To {
            backend,
            at,
            tls: &self.tls,
            limits: &self.limits,
        };
        ((backend.identity, at as u32), to)
    }

    /// Lets go of connections that nobody used for a while.
    pub(crate) fn sweep(&self) {
        self.lean.sweep();
        self.http1.sweep();
        self.http2.sweep();
        let open = |key: &Key| self.http2.has(*key) || self.lean.has(*key);
        self.chosen.sweep(open);
        self.health.sweep();
        self.busy.sweep();
    }
}

/// Waits for an answer's head. Where the caller's body is sent on as it comes, the backend's time begins with what came of
/// it last.
async fn in_time<T>(
    mut answer: Pin<&mut impl Future<Output = T>>,
    mut until: Instant,
    within: Duration,
    moved: Option<Rc<Cell<Instant>>>,
) -> Result<T, tokio::time::error::Elapsed> {
    let Some(moved) = moved else {
        return tokio::time::timeout_at(until, answer).await;
    };
    loop {
        match tokio::time::timeout_at(until, answer.as_mut()).await {
            Ok(done) => return Ok(done),
            Err(over) => {
                let later = moved.get() + within;
                if later <= until {
                    return Err(over);
                }
                until = later;
            }
        }
    }
}

/// Writes an address into a request that was made for the address `made`: `Host` and the path's beginning (RFC 9112
/// §3.2.1), or scheme and authority (RFC 9113 §8.3.1).
fn aim(
    request: &mut Outgoing,
    backend: &CompiledBackend,
    transport: Transport,
    made: usize,
    at: usize,
) {
    let address = &backend.addresses[at];
    match transport {
        Transport::Http1 | Transport::Inside if at == made && request.uri.scheme().is_none() => {}
        Transport::Http1 | Transport::Inside => chosen::aim_http1(request, address),
        Transport::Http2 => {
            chosen::aim_http2(request, address, backend.transport == Transport::Http1);
        }
    }
    if at != made {
        replace_path(request, &backend.addresses[made], address);
    }
}

/// Replaces one address's path at the beginning of a target by another's.
fn replace_path(request: &mut Outgoing, from: &Address, to: &Address) {
    let target = request.uri.path_and_query();
    let target = target.map_or("/", PathAndQuery::as_str);
    let rest = target.strip_prefix(from.path.as_str()).unwrap_or(target);
    // An address without a path is called at `/` (RFC 9112 §3.2.1), which is nothing of the other's path.
    let rest = match rest.strip_prefix('/') {
        Some(query) if from.path.is_empty() && (query.is_empty() || query.starts_with('?')) => {
            query
        }
        _ => rest,
    };
    let begins = if to.path.is_empty() && !rest.starts_with('/') {
        "/"
    } else {
        ""
    };
    let mut parts = request.uri.clone().into_parts();
    parts.path_and_query = format!("{}{begins}{rest}", to.path).parse().ok();
    if let Ok(uri) = Uri::from_parts(parts) {
        request.uri = uri;
    }
}
