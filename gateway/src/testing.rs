//! What tests of this crate share: a backend that answers as a function says, and a gateway over some facades.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

use porch_facade::{CompiledFacade, CompiledPorch};

use crate::{Gateway, GatewayConfig, Shared};

/// Starts a backend: for each request (head and body) it answers with a media type and a body.
pub(crate) fn backend(
    answer: impl Fn(&str) -> (&'static str, String) + Send + Sync + 'static,
) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let answer = Arc::new(answer);
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let answer = answer.clone();
            std::thread::spawn(move || {
                while let Some(request) = message(&mut stream) {
                    let (kind, body) = answer(&request);
                    let head = format!(
                        "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n",
                        body.len()
                    );
                    if stream.write_all((head + &body).as_bytes()).is_err() {
                        return;
                    }
                }
            });
        }
    });
    address
}

/// Reads one message: its head and as much of a body as `Content-Length` says.
fn message(stream: &mut TcpStream) -> Option<String> {
    let (mut seen, mut byte) = (Vec::new(), [0u8; 1]);
    while !seen.ends_with(b"\r\n\r\n") {
        stream.read_exact(&mut byte).ok()?;
        seen.push(byte[0]);
    }
    let head = String::from_utf8_lossy(&seen).into_owned();
    let length = head.lines().find_map(|l| {
        let value = l
            .to_ascii_lowercase()
            .strip_prefix("content-length:")?
            .to_owned();
        value.trim().parse::<usize>().ok()
    });
    let mut body = vec![0; length.unwrap_or(0)];
    stream.read_exact(&mut body).ok()?;
    Some(head + &String::from_utf8_lossy(&body))
}

/// Serves facades.
pub(crate) fn serve(facades: Vec<Arc<CompiledFacade>>) -> Gateway {
    let (porch, findings) = CompiledPorch::assemble(1, facades);
    assert_eq!(findings, []);
    let (shared, records) = Shared::new();
    // Nobody reads the records here.
    std::mem::forget(records);
    shared.porch.store(Arc::new(porch));
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(1),
        ..GatewayConfig::at(([127, 0, 0, 1], 0).into())
    };
    Gateway::start(&config, &shared).unwrap()
}

/// One request to a gateway on a connection of its own: status and body.
pub(crate) fn call(gateway: &Gateway, head: &str, body: &str) -> (u16, String) {
    let mut stream = TcpStream::connect(gateway.address).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    let request = format!(
        "{head} HTTP/1.1\r\nHost: porch.test\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    stream.write_all(request.as_bytes()).unwrap();
    let answer = message(&mut stream).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    let status = head.split(' ').nth(1).unwrap();
    (status.parse().unwrap(), body.to_owned())
}

/// Runs a test on one thread, whose clock goes on when nothing else does.
pub(crate) fn on_virtual_clock(test: impl Future<Output = ()>) {
    let mut runtime = tokio::runtime::Builder::new_current_thread();
    let runtime = runtime.enable_all().start_paused(true);
    let runtime = runtime.build_local(Default::default()).unwrap();
    runtime.block_on(test);
}
