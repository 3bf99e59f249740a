//! A load of so many requests, and the backend behind what is loaded: the same at every run, for counting instructions.
//!
//! `bench-load PORT BACKEND-PORT PATH CONNECTIONS ROUNDS STATUS [KEY|as:basic|as:signature|as:token]`: in each round every connection sends one request, and
//! all answers are read before the next one; each has the status that is named. The backend answers each `GET` with 1 KB of
//! JSON, each `POST` with an envelope of 1 KB, and each call of gRPC with a vessel.

mod fleet;
mod shown;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant};

type Outcome<T = ()> = Result<T, Box<dyn std::error::Error>>;

fn main() -> Outcome {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [port, backend, path, connections, rounds, status, key @ ..] = arguments.as_slice() else {
        return Err("bench-load PORT BACKEND-PORT PATH CONNECTIONS ROUNDS STATUS [KEY]".into());
    };
    let number = |text: &String| text.parse::<u16>().map_err(|e| format!("{text}: {e}"));
    let (port, backend) = (number(port)?, number(backend)?);
    let (connections, rounds) = (number(connections)?, number(rounds)?);
    let listener = TcpListener::bind(("127.0.0.1", backend)).map_err(|e| e.to_string())?;
    let what = key.first().map_or("", String::as_str);
    let shown = shown::shown(what, path, backend)?;
    let (keys, fields) = (shown.keys, shown.fields);
    std::thread::spawn(move || serve(&listener, &keys));
    let request = format!("GET {path} HTTP/1.1\r\nHost: porch.example\r\n{fields}\r\n");
    let mut open = Vec::new();
    for _ in 0..connections {
        open.push(BufReader::new(connect(port)?));
    }
    for _ in 0..rounds {
        for connection in &mut open {
            let sent = connection.get_mut().write_all(request.as_bytes());
            sent.map_err(|e| format!("a request could not be sent: {e}"))?;
        }
        for connection in &mut open {
            read_answer(connection, status)?;
        }
    }
    Ok(())
}

/// A connection, once the port listens.
fn connect(port: u16) -> Outcome<TcpStream> {
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        match TcpStream::connect(("127.0.0.1", port)) {
            Ok(stream) => {
                let ready = stream
                    .set_nodelay(true)
                    .and_then(|()| stream.set_read_timeout(Some(Duration::from_secs(60))));
                ready?;
                return Ok(stream);
            }
            Err(e) if Instant::now() > until => return Err(format!("port {port}: {e}").into()),
            Err(_) => std::thread::yield_now(),
        }
    }
}

/// Reads one answer with a length; any other status ends the load.
fn read_answer(connection: &mut BufReader<TcpStream>, wanted: &str) -> Outcome {
    let (mut length, mut status) = (0, String::new());
    loop {
        let mut line = String::new();
        let read = connection.read_line(&mut line).map_err(|e| e.to_string())?;
        let line = line.trim_ascii_end();
        if read == 0 {
            return Err("the connection was closed".into());
        }
        if status.is_empty() {
            line.clone_into(&mut status);
        } else if line.is_empty() {
            break;
        } else if let Some(said) = said_length(line) {
            length = said;
        }
    }
    if status.split(' ').nth(1) != Some(wanted) {
        return Err(format!("the answer is “{status}”").into());
    }
    let mut body = connection.take(length);
    let read = std::io::copy(&mut body, &mut std::io::sink()).map_err(|e| e.to_string())?;
    if read == length {
        Ok(())
    } else {
        Err(format!("the answer has {read} bytes of {length}").into())
    }
}

fn said_length(line: &str) -> Option<u64> {
    let (name, value) = line.split_once(':')?;
    let is_length = name.eq_ignore_ascii_case("content-length");
    value.trim().parse().ok().filter(|_| is_length)
}

/// Answers on each connection until it ends.
fn serve(listener: &TcpListener, keys: &str) {
    let text = format!("{{\"text\":\"{}\"}}", "x".repeat(1012));
    let both = [
        answer("application/json", &text),
        answer("text/xml; charset=utf-8", &envelope()),
        answer("application/json", keys),
    ];
    for stream in listener.incoming().flatten() {
        let both = both.clone();
        std::thread::spawn(move || {
            // HTTP/2 begins with its preface (RFC 9113 §3.4).
            let mut first = [0u8; 3];
            match stream.peek(&mut first) {
                Ok(3) if first == *b"PRI" => fleet::answer(stream).unwrap_or_default(),
                _ => answers(stream, &both),
            }
        });
    }
}

fn answer(kind: &str, text: &str) -> String {
    let length = text.len();
    format!("HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {length}\r\n\r\n{text}")
}

/// Three sailings of the demo's booking system.
fn envelope() -> String {
    let sailing = |i: u32| {
        format!(
            "<r:Sailing><r:Id>S-{i}</r:Id><r:RouteCode>FAR-MAR</r:RouteCode><r:Departs>2027-05-14T08:30:00Z</r:Departs><r:Legs><r:Leg><r:From>Farholt</r:From><r:To>Maren Quay</r:To><r:Minutes>55</r:Minutes></r:Leg></r:Legs><r:SeatsLeft>{i}</r:SeatsLeft></r:Sailing>"
        )
    };
    let list: String = (17..20).map(sailing).collect();
    format!(
        "<env:Envelope xmlns:env=\"http://schemas.xmlsoap.org/soap/envelope/\"><env:Body><r:SearchSailingsResponse xmlns:r=\"urn:skerry-line:reservations:3\"><r:Sailings>{list}</r:Sailings></r:SearchSailingsResponse></env:Body></env:Envelope>"
    )
}

/// Answers what is read without a body, and what has one.
fn answers(stream: TcpStream, both: &[String; 3]) {
    let mut reader = BufReader::new(stream);
    let (mut line, mut length, mut keys) = (String::new(), 0, false);
    loop {
        line.clear();
        match reader.read_line(&mut line) {
            Ok(n) if n > 0 => {}
            _ => return,
        }
        if let Some(said) = said_length(line.trim_ascii_end()) {
            length = said;
        }
        keys |= line.starts_with("GET /keys ");
        if line != "\r\n" {
            continue;
        }
        let mut body = (&mut reader).take(length);
        let read = std::io::copy(&mut body, &mut std::io::sink());
        let answer = match keys {
            true => &both[2],
            false => &both[usize::from(length > 0)],
        };
        if read.is_err() || reader.get_mut().write_all(answer.as_bytes()).is_err() {
            return;
        }
        (length, keys) = (0, false);
    }
}
