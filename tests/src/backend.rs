//! Stand-ins as backends.

use super::*;

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
        let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
        let (sender, receiver) = mpsc::channel();
        let thread = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .build()
                .unwrap();
            runtime.block_on(async move {
                let (address, server) = porch_standins::serve(
                    standin,
                    ([127, 0, 0, 1], port).into(),
                    std::future::pending(),
                )
                .await
                .unwrap();
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
