//! Stand-ins as backends.

use std::pin::Pin;
use std::sync::Arc;

use super::*;

type Server = Pin<Box<dyn Future<Output = std::io::Result<()>>>>;

/// A stand-in on a port of its own, ended when dropped.
pub struct Backend {
    /// Where it listens.
    pub address: SocketAddr,
    stop: Option<tokio::sync::oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Backend {
    /// Starts a stand-in; port 0 takes any.
    pub fn start(standin: Standin, port: u16) -> Self {
        Self::serving(async move {
            let address = ([127, 0, 0, 1], port).into();
            let served = porch_standins::serve(standin, address, std::future::pending()).await;
            let (address, server) = served.unwrap();
            let server: Server = Box::pin(server);
            (address, server)
        })
    }

    /// Starts a stand-in by TLS, with a certificate of an authority.
    pub fn start_secure(standin: Standin, authority: &Arc<porch_standins::Authority>) -> Self {
        let authority = authority.clone();
        Self::serving(async move {
            let (address, never) = (([127, 0, 0, 1], 0).into(), std::future::pending());
            let served = porch_standins::serve_secure(standin, address, &authority, never).await;
            let (address, server) = served.unwrap();
            let server: Server = Box::pin(server);
            (address, server)
        })
    }

    fn serving(starting: impl Future<Output = (SocketAddr, Server)> + Send + 'static) -> Self {
        let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
        let (sender, receiver) = mpsc::channel();
        let thread = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .build()
                .unwrap();
            runtime.block_on(async move {
                let (address, server) = starting.await;
                sender.send(address).unwrap();
                // Ended at once, with its connections: a backend that dies does not say good-bye.
                tokio::select! {
                    result = server => result.unwrap(),
                    _ = stopped => {}
                }
            });
            runtime.shutdown_background();
        });
        Self {
            address: receiver.recv().unwrap(),
            stop: Some(stop),
            thread: Some(thread),
        }
    }

    /// Makes it misbehave, or behave again with `{}`.
    pub fn mood(&self, mood: &Value) {
        let (status, body) = http(
            "PUT",
            &format!("http://{}/_mood", self.address),
            &[("content-type", "application/json")],
            &mood.to_string(),
        );
        assert_eq!(status, 200, "{body}");
    }
}

impl Drop for Backend {
    fn drop(&mut self) {
        drop(self.stop.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
