//! SOAP answers: read while they arrive, taken apart where they have several parts, and streamed on where they are large.

use bytes::Bytes;
use http::{HeaderMap, StatusCode, header};
use http_body_util::BodyExt;
use porch_facade::kind::soap::SoapCall;
use porch_soap::related::{parameter, related};
use porch_soap::{Answer, AnswerError, AnswerReader, decode_document, encoded};

use super::stream::Converting;
use crate::answer::MAX_ANSWER;
use crate::backend::{Came, Lease};
use crate::body::Idle;
use crate::call::Context;
use crate::call::coding::Coding;
use crate::failure::Failure;
use crate::fields;

/// What is shown of an answer in a trace.
const SEEN: usize = 16 * 1024;
/// From so much JSON on, a reply is sent while the answer still arrives.
const STREAM_FROM: usize = 256 << 10;
/// So much of an answer is kept to read it once more when a list turns out to be in pieces.
const KEPT: usize = 1 << 20;

/// A SOAP answer, read and converted.
pub(super) struct SoapRead {
    pub(super) answer: Answer,
    pub(super) json: Vec<u8>,
    /// The declared header elements as JSON.
    pub(super) headers: Option<Vec<u8>>,
    pub(super) notes: Vec<String>,
    /// The rest, when it is large: `json` is only its beginning.
    pub(super) rest: Option<Box<Converting>>,
}

/// An answer while it is read.
pub(super) struct Answering<'a> {
    cx: &'a Context<'a>,
    call: &'a SoapCall,
    status: StatusCode,
    kind: &'a str,
    charset: Option<String>,
    /// In a place of its own: it is large, and what waits for an answer is moved.
    reader: Box<AnswerReader>,
    /// Whether the pieces of lists are put together.
    gathering: bool,
    /// Pieces, not copies of them.
    kept: Vec<Bytes>,
    json: Vec<u8>,
    /// The beginning of the answer as it came, when asked for.
    pub(super) seen: Vec<u8>,
    pub(super) bytes: u64,
}

fn is_multipart(kind: &str) -> bool {
    kind.get(..10)
        .is_some_and(|k| k.eq_ignore_ascii_case("multipart/"))
}

impl<'a> Answering<'a> {
    pub(super) fn new(
        cx: &'a Context<'a>,
        call: &'a SoapCall,
        status: StatusCode,
        headers: &'a HeaderMap,
    ) -> Self {
        let kind = fields::text(headers, &header::CONTENT_TYPE);
        let charset = parameter(kind, "charset");
        Self {
            cx,
            call,
            status,
            kind,
            reader: Box::new(AnswerReader::new(call.answer.clone()).charset(charset.as_deref())),
            charset,
            gathering: false,
            kept: Vec::new(),
            json: Vec::with_capacity(1024),
            seen: Vec::new(),
            bytes: 0,
        }
    }

    /// Answers that can only be read when all of them is there: those of several parts, and encoded ones.
    fn is_read_whole(&self) -> bool {
        is_multipart(self.kind) || self.call.answer.encoded
    }

    /// Reads it while it arrives.
    pub(super) async fn read(
        &mut self,
        headers: &HeaderMap,
        came: &mut Option<Came>,
        lease: &mut Option<Lease>,
    ) -> Result<SoapRead, Failure> {
        let mut coding = Coding::of(headers)?;
        let mut ended = false;
        while !ended {
            let Some(body) = came else { break };
            let data = match tokio::time::timeout(self.cx.backend.idle, body.frame()).await {
                Err(_) => return Err(Failure::Silent),
                Ok(None) => {
                    ended = true;
                    coding.finish()?
                }
                Ok(Some(Err(e))) => {
                    let why = format!("it broke off in the middle of its answer: {e}");
                    return Err(Failure::Answer(why));
                }
                Ok(Some(Ok(frame))) => match frame.into_data() {
                    Ok(data) => coding.decode(data)?,
                    Err(_) => continue,
                },
            };
            self.take(data)?;
            let large = self.json.len() > STREAM_FROM && self.cx.may_stream;
            if large
                && !self.gathering
                && self.reader.is_body()
                && let Some(body) = came.take()
            {
                return Ok(self.go_on(body, coding, lease.take()));
            }
        }
        self.finish()
    }

    fn take(&mut self, data: Bytes) -> Result<(), Failure> {
        self.bytes += data.len() as u64;
        if self.cx.keep && self.seen.len() < SEEN {
            self.seen.extend_from_slice(&data);
        }
        let most = MAX_ANSWER as u64;
        if self.is_read_whole() {
            self.cx.share.gather(data.len())?;
            self.kept.push(data);
            return if self.bytes > most {
                Err(too_large())
            } else {
                Ok(())
            };
        }
        let retain = !self.gathering && self.bytes <= KEPT as u64;
        if retain {
            self.kept.push(data.clone());
        }
        let before = self.json.len();
        match self.reader.feed(&data, &mut self.json) {
            Ok(()) => self.cx.share.gather(self.json.len() - before)?,
            Err(AnswerError::Apart(_)) if retain => {
                self.gather().map_err(|e| self.not_understood(&e))?
            }
            Err(e) => return Err(self.not_understood(&e)),
        }
        if self.json.len() > MAX_ANSWER {
            return Err(too_large());
        }
        Ok(())
    }

    /// Once more from the beginning, with the pieces of lists put together.
    fn gather(&mut self) -> Result<(), AnswerError> {
        let fresh = AnswerReader::new(self.call.answer.clone()).charset(self.charset.as_deref());
        *self.reader = fresh.gathering();
        self.gathering = true;
        self.json.clear();
        let kept = std::mem::take(&mut self.kept);
        kept.iter()
            .try_for_each(|piece| self.reader.feed(piece, &mut self.json))
    }

    /// The rest goes on while it arrives.
    fn go_on(&mut self, body: Came, coding: Coding, lease: Option<Lease>) -> SoapRead {
        let plan = self.call.answer.clone();
        let reader = std::mem::replace(&mut *self.reader, AnswerReader::new(plan));
        let notes = reader.notes.clone();
        SoapRead {
            answer: Answer::Body,
            json: Vec::new(),
            headers: None,
            notes,
            rest: Some(Box::new(Converting {
                body,
                coding,
                reader,
                next: std::mem::take(&mut self.json),
                lease,
                idle: Idle::new(self.cx.backend.idle),
                done: false,
                tell: self.cx.tell.clone(),
                refusal: None,
            })),
        }
    }

    fn finish(&mut self) -> Result<SoapRead, Failure> {
        if self.bytes == 0 && self.status.is_success() {
            return self.nothing();
        }
        let answer = if self.is_read_whole() {
            self.read_whole()?
        } else {
            self.reader.finish(&mut self.json)
        };
        let answer = match answer {
            Err(AnswerError::Apart(_)) if !self.gathering && self.bytes <= KEPT as u64 => self
                .gather()
                .and_then(|()| self.reader.finish(&mut self.json)),
            other => other,
        };
        let plan = &self.call.answer;
        match answer {
            Ok(Answer::Empty) if !plan.may_be_empty() || !self.status.is_success() => {
                let why = format!("it answered {} with an empty body", self.status);
                Err(Failure::Answer(why))
            }
            Ok(Answer::Empty) if plan.output.is_some() => {
                self.json = b"{}".to_vec();
                Ok(self.done(Answer::Body))
            }
            Ok(answer) => {
                let odd = answer == Answer::Body && !self.status.is_success();
                let mut read = self.done(answer);
                if odd {
                    read.notes.push(format!(
                        "its status was {}, although what it answers is no fault",
                        self.status
                    ));
                }
                Ok(read)
            }
            Err(e) => Err(self.not_understood(&e)),
        }
    }

    fn done(&mut self, answer: Answer) -> SoapRead {
        SoapRead {
            answer,
            headers: self.reader.headers(),
            json: std::mem::take(&mut self.json),
            notes: std::mem::take(&mut self.reader.notes),
            rest: None,
        }
    }

    /// An answer without a single byte.
    fn nothing(&mut self) -> Result<SoapRead, Failure> {
        if self.call.answer.output.is_some() {
            let why = format!("it answered {} with nothing at all", self.status);
            return Err(Failure::Answer(why));
        }
        Ok(SoapRead {
            answer: Answer::Empty,
            json: Vec::new(),
            headers: None,
            notes: Vec::new(),
            rest: None,
        })
    }

    fn read_whole(&mut self) -> Result<Result<Answer, AnswerError>, Failure> {
        let bytes = self.kept.concat();
        let (mut root, mut charset) = (bytes, self.charset.clone());
        let mut parts = Default::default();
        if is_multipart(self.kind) {
            let found = related(self.kind, &root).map_err(|why| {
                Failure::Answer(format!("its answer of several parts cannot be read: {why}"))
            })?;
            charset = parameter(&found.root_type, "charset");
            root = found.root;
            parts = found.parts;
        }
        if self.call.answer.encoded {
            let text = match decode_document(&root, charset.as_deref()) {
                Ok(text) => text,
                Err(wrong) => return Ok(Err(wrong.into())),
            };
            root = match encoded::inline(&text) {
                Ok(inlined) => inlined.unwrap_or(text).into_bytes(),
                Err(e) => return Ok(Err(e)),
            };
            // Whatever the document says of itself, it is UTF-8 now.
            charset = Some("utf-8".into());
        }
        *self.reader = AnswerReader::new(self.call.answer.clone())
            .attachments(parts)
            .charset(charset.as_deref());
        let fed = self.reader.feed(&root, &mut self.json);
        Ok(fed.and_then(|()| self.reader.finish(&mut self.json)))
    }

    /// Tells apart what came in place of an answer.
    fn not_understood(&self, error: &AnswerError) -> Failure {
        let kind = match self.kind {
            "" => "no content type",
            kind => kind,
        };
        let status = self.status;
        let web_page = kind.contains("html")
            || matches!(error, AnswerError::NoEnvelope(name) if name.eq_ignore_ascii_case("html"));
        Failure::Answer(if web_page {
            format!("it answered {status} with a web page ({kind}), not with a SOAP envelope")
        } else {
            format!("it answered {status} ({kind}): {error}")
        })
    }
}

fn too_large() -> Failure {
    Failure::Answer(format!("it has more than {MAX_ANSWER} bytes"))
}
