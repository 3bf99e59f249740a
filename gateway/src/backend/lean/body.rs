//! Bodies of answers as their bytes arrive (RFC 9112 §6 and §7).

use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::{Buf, Bytes, BytesMut};
use http::{HeaderMap, HeaderName, HeaderValue};
use http_body::{Frame, SizeHint};

use super::head::{Framing, MAX_FIELDS};
use super::{Conn, Wrong};

/// Chunk extensions of one body, and its trailers, may have at most so many bytes.
const MAX_LINES: usize = 16 << 10;

/// Where a body is.
#[derive(Debug, PartialEq, Eq)]
enum At {
    /// So many bytes are left.
    Data(u64),
    /// Until the connection ends.
    Close,
    /// A chunk's first line is next.
    Size,
    /// So many bytes of a chunk are left.
    Chunk(u64),
    /// The end of a chunk's data is next.
    ChunkEnd,
    /// Trailers, or the empty line behind them.
    Trailers,
    Done,
}

/// Finds a body in the bytes of a connection.
#[derive(Debug)]
struct Decoder {
    at: At,
    /// Bytes of chunk extensions and trailers so far.
    lines: usize,
    /// So many bytes were looked through for the end of a line.
    seen: usize,
    trailers: BytesMut,
}

/// What there is of a body.
enum Step {
    Data(Bytes),
    Trailers(HeaderMap),
    /// More bytes are needed.
    More,
    Done,
}

/// The body of an answer. Its connection goes back to the others behind the last byte.
pub(crate) struct Body {
    conn: Option<Box<Conn>>,
    decoder: Decoder,
    keep: bool,
}

impl Body {
    /// There is none.
    pub(super) fn empty() -> Self {
        Self {
            conn: None,
            decoder: Decoder::new(Framing::Nothing),
            keep: false,
        }
    }

    pub(super) fn new(conn: Box<Conn>, framing: Framing, keep: bool) -> Self {
        Self {
            conn: Some(conn),
            decoder: Decoder::new(framing),
            keep,
        }
    }

    fn done(&mut self) {
        if let Some(conn) = self.conn.take()
            && self.keep
        {
            conn.give_back();
        }
    }
}

impl http_body::Body for Body {
    type Data = Bytes;
    type Error = Wrong;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Wrong>>> {
        let this = &mut *self;
        loop {
            let Some(conn) = &mut this.conn else {
                return Poll::Ready(None);
            };
            let step = match this.decoder.step(&mut conn.buf) {
                Ok(step) => step,
                Err(wrong) => {
                    this.conn = None;
                    return Poll::Ready(Some(Err(wrong)));
                }
            };
            if this.decoder.at == At::Done {
                this.done();
            }
            match step {
                Step::Data(data) => return Poll::Ready(Some(Ok(Frame::data(data)))),
                Step::Trailers(map) => return Poll::Ready(Some(Ok(Frame::trailers(map)))),
                Step::Done => return Poll::Ready(None),
                Step::More => {}
            }
            let Some(conn) = &mut this.conn else {
                return Poll::Ready(None);
            };
            // An answer may come before its request is all sent.
            let _ = conn.poll_out(cx);
            match ready!(conn.poll_fill(cx)) {
                Ok(n) if n > 0 => {}
                end => {
                    this.conn = None;
                    let closed = end.is_ok() && this.decoder.at == At::Close;
                    this.decoder.at = At::Done;
                    return Poll::Ready(match end {
                        Ok(_) if closed => None,
                        Ok(_) => Some(Err(Wrong::closed("in the middle of its answer"))),
                        Err(e) => Some(Err(Wrong::io(&e))),
                    });
                }
            }
        }
    }

    fn is_end_stream(&self) -> bool {
        self.conn.is_none()
    }

    fn size_hint(&self) -> SizeHint {
        match (&self.conn, &self.decoder.at) {
            (None, _) => SizeHint::with_exact(0),
            (_, At::Data(left)) => SizeHint::with_exact(*left),
            _ => SizeHint::default(),
        }
    }
}

impl Decoder {
    fn new(framing: Framing) -> Self {
        Self {
            at: match framing {
                Framing::Nothing => At::Done,
                Framing::Length(length) => At::Data(length),
                Framing::Chunked => At::Size,
                Framing::Close => At::Close,
            },
            lines: 0,
            seen: 0,
            trailers: BytesMut::new(),
        }
    }

    fn step(&mut self, buf: &mut BytesMut) -> Result<Step, Wrong> {
        loop {
            match self.at {
                At::Done => return Ok(Step::Done),
                At::Close if buf.is_empty() => return Ok(Step::More),
                At::Close => return Ok(Step::Data(buf.split().freeze())),
                At::Data(_) | At::Chunk(_) if buf.is_empty() => return Ok(Step::More),
                At::Data(left) => {
                    let data = some(buf, left);
                    self.at = match left - data.len() as u64 {
                        0 => At::Done,
                        left => At::Data(left),
                    };
                    return Ok(Step::Data(data));
                }
                At::Chunk(left) => {
                    let data = some(buf, left);
                    self.at = match left - data.len() as u64 {
                        0 => At::ChunkEnd,
                        left => At::Chunk(left),
                    };
                    return Ok(Step::Data(data));
                }
                At::ChunkEnd => match buf.first_chunk::<2>() {
                    Some(b"\r\n") => {
                        buf.advance(2);
                        self.at = At::Size;
                    }
                    None if !matches!(buf.first(), Some(b) if *b != b'\r') => {
                        return Ok(Step::More);
                    }
                    _ => return Err(Wrong::parse("a chunk has no end")),
                },
                At::Size => match self.line(buf)? {
                    None => return Ok(Step::More),
                    Some(line) => {
                        let (size, rest) = size(&line)?;
                        self.count(rest)?;
                        self.at = match size {
                            0 => At::Trailers,
                            size => At::Chunk(size),
                        };
                    }
                },
                At::Trailers => match self.line(buf)? {
                    None => return Ok(Step::More),
                    Some(line) if line.as_ref() == b"\r\n" => {
                        self.at = At::Done;
                        return match trailers(&mut self.trailers)? {
                            None => Ok(Step::Done),
                            Some(map) => Ok(Step::Trailers(map)),
                        };
                    }
                    Some(line) => {
                        self.count(line.len())?;
                        self.trailers.extend_from_slice(&line);
                    }
                },
            }
        }
    }

    /// A whole line, with its end.
    fn line(&mut self, buf: &mut BytesMut) -> Result<Option<BytesMut>, Wrong> {
        let end = buf[self.seen..].iter().position(|b| *b == b'\n');
        let Some(end) = end.map(|at| at + self.seen + 1) else {
            self.seen = buf.len();
            return if self.seen > MAX_LINES {
                Err(Wrong::parse("a line of its chunks has more than 16 KB"))
            } else {
                Ok(None)
            };
        };
        self.seen = 0;
        let line = buf.split_to(end);
        match line.strip_suffix(b"\r\n") {
            Some(text) if !text.contains(&b'\r') => Ok(Some(line)),
            _ => Err(Wrong::parse("a line of its chunks does not end with CR LF")),
        }
    }

    fn count(&mut self, bytes: usize) -> Result<(), Wrong> {
        self.lines += bytes;
        if self.lines > MAX_LINES {
            return Err(Wrong::parse("chunk extensions and trailers over 16 KB"));
        }
        Ok(())
    }
}

/// As much of a body as is there.
fn some(buf: &mut BytesMut, left: u64) -> Bytes {
    let n = usize::try_from(left).map_or(buf.len(), |left| left.min(buf.len()));
    buf.split_to(n).freeze()
}

/// The size that a chunk's first line names, and how much else the line has (RFC 9112 §7.1).
fn size(line: &[u8]) -> Result<(u64, usize), Wrong> {
    let digits = line.iter().take_while(|b| b.is_ascii_hexdigit()).count();
    let (number, rest) = line.split_at(digits);
    let number = std::str::from_utf8(number).unwrap_or_default();
    let wrong = |_| Wrong::parse("a chunk's size is no number, or too large");
    let size = u64::from_str_radix(number, 16).map_err(wrong)?;
    match rest.trim_ascii_start().first() {
        None | Some(b';') => Ok((size, rest.len() - 2)),
        Some(_) => Err(Wrong::parse("something stands behind a chunk's size")),
    }
}

/// Trailer fields; none when there are none.
fn trailers(lines: &mut BytesMut) -> Result<Option<HeaderMap>, Wrong> {
    if lines.is_empty() {
        return Ok(None);
    }
    lines.extend_from_slice(b"\r\n");
    let mut room = [httparse::EMPTY_HEADER; MAX_FIELDS];
    let parsed = httparse::parse_headers(lines, &mut room);
    let parsed = parsed.map_err(|e| Wrong::parse(e.to_string()))?;
    let httparse::Status::Complete((_, fields)) = parsed else {
        return Err(Wrong::parse("its trailers have no end"));
    };
    let mut map = HeaderMap::with_capacity(fields.len());
    for field in fields {
        let name = HeaderName::from_bytes(field.name.as_bytes());
        let value = HeaderValue::from_bytes(field.value);
        match (name, value) {
            (Ok(name), Ok(value)) => drop(map.append(name, value)),
            _ => return Err(Wrong::parse("a trailer is no field")),
        }
    }
    Ok(Some(map))
}
