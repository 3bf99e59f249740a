//! Connections by HTTP/2 (RFC 9113): one a worker and address, shared by its calls; another one when they are many.
//!
//! The framing is `h2`'s. Calls speak to it themselves: a request whose body is there whole needs no task of its own.

mod body;
mod pipe;
#[cfg(test)]
mod tests;

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::future::poll_fn;
use std::rc::Rc;
use std::time::Duration;

use bytes::Bytes;
use h2::client::{Connection, SendRequest};
use h2::{Ping, PingPong};

use super::dial::{Stream, To};
use super::failure::DialError;
use super::tls::Offer;
use super::{Answered, Attempt, CallFailure, Came, Key, Slot};
use crate::body::OutBody;
pub(crate) use body::Body;

/// Calls on one connection at the same time.
const MAX_CALLS: usize = 128;
/// How much may be on its way to us unread: of one call, and of all calls of a connection. Calls whose callers do not read
/// keep nothing from the others (RFC 9113 §5.2.1): all together they cannot use up the connection's window.
const STREAM_WINDOW: u32 = 128 << 10;
const CONNECTION_WINDOW: u32 = STREAM_WINDOW * (MAX_CALLS as u32 + 1);
const MAX_HEADERS: u32 = 64 << 10;
/// Calls at the same time as long as the backend has not said how many it takes (RFC 9113 §5.1.2).
const MAX_UNTOLD: usize = 100;
const KEEP_ALIVE: Duration = Duration::from_secs(30);
const KEEP_ALIVE_PATIENCE: Duration = Duration::from_secs(10);

/// The connections of one worker.
#[derive(Default)]
pub(super) struct Channels {
    open: RefCell<HashMap<Key, Vec<Channel>>>,
    /// Connections that are being made: whoever else needs one waits for it.
    connecting: RefCell<HashMap<Key, Rc<tokio::sync::Mutex<()>>>>,
}

/// A connection, and how many calls are on it.
pub(super) struct Channel {
    sender: SendRequest<Bytes>,
    state: Rc<State>,
}

/// What a connection's calls share.
#[derive(Default)]
struct State {
    calls: Cell<usize>,
    closed: Cell<bool>,
    /// Whether something came by it since that was last looked at.
    heard: Cell<bool>,
}

/// The place of a call on a connection.
struct Place(Rc<State>);

impl Place {
    fn on(state: &Rc<State>) -> Self {
        state.calls.set(state.calls.get() + 1);
        Self(state.clone())
    }

    /// Something came for this call.
    fn heard(&self) {
        self.0.heard.set(true);
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.calls.set(self.0.calls.get() - 1);
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
        let (head, body) = request.into_head();
        let is_empty = http_body::Body::is_end_stream(&body);
        let (answer, to) = match sender.send_request(head, is_empty) {
            Ok(sent) => sent,
            Err(e) => return Err(self.broken(&e)),
        };
        let piped = match body {
            _ if is_empty => Ok(None),
            OutBody::Full(bytes) => pipe::whole(to, bytes.unwrap_or_default()).map(|()| None),
            body => Ok(Some(pipe::begin(to, body))),
        };
        let piped = piped.map_err(|e| self.broken(&e))?;
        match answer.await {
            Ok(answer) => {
                place.heard();
                let (head, received) = answer.into_parts();
                Ok(Answered {
                    head,
                    body: Came::Http2(Body::new(received, place, piped)),
                    lease: None,
                })
            }
            Err(e) => Err(self.broken(&e)),
        }
    }

    /// Whether connections to an address are open.
    pub(super) fn has(&self, key: Key) -> bool {
        self.open.borrow().contains_key(&key)
    }

    /// Keeps a connection that is open already.
    pub(super) fn adopt(&self, key: Key, channel: Channel) {
        self.open.borrow_mut().entry(key).or_default().push(channel);
    }

    fn broken(&self, error: &h2::Error) -> Attempt {
        self.sweep();
        Attempt {
            failure: CallFailure::Broken(error.to_string()),
            reused: true,
        }
    }

    /// Lets go of a backend's connections: calls on them go on, new ones get others. For when one gave no answer in time,
    /// and may be dead.
    pub(super) fn forget(&self, identity: u64) {
        self.open.borrow_mut().retain(|(of, _), _| *of != identity);
    }

    pub(super) fn sweep(&self) {
        self.open.borrow_mut().retain(|_, all| {
            all.retain(|c| !c.state.closed.get());
            !all.is_empty()
        });
        self.connecting
            .borrow_mut()
            .retain(|_, lock| Rc::strong_count(lock) > 1);
    }

    async fn open(&self, key: Key) -> Option<(SendRequest<Bytes>, Place)> {
        loop {
            let (mut sender, place) = {
                let open = self.open.borrow();
                let free = |c: &&Channel| c.state.calls.get() < MAX_CALLS && !c.state.closed.get();
                let channel = open.get(&key)?.iter().find(free)?;
                (channel.sender.clone(), Place::on(&channel.state))
            };
            if poll_fn(|cx| sender.poll_ready(cx)).await.is_ok() {
                return Some((sender, place));
            }
            // It takes no more calls; those that are on it may go on.
            place.0.closed.set(true);
        }
    }

    async fn channel(
        &self,
        key: Key,
        to: &To<'_>,
    ) -> Result<(SendRequest<Bytes>, Place), CallFailure> {
        if let Some(found) = self.open(key).await {
            return Ok(found);
        }
        let lock = self.connecting.borrow_mut().entry(key).or_default().clone();
        let _one_at_a_time = lock.lock().await;
        if let Some(found) = self.open(key).await {
            return Ok(found);
        }
        let channel = Box::pin(async {
            let stream = to.connect(Offer::Http2).await?;
            begin(stream).await
        });
        let channel = channel.await?;
        let (sender, place) = (channel.sender.clone(), Place::on(&channel.state));
        let mut open = self.open.borrow_mut();
        open.entry(key).or_default().push(channel);
        Ok((sender, place))
    }
}

/// Begins a connection.
pub(super) async fn begin(stream: Stream) -> Result<Channel, CallFailure> {
    let mut builder = h2::client::Builder::new();
    builder
        .enable_push(false)
        .initial_max_send_streams(MAX_UNTOLD)
        .initial_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .max_header_list_size(MAX_HEADERS);
    let (sender, connection) = builder
        .handshake(stream)
        .await
        .map_err(|e| CallFailure::Connect(DialError::Handshake(e.to_string())))?;
    let state = Rc::<State>::default();
    tokio::task::spawn_local(carry(connection, state.clone()));
    Ok(Channel { sender, state })
}

/// Carries a connection until it ends. One that is dead while calls wait on it is found out by pings (RFC 9113 §6.7).
async fn carry(mut connection: Connection<Stream, Bytes>, state: Rc<State>) {
    if let Some(pings) = connection.ping_pong() {
        tokio::select! {
            // An error here shows up where the connection is used.
            _ = connection => {}
            () = watch(pings, &state) => {}
        }
    }
    state.closed.set(true);
}

/// Waits until a connection is found to be dead: it is only asked where calls wait and nothing comes.
async fn watch(mut pings: PingPong, state: &State) {
    loop {
        tokio::time::sleep(KEEP_ALIVE).await;
        if state.heard.replace(false) || state.calls.get() == 0 {
            continue;
        }
        let answered = tokio::time::timeout(KEEP_ALIVE_PATIENCE, pings.ping(Ping::opaque())).await;
        if !matches!(answered, Ok(Ok(_))) {
            return;
        }
    }
}
