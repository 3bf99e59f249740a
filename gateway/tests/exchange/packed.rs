//! Replies compressed on their way: for whom, of what, and nothing held back.

use std::sync::{Condvar, Mutex};

use super::*;

const FACADE: &str = "compress: true\noperations:\n  item: { call: { backend: b } }\n  files: { call: { backend: b }, compress: false }\n";
const GZIP: &str = "Accept-Encoding: br, gzip\r\n";

/// Head and body of an answer, whose chunks are put together.
fn read(stage: &Stage, request: &str) -> (String, Vec<u8>) {
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut all = Vec::new();
    let _ = stream.read_to_end(&mut all);
    let at = all.windows(4).position(|w| w == b"\r\n\r\n").unwrap();
    let head = String::from_utf8_lossy(&all[..at + 2]).to_ascii_lowercase();
    let body = all.split_off(at + 4);
    match head.contains("transfer-encoding: chunked\r\n") {
        true => (head, chunks(&body)),
        false => (head, body),
    }
}

fn chunks(mut rest: &[u8]) -> Vec<u8> {
    let mut all = Vec::new();
    while let Some(end) = rest.windows(2).position(|w| w == b"\r\n") {
        let size = usize::from_str_radix(std::str::from_utf8(&rest[..end]).unwrap(), 16).unwrap();
        let from = end + 2;
        if size == 0 || rest.len() < from + size {
            break;
        }
        all.extend_from_slice(&rest[from..from + size]);
        rest = rest.get(from + size + 2..).unwrap_or_default();
    }
    all
}

fn unpacked(bytes: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut all = Vec::new();
    flate2::read::GzDecoder::new(bytes).read_to_end(&mut all)?;
    Ok(all)
}

fn get(stage: &Stage, path: &str, fields: &str) -> (String, Vec<u8>) {
    read(
        stage,
        &format!("GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}\r\n"),
    )
}

/// What a backend answers for each path: more fields, and a body.
fn answer(fields: &str, body: &str) -> Vec<u8> {
    format!(
        "HTTP/1.1 200 OK\r\n{fields}Content-Length: {}\r\n\r\n{body}",
        body.len()
    )
    .into_bytes()
}

#[test]
fn replies_of_texts_are_compressed_for_whoever_takes_it() {
    let long = format!("[{}1]", "12345,".repeat(100_000));
    let body = long.clone();
    let backend = Scripted::start(move |_, _| {
        answer(
            "Content-Type: application/json; charset=utf-8\r\nETag: \"a\"\r\nAccept-Ranges: bytes\r\n",
            &body,
        )
    });
    let stage = Stage::new(backend.address, FACADE);
    let (head, packed) = get(&stage, "/f/item/1", GZIP);
    assert!(head.contains("content-encoding: gzip\r\n"), "{head}");
    assert!(
        head.contains("vary: accept-encoding\r\n") && head.contains("etag: w/\"a\"\r\n"),
        "{head}"
    );
    assert!(
        !head.contains("accept-ranges") && !head.contains("content-length"),
        "{head}"
    );
    assert!(packed.len() * 50 < long.len(), "{}", packed.len());
    assert_eq!(unpacked(&packed).unwrap(), long.as_bytes());
    // Whoever says nothing gets it as it is, and is told that others would not.
    for fields in [
        "",
        "Accept-Encoding: br\r\n",
        "Accept-Encoding: gzip;q=0\r\n",
    ] {
        let (head, plain) = get(&stage, "/f/item/1", fields);
        assert!(
            !head.contains("content-encoding") && head.contains("etag: \"a\"\r\n"),
            "{head}"
        );
        assert!(head.contains("vary: accept-encoding\r\n"), "{head}");
        assert_eq!(plain, long.as_bytes());
    }
    let (head, _) = get(&stage, "/f/files/a", GZIP);
    assert!(
        !head.contains("content-encoding") && !head.contains("vary"),
        "{head}"
    );
}

#[test]
fn what_is_short_made_already_or_to_stay_as_it_is_stays() {
    let long = "x".repeat(5_000);
    for (fields, body) in [
        ("Content-Type: application/json\r\n", "short"),
        ("Content-Type: image/png\r\n", long.as_str()),
        ("Content-Type: text/event-stream\r\n", &long),
        (
            "Content-Type: text/plain\r\nContent-Encoding: gzip\r\n",
            &long,
        ),
        (
            "Content-Type: text/plain\r\nCache-Control: max-age=5, No-Transform\r\n",
            &long,
        ),
    ] {
        let made = answer(fields, body);
        let backend = Scripted::start(move |_, _| made.clone());
        let stage = Stage::new(backend.address, FACADE);
        let (head, given) = get(&stage, "/f/item/1", GZIP);
        assert_eq!(given, body.as_bytes(), "{fields}");
        assert!(
            fields.contains("gzip") || !head.contains("content-encoding"),
            "{head}"
        );
    }
    // Problems are texts too, and parts are not.
    let backend = Scripted::start(move |_, _| {
        let part = "x".repeat(3_000);
        format!("HTTP/1.1 206 Part\r\nContent-Type: text/plain\r\nContent-Range: bytes 0-2999/9000\r\nContent-Length: 3000\r\n\r\n{part}").into_bytes()
    });
    let stage = Stage::new(backend.address, FACADE);
    let (head, part) = get(&stage, "/f/item/1", GZIP);
    assert!(
        !head.contains("content-encoding") && part.len() == 3_000,
        "{head}"
    );
}

#[test]
fn what_becomes_very_short_takes_its_turns() {
    let backend =
        Scripted::start(|_, _| answer("Content-Type: text/plain\r\n", &"0".repeat(20 << 20)));
    let stage = Stage::new(backend.address, FACADE);
    let (head, packed) = get(&stage, "/f/item/1", GZIP);
    assert!(
        head.contains("content-encoding: gzip") && packed.len() < 100_000,
        "{head}"
    );
    assert_eq!(unpacked(&packed).unwrap().len(), 20 << 20);
}

#[derive(Default)]
struct Gate(Mutex<bool>, Condvar);

#[test]
fn nothing_is_held_back_and_what_breaks_off_has_no_end() {
    let gate = Arc::new(Gate::default());
    let opens = gate.clone();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let _ = read_request(&mut stream);
            let head =
                "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nTransfer-Encoding: chunked\r\n\r\n";
            stream
                .write_all(format!("{head}5\r\nfirst\r\n").as_bytes())
                .unwrap();
            let open = opens.0.lock().unwrap();
            drop(
                opens
                    .1
                    .wait_timeout_while(open, Duration::from_secs(20), |o| !*o)
                    .unwrap(),
            );
            // It ends in the middle.
            let _ = stream.write_all(b"6\r\nsecond\r\n");
        }
    });
    let stage = Stage::new(address, FACADE);
    let mut stream = TcpStream::connect(stage.address()).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    let request = format!("GET /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{GZIP}\r\n");
    stream.write_all(request.as_bytes()).unwrap();
    let (mut seen, mut byte) = (Vec::new(), [0u8; 1]);
    let text = |seen: &[u8]| {
        let at = seen.windows(4).position(|w| w == b"\r\n\r\n")?;
        let mut plain = vec![0; 100];
        let packed = chunks(&seen[at + 4..]);
        let read = flate2::read::GzDecoder::new(packed.as_slice())
            .read(&mut plain)
            .ok()?;
        Some(String::from_utf8_lossy(&plain[..read]).into_owned())
    };
    while text(&seen).is_none_or(|t| t != "first") {
        assert_eq!(
            stream.read(&mut byte).unwrap(),
            1,
            "{}",
            String::from_utf8_lossy(&seen)
        );
        seen.push(byte[0]);
    }
    *gate.0.lock().unwrap() = true;
    gate.1.notify_all();
    let _ = stream.read_to_end(&mut seen);
    let at = seen.windows(4).position(|w| w == b"\r\n\r\n").unwrap();
    assert!(!seen.ends_with(b"0\r\n\r\n"));
    assert!(unpacked(&chunks(&seen[at + 4..])).is_err());
}
