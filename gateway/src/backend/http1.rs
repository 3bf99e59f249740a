//! Connections by HTTP/1.1: one pool a worker, last in, first out.

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::BuildHasherDefault;
use std::rc::Rc;
use std::time::{Duration, Instant};

use http::Version;
use hyper::client::conn::http1::{self, SendRequest};
use hyper_util::rt::TokioIo;

use super::dial::To;
use super::failure::{DialError, deepest};
use super::tls::Offer;
use super::{Answered, Attempt, CallFailure, Came, Key, Lease, Slot};
use crate::body::OutBody;
use crate::outgoing::Outgoing;
use crate::usage::Mix;

/// Idle connections older than this are not used again.
const MAX_IDLE: Duration = Duration::from_secs(30);
/// At most this many idle connections an address are kept.
const MAX_KEPT: usize = 256;

struct Idle {
    sender: SendRequest<OutBody>,
    since: Instant,
}

/// The connections of one worker.
#[derive(Default)]
pub(super) struct Pool {
    idle: RefCell<HashMap<Key, Vec<Idle>, BuildHasherDefault<Mix>>>,
}

/// A connection that is in use.
pub(crate) struct Kept {
    sender: SendRequest<OutBody>,
    /// None where connections are counted: those are not kept here.
    pool: Option<Rc<Pool>>,
    key: Key,
}

impl Kept {
    /// Puts the connection back, to be called behind the last frame only.
    pub(super) fn give_back(self) {
        let Some(pool) = self.pool.filter(|_| !self.sender.is_closed()) else {
            return;
        };
        let mut idle = pool.idle.borrow_mut();
        let list = idle.entry(self.key).or_default();
        if list.len() < MAX_KEPT {
            list.push(Idle {
                sender: self.sender,
                since: Instant::now(),
            });
        }
    }
}

impl Pool {
    fn take(&self, key: Key) -> Option<SendRequest<OutBody>> {
        let mut idle = self.idle.borrow_mut();
        let list = idle.get_mut(&key)?;
        while let Some(entry) = list.pop() {
            if !entry.sender.is_closed() && entry.since.elapsed() < MAX_IDLE {
                return Some(entry.sender);
            }
        }
        None
    }

    pub(super) fn sweep(&self) {
        self.idle.borrow_mut().retain(|_, list| {
            list.retain(|i| !i.sender.is_closed() && i.since.elapsed() < MAX_IDLE);
            !list.is_empty()
        });
    }
}

/// Sends a request and waits for the head of its answer.
pub(super) async fn send(
    pool: &Rc<Pool>,
    key: Key,
    to: &To<'_>,
    slot: &mut Slot,
    fresh: bool,
) -> Result<Answered, Attempt> {
    let kept = if fresh { None } else { pool.take(key) };
    let reused = kept.is_some();
    let mut sender = match kept {
        Some(sender) => sender,
        // Boxed: it is large, and mostly there is no need for it.
        None => match Box::pin(connect(to)).await {
            Ok(sender) => sender,
            Err(what) => return Err(Attempt::connect(what)),
        },
    };
    if sender.ready().await.is_err() {
        return Err(Attempt {
            failure: CallFailure::Broken("closed before the request".into()),
            reused,
        });
    }
    let Some(request) = slot.take() else {
        return Err(Attempt::nothing());
    };
    match sender
        .try_send_request(request.into_http(Version::HTTP_11))
        .await
    {
        Ok(answer) => {
            let (head, body) = answer.into_parts();
            let lease = Some(Lease::Http1(Kept {
                sender,
                pool: Some(pool.clone()).filter(|_| to.backend.connections.is_none()),
                key,
            }));
            let body = Came::Hyper(body);
            Ok(Answered { head, body, lease })
        }
        Err(mut e) => {
            *slot = e.take_message().map(Outgoing::of_http);
            Err(Attempt {
                failure: broken(e.error()),
                reused,
            })
        }
    }
}

/// A connection that broke, or on which something else than an answer came.
fn broken(error: &hyper::Error) -> CallFailure {
    CallFailure::Broken(match error.is_parse() {
        true => no_http(&deepest(error)),
        false => error.to_string(),
    })
}

/// What comes is something else.
pub(super) fn no_http(why: &str) -> String {
    format!(
        "what it sends is no HTTP/1.1 ({why}); where it speaks TLS, its address begins with https://"
    )
}

async fn connect(to: &To<'_>) -> Result<SendRequest<OutBody>, CallFailure> {
    let stream = to.connect(Offer::Http1).await?;
    let (sender, connection) = http1::handshake(TokioIo::new(stream))
        .await
        .map_err(|e| CallFailure::Connect(DialError::Handshake(e.to_string())))?;
    tokio::task::spawn_local(async move {
        // An error here shows up where the connection is used.
        let _ = connection.await;
    });
    Ok(sender)
}
