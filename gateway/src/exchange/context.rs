//! What every exchange carries on: where it comes from, and which trace it belongs to.

use std::cell::{OnceCell, RefCell};
use std::net::IpAddr;
use std::rc::Rc;
use std::time::{SystemTime, UNIX_EPOCH};

use bytes::Bytes;
use http::request::Parts;
use http::{HeaderMap, HeaderValue, Request, header};
use porch_tls::OfCaller;
use serde_json::Value;
use smallvec::SmallVec;

use super::state::Exchange;
use crate::body::InBody;
use crate::caller::Caller;
use crate::fields::TRACEPARENT;
use crate::trial::{GivenAnswer, RecordedAnswer};
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

/// Writes a number as sixteen digits, all at the same time: each half of a byte becomes a byte of its own.
fn write_hex(out: &mut [u8], number: u64) {
    const ONES: u128 = 0x0101_0101_0101_0101_0101_0101_0101_0101;
    let mut halves = u128::from(number);
    for (shift, mask) in [
        (32, 0x0000_0000_ffff_ffff_0000_0000_ffff_ffff),
        (16, 0x0000_ffff_0000_ffff_0000_ffff_0000_ffff),
        (8, 0x00ff_00ff_00ff_00ff_00ff_00ff_00ff_00ff),
        (4, 0x0f0f_0f0f_0f0f_0f0f_0f0f_0f0f_0f0f_0f0f),
    ] {
        halves = (halves | halves << shift) & mask;
    }
    // Above nine come the letters: 6 more carry into the fifth bit.
    let letters = (halves + ONES * 6) >> 4 & ONES;
    let digits = halves + ONES * u128::from(b'0') + letters * u128::from(b'a' - b'0' - 10);
    out.copy_from_slice(&digits.to_be_bytes());
}

/// Where exchanges come from: one connection, or a trial run.
pub(crate) struct Origin {
    pub(crate) address: IpAddr,
    /// Who it is for limits by address, once one asked.
    pub(crate) subject: OnceCell<u64>,
    /// The last host that was asked for, and what is said of it: mostly a connection asks for one.
    forwarded: RefCell<Option<(HeaderValue, HeaderValue)>>,
    /// Whether they come by TLS.
    secure: bool,
    /// The certificate that was shown, by TLS or by a proxy that says so.
    pub(crate) certificate: Option<Rc<ShownCertificate>>,
    /// What an exchange is part of that is carried out inside of another one.
    pub(crate) inner: Option<Inner>,
    /// Answers in place of calls, for trial runs.
    pub(crate) given: Vec<(String, GivenAnswer)>,
    /// The same as they came once.
    pub(crate) recorded: Vec<(String, RecordedAnswer)>,
}

/// A certificate that a caller has shown.
pub(crate) struct ShownCertificate {
    /// What it says; or why it cannot be read.
    pub(crate) read: Result<OfCaller, &'static str>,
    /// What was found out of it by the last rule that asked, and when, in seconds since 1970: a connection carries many calls.
    pub(crate) found: RefCell<Option<FoundOut>>,
}

/// The number of a rule, when it asked, and whether what was shown is good.
pub(crate) type FoundOut = (u64, i64, Result<(), String>);

impl ShownCertificate {
    pub(crate) fn of(read: Result<OfCaller, &'static str>) -> Rc<Self> {
        Rc::new(Self {
            read,
            found: RefCell::default(),
        })
    }
}

/// A copy of a call, for comparison.
#[derive(Default)]
pub(crate) struct Copy {
    pub(crate) seen: RefCell<Option<Copied>>,
}

/// What was answered.
pub(crate) struct Copied {
    pub(crate) status: u16,
    pub(crate) us: u64,
    /// Why there was no answer; empty where there was one.
    pub(crate) failed: String,
    /// What is compared; or why it has no value.
    pub(crate) values: Vec<Result<Option<Value>, String>>,
}

/// An exchange inside of another one.
pub(crate) struct Inner {
    /// So many are around it.
    pub(crate) depth: u8,
    /// Whether all that there is to see is noted down.
    pub(crate) full: bool,
    pub(crate) trial: bool,
    /// Whether another reply is asked for in place of one that is kept.
    pub(crate) refreshes: bool,
    /// Of a copy: where it is noted what was answered.
    pub(crate) copy: Option<Rc<Copy>>,
    /// Who called the facade outside.
    pub(crate) caller: Caller,
}

impl Inner {
    /// One inside of an exchange, for the same caller.
    pub(crate) fn of(x: &Exchange<'_>) -> Self {
        Self {
            depth: x.origin.inner.as_ref().map_or(1, |i| i.depth + 1),
            full: false,
            trial: x.is_trial(),
            refreshes: false,
            copy: None,
            caller: x.caller.clone(),
        }
    }
}

/// A request that only reads, once more and without a body.
pub(crate) fn again(parts: &Parts) -> Request<InBody> {
    let mut request = Request::new(InBody::Full(Bytes::new()));
    request.uri_mut().clone_from(&parts.uri);
    *request.version_mut() = parts.version;
    request.headers_mut().clone_from(&parts.headers);
    request.headers_mut().remove(header::CONTENT_LENGTH);
    request.headers_mut().remove(header::TRANSFER_ENCODING);
    request
}

impl Origin {
    pub(crate) fn of(address: IpAddr) -> Self {
        Self {
            address,
            subject: OnceCell::new(),
            forwarded: RefCell::new(None),
            secure: false,
            certificate: None,
            inner: None,
            given: Vec::new(),
            recorded: Vec::new(),
        }
    }

    /// The same, with the certificate that was shown.
    pub(crate) fn showing(self, certificate: Option<Rc<ShownCertificate>>) -> Self {
        Self {
            certificate,
            ..self
        }
    }

    /// The same for exchanges that come by TLS, where they do.
    pub(crate) fn by_tls(self, secure: bool) -> Self {
        Self { secure, ..self }
    }

    /// Whether they come by TLS.
    pub(crate) fn is_secure(&self) -> bool {
        self.secure
    }

    /// The answer that is given in place of a call.
    pub(crate) fn given(&self, name: &str) -> Option<&GivenAnswer> {
        let mut all = self.given.iter();
        all.find(|(of, _)| of == name).map(|(_, given)| given)
    }

    /// Whether something stands in place of a call, or of one for an item of its list: it was not made.
    pub(crate) fn stands_for(&self, name: &str) -> bool {
        let of = |shown: &String| shown.split('[').next() == Some(name);
        self.given(name).is_some() || self.recorded.iter().any(|(shown, _)| of(shown))
    }

    /// For an exchange inside of another one.
    pub(crate) fn inside(address: IpAddr, inner: Inner) -> Self {
        Self {
            inner: Some(inner),
            ..Self::of(address)
        }
    }

    /// The `Forwarded` field to send on (RFC 7239 §4).
    pub(crate) fn forwarded(&self, headers: &HeaderMap) -> HeaderValue {
        let Some(host) = headers.get(header::HOST) else {
            return forwarded(self.address, None, self.secure);
        };
        let mut last = self.forwarded.borrow_mut();
        match &*last {
            Some((of, field)) if of == host => field.clone(),
            _ => {
                let field = forwarded(self.address, Some(host), self.secure);
                // A copy: it does not keep the rest of its head alive.
                if let Ok(host) = HeaderValue::from_bytes(host.as_bytes()) {
                    *last = Some((host, field.clone()));
                }
                field
            }
        }
    }
}

fn forwarded(address: IpAddr, host: Option<&HeaderValue>, secure: bool) -> HeaderValue {
    let host = host
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
    text.extend_from_slice(if secure { b"s" } else { b"" });
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
    fn numbers_are_sixteen_digits() {
        for number in [
            0,
            1,
            0x9a,
            0x0123_4567_89ab_cdef,
            0xfedc_ba98_7654_3210,
            u64::MAX,
        ] {
            let mut out = [0; 16];
            write_hex(&mut out, number);
            assert_eq!(out, format!("{number:016x}").as_bytes());
        }
    }

    #[test]
    fn what_is_said_of_a_host_is_said_of_no_other() {
        let origin = Origin::of([10, 1, 2, 3].into());
        for host in ["a.example", "b.example", "b.example", "a.example", "\"a\""] {
            let mut headers = HeaderMap::new();
            headers.insert(header::HOST, HeaderValue::from_static(host));
            let shown = host.strip_prefix('"').map_or(host, |_| "unknown");
            let said = format!("for=10.1.2.3;host=\"{shown}\";proto=http");
            assert_eq!(origin.forwarded(&headers), said);
        }
        let said = origin.forwarded(&HeaderMap::new());
        assert_eq!(said, "for=10.1.2.3;host=\"unknown\";proto=http");
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
