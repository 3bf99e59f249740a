//! SOAP answers: read while they arrive, taken apart where they have several parts, and streamed on where they are large.

use std::future::Future;
use std::io::Write;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use flate2::write::{GzDecoder, ZlibDecoder};
use http::{HeaderMap, StatusCode, header};
use http_body::Body;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use porch_facade::{CompiledOperation, SoapWiring};
use porch_soap::related::{parameter, related};
use porch_soap::{Answer, AnswerError, AnswerReader, decode_document, encoded};
use tokio::time::Sleep;

use crate::pool::Lease;
use crate::problem::Problem;
use crate::reply::{MAX_ANSWER, bad_answer, silent};
use crate::request_body::BodyError;
use crate::worker::Ending;

/// What is shown of an answer in a trace.
const SEEN: usize = 16 * 1024;
/// From so much JSON on, a reply is sent while the answer still arrives.
const STREAM_FROM: usize = 256 << 10;
/// So much of an answer is kept to read it once more when a list turns out to be in pieces.
const KEPT: usize = 1 << 20;

/// A SOAP answer, read and converted.
pub(crate) struct SoapRead {
    pub(crate) answer: Answer,
    pub(crate) json: Vec<u8>,
    /// The declared header elements as JSON.
    pub(crate) headers: Option<Vec<u8>>,
    pub(crate) notes: Vec<String>,
    /// The beginning of the answer as it came, when asked for.
    pub(crate) seen: Vec<u8>,
    pub(crate) bytes: u64,
    /// The rest, when it is large: `json` is only its beginning.
    pub(crate) rest: Option<Box<Converting>>,
}

/// What a reading needs to know of its call.
pub(crate) struct Reading<'a> {
    pub(crate) status: StatusCode,
    pub(crate) headers: &'a HeaderMap,
    pub(crate) wiring: &'a SoapWiring,
    pub(crate) op: &'a CompiledOperation,
    pub(crate) idle: Duration,
    /// Whether the beginning is kept for a trace.
    pub(crate) keep: bool,
    /// Whether a large answer may be sent on while it arrives.
    pub(crate) stream: bool,
}

type Failed = (Box<Problem>, Vec<u8>);

/// Undoes the content coding of an answer (RFC 9110 §8.4.1).
enum Coding {
    None,
    Gzip(Box<GzDecoder<Vec<u8>>>),
    Deflate(Box<ZlibDecoder<Vec<u8>>>),
}

impl Coding {
    fn of(headers: &HeaderMap) -> Result<Self, String> {
        let text = headers
            .get(header::CONTENT_ENCODING)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .trim()
            .to_ascii_lowercase();
        match text.as_str() {
            "" | "identity" => Ok(Self::None),
            "gzip" | "x-gzip" => Ok(Self::Gzip(Box::new(GzDecoder::new(Vec::new())))),
            "deflate" => Ok(Self::Deflate(Box::new(ZlibDecoder::new(Vec::new())))),
            other => Err(format!(
                "its content coding “{other}” was not asked for and is not understood"
            )),
        }
    }

    fn decode(&mut self, data: Bytes) -> Result<Bytes, String> {
        let fail = |e: std::io::Error| format!("its content coding is broken: {e}");
        // In small pieces, so that a bomb is noticed before it goes off.
        let into = |data: &[u8],
                    write: &mut dyn FnMut(&[u8]) -> std::io::Result<usize>|
         -> Result<(), String> {
            for piece in data.chunks(1024) {
                let total = write(piece).map_err(fail)?;
                if total > MAX_ANSWER {
                    return Err(format!("it grows to more than {MAX_ANSWER} bytes"));
                }
            }
            Ok(())
        };
        match self {
            Coding::None => Ok(data),
            Coding::Gzip(decoder) => {
                into(&data, &mut |p| {
                    decoder
                        .write_all(p)
                        .and_then(|()| decoder.flush())
                        .map(|()| decoder.get_ref().len())
                })?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
            Coding::Deflate(decoder) => {
                into(&data, &mut |p| {
                    decoder
                        .write_all(p)
                        .and_then(|()| decoder.flush())
                        .map(|()| decoder.get_ref().len())
                })?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
        }
    }

    /// What is left at the end of the body.
    fn finish(&mut self) -> Result<Bytes, String> {
        let fail = |e: std::io::Error| format!("its content coding is broken: {e}");
        match self {
            Coding::None => Ok(Bytes::new()),
            Coding::Gzip(decoder) => decoder
                .try_finish()
                .map(|()| std::mem::take(decoder.get_mut()).into())
                .map_err(fail),
            Coding::Deflate(decoder) => decoder
                .try_finish()
                .map(|()| std::mem::take(decoder.get_mut()).into())
                .map_err(fail),
        }
    }
}

/// Reads a SOAP answer while it arrives.
pub(crate) async fn read(r: &Reading<'_>, mut body: Incoming) -> Result<SoapRead, Failed> {
    let mut coding = Coding::of(r.headers).map_err(|why| (bad_answer(r.op, why), Vec::new()))?;
    let kind = r
        .headers
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default();
    let multipart = kind
        .get(..10)
        .is_some_and(|k| k.eq_ignore_ascii_case("multipart/"));
    let whole = multipart || r.wiring.answer.encoded;
    let charset = parameter(kind, "charset");
    let fresh = || AnswerReader::new(r.wiring.answer.clone()).charset(charset.as_deref());
    let mut reader = fresh();
    let (mut gathering, mut ended) = (false, false);
    // Pieces, not copies of them.
    let mut kept: Vec<Bytes> = Vec::new();
    let (mut json, mut seen, mut bytes) = (Vec::with_capacity(1024), Vec::new(), 0u64);
    while !ended {
        let data = match tokio::time::timeout(r.idle, body.frame()).await {
            Err(_) => return Err((silent(r.op), seen)),
            Ok(None) => {
                ended = true;
                coding
                    .finish()
                    .map_err(|why| (bad_answer(r.op, why), seen.clone()))?
            }
            Ok(Some(Err(e))) => {
                return Err((
                    bad_answer(
                        r.op,
                        format!("it broke off in the middle of its answer: {e}"),
                    ),
                    seen,
                ));
            }
            Ok(Some(Ok(frame))) => match frame.into_data() {
                Ok(data) => coding
                    .decode(data)
                    .map_err(|why| (bad_answer(r.op, why), seen.clone()))?,
                Err(_) => continue,
            },
        };
        bytes += data.len() as u64;
        if r.keep && seen.len() < SEEN {
            seen.extend_from_slice(&data);
        }
        if whole {
            kept.push(data);
            if bytes > MAX_ANSWER as u64 {
                return Err((too_large(r.op), seen));
            }
            continue;
        }
        let retain = !gathering && bytes <= KEPT as u64;
        if retain {
            kept.push(data.clone());
        }
        match reader.feed(&data, &mut json) {
            Ok(()) => {}
            Err(AnswerError::Apart(_)) if retain => {
                // Once more from the beginning, with the pieces put together.
                reader = fresh().gathering();
                gathering = true;
                json.clear();
                std::mem::take(&mut kept)
                    .iter()
                    .try_for_each(|piece| reader.feed(piece, &mut json))
                    .map_err(|e| (not_understood(r, &e), seen.clone()))?;
            }
            Err(e) => return Err((not_understood(r, &e), seen)),
        }
        if json.len() > STREAM_FROM && r.stream && !gathering && reader.is_body() {
            let rest = Converting {
                body,
                coding,
                reader,
                next: Vec::new(),
                lease: None,
                idle: r.idle,
                timer: None,
                ending: None,
                done: false,
                name: r.op.id.clone(),
            };
            let notes = rest.reader.notes.clone();
            return Ok(SoapRead {
                answer: Answer::Body,
                json,
                headers: None,
                notes,
                seen,
                bytes,
                rest: Some(Box::new(rest)),
            });
        }
        if json.len() > MAX_ANSWER {
            return Err((too_large(r.op), seen));
        }
    }
    if bytes == 0 && r.status.is_success() {
        return empty(r, seen);
    }
    let answer = if whole {
        read_whole(r, kind, &kept.concat(), &mut json, &mut reader)
            .map_err(|p| (p, seen.clone()))?
    } else {
        reader.finish(&mut json)
    };
    let answer = match answer {
        Err(AnswerError::Apart(_)) if !gathering && bytes <= KEPT as u64 => {
            reader = fresh().gathering();
            json.clear();
            kept.iter()
                .try_for_each(|piece| reader.feed(piece, &mut json))
                .and_then(|()| reader.finish(&mut json))
        }
        other => other,
    };
    match answer {
        Ok(Answer::Empty) if !r.wiring.answer.may_be_empty() || !r.status.is_success() => Err((
            bad_answer(r.op, format!("it answered {} with an empty body", r.status)),
            seen,
        )),
        Ok(Answer::Empty) if r.wiring.answer.output.is_some() => {
            json = b"{}".to_vec();
            Ok(SoapRead {
                answer: Answer::Body,
                headers: reader.headers(),
                json,
                notes: reader.notes,
                seen,
                bytes,
                rest: None,
            })
        }
        Ok(answer) => {
            let headers = reader.headers();
            let mut notes = reader.notes;
            if answer == Answer::Body && !r.status.is_success() {
                notes.push(format!(
                    "its status was {}, although what it answers is no fault",
                    r.status
                ));
            }
            Ok(SoapRead {
                answer,
                headers,
                json,
                notes,
                seen,
                bytes,
                rest: None,
            })
        }
        Err(e) => Err((not_understood(r, &e), seen)),
    }
}

fn too_large(op: &CompiledOperation) -> Box<Problem> {
    bad_answer(op, format!("it has more than {MAX_ANSWER} bytes"))
}

/// An answer without a single byte.
fn empty(r: &Reading<'_>, seen: Vec<u8>) -> Result<SoapRead, Failed> {
    if r.wiring.answer.output.is_some() {
        return Err((
            bad_answer(
                r.op,
                format!("it answered {} with nothing at all", r.status),
            ),
            seen,
        ));
    }
    Ok(SoapRead {
        answer: Answer::Empty,
        json: Vec::new(),
        headers: None,
        notes: Vec::new(),
        seen,
        bytes: 0,
        rest: None,
    })
}

/// Answers that can only be read when all of them is there: those of several parts, and encoded ones.
fn read_whole(
    r: &Reading<'_>,
    kind: &str,
    bytes: &[u8],
    json: &mut Vec<u8>,
    reader: &mut AnswerReader,
) -> Result<Result<Answer, AnswerError>, Box<Problem>> {
    let (mut root, mut charset, mut parts) = (
        std::borrow::Cow::Borrowed(bytes),
        parameter(kind, "charset"),
        Default::default(),
    );
    if kind
        .get(..10)
        .is_some_and(|k| k.eq_ignore_ascii_case("multipart/"))
    {
        let found = related(kind, bytes).map_err(|why| {
            bad_answer(
                r.op,
                format!("its answer of several parts cannot be read: {why}"),
            )
        })?;
        charset = parameter(&found.root_type, "charset");
        root = found.root.into();
        parts = found.parts;
    }
    if r.wiring.answer.encoded {
        let text = match decode_document(&root, charset.as_deref()) {
            Ok(text) => text,
            Err(name) => return Ok(Err(AnswerError::Encoding(name))),
        };
        root = match encoded::inline(&text) {
            Ok(inlined) => inlined.unwrap_or(text).into_bytes().into(),
            Err(e) => return Ok(Err(e)),
        };
        // Whatever the document says of itself, it is UTF-8 now.
        charset = Some("utf-8".into());
    }
    *reader = AnswerReader::new(r.wiring.answer.clone())
        .attachments(parts)
        .charset(charset.as_deref());
    Ok(reader.feed(&root, json).and_then(|()| reader.finish(json)))
}

/// Tells apart what came in place of an answer.
fn not_understood(r: &Reading<'_>, error: &AnswerError) -> Box<Problem> {
    let kind = r
        .headers
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .unwrap_or("no content type");
    let status = r.status;
    let web_page = kind.contains("html")
        || matches!(error, AnswerError::NoEnvelope(name) if name.eq_ignore_ascii_case("html"));
    let why = if web_page {
        format!("it answered {status} with a web page ({kind}), not with a SOAP envelope")
    } else {
        format!("it answered {status} ({kind}): {error}")
    };
    bad_answer(r.op, why)
}

/// An answer that is converted while it streams through.
pub(crate) struct Converting {
    body: Incoming,
    coding: Coding,
    reader: AnswerReader,
    /// JSON that was made already.
    next: Vec<u8>,
    pub(crate) lease: Option<Lease>,
    idle: Duration,
    timer: Option<Pin<Box<Sleep>>>,
    pub(crate) ending: Option<Rc<Ending>>,
    done: bool,
    name: String,
}

impl Converting {
    /// The same, beginning with JSON that was made before.
    pub(crate) fn starting_with(mut self: Box<Self>, json: Vec<u8>, lease: Lease) -> Box<Self> {
        self.next = json;
        self.lease = Some(lease);
        self
    }

    pub(crate) fn is_done(&self) -> bool {
        self.done && self.next.is_empty()
    }

    fn fail(&mut self, what: &'static str, why: &str) -> BodyError {
        // The connection is of no further use; the caller sees that the body is cut off.
        self.lease = None;
        self.done = true;
        tracing::warn!("{}: a reply broke off: {why}", self.name);
        BodyError(what)
    }

    pub(crate) fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        loop {
            if !self.next.is_empty() {
                let next = Bytes::from(std::mem::take(&mut self.next));
                if let Some(ending) = &self.ending {
                    ending.add_bytes(next.len() as u64);
                }
                return Poll::Ready(Some(Ok(next)));
            }
            if self.done {
                return Poll::Ready(None);
            }
            match Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => {
                    self.timer = None;
                    let Ok(data) = frame.into_data() else {
                        continue;
                    };
                    let result = match self.coding.decode(data) {
                        Ok(data) => self
                            .reader
                            .feed(&data, &mut self.next)
                            .map_err(|e| e.to_string()),
                        Err(why) => Err(why),
                    };
                    if let Err(why) = result {
                        self.next.clear();
                        return Poll::Ready(Some(Err(
                            self.fail("the backend's answer cannot be used", &why)
                        )));
                    }
                }
                Poll::Ready(Some(Err(e))) => {
                    return Poll::Ready(Some(Err(
                        self.fail("the backend broke off", &e.to_string())
                    )));
                }
                Poll::Ready(None) => {
                    self.done = true;
                    let rest = match self.coding.finish() {
                        Ok(rest) => rest,
                        Err(why) => {
                            return Poll::Ready(Some(Err(
                                self.fail("the backend's answer cannot be used", &why)
                            )));
                        }
                    };
                    match self
                        .reader
                        .feed(&rest, &mut self.next)
                        .and_then(|()| self.reader.finish(&mut self.next))
                    {
                        Ok(Answer::Body) => {
                            if let Some(lease) = self.lease.take() {
                                lease.give_back();
                            }
                        }
                        Ok(other) => {
                            return Poll::Ready(Some(Err(self.fail(
                                "the backend's answer cannot be used",
                                &format!("{other:?}"),
                            ))));
                        }
                        Err(e) => {
                            return Poll::Ready(Some(Err(
                                self.fail("the backend's answer cannot be used", &e.to_string())
                            )));
                        }
                    }
                }
                Poll::Pending => {
                    let idle = self.idle;
                    let timer = self
                        .timer
                        .get_or_insert_with(|| Box::pin(tokio::time::sleep(idle)));
                    return match timer.as_mut().poll(cx) {
                        Poll::Ready(()) => Poll::Ready(Some(Err(
                            self.fail("the backend fell silent", "it fell silent")
                        ))),
                        Poll::Pending => Poll::Pending,
                    };
                }
            }
        }
    }
}
