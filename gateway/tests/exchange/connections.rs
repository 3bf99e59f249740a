//! Backends that take only so many connections.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc;

use super::*;

/// A backend that answers when it is told to.
struct Held {
    address: SocketAddr,
    /// Requests that wait for their answers, and the most that ever did.
    waiting: Arc<AtomicUsize>,
    most: Arc<AtomicUsize>,
    go: mpsc::Sender<()>,
    arrived: mpsc::Receiver<()>,
}

fn held() -> Held {
    let (waiting, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let (go, wait) = mpsc::channel();
    let (arrives, arrived) = mpsc::channel();
    let (wait, arrives) = (Mutex::new(wait), Mutex::new(arrives));
    let (w, m) = (waiting.clone(), most.clone());
    let backend = Scripted::start(move |_, _| {
        let now = w.fetch_add(1, Ordering::SeqCst) + 1;
        m.fetch_max(now, Ordering::SeqCst);
        arrives.lock().unwrap().send(()).unwrap();
        wait.lock().unwrap().recv().unwrap();
        w.fetch_sub(1, Ordering::SeqCst);
        plain("{}")
    });
    Held {
        address: backend.address,
        waiting,
        most,
        go,
        arrived,
    }
}

fn stage(backend: SocketAddr, more: &str) -> Stage {
    let lines = format!("address: http://{backend}\ntimeout: 20s\n{more}");
    Stage::of(compile_called(&lines, "", CONTRACT, &["item"]))
}

/// Sends a request whose answer is read later.
fn begin(stage: &Stage) -> TcpStream {
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    let request = b"GET /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n";
    stream.write_all(request).unwrap();
    stream
}

fn end(mut stream: TcpStream) -> String {
    let mut reply = String::new();
    stream.read_to_string(&mut reply).unwrap();
    reply
}

/// Whatever comes at once, and by whichever worker: the others wait, and all are answered.
#[test]
fn no_more_connections_are_made_than_it_takes() {
    let backend = held();
    let stage = stage(backend.address, "connections: 2\n");
    let callers: Vec<TcpStream> = (0..12).map(|_| begin(&stage)).collect();
    backend.arrived.recv().unwrap();
    backend.arrived.recv().unwrap();
    for _ in 0..10 {
        assert!(backend.waiting.load(Ordering::SeqCst) <= 2);
        backend.go.send(()).unwrap();
        backend.arrived.recv().unwrap();
    }
    backend.go.send(()).unwrap();
    backend.go.send(()).unwrap();
    for caller in callers {
        let reply = end(caller);
        assert_eq!(status(&reply), 200, "{reply}");
    }
    assert_eq!(backend.most.load(Ordering::SeqCst), 2);
}

/// A connection that one worker has put aside is closed for another one.
#[test]
fn what_is_put_aside_keeps_nobody_waiting() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = stage(backend.address, "connections: 1\nconnect-timeout: 15s\n");
    for _ in 0..24 {
        let reply = stage.get("/f/item/1", "");
        assert_eq!(status(&reply), 200, "{reply}");
    }
}

#[test]
fn who_waits_too_long_is_told_to_come_back() {
    let backend = held();
    let stage = stage(backend.address, "connections: 1\nconnect-timeout: 100ms\n");
    let first = begin(&stage);
    backend.arrived.recv().unwrap();
    let reply = stage.get("/f/item/2", "");
    assert_eq!(status(&reply), 503, "{reply}");
    let lower = reply.to_lowercase();
    for part in [
        "retry-after: 1",
        "error=connection_limit_reached",
        "backend-busy",
    ] {
        assert!(lower.contains(part), "{part}: {reply}");
    }
    backend.go.send(()).unwrap();
    assert_eq!(status(&end(first)), 200);
    // It is called again at once.
    backend.go.send(()).unwrap();
    assert_eq!(status(&stage.get("/f/item/3", "")), 200);
    let (traces, _) = stage.end();
    let why: Vec<String> = traces.iter().map(|t| format!("{t:?}")).collect();
    assert!(
        why.concat()
            .contains("the only connection to b stayed in use for 100ms"),
        "{why:?}"
    );
}
