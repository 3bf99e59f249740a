//! Connections by HTTP/2: one a worker and address, shared by all calls.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::time::Duration;

use http::Request;
use hyper::client::conn::http2::{self, SendRequest};
use hyper_util::rt::{TokioIo, TokioTimer};
use porch_facade::Transport;

use super::dial::To;
use super::failure::{DialError, deepest};
use super::{Answered, Attempt, CallFailure, Key};
use crate::body::OutBody;

/// How much may be on its way to us unread: of one call, and of all calls of a connection.
const STREAM_WINDOW: u32 = 1 << 20;
const CONNECTION_WINDOW: u32 = 8 << 20;
const MAX_HEADERS: u32 = 64 << 10;
const KEEP_ALIVE: Duration = Duration::from_secs(30);
const KEEP_ALIVE_PATIENCE: Duration = Duration::from_secs(10);

/// Runs the tasks of a connection on the worker's own thread.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Local;

impl<F: Future + 'static> hyper::rt::Executor<F> for Local {
    fn execute(&self, future: F) {
        tokio::task::spawn_local(async move {
            future.await;
        });
    }
}

/// The connections of one worker.
#[derive(Default)]
pub(super) struct Channels {
    open: RefCell<HashMap<Key, SendRequest<OutBody>>>,
    /// Connections that are being made: whoever else needs one waits for it.
    connecting: RefCell<HashMap<Key, Rc<tokio::sync::Mutex<()>>>>,
}

impl Channels {
    /// Sends a request and waits for the head of its answer.
    pub(super) async fn send(
        &self,
        key: Key,
        to: &To<'_>,
        request: Request<OutBody>,
    ) -> Result<Answered, Attempt> {
        let mut sender = match self.channel(key, to).await {
            Ok(sender) => sender,
            Err(what) => return Err(Attempt::connect(what, request)),
        };
        match sender.try_send_request(request).await {
            Ok(answer) => {
                let (head, body) = answer.into_parts();
                Ok(Answered {
                    head,
                    body,
                    lease: None,
                })
            }
            Err(mut e) => {
                let unsent = e.take_message();
                self.sweep();
                Err(Attempt {
                    unsent,
                    failure: CallFailure::Broken(deepest(e.error())),
                    reused: true,
                })
            }
        }
    }

    /// Lets go of a backend's connections: calls on them go on, new ones get others. For when one gave no answer in time,
    /// and may be dead.
    pub(super) fn forget(&self, identity: u64) {
        self.open.borrow_mut().retain(|(of, _), _| *of != identity);
    }

    pub(super) fn sweep(&self) {
        self.open.borrow_mut().retain(|_, s| !s.is_closed());
        self.connecting
            .borrow_mut()
            .retain(|_, lock| Rc::strong_count(lock) > 1);
    }

    async fn open(&self, key: Key) -> Option<SendRequest<OutBody>> {
        let known = self.open.borrow().get(&key).cloned();
        let mut sender = known.filter(|s| !s.is_closed())?;
        sender.ready().await.ok()?;
        Some(sender)
    }

    async fn channel(&self, key: Key, to: &To<'_>) -> Result<SendRequest<OutBody>, CallFailure> {
        if let Some(sender) = self.open(key).await {
            return Ok(sender);
        }
        let lock = self.connecting.borrow_mut().entry(key).or_default().clone();
        let _one_at_a_time = lock.lock().await;
        if let Some(sender) = self.open(key).await {
            return Ok(sender);
        }
        let sender = connect(to).await?;
        self.open.borrow_mut().insert(key, sender.clone());
        Ok(sender)
    }
}

async fn connect(to: &To<'_>) -> Result<SendRequest<OutBody>, CallFailure> {
    let stream = to.connect(Transport::Http2).await?;
    let mut builder = http2::Builder::new(Local);
    builder
        .timer(TokioTimer::new())
        .keep_alive_interval(KEEP_ALIVE)
        .keep_alive_timeout(KEEP_ALIVE_PATIENCE)
        .initial_stream_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .max_header_list_size(MAX_HEADERS);
    let (sender, connection) = builder
        .handshake(TokioIo::new(stream))
        .await
        .map_err(|e| CallFailure::Connect(DialError::Handshake(deepest(&e))))?;
    tokio::task::spawn_local(async move {
        // An error here shows up where the connection is used.
        let _ = connection.await;
    });
    Ok(sender)
}
