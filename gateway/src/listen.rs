//! Listeners and workers: one thread, one runtime and one accepting socket each (`SO_REUSEPORT`).

use std::net::SocketAddr;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use porch_tls::AskCallers;
use porch_tls::{Certificates, ServedError};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};
use tokio_rustls::TlsAcceptor;

use crate::connection::proxies::Proxies;
use crate::connection::{Door, PROTOCOLS, connection};
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
    /// Where callers come by TLS.
    pub secure: Option<SecureConfig>,
    /// Proxies that callers may come by.
    pub proxies: Proxies,
}

/// How the gateway listens for TLS.
#[derive(Clone, Debug)]
pub struct SecureConfig {
    /// Where.
    pub address: SocketAddr,
    /// What callers are shown.
    pub certificates: Arc<Certificates>,
    /// Whether callers who come plain are told to come by TLS.
    pub only: bool,
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
            secure: None,
            proxies: Proxies::default(),
        }
    }
}

/// Why the gateway cannot listen.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The address is taken or not ours.
    #[error("the gateway cannot listen on {0}: {1}")]
    Listen(SocketAddr, std::io::Error),
    /// No TLS with these certificates.
    #[error("the gateway cannot take callers in by TLS: {0}")]
    Secure(ServedError),
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
    /// The same for TLS.
    pub secure: Option<SocketAddr>,
    sockets: Vec<Sockets>,
    config: GatewayConfig,
}

/// What one worker listens with.
#[derive(Debug)]
struct Sockets {
    plain: Socket,
    secure: Option<Socket>,
}

/// A running gateway.
pub struct Gateway {
    /// Where it listens; the port is filled in when 0 was asked for.
    pub address: SocketAddr,
    /// The same for TLS.
    pub secure: Option<SocketAddr>,
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
        let (mut address, mut secure) = (config.address, config.secure.as_ref().map(|s| s.address));
        let mut sockets = Vec::new();
        for address in [Some(address), secure].into_iter().flatten() {
            if address.port() != 0 {
                probe(address).map_err(|e| StartError::Listen(address, e))?;
            }
        }
        for _ in 0..config.workers.max(1) {
            sockets.push(Sockets {
                plain: bind(&mut address)?,
                secure: secure.as_mut().map(bind).transpose()?,
            });
        }
        Ok(Self {
            address,
            secure,
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
        for address in [Some(self.address), self.secure].into_iter().flatten() {
            probe(address).map_err(|e| StartError::Listen(address, e))?;
        }
        let doors = self.doors()?;
        for Sockets { plain, secure } in &self.sockets {
            for (socket, address) in [
                (Some(plain), Some(self.address)),
                (secure.as_ref(), self.secure),
            ] {
                if let (Some(socket), Some(address)) = (socket, address) {
                    let listening = socket.listen(1024);
                    listening.map_err(|e| StartError::Listen(address, e))?;
                }
            }
        }
        let (stop, watch) = watch::channel(false);
        let open = Arc::new(AtomicUsize::new(0));
        let config = Arc::new(self.config);
        let mut workers = Vec::new();
        for (i, sockets) in self.sockets.into_iter().enumerate() {
            let (shared, watch, open) = (shared.clone(), watch.clone(), open.clone());
            let (config, doors) = (config.clone(), doors.clone());
            let thread = thread::Builder::new()
                .name(format!("gateway-{i}"))
                .spawn(move || {
                    match tokio::runtime::Builder::new_current_thread()
                        .enable_all()
                        .build_local(Default::default())
                    {
                        Ok(runtime) => {
                            runtime.block_on(work(sockets, doors, shared, watch, open, &config))
                        }
                        Err(e) => tracing::error!("a worker has no runtime: {e}"),
                    }
                });
            workers.push(thread.map_err(StartError::Worker)?);
        }
        Ok(Gateway {
            address: self.address,
            secure: self.secure,
            stop,
            workers,
            open,
        })
    }
}

impl Bound {
    /// How callers come in, plain and by TLS.
    fn doors(&self) -> Result<(Door, Option<Door>), StartError> {
        let (Some(secure), Some(address)) = (&self.config.secure, self.secure) else {
            return Ok((Door::Plain, None));
        };
        let asks = Arc::new(AskCallers::default());
        let config = secure.certificates.server(&PROTOCOLS, asks.clone());
        let config = Arc::new(config.map_err(StartError::Secure)?);
        let plain = match secure.only {
            true => Door::Elsewhere(address.port()),
            false => Door::Plain,
        };
        Ok((plain, Some(Door::Secure(TlsAcceptor::from(config), asks))))
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

/// Takes an address; its port is filled in where 0 was asked for.
fn bind(address: &mut SocketAddr) -> Result<Socket, StartError> {
    let wrong = |e| StartError::Listen(*address, e);
    let socket = socket(*address).map_err(wrong)?;
    socket.set_reuse_port(true).map_err(wrong)?;
    socket.bind(&(*address).into()).map_err(wrong)?;
    let own = socket.local_addr().ok().and_then(|a| a.as_socket());
    *address = own.unwrap_or(*address);
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
    sockets: Sockets,
    doors: (Door, Option<Door>),
    shared: Arc<Shared>,
    stop: watch::Receiver<bool>,
    open: Arc<AtomicUsize>,
    config: &GatewayConfig,
) {
    let listener = |socket: Socket| {
        TcpListener::from_std(socket.into())
            .inspect_err(|e| tracing::error!("the gateway cannot use its socket: {e}"))
            .ok()
    };
    let Some(plain) = listener(sockets.plain) else {
        return;
    };
    let secure = sockets.secure.and_then(listener).zip(doors.1);
    let worker = Worker::new(shared, config.exchanges, config.proxies.clone());
    let flusher = tokio::task::spawn_local(flush(worker.clone()));
    let gives = worker.clone();
    let giving = tokio::task::spawn_local(async move { gives.backends.give_way().await });
    let own = Rc::new(std::cell::Cell::new(0usize));
    let most = (config.connections / config.workers.max(1)).max(1);
    // Each address holds a place for whoever comes next.
    let most = most + usize::from(secure.is_some());
    let entrance = Entrance {
        worker: worker.clone(),
        places: Arc::new(Semaphore::new(most)),
        own: own.clone(),
        open,
        stop,
    };
    match secure {
        None => entrance.take_in(plain, doors.0).await,
        Some((secure, door)) => {
            let both = (
                entrance.take_in(plain, doors.0),
                entrance.take_in(secure, door),
            );
            tokio::join!(both.0, both.1);
        }
    }
    let end = tokio::time::Instant::now() + config.drain;
    // What is carried through without its caller has no connection.
    while (own.get() > 0 || !worker.is_idle()) && tokio::time::Instant::now() < end {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    flusher.abort();
    giving.abort();
    worker.flush();
}

/// Where a worker takes callers in.
struct Entrance {
    worker: Rc<Worker>,
    places: Arc<Semaphore>,
    own: Rc<std::cell::Cell<usize>>,
    open: Arc<AtomicUsize>,
    stop: watch::Receiver<bool>,
}

impl Entrance {
    /// Takes callers in at one address, until the gateway stops.
    async fn take_in(&self, listener: TcpListener, door: Door) {
        let mut stop = self.stop.clone();
        let mut place = None;
        loop {
            // A place first: who finds none waits in the queue of the system.
            if place.is_none() {
                tokio::select! {
                    free = self.places.clone().acquire_owned() => place = free.ok(),
                    _ = stop.wait_for(|s| *s) => return,
                }
            }
            tokio::select! {
                accepted = listener.accept() => match accepted {
                    Ok((stream, peer)) => {
                        self.own.set(self.own.get() + 1);
                        self.open.fetch_add(1, Ordering::Relaxed);
                        let (own, open) = (self.own.clone(), self.open.clone());
                        let served = connection(self.worker.clone(), stream, peer.ip(), door.clone(), self.stop.clone());
                        let taken = place.take();
                        tokio::task::spawn_local(async move {
                            served.await;
                            drop(taken);
                            own.set(own.get() - 1);
                            open.fetch_sub(1, Ordering::Relaxed);
                        });
                    }
                    // Out of file descriptors, say: wait a little for some to come free.
                    Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
                },
                _ = stop.wait_for(|s| *s) => return,
            }
        }
    }
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
