//! What goes wrong, on purpose: the database, the backends, the network, the callers.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod backends;
mod callers;
mod database;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use porch_standins::Standin;
use porch_tests::{Backend, Http, Porch, new_cluster, new_database, wait_until};
use serde_json::json;

const TT: &str = "/timetable/v1/routes/FAR-MAR/days/2027-05-14";
const FARE: &str = "/sailings/v2/fares/FAR-MAR/foot";

/// Lets any number of calls pass, so that limits do not get in the way.
fn without_limits(porch: &Porch) {
    porch.edit(
        "sailings/sailings.facade.yaml",
        "=terms.?requests.orValue(7), window: 90s",
        "100000, window: 1h",
    );
    porch.push_and_release("sailings");
}

fn raw(porch: &Porch) -> TcpStream {
    let stream = TcpStream::connect(porch.gateway.trim_start_matches("http://")).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(30)))
        .unwrap();
    stream
}

/// Sends bytes as they are; gives what comes back until the connection ends.
fn exchange_raw(porch: &Porch, bytes: &[u8]) -> String {
    let mut stream = raw(porch);
    // The gateway may answer and close before everything is sent.
    let _ = stream.write_all(bytes);
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8_lossy(&answer).into_owned()
}

#[test]
fn a_port_in_use_is_one_clear_message() {
    let porch = Porch::start();
    let taken = porch.gateway.trim_start_matches("http://").to_owned();
    let output = std::process::Command::new(porch_tests::program("porch"))
        .args([
            "serve",
            "--gateway",
            &taken,
            "--portal",
            "127.0.0.1:0",
            "--console",
            "127.0.0.1:0",
            "--database",
            "postgres://127.0.0.1:9/x",
            "--state",
        ])
        .arg(porch.folder().join("other"))
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(1));
    assert!(
        text.contains(&format!("porch: the gateway cannot listen on {taken}"))
            && text.contains("--gateway"),
        "{text}"
    );
}

#[test]
fn open_exchanges_end_when_the_service_is_told_to_stop() {
    let (mut porch, _) = Porch::published();
    porch
        .timetable
        .as_ref()
        .unwrap()
        .mood(&json!({"slow_ms": 1500}));
    let url = format!("{}{TT}", porch.gateway);
    let caller = std::thread::spawn(move || Http::send("GET", &url, &[], Vec::new()));
    // The exchange is under way once the gateway has a connection to the stand-in.
    let port = porch.timetable.as_ref().unwrap().address.port();
    wait_until("the backend is called", || {
        std::fs::read_to_string("/proc/net/tcp")
            .unwrap()
            .lines()
            .any(|l| l.contains(&format!(":{port:04X} 01")))
    });
    porch.stop_service();
    let reply = caller.join().unwrap();
    assert_eq!((reply.status, reply.whole), (200, true));
}
