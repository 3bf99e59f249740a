//! Connections to backends: one pool a worker, last in, first out.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use std::time::{Duration, Instant};

use http::{Request, Response};
use hyper::body::Incoming;
use hyper::client::conn::http1::{self, SendRequest};
use hyper_util::rt::TokioIo;
use porch_facade::CompiledBackend;
use tokio::net::TcpStream;

use crate::request_body::OutBody;

/// Idle connections older than this are not used again.
const MAX_IDLE: Duration = Duration::from_secs(30);
/// At most this many idle connections a backend are kept.
const MAX_KEPT: usize = 256;
const CONNECT: Duration = Duration::from_secs(5);

struct Idle {
    sender: SendRequest<OutBody>,
    since: Instant,
}

/// The connections of one worker.
#[derive(Default)]
pub(crate) struct Pool {
    idle: RefCell<HashMap<Box<str>, Vec<Idle>>>,
}

/// A connection that is in use.
pub(crate) struct Lease {
    sender: SendRequest<OutBody>,
    pool: Rc<Pool>,
    authority: Box<str>,
}

/// Why a call gave no answer.
pub(crate) enum CallFailure {
    /// No connection.
    Connect(String),
    /// The connection broke before the answer's head was there; the request is given back when nothing of it was sent.
    Broken {
        reused: bool,
        unsent: Option<Box<Request<OutBody>>>,
        what: String,
    },
    /// No answer in time.
    Timeout,
}

impl Lease {
    /// Puts the connection back, to be called behind the last frame only.
    pub(crate) fn give_back(self) {
        if self.sender.is_closed() {
            return;
        }
        let mut idle = self.pool.idle.borrow_mut();
        let list = idle.entry(self.authority).or_default();
        if list.len() < MAX_KEPT {
            list.push(Idle {
                sender: self.sender,
                since: Instant::now(),
            });
        }
    }
}

impl Pool {
    fn take(&self, authority: &str) -> Option<SendRequest<OutBody>> {
        let mut idle = self.idle.borrow_mut();
        let list = idle.get_mut(authority)?;
        while let Some(entry) = list.pop() {
            if !entry.sender.is_closed() && entry.since.elapsed() < MAX_IDLE {
                return Some(entry.sender);
            }
        }
        None
    }

    /// Sends a request and waits for the head of its answer.
    pub(crate) async fn send(
        self: &Rc<Self>,
        backend: &CompiledBackend,
        request: Request<OutBody>,
        fresh: bool,
    ) -> Result<(Response<Incoming>, Lease), CallFailure> {
        let reused = if fresh {
            None
        } else {
            self.take(&backend.authority)
        };
        let was_reused = reused.is_some();
        let mut sender = match reused {
            Some(sender) => sender,
            None => connect(&backend.authority, backend.timeout).await?,
        };
        let call = async {
            if sender.ready().await.is_err() {
                return Err(CallFailure::Broken {
                    reused: was_reused,
                    unsent: Some(Box::new(request)),
                    what: "closed before the request".into(),
                });
            }
            sender.try_send_request(request).await.map_err(|mut e| {
                let unsent = e.take_message().map(Box::new);
                CallFailure::Broken {
                    reused: was_reused,
                    unsent,
                    what: e.error().to_string(),
                }
            })
        };
        let answer = match tokio::time::timeout(backend.timeout, call).await {
            Ok(answer) => answer?,
            Err(_) => return Err(CallFailure::Timeout),
        };
        Ok((
            answer,
            Lease {
                sender,
                pool: self.clone(),
                authority: backend.authority.as_str().into(),
            },
        ))
    }
}

async fn connect(authority: &str, timeout: Duration) -> Result<SendRequest<OutBody>, CallFailure> {
    let with_port;
    let address = if authority
        .rsplit_once(':')
        .is_some_and(|(_, port)| port.parse::<u16>().is_ok())
    {
        authority
    } else {
        with_port = format!("{authority}:80");
        &with_port
    };
    let stream = match tokio::time::timeout(timeout.min(CONNECT), TcpStream::connect(address)).await
    {
        Err(_) => return Err(CallFailure::Timeout),
        Ok(Err(e)) => return Err(CallFailure::Connect(e.to_string())),
        Ok(Ok(stream)) => stream,
    };
    let _ = stream.set_nodelay(true);
    let (sender, connection) = http1::handshake(TokioIo::new(stream))
        .await
        .map_err(|e| CallFailure::Connect(e.to_string()))?;
    tokio::task::spawn_local(async move {
        // An error here shows up where the connection is used.
        let _ = connection.await;
    });
    Ok(sender)
}
