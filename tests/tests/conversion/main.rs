//! SOAP 1.2 from a ZIP and XML without a schema, through the real client and real HTTP; and what misbehaving servers do.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod answers;
mod definitions;

use std::io::{Read, Write};
use std::net::TcpListener;

use porch_tests::{Http, Porch};
use serde_json::{Value, json};

/// A server that answers the same to everybody, byte by byte as told, `times` times.
fn canned(answer: Vec<u8>, times: usize) -> (u16, std::thread::JoinHandle<Vec<String>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let thread = std::thread::spawn(move || {
        let mut heads = Vec::new();
        for _ in 0..times {
            let (mut stream, _) = listener.accept().unwrap();
            let mut request = Vec::new();
            let mut piece = [0u8; 65536];
            loop {
                let n = stream.read(&mut piece).unwrap_or(0);
                request.extend_from_slice(&piece[..n]);
                let text = String::from_utf8_lossy(&request).into_owned();
                let complete = text.split_once("\r\n\r\n").is_some_and(|(head, body)| {
                    let length = head
                        .lines()
                        .find_map(|l| {
                            l.to_lowercase()
                                .strip_prefix("content-length:")
                                .and_then(|v| v.trim().parse::<usize>().ok())
                        })
                        .unwrap_or(0);
                    body.len() >= length
                });
                if n == 0 || complete {
                    break;
                }
            }
            heads.push(String::from_utf8_lossy(&request).into_owned());
            let _ = stream.write_all(&answer);
        }
        heads
    });
    (port, thread)
}

fn http_answer(kind: &str, more: &str, body: &[u8]) -> Vec<u8> {
    let mut out = format!("HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n{more}Connection: close\r\n\r\n", body.len()).into_bytes();
    out.extend_from_slice(body);
    out
}

const FARE: &str = "<QuoteFareResponse xmlns=\"urn:skerry-line:reservations:3\"><Fare><Amount>1.50</Amount><Currency>Kröne</Currency></Fare></QuoteFareResponse>";

fn enveloped(body: &str) -> String {
    format!(
        "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>{body}</s:Body></s:Envelope>"
    )
}

/// What callers get when the booking system answers this, and what the trace says of it.
fn answered(porch: &Porch, answer: Vec<u8>) -> (Http, String) {
    let (port, thread) = canned(answer, 1);
    let file = porch.documents.join("live.environment.yaml");
    let text = std::fs::read_to_string(&file).unwrap();
    let line = text
        .lines()
        .find(|l| l.contains("reservations:"))
        .unwrap()
        .to_owned();
    std::fs::write(
        &file,
        text.replace(
            &line,
            &format!("  reservations: {{ address: 'http://127.0.0.1:{port}/reservations' }}"),
        ),
    )
    .unwrap();
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    // The client says by its status that a call was refused; what it prints is the same.
    let output = porch.client(
        &[
            "--json",
            "try",
            "quoteFare",
            "route=FAR-MAR",
            "fareClass=foot",
            "passengers=1",
        ],
        "",
    );
    let tried: Value = serde_json::from_slice(&output.stdout).unwrap();
    thread.join().unwrap();
    let reply = Http {
        status: tried["status"].as_u64().unwrap() as u16,
        headers: Default::default(),
        body: tried["body"]
            .as_str()
            .map_or_else(|| tried["body"].to_string(), str::to_owned)
            .into_bytes(),
        whole: true,
    };
    (reply, tried.to_string())
}
