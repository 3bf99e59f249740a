//! Connections by HTTP/2: one a worker and address, shared by its calls; another one when they are many.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::rc::Rc;
use std::time::Duration;

use http::Version;
use hyper::client::conn::http2::{self, SendRequest};
use hyper_util::rt::{TokioIo, TokioTimer};
use porch_facade::Transport;

use super::dial::To;
use super::failure::{DialError, deepest};
use super::{Answered, Attempt, CallFailure, Came, Key, Lease, Slot};
use crate::body::OutBody;
use crate::outgoing::Outgoing;

/// Calls on one connection at the same time.
const MAX_CALLS: usize = 128;
/// How much may be on its way to us unread: of one call, and of all calls of a connection. Calls whose callers do not read
/// keep nothing from the others (RFC 9113 §5.2.1): all together they cannot use up the connection's window.
const STREAM_WINDOW: u32 = 128 << 10;
const CONNECTION_WINDOW: u32 = STREAM_WINDOW * (MAX_CALLS as u32 + 1);
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
    open: RefCell<HashMap<Key, Vec<Channel>>>,
    /// Connections that are being made: whoever else needs one waits for it.
    connecting: RefCell<HashMap<Key, Rc<tokio::sync::Mutex<()>>>>,
}

/// A connection, and how many calls are on it.
struct Channel {
    sender: SendRequest<OutBody>,
    calls: Rc<Cell<usize>>,
}

/// The place of a call on a connection.
pub(crate) struct Place(Rc<Cell<usize>>);

impl Place {
    fn on(calls: &Rc<Cell<usize>>) -> Self {
        calls.set(calls.get() + 1);
        Self(calls.clone())
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.set(self.0.get() - 1);
    }
}

impl Channels {
    /// Sends a request and waits for the head of its answer.
    pub(super) async fn send(
        &self,
        key: Key,
        to: &To<'_>,
        slot: &mut Slot,
    ) -> Result<Answered, Attempt> {
        let (mut sender, place) = match self.channel(key, to).await {
            Ok(found) => found,
            Err(what) => return Err(Attempt::connect(what)),
        };
        let Some(request) = slot.take() else {
            return Err(Attempt::nothing());
        };
        match sender
            .try_send_request(request.into_http(Version::HTTP_2))
            .await
        {
            Ok(answer) => {
                let (head, body) = answer.into_parts();
                Ok(Answered {
                    head,
                    body: Came::Hyper(body),
                    lease: Some(Lease::Http2(place)),
                })
            }
            Err(mut e) => {
                *slot = e.take_message().map(Outgoing::of_http);
                self.sweep();
                Err(Attempt {
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
        self.open.borrow_mut().retain(|_, all| {
            all.retain(|c| !c.sender.is_closed());
            !all.is_empty()
        });
        self.connecting
            .borrow_mut()
            .retain(|_, lock| Rc::strong_count(lock) > 1);
    }

    async fn open(&self, key: Key) -> Option<(SendRequest<OutBody>, Place)> {
        let (mut sender, place) = {
            let open = self.open.borrow();
            let free = |c: &&Channel| c.calls.get() < MAX_CALLS && !c.sender.is_closed();
            let channel = open.get(&key)?.iter().find(free)?;
            (channel.sender.clone(), Place::on(&channel.calls))
        };
        sender.ready().await.ok()?;
        Some((sender, place))
    }

    async fn channel(
        &self,
        key: Key,
        to: &To<'_>,
    ) -> Result<(SendRequest<OutBody>, Place), CallFailure> {
        if let Some(found) = self.open(key).await {
            return Ok(found);
        }
        let lock = self.connecting.borrow_mut().entry(key).or_default().clone();
        let _one_at_a_time = lock.lock().await;
        if let Some(found) = self.open(key).await {
            return Ok(found);
        }
        let sender = Box::pin(connect(to)).await?;
        let channel = Channel {
            sender: sender.clone(),
            calls: Rc::default(),
        };
        let place = Place::on(&channel.calls);
        let mut open = self.open.borrow_mut();
        open.entry(key).or_default().push(channel);
        Ok((sender, place))
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
