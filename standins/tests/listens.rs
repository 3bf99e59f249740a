//! The program of all stand-ins says last that all of them listen.

use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

/// Ends the program with the test.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn whoever_has_read_the_last_line_finds_all_ports_and_certificates() {
    let folder = tempfile::tempdir().unwrap();
    let tls = folder.path().join("tls");
    let ports = [
        "reservations",
        "timetable",
        "timetable-next",
        "cargo-desk",
        "loyalty",
        "vessels",
        "stores",
        "tides",
        "reservations-tls",
        "loyalty-tls",
        "crew-login",
        "outbox",
        "outbox-smtp",
    ];
    let mut command = Command::new(env!("CARGO_BIN_EXE_standins"));
    for port in ports {
        command.arg(format!("--{port}=0"));
    }
    command.arg("--tls").arg(&tls).stdout(Stdio::piped());
    let mut running = Running(command.spawn().unwrap());
    let output = BufReader::new(running.0.stdout.take().unwrap());

    let mut listening = Vec::new();
    for line in output.lines() {
        let line = line.unwrap();
        if line.starts_with("all ") {
            assert_eq!(line, format!("all {} listen", ports.len()));
            break;
        }
        listening.push(line);
    }

    assert_eq!(listening.len(), ports.len(), "{listening:?}");
    for line in &listening {
        let (_, address) = line.split_once("://").unwrap();
        TcpStream::connect(address).unwrap();
    }
    for file in ["ca.pem", "localhost.pem", "localhost.key"] {
        let text = std::fs::read_to_string(tls.join(file)).unwrap();
        assert!(text.starts_with("-----BEGIN "), "{file}: {text}");
    }
}
