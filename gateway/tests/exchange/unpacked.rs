//! Requests that callers compress: read where they must be, passed on as they are elsewhere.

use flate2::Compression;
use flate2::write::{GzEncoder, ZlibEncoder};
use serde_json::json;

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /held:
    post:
      operationId: held
      requestBody: { content: { application/json: { schema: { type: object, required: [a], properties: { a: { type: string } } } } } }
      responses: { '200': { description: ok } }
  /made:
    post:
      operationId: made
      requestBody: { content: { application/json: { schema: { type: object } } } }
      responses: { '200': { description: ok } }
  /open:
    post:
      operationId: open
      responses: { '200': { description: ok } }
";
const FACADE: &str = "admit: { max-body: 4KiB }
operations:
  held: { call: { backend: b } }
  made: { call: { backend: b }, send: { body: { b: =body.a } } }
  open: { call: { backend: b } }
";

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

fn zlib(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = ZlibEncoder::new(Vec::new(), Compression::best());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

fn post(stage: &Stage, path: &str, coding: &str, body: &[u8]) -> String {
    let head = format!(
        "POST /f/{path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Encoding: {coding}\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    stage.raw(&[head.as_bytes(), body].concat())
}

/// Over a backend that says what it got.
fn stage() -> Stage {
    let backend = Scripted::start(|_, request| {
        let (head, body) = request.split_once("\r\n\r\n").unwrap_or((request, ""));
        let head = head.to_ascii_lowercase();
        let coded = head.contains("content-encoding: gzip");
        plain(&format!(
            "{{\"coded\": {coded}, \"length\": {}, \"got\": {}}}",
            body.len(),
            json!(body)
        ))
    });
    Stage::of(compile_with(backend.address, CONTRACT, FACADE))
}

#[test]
fn what_must_be_read_is_unpacked_and_goes_on_as_it_is_then() {
    let stage = stage();
    let body = b"{\"a\": \"Terning to Holm\"}";
    let plain_one = post(&stage, "held", "identity", body);
    assert_eq!(status(&plain_one), 200, "{plain_one}");
    for (coding, packed) in [
        ("gzip", gzip(body)),
        ("x-gzip", gzip(body)),
        ("deflate", zlib(body)),
        ("GZip", gzip(body)),
    ] {
        let held = post(&stage, "held", coding, &packed);
        assert_eq!(status(&held), 200, "{coding}: {held}");
        assert!(held.contains("\"coded\": false, \"length\": 24"), "{held}");
        assert!(held.contains("Terning to Holm"), "{held}");
        let made = post(&stage, "made", coding, &packed);
        assert!(
            made.contains("\"coded\": false") && made.contains("{\\\"b\\\":\\\"Terning"),
            "{made}"
        );
    }
    let wrong = post(&stage, "held", "gzip", &gzip(b"{\"b\": 1}"));
    assert_eq!(status(&wrong), 400);
    assert!(
        wrong.contains("must have a") || wrong.contains("/body"),
        "{wrong}"
    );
    // What nobody reads here goes on as it came.
    let open = post(&stage, "open", "gzip", &gzip(body));
    assert!(
        status(&open) == 200 && open.contains("\"coded\": true"),
        "{open}"
    );
}

#[test]
fn what_grows_breaks_or_is_not_understood_is_refused() {
    let stage = stage();
    let grows = gzip(&vec![b' '; 3 << 20]);
    assert!(grows.len() < 4096);
    let large = post(&stage, "made", "gzip", &grows);
    assert_eq!(status(&large), 413, "{large}");
    let whole = gzip(b"{\"a\": \"Terning to Holm\"}");
    let mut flipped = whole.clone();
    let last = flipped.len() - 6;
    flipped[last] ^= 1;
    for broken in [&whole[..whole.len() - 3], &whole[..4], b"plain", &flipped] {
        let told = post(&stage, "made", "gzip", broken);
        assert_eq!(status(&told), 400, "{told}");
        assert!(
            told.contains("its content coding cannot be undone"),
            "{told}"
        );
    }
    for unknown in ["br", "gzip, gzip", "gzip\r\nContent-Encoding: gzip"] {
        let told = post(&stage, "made", unknown, &whole);
        assert_eq!(status(&told), 415, "{unknown}: {told}");
        assert!(
            told.contains("accept-encoding: gzip, deflate, identity"),
            "{told}"
        );
    }
    assert_eq!(status(&post(&stage, "made", "gzip", &whole)), 200);
}
