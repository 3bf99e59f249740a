//! Heads of messages: a request's written, an answer's read (RFC 9112 §2 to §6).

use std::mem::MaybeUninit;

use bytes::{Bytes, BytesMut};
use http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, Version, header};
use http::{Response, response};
use smallvec::SmallVec;

use super::Wrong;
use crate::outgoing::Outgoing;

/// An answer's head may have at most so many bytes, and fields.
pub(super) const MAX_HEAD: usize = 64 << 10;
pub(super) const MAX_FIELDS: usize = 100;
/// Of heads up to this size each line is tried when it is there.
const SMALL: usize = 4 << 10;
/// So many interim answers may come before the final one.
const MAX_INTERIM: u32 = 16;

/// How the end of a body is found (RFC 9112 §6.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Framing {
    /// There is none.
    Nothing,
    Length(u64),
    Chunked,
    /// With the connection's end.
    Close,
}

/// A head that was read.
#[derive(Debug)]
pub(super) struct Head {
    pub(super) parts: response::Parts,
    pub(super) framing: Framing,
    /// Whether the connection may be used again behind the body.
    pub(super) keep: bool,
}

/// Writes a request's head; of a body it says the length.
pub(super) fn write(request: &Outgoing, length: Option<usize>, out: &mut Vec<u8>) {
    let target = request.uri.path_and_query().map_or("/", |t| t.as_str());
    out.extend_from_slice(request.method.as_str().as_bytes());
    out.push(b' ');
    out.extend_from_slice(target.as_bytes());
    out.extend_from_slice(b" HTTP/1.1\r\n");
    let (fields, fixed) = request.fields.parts();
    out.extend_from_slice(fixed.as_bytes());
    for (name, value) in fields {
        let ours = match *name {
            header::TRANSFER_ENCODING => true,
            // A length without a body would make the next request one.
            header::CONTENT_LENGTH => length.is_some() || value != "0",
            _ => false,
        };
        if !ours {
            out.extend_from_slice(name.as_str().as_bytes());
            out.extend_from_slice(b": ");
            out.extend_from_slice(value.as_bytes());
            out.extend_from_slice(b"\r\n");
        }
    }
    if let Some(length) = length {
        out.extend_from_slice(b"content-length: ");
        out.extend_from_slice(length.to_string().as_bytes());
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(b"\r\n");
}

/// Reads heads as their bytes arrive.
#[derive(Debug, Default)]
pub(super) struct Reader {
    /// So many bytes were there when it was last tried to read one.
    tried: usize,
    /// So many bytes were looked through for an empty line.
    seen: usize,
    interim: u32,
}

impl Reader {
    /// The final answer's head, once it is there. Interim answers (RFC 9110 §15.2) are passed over.
    pub(super) fn read(
        &mut self,
        buf: &mut BytesMut,
        method: &Method,
    ) -> Result<Option<Head>, Wrong> {
        loop {
            if !self.is_worth_it(buf)? {
                return Ok(None);
            }
            let Some(head) = parse(buf, method)? else {
                self.tried = buf.len();
                return if buf.len() >= MAX_HEAD {
                    Err(Wrong::parse("its head has more than 64 KB"))
                } else {
                    Ok(None)
                };
            };
            (self.tried, self.seen) = (0, 0);
            let status = head.parts.status;
            if !status.is_informational() || status == StatusCode::SWITCHING_PROTOCOLS {
                return Ok(Some(head));
            }
            self.interim += 1;
            if self.interim > MAX_INTERIM {
                return Err(Wrong::parse("it sends interim answers without end"));
            }
        }
    }

    /// Whether a head may be complete, or is found to be none: trying costs its length, and bytes may come one by one.
    fn is_worth_it(&mut self, buf: &[u8]) -> Result<bool, Wrong> {
        let begin = &b"HTTP/"[..buf.len().min(5)];
        if !buf.starts_with(begin) {
            return Err(Wrong::parse("it does not begin with HTTP/"));
        }
        let from = self.seen.saturating_sub(3);
        self.seen = buf.len();
        let fresh = &buf[from..];
        if buf.len() >= MAX_HEAD {
            return Ok(true);
        }
        if !fresh.contains(&b'\n') {
            return Ok(false);
        }
        let enough = buf.len() <= SMALL || buf.len() >= self.tried * 2;
        let ends = |end: &[u8]| fresh.windows(end.len()).any(|w| w == end);
        Ok(enough || ends(b"\n\n") || ends(b"\n\r\n"))
    }
}

/// A field as it lies in the head: its name, and where its value begins and ends.
type Field = (HeaderName, usize, usize);

/// Which fields about the message itself a head has.
#[derive(Clone, Copy, Default)]
struct Special {
    coding: bool,
    length: Length,
    connection: bool,
}

/// What a head's `Content-Length` fields are.
#[derive(Clone, Copy, Default, PartialEq)]
enum Length {
    #[default]
    None,
    /// One, of digits alone.
    Plain(u64),
    /// Something that must be looked at.
    Other,
}

impl Length {
    fn and(self, value: &[u8]) -> Self {
        if self != Self::None || !(1..=18).contains(&value.len()) {
            return Self::Other;
        }
        let mut number = 0;
        for byte in value {
            if !byte.is_ascii_digit() {
                return Self::Other;
            }
            number = number * 10 + u64::from(byte - b'0');
        }
        Self::Plain(number)
    }
}

impl Special {
    fn note(&mut self, name: &HeaderName, value: &[u8]) {
        match *name {
            header::TRANSFER_ENCODING => self.coding = true,
            header::CONTENT_LENGTH => self.length = self.length.and(value),
            header::CONNECTION => self.connection = true,
            _ => {}
        }
    }
}

fn parse(buf: &mut BytesMut, method: &Method) -> Result<Option<Head>, Wrong> {
    let mut fields = SmallVec::<[Field; 16]>::new();
    // Whether fields that say something of the message itself are among them; most answers have one.
    let mut special = Special::default();
    let (length, status, version) = {
        let mut room = [const { MaybeUninit::uninit() }; MAX_FIELDS];
        let mut parsed = httparse::Response::new(&mut []);
        let bytes = &buf[..];
        let done = httparse::ParserConfig::default()
            .parse_response_with_uninit_headers(&mut parsed, bytes, &mut room)
            .map_err(|e| Wrong::parse(e.to_string()))?;
        let httparse::Status::Complete(length) = done else {
            return Ok(None);
        };
        if length > MAX_HEAD {
            return Err(Wrong::parse("its head has more than 64 KB"));
        }
        let start = bytes.as_ptr() as usize;
        for field in parsed.headers.iter() {
            let name = HeaderName::from_bytes(field.name.as_bytes());
            let name = name.map_err(|e| Wrong::parse(e.to_string()))?;
            special.note(&name, field.value);
            let at = field.value.as_ptr() as usize - start;
            fields.push((name, at, at + field.value.len()));
        }
        let status = StatusCode::from_u16(parsed.code.unwrap_or(0));
        let status = status.map_err(|e| Wrong::parse(e.to_string()))?;
        (length, status, parsed.version.unwrap_or(0))
    };
    let bytes = buf.split_to(length).freeze();
    let version = match version {
        1 => Version::HTTP_11,
        _ => Version::HTTP_10,
    };
    let mut headers = HeaderMap::with_capacity(fields.len() + 4);
    for (name, from, to) in fields.drain(..) {
        let value = HeaderValue::from_maybe_shared(slice(&bytes, from, to));
        headers.append(name, value.map_err(|e| Wrong::parse(e.to_string()))?);
    }
    let framing = framing(status, version, &headers, method, special)?;
    let keep = keeps(version, &headers, special)
        && framing != Framing::Close
        && (200..600).contains(&status.as_u16())
        && !(special.coding && special.length != Length::None);
    let (mut parts, ()) = Response::new(()).into_parts();
    (parts.status, parts.version, parts.headers) = (status, version, headers);
    Ok(Some(Head {
        parts,
        framing,
        keep,
    }))
}

/// A part of a head; an empty one keeps nothing alive.
fn slice(bytes: &Bytes, from: usize, to: usize) -> Bytes {
    if from == to {
        Bytes::new()
    } else {
        bytes.slice(from..to)
    }
}

/// RFC 9112 §6.3, in its order.
fn framing(
    status: StatusCode,
    version: Version,
    headers: &HeaderMap,
    method: &Method,
    special: Special,
) -> Result<Framing, Wrong> {
    let bodyless = matches!(
        status,
        StatusCode::SWITCHING_PROTOCOLS | StatusCode::NO_CONTENT | StatusCode::NOT_MODIFIED
    );
    if bodyless || status.is_informational() || *method == Method::HEAD {
        return Ok(Framing::Nothing);
    }
    if special.coding {
        return coded(version, headers);
    }
    let length = match special.length {
        Length::None => None,
        Length::Plain(length) => Some(length),
        Length::Other => content_length(headers)?,
    };
    match length {
        Some(0) => Ok(Framing::Nothing),
        Some(length) => Ok(Framing::Length(length)),
        None => Ok(Framing::Close),
    }
}

/// Only `chunked` was agreed on (RFC 9112 §7): other codings around it would reach the caller unnamed.
fn coded(version: Version, headers: &HeaderMap) -> Result<Framing, Wrong> {
    if version == Version::HTTP_10 {
        return Err(Wrong::parse("HTTP/1.0 has no transfer codings"));
    }
    let mut names = Vec::new();
    for value in headers.get_all(header::TRANSFER_ENCODING) {
        let text = value.to_str();
        let text = text.map_err(|_| Wrong::parse("its transfer coding cannot be read"))?;
        names.extend(text.split(',').map(|n| n.trim().to_ascii_lowercase()));
    }
    let chunked = |name: &String| name == "chunked";
    match names.as_slice() {
        [one] if chunked(one) => Ok(Framing::Chunked),
        some if some.iter().any(chunked) => {
            Err(Wrong::parse("it has more transfer codings than chunked"))
        }
        _ => Ok(Framing::Close),
    }
}

/// Equal lengths are one; others are none (RFC 9112 §6.3 ¶5).
fn content_length(headers: &HeaderMap) -> Result<Option<u64>, Wrong> {
    let wrong = || Wrong::parse("its Content-Length is no length");
    let mut length = None;
    for value in headers.get_all(header::CONTENT_LENGTH) {
        for one in value.to_str().map_err(|_| wrong())?.split(',') {
            let one = one.trim();
            if one.is_empty() || !one.bytes().all(|b| b.is_ascii_digit()) {
                return Err(wrong());
            }
            let one: u64 = one.parse().map_err(|_| wrong())?;
            if length.is_some_and(|before| before != one) {
                return Err(wrong());
            }
            length = Some(one);
        }
    }
    Ok(length)
}

/// Whether the connection stays open (RFC 9112 §9.3).
fn keeps(version: Version, headers: &HeaderMap, special: Special) -> bool {
    let has = |token: &str| {
        let values = headers.get_all(header::CONNECTION).into_iter();
        let mut tokens = values
            .filter_map(|v| v.to_str().ok())
            .flat_map(|v| v.split(','));
        tokens.any(|t| t.trim().eq_ignore_ascii_case(token))
    };
    if !special.connection {
        return version == Version::HTTP_11;
    }
    !has("close") && (version == Version::HTTP_11 || has("keep-alive"))
}
