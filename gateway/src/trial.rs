//! Trial runs: one exchange against a draft, every stage shown.

use std::borrow::Cow;
use std::net::Ipv4Addr;
use std::sync::Arc;
use std::thread;

use bytes::Bytes;
use http::{HeaderMap, HeaderValue, Request, StatusCode, header};
use http_body_util::BodyExt;
use porch_facade::{CompiledPorch, Mask};
use serde_json::Value;
use tokio::sync::{mpsc, oneshot};

use crate::body::InBody;
use crate::connection::proxies::Proxies;
use crate::exchange::state::Mode;
use crate::exchange::{Origin, run};
use crate::shared::Shared;
use crate::trace::{Message, Trace, sensitive};
use crate::worker::Worker;

/// A trial run to carry out.
pub struct TrialRequest {
    /// The compiled draft.
    pub porch: Arc<CompiledPorch>,
    /// The caller's request.
    pub request: Request<Bytes>,
    /// Answers in place of calls, by the calls' names; `answer` where an operation has one call.
    pub answers: Vec<(String, GivenAnswer)>,
    /// Answers that came once, in place of calls, by the calls' names as they are shown; those of one of a list are `name[0]`
    /// and so on.
    pub recorded: Vec<(String, RecordedAnswer)>,
}

/// An answer that somebody gives in place of a call.
#[derive(Clone, Debug)]
pub struct GivenAnswer {
    /// Its status.
    pub status: StatusCode,
    /// Its body.
    pub body: Value,
}

/// An answer as a backend gave it once.
#[derive(Clone, Debug)]
pub struct RecordedAnswer {
    /// Its status.
    pub status: StatusCode,
    /// Its fields.
    pub fields: HeaderMap,
    /// Its body.
    pub body: Bytes,
}

/// What came of it.
#[derive(Debug)]
pub struct TrialReply {
    /// Status of the reply.
    pub status: u16,
    /// Its header fields.
    pub headers: HeaderMap,
    /// Its body.
    pub body: Bytes,
    /// Every stage.
    pub trace: Trace,
}

type Job = (TrialRequest, oneshot::Sender<TrialReply>);

/// Carries out trial runs, on a thread of its own, with the same code that serves callers.
#[derive(Clone)]
pub struct Trials {
    jobs: mpsc::Sender<Job>,
}

impl Trials {
    /// Starts the thread.
    ///
    /// # Errors
    /// When no thread or runtime can be had.
    pub fn start(shared: Arc<Shared>) -> std::io::Result<Self> {
        let (jobs, mut queue) = mpsc::channel::<Job>(64);
        thread::Builder::new()
            .name("trials".into())
            .spawn(move || {
                let Ok(runtime) = tokio::runtime::Builder::new_current_thread()
                    .enable_all()
                    .build_local(Default::default())
                else {
                    return;
                };
                runtime.block_on(async move {
                    let worker = Worker::new(shared, usize::MAX, Proxies::default());
                    while let Some((trial, reply)) = queue.recv().await {
                        let worker = worker.clone();
                        tokio::task::spawn_local(async move {
                            let _ = reply.send(one(&worker, trial).await);
                        });
                    }
                });
            })?;
        Ok(Self { jobs })
    }

    /// Carries out one trial run; `None` when the thread is gone.
    pub async fn run(&self, trial: TrialRequest) -> Option<TrialReply> {
        let (reply, answer) = oneshot::channel();
        self.jobs.send((trial, reply)).await.ok()?;
        answer.await.ok()
    }
}

async fn one(worker: &std::rc::Rc<Worker>, trial: TrialRequest) -> TrialReply {
    let mut request = trial.request.map(InBody::Full);
    if !request.headers().contains_key(header::HOST) {
        // As a caller of the facade would say it.
        let mut hosts = trial.porch.facades.iter().flat_map(|f| &f.hosts);
        let host = hosts.next().and_then(|h| HeaderValue::from_str(h).ok());
        let host = host.unwrap_or(HeaderValue::from_static("localhost"));
        request.headers_mut().insert(header::HOST, host);
    }
    let mut origin = Origin::of(Ipv4Addr::LOCALHOST.into());
    origin.given = trial.answers;
    origin.recorded = trial.recorded;
    let (response, trace) = run(worker, &trial.porch, request, &origin, Mode::Trial).await;
    let (head, body) = response.into_parts();
    let mut trace = trace.map_or_else(Trace::default, |t| *t);
    let limited = http_body_util::Limited::new(body, 16 << 20);
    let body = match limited.collect().await {
        Ok(collected) => collected.to_bytes(),
        Err(_) => Bytes::from_static(b"(the answer broke off, or has more than 16 MiB)"),
    };
    // A backend may say again what it was told: whoever tries is not shown the environment's secrets that way.
    let mut reply = TrialReply {
        status: head.status.as_u16(),
        headers: head.headers,
        body,
        trace: Trace::default(),
    };
    let masks = || {
        let facades = &trial.porch.facades;
        let backends = facades.iter().flat_map(|f| &f.backends);
        let own = facades.iter().map(|f| &f.mask);
        backends.map(|b| &b.credentials.mask).chain(own)
    };
    let tokens = tokens_of(worker, &trial.porch);
    masks().chain(&tokens).for_each(|mask| reply.mask(mask));
    if let Some(last) = trace.stages.last_mut()
        && last.after.is_none()
    {
        last.after =
            Some(Message::new(head.status.to_string(), &reply.headers, "").body(&reply.body));
    }
    masks().chain(&tokens).for_each(|mask| trace.mask(mask));
    let mut facades = trial.porch.facades.iter();
    let facade = facades.find(|f| f.name == trace.facade);
    if let Some((facade, op)) = facade.and_then(|f| Some((f, f.operation(&trace.operation)?))) {
        sensitive::hide(&mut trace, facade, op);
    }
    reply.trace = trace;
    reply
}

/// Takes out the tokens that backends were shown.
fn tokens_of(worker: &Worker, porch: &CompiledPorch) -> Vec<Mask> {
    let backends = porch.facades.iter().flat_map(|f| &f.backends);
    let grants = backends.filter_map(|b| b.credentials.client.as_ref());
    grants.map(|g| worker.shared.tokens.mask(g)).collect()
}

impl TrialReply {
    fn mask(&mut self, mask: &Mask) {
        if mask.is_empty() {
            return;
        }
        if let Cow::Owned(masked) = mask.bytes(&self.body) {
            self.body = masked.into();
        }
        for value in self.headers.values_mut() {
            if let Cow::Owned(masked) = mask.bytes(value.as_bytes()) {
                *value = HeaderValue::from_bytes(&masked)
                    .unwrap_or(HeaderValue::from_static("(masked)"));
            }
        }
    }
}
