//! What every exchange carries on: where it comes from, and which trace it belongs to.

use std::net::IpAddr;
use std::time::{SystemTime, UNIX_EPOCH};

use http::{HeaderMap, HeaderValue, header};
use smallvec::SmallVec;

use crate::fields::TRACEPARENT;
use crate::worker::Worker;

/// Milliseconds since 1970.
pub(crate) fn unix_ms() -> i64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |d| d.as_millis() as i64)
}

/// The `traceparent` to send on: the caller's trace is continued (W3C Trace Context §3.2).
pub(super) fn trace_context(worker: &Worker, headers: &HeaderMap) -> [u8; 55] {
    let mut out = *b"00-00000000000000000000000000000000-0000000000000000-01";
    let given = headers
        .get(TRACEPARENT)
        .map(HeaderValue::as_bytes)
        .filter(|b| is_traceparent(b));
    match given {
        Some(given) => out[3..35].copy_from_slice(&given[3..35]),
        None => {
            write_hex(&mut out[3..19], worker.random());
            write_hex(&mut out[19..35], worker.random());
        }
    }
    write_hex(&mut out[36..52], worker.random());
    out
}

/// Whether a field is version 00 of a trace context with ids that are not all zeros.
fn is_traceparent(b: &[u8]) -> bool {
    let hex = |part: &[u8]| {
        part.iter()
            .all(|c| c.is_ascii_digit() || (b'a'..=b'f').contains(c))
    };
    b.len() == 55
        && b.starts_with(b"00-")
        && b[35] == b'-'
        && b[52] == b'-'
        && hex(&b[3..35])
        && hex(&b[36..52])
        && hex(&b[53..55])
        && b[3..35].iter().any(|c| *c != b'0')
        && b[36..52].iter().any(|c| *c != b'0')
}

fn write_hex(out: &mut [u8], number: u64) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    for (i, digit) in out.iter_mut().enumerate() {
        *digit = DIGITS[(number >> (60 - 4 * i)) as usize & 15];
    }
}

/// The `Forwarded` field to send on (RFC 7239 §4).
pub(crate) fn forwarded(address: IpAddr, headers: &HeaderMap) -> HeaderValue {
    let host = headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok())
        .filter(|h| !h.bytes().any(|b| matches!(b, b'"' | b'\\' | b';' | b',')))
        .unwrap_or("unknown");
    let mut text = SmallVec::<[u8; 128]>::new();
    text.extend_from_slice(b"for=");
    match address {
        IpAddr::V4(v4) => write_v4(&mut text, v4.octets()),
        IpAddr::V6(v6) => text.extend_from_slice(format!("\"[{v6}]\"").as_bytes()),
    }
    text.extend_from_slice(b";host=\"");
    text.extend_from_slice(host.as_bytes());
    text.extend_from_slice(b"\";proto=http");
    HeaderValue::from_bytes(&text).unwrap_or_else(|_| HeaderValue::from_static("for=unknown"))
}

/// By hand: this is written for every call, and the general way costs ten times as much.
fn write_v4(text: &mut SmallVec<[u8; 128]>, octets: [u8; 4]) {
    for (i, octet) in octets.into_iter().enumerate() {
        if i > 0 {
            text.push(b'.');
        }
        for (unit, least) in [(100, 100), (10, 10), (1, 0)] {
            if octet >= least {
                text.push(b'0' + octet / unit % 10);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_written_as_others_write_them() {
        for address in ["0.0.0.0", "9.10.99.100", "127.0.0.1", "255.200.101.7"] {
            let IpAddr::V4(v4) = address.parse().unwrap() else {
                panic!("{address}")
            };
            let mut text = SmallVec::new();
            write_v4(&mut text, v4.octets());
            assert_eq!(text.as_slice(), address.as_bytes());
        }
    }

    #[test]
    fn only_whole_trace_contexts_are_continued() {
        let good = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
        assert!(is_traceparent(good.as_bytes()));
        for bad in [
            "",
            &good[1..],
            &good.to_uppercase(),
            &good.replace("00-4b", "01-4b"),
            &good.replace("00f067aa0ba902b7", "0000000000000000"),
            &good.replace("4bf92f3577b34da6a3ce929d0e0e4736", &"0".repeat(32)),
            &good.replace('-', "_"),
        ] {
            assert!(!is_traceparent(bad.as_bytes()), "{bad}");
        }
    }
}
