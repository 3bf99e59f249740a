//! Listeners and workers: one thread, one runtime and one accepting socket each (`SO_REUSEPORT`).

use std::net::SocketAddr;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};

use crate::connection::connection;
use crate::shared::Shared;
use crate::worker::Worker;

/// Usage is handed out so often, and connections that nobody needs are let go every so many times.
const FLUSH: Duration = Duration::from_millis(500);
const SWEEP: usize = 20;

/// How the gateway listens.
#[derive(Clone, Debug)]
pub struct GatewayConfig {
    /// Where.
    pub address: SocketAddr,
    /// Number of workers.
    pub workers: usize,
    /// How long open exchanges may take to end when the gateway stops.
    pub drain: Duration,
    /// Connections of callers at the same time; more of them wait.
    pub connections: usize,
    /// Exchanges of one worker at the same time; more of them are refused.
    pub exchanges: usize,
}

impl GatewayConfig {
    /// Listens at an address, with as many workers as there are processors, and bounds that fit most machines.
    pub fn at(address: SocketAddr) -> Self {
        Self {
            address,
            workers: thread::available_parallelism().map_or(1, Into::into),
            drain: Duration::from_secs(30),
            connections: 10_000,
            exchanges: 8_192,
        }
    }
}

/// Why the gateway cannot listen.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The address is taken or not ours.
    #[error("the gateway cannot listen on {0}: {1}")]
    Listen(SocketAddr, std::io::Error),
    /// No thread or runtime.
    #[error("the gateway cannot start a worker: {0}")]
    Worker(std::io::Error),
}

/// A gateway whose address is taken, and that does not listen yet: callers who come too early are not taken in to be told
/// that there is nothing.
#[derive(Debug)]
pub struct Bound {
    /// Where it will listen; the port is filled in when 0 was asked for.
    pub address: SocketAddr,
    sockets: Vec<Socket>,
    config: GatewayConfig,
}

/// A running gateway.
pub struct Gateway {
    /// Where it listens; the port is filled in when 0 was asked for.
    pub address: SocketAddr,
    stop: watch::Sender<bool>,
    workers: Vec<JoinHandle<()>>,
    open: Arc<AtomicUsize>,
}

impl Bound {
    /// Takes the address.
    ///
    /// # Errors
    /// When it is taken, or not ours.
    pub fn new(config: GatewayConfig) -> Result<Self, StartError> {
        let mut address = config.address;
        let mut sockets = Vec::new();
        if address.port() != 0 {
            probe(address).map_err(|e| StartError::Listen(address, e))?;
        }
        for _ in 0..config.workers.max(1) {
            let socket = bind(address).map_err(|e| StartError::Listen(address, e))?;
            address = socket
                .local_addr()
                .ok()
                .and_then(|a| a.as_socket())
                .unwrap_or(address);
            sockets.push(socket);
        }
        Ok(Self {
            address,
            sockets,
            config,
        })
    }

    /// Starts the workers: from now on callers are taken in.
    ///
    /// # Errors
    /// See [`StartError`]; nothing is left running then.
    pub fn listen(self, shared: &Arc<Shared>) -> Result<Gateway, StartError> {
        // Meanwhile another may have come: whoever shares a port is only noticed by listening.
        probe(self.address).map_err(|e| StartError::Listen(self.address, e))?;
        for socket in &self.sockets {
            let listening = socket.listen(1024);
            listening.map_err(|e| StartError::Listen(self.address, e))?;
        }
        let (stop, watch) = watch::channel(false);
        let open = Arc::new(AtomicUsize::new(0));
        let config = Arc::new(self.config);
        let mut workers = Vec::new();
        for (i, socket) in self.sockets.into_iter().enumerate() {
            let (shared, watch, open) = (shared.clone(), watch.clone(), open.clone());
            let config = config.clone();
            let thread = thread::Builder::new()
                .name(format!("gateway-{i}"))
                .spawn(move || {
                    match tokio::runtime::Builder::new_current_thread()
                        .enable_all()
                        .build_local(Default::default())
                    {
                        Ok(runtime) => runtime.block_on(work(socket, shared, watch, open, &config)),
                        Err(e) => tracing::error!("a worker has no runtime: {e}"),
                    }
                });
            workers.push(thread.map_err(StartError::Worker)?);
        }
        Ok(Gateway {
            address: self.address,
            stop,
            workers,
            open,
        })
    }
}

impl Gateway {
    /// Takes the address and listens at once.
    ///
    /// # Errors
    /// See [`StartError`]; nothing is left running then.
    pub fn start(config: &GatewayConfig, shared: &Arc<Shared>) -> Result<Self, StartError> {
        Bound::new(config.clone())?.listen(shared)
    }

    /// Connections that are open now.
    pub fn connections(&self) -> usize {
        self.open.load(Ordering::Relaxed)
    }

    /// Takes no more connections, lets open exchanges end, and returns when all have, or the time for it is over.
    pub fn stop(self) {
        let _ = self.stop.send(true);
        for worker in self.workers {
            let _ = worker.join();
        }
    }
}

fn bind(address: SocketAddr) -> std::io::Result<Socket> {
    let socket = socket(address)?;
    socket.set_reuse_port(true)?;
    socket.bind(&address.into())?;
    Ok(socket)
}

/// Whether anybody listens at an address: those who share a port would let us listen beside them.
fn probe(address: SocketAddr) -> std::io::Result<()> {
    let socket = socket(address)?;
    socket.bind(&address.into())?;
    socket.listen(1)
}

fn socket(address: SocketAddr) -> std::io::Result<Socket> {
    let kind = Domain::for_address(address);
    let socket = Socket::new(kind, Type::STREAM, Some(Protocol::TCP))?;
    socket.set_reuse_address(true)?;
    socket.set_nonblocking(true)?;
    Ok(socket)
}

async fn work(
    socket: Socket,
    shared: Arc<Shared>,
    mut stop: watch::Receiver<bool>,
    open: Arc<AtomicUsize>,
    config: &GatewayConfig,
) {
    let listener = match TcpListener::from_std(socket.into()) {
        Ok(listener) => listener,
        Err(e) => return tracing::error!("the gateway cannot use its socket: {e}"),
    };
    let worker = Worker::new(shared, config.exchanges);
    let flusher = tokio::task::spawn_local(flush(worker.clone()));
    let gives = worker.clone();
    let giving = tokio::task::spawn_local(async move { gives.backends.give_way().await });
    let own = Rc::new(std::cell::Cell::new(0usize));
    let for_connections = stop.clone();
    let most = (config.connections / config.workers.max(1)).max(1);
    let (places, mut place) = (Arc::new(Semaphore::new(most)), None);
    loop {
        // A place first: who finds none waits in the queue of the system.
        if place.is_none() {
            tokio::select! {
                free = places.clone().acquire_owned() => place = free.ok(),
                _ = stop.wait_for(|s| *s) => break,
            }
        }
        tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok((stream, peer)) => {
                    own.set(own.get() + 1);
                    open.fetch_add(1, Ordering::Relaxed);
                    let (worker, stop, own, open) = (worker.clone(), for_connections.clone(), own.clone(), open.clone());
                    let taken = place.take();
                    tokio::task::spawn_local(async move {
                        connection(worker, stream, peer.ip(), stop).await;
                        drop(taken);
                        own.set(own.get() - 1);
                        open.fetch_sub(1, Ordering::Relaxed);
                    });
                }
                // Out of file descriptors, say: wait a little for some to come free.
                Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
            },
            _ = stop.wait_for(|s| *s) => break,
        }
    }
    drop(listener);
    let end = tokio::time::Instant::now() + config.drain;
    while own.get() > 0 && tokio::time::Instant::now() < end {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    flusher.abort();
    giving.abort();
    worker.flush();
}

async fn flush(worker: Rc<Worker>) {
    let mut tick = tokio::time::interval(FLUSH);
    loop {
        for _ in 0..SWEEP {
            tick.tick().await;
            worker.flush();
        }
        worker.backends.sweep();
    }
}
