//! The stage for whole-product tests: a real PostgreSQL, the stand-ins, the service as a process, its client, a browser.
#![allow(
    clippy::unwrap_used,
    clippy::missing_panics_doc,
    reason = "a stage that cannot be set up fails the test"
)]

mod backend;
pub mod browser;
mod http;
mod porch;
pub mod portal;

pub use backend::Backend;
pub use http::{Http, http};
pub use porch::{ADMIN, Porch, new_database};

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock, mpsc};
use std::time::{Duration, Instant};

use porch_cluster::Cluster;
use porch_standins::Standin;
use serde_json::{Value, json};

type Job = Box<dyn FnOnce() + Send>;

/// Runs something on a thread that lasts as long as the process: children that end with their parent's thread are started there.
fn on_lasting_thread<T: Send + 'static>(job: impl FnOnce() -> T + Send + 'static) -> T {
    static JOBS: OnceLock<Mutex<mpsc::Sender<Job>>> = OnceLock::new();
    let jobs = JOBS.get_or_init(|| {
        let (sender, receiver) = mpsc::channel::<Job>();
        std::thread::spawn(move || receiver.into_iter().for_each(|job| job()));
        Mutex::new(sender)
    });
    let (sender, receiver) = mpsc::channel();
    jobs.lock()
        .unwrap()
        .send(Box::new(move || drop(sender.send(job()))))
        .unwrap();
    receiver.recv().unwrap()
}

/// The cluster that all tests of a process share.
pub fn cluster() -> &'static Cluster {
    static CLUSTER: OnceLock<Cluster> = OnceLock::new();
    CLUSTER.get_or_init(new_cluster)
}

/// A cluster of its own, for tests that stop it.
pub fn new_cluster() -> Cluster {
    on_lasting_thread(|| Cluster::passing().unwrap())
}

/// Waits until a condition holds; half a minute at most.
pub fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_secs(30);
    while !holds() {
        assert!(Instant::now() < end, "not within 30 s: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A program of this workspace, built beforehand.
pub fn program(name: &str) -> PathBuf {
    let here = std::env::current_exe().unwrap();
    let folder = here
        .ancestors()
        .find(|p| p.join(name).is_file())
        .unwrap_or_else(|| panic!("{name} is not built: cargo build -p porch"));
    folder.join(name)
}

/// The project's folder.
pub fn root() -> &'static Path {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap()
}
