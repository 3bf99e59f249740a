//! A load of so many requests, and the backend behind what is loaded: the same at every run, for counting instructions.
//!
//! `bench-load PORT BACKEND-PORT PATH CONNECTIONS ROUNDS [KEY]`: in each round every connection sends one request, and
//! all answers are read before the next one. The backend answers each `GET` with 1 KB of JSON.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant};

type Outcome<T = ()> = Result<T, Box<dyn std::error::Error>>;

fn main() -> Outcome {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [port, backend, path, connections, rounds, key @ ..] = arguments.as_slice() else {
        return Err("bench-load PORT BACKEND-PORT PATH CONNECTIONS ROUNDS [KEY]".into());
    };
    let number = |text: &String| text.parse::<u16>().map_err(|e| format!("{text}: {e}"));
    let (port, backend) = (number(port)?, number(backend)?);
    let (connections, rounds) = (number(connections)?, number(rounds)?);
    let listener = TcpListener::bind(("127.0.0.1", backend)).map_err(|e| e.to_string())?;
    std::thread::spawn(move || serve(&listener));
    let key = key
        .first()
        .map_or_else(String::new, |key| format!("API-Key: {key}\r\n"));
    let request = format!("GET {path} HTTP/1.1\r\nHost: porch.example\r\n{key}\r\n");
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
            read_answer(connection)?;
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

/// Reads one answer with a length; any status but 200 ends the load.
fn read_answer(connection: &mut BufReader<TcpStream>) -> Outcome {
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
        } else if let Some((name, value)) = line.split_once(':')
            && name.eq_ignore_ascii_case("content-length")
        {
            length = value.trim().parse::<u64>().map_err(|e| e.to_string())?;
        }
    }
    if !status.starts_with("HTTP/1.1 200 ") {
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

/// Answers on each connection until it ends.
fn serve(listener: &TcpListener) {
    let text = format!("{{\"text\":\"{}\"}}", "x".repeat(1012));
    let answer = format!(
        "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{text}",
        text.len()
    );
    for stream in listener.incoming().flatten() {
        let answer = answer.clone();
        std::thread::spawn(move || answers(stream, answer.as_bytes()));
    }
}

fn answers(stream: TcpStream, answer: &[u8]) {
    let mut reader = BufReader::new(stream);
    let mut line = String::new();
    loop {
        line.clear();
        match reader.read_line(&mut line) {
            Ok(n) if n > 0 => {}
            _ => return,
        }
        if line == "\r\n" && reader.get_mut().write_all(answer).is_err() {
            return;
        }
    }
}
