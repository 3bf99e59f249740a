//! HTTP calls.

mod messages;
mod prepare;

pub(crate) use prepare::{add_credentials, without_pairs};

use std::any::Any;

use bytes::Bytes;
use http::{HeaderMap, header, response};
use http_body::Body;
use porch_facade::MediaType;
use porch_facade::kind::http::{HttpCall, NAME};
use serde_json::Value;

use super::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent, coding};
use crate::answer::{Answer, Content, Passed, Passing, Seen, Whole, collect};
use crate::backend::Answered;
use crate::body::{Idle, InBody, OutBody, ReplyBody, Through};
use crate::failure::{Complaint, Failure};
use crate::media;
use crate::outgoing::Outgoing;

pub(crate) struct Http;

fn call_of<'a>(cx: &Context<'a>) -> Option<&'a HttpCall> {
    let call: &dyn Any = &**cx.call;
    call.downcast_ref()
}

/// What a backend's bodies are.
fn speaks(cx: &Context<'_>) -> MediaType {
    if cx.backend.xml.is_some() {
        MediaType::Xml
    } else {
        MediaType::Json
    }
}

/// Whether the caller's body is in another media type than the backend's, and becomes one of the backend's; a body of no
/// known type is not touched.
fn converts(cx: &Context<'_>, call: &HttpCall) -> bool {
    cx.operation.admission.media.is_some()
        && call.body.is_none()
        && !call.own
        && media::kind(&media::essence(&cx.parts.headers)).is_some_and(|k| k != speaks(cx))
}

/// Where an operation takes some media types, a body of another one is not passed on (RFC 9110 §15.5.16).
fn known_type(cx: &Context<'_>, body: &CallerBody) -> Result<(), Failure> {
    let Some(media) = &cx.operation.admission.media else {
        return Ok(());
    };
    let essence = media::essence(&cx.parts.headers);
    let sent = match body {
        CallerBody::Gone => false,
        CallerBody::Unread(body) => body.length() != Some(0),
        CallerBody::Bytes(_) => true,
    };
    let taken = media::kind(&essence).is_some_and(|kind| media.offered.contains(&kind));
    if !sent || essence.is_empty() || taken {
        return Ok(());
    }
    let names = media.offered.iter();
    let names = names.map(|kind| media::name(*kind).to_owned());
    Err(Failure::MediaType(names.collect(), essence))
}

impl Protocol for Http {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn needs(&self, cx: &Context<'_>, body: &InBody) -> Needs {
        match call_of(cx) {
            Some(call) if call.reads_body => Needs::Value,
            Some(call) if call.own => Needs::Nothing,
            Some(call) if body.length() != Some(0) && converts(cx, call) => Needs::Value,
            _ => Needs::Stream,
        }
    }

    fn prepare(&self, cx: &Context<'_>, body: CallerBody) -> Result<Prepared, Failure> {
        let call = call_of(cx).ok_or_else(|| Failure::Answer("it is no HTTP call".into()))?;
        let convert = converts(cx, call);
        known_type(cx, &body)?;
        let mut request = prepare::request(call, cx, convert)?;
        let (mut streamed, mut complaint) = (false, None);
        if matches!(request.body, OutBody::Empty) && !call.own {
            match body {
                CallerBody::Unread(InBody::Incoming(incoming)) if !incoming.is_end_stream() => {
                    request.body = OutBody::stream(
                        incoming,
                        cx.operation.admission.max_body,
                        complaint.insert(Complaint::default()).clone(),
                    );
                    streamed = true;
                }
                CallerBody::Unread(InBody::Full(bytes)) if !bytes.is_empty() => {
                    request.body = OutBody::Full(Some(bytes));
                    streamed = true;
                }
                // Read because an expression looks into it, and sent on as it came.
                CallerBody::Bytes(bytes)
                    if call.body.is_none() && !convert && !bytes.is_empty() =>
                {
                    request.body = OutBody::Full(Some(bytes));
                    streamed = true;
                }
                _ => {}
            }
        }
        Ok(Prepared {
            within: cx.backend.timeout,
            again: !streamed && call.body.is_none() && request.method.is_safe(),
            complaint,
            seen: seen_of(cx, &request, streamed),
            request,
        })
    }

    fn read<'a>(&'a self, cx: &'a Context<'a>, mut sent: Sent) -> Reading<'a> {
        if let Some(why) = unsound(&mut sent.answered) {
            return Reading::Done(refused(cx, sent.answered.head, why));
        }
        if let Some(of) = cx.gathers()
            && sent.answered.head.status.is_success()
        {
            let (head, body) = (sent.answered.head, sent.answered.body);
            return Reading::later(messages::gathered(cx, head, body, of));
        }
        // What a reply makes of an answer is for answers that succeeded; others are passed on as they are.
        let status = sent.answered.head.status;
        let shaped = cx.whole && (status.is_success() || cx.takes(status));
        if !shaped && cx.chosen.is_none() {
            return Reading::Done(pass(cx, sent.answered));
        }
        let came = media::kind(&media::essence(&sent.answered.head.headers));
        let other = cx.chosen.is_some()
            && came.is_some()
            && came != cx.chosen
            && !sent.answered.body.is_end_stream();
        if !shaped && !other {
            return Reading::Done(pass(cx, sent.answered));
        }
        if came.is_none() && !status.is_success() {
            // Of what is answered in place of what was asked for, only that it was answered.
            return Reading::Done(pass(cx, sent.answered));
        }
        let came = came.unwrap_or(speaks(cx));
        let (head, body) = (sent.answered.head, sent.answered.body);
        Reading::later(async move {
            let bytes = collect(body, cx.backend.idle, cx.share).await;
            if let (Ok(_), Some(lease)) = (&bytes, sent.answered.lease) {
                lease.give_back();
            }
            let bytes = bytes.and_then(|bytes| coding::decoded(&head.headers, bytes));
            whole(cx, head, came, other, bytes)
        })
    }
}

/// What keeps an answer from being one (RFC 9110 §15, RFC 9112 §6.3); what can be mended is.
fn unsound(answered: &mut Answered) -> Option<String> {
    let head = &mut answered.head;
    let status = head.status.as_u16();
    // Nothing was asked to switch, and interim answers are not final.
    if !(200..600).contains(&status) {
        answered.lease = None;
        return Some(format!("its status {status} is none of a final answer"));
    }
    let fields = &mut head.headers;
    if fields.contains_key(header::TRANSFER_ENCODING) && fields.contains_key(header::CONTENT_LENGTH)
    {
        // The chunks say how long it is, and whoever writes both may be trying something.
        fields.remove(header::CONTENT_LENGTH);
        answered.lease = None;
    }
    None
}

/// An answer that is none.
fn refused(cx: &Context<'_>, head: response::Parts, why: String) -> Read {
    Read {
        status: head.status,
        fields: shown_fields(cx, &head),
        seen: Seen::default(),
        notes: Vec::new(),
        answer: Err(Failure::Answer(why)),
    }
}

fn seen_of(cx: &Context<'_>, request: &Outgoing, streamed: bool) -> Seen {
    if !cx.keep {
        return Seen::default();
    }
    Seen {
        bytes: request.body.size_hint().exact().filter(|_| streamed),
        streamed,
        ..Seen::default()
    }
}

/// The answer goes through as it comes.
fn pass(cx: &Context<'_>, answered: Answered) -> Read {
    let (head, body) = (answered.head, answered.body);
    let lease = match answered.lease {
        Some(lease) if body.is_end_stream() => {
            lease.give_back();
            None
        }
        other => other,
    };
    let seen = Seen {
        bytes: body.size_hint().exact(),
        streamed: true,
        ..Seen::default()
    };
    let (status, fields) = (head.status, shown_fields(cx, &head));
    let through = Through {
        body,
        lease,
        idle: Some(Idle::new(cx.backend.idle)),
        ending: None,
    };
    let notes = if cx.keep {
        vec!["the answer streams through".into()]
    } else {
        Vec::new()
    };
    Read {
        status,
        fields,
        seen,
        notes,
        answer: Ok(Answer::Through(Passing {
            head,
            body: ReplyBody::Through(Box::new(through)),
            of_backend: true,
        })),
    }
}

/// Fields for whoever looks: they are not copied for nobody.
fn shown_fields(cx: &Context<'_>, head: &response::Parts) -> HeaderMap {
    if cx.keep {
        head.headers.clone()
    } else {
        HeaderMap::new()
    }
}

fn whole(
    cx: &Context<'_>,
    head: response::Parts,
    came: MediaType,
    other: bool,
    bytes: Result<Bytes, Failure>,
) -> Read {
    let mut notes = Vec::new();
    if let (true, Some(chosen)) = (other, cx.chosen) {
        notes.push(format!(
            "the answer's {} becomes {} by the generic mapping",
            media::name(came),
            media::name(chosen)
        ));
    }
    let reply = &cx.operation.reply;
    // What is changed in place, and nothing else, is read where that is done.
    let as_json = reply.is_changed && reply.body.is_none() && !reply.looks_into;
    let as_json = as_json && !other && came == MediaType::Json && coded_as_usual(&head.headers);
    let answer = match &bytes {
        Ok(bytes) if bytes.is_empty() => Ok(Content::Empty),
        Ok(bytes) if as_json => Ok(Content::Json(bytes.clone())),
        Ok(bytes) => value(cx, came, &head.headers, bytes).map(Content::Value),
        // What went wrong with the bytes is told in its place.
        Err(_) => Ok(Content::Empty),
    };
    let seen = Seen {
        body: bytes.as_ref().ok().filter(|_| cx.keep).map(|b| b.to_vec()),
        bytes: bytes.as_ref().ok().map(|b| b.len() as u64),
        ..Seen::default()
    };
    let (status, fields) = (head.status, head.headers);
    let answer = bytes.and(answer).map(|body| {
        Answer::Whole(Box::new(Whole {
            status,
            fields: fields.clone(),
            body,
            soap_headers: None,
            passed: Passed::All,
        }))
    });
    Read {
        status,
        fields,
        seen,
        notes,
        answer,
    }
}

/// Whether a text is in UTF-8, as all JSON between systems is (RFC 8259 §8.1).
fn coded_as_usual(headers: &HeaderMap) -> bool {
    let kind = headers.get(header::CONTENT_TYPE);
    let kind = kind.and_then(|v| v.to_str().ok()).unwrap_or_default();
    let kind = kind.to_ascii_lowercase();
    !kind.contains("charset") || kind.contains("utf-8")
}

fn value(
    cx: &Context<'_>,
    came: MediaType,
    headers: &HeaderMap,
    bytes: &Bytes,
) -> Result<Value, Failure> {
    if bytes.is_empty() {
        return Ok(Value::Null);
    }
    cx.share.read(bytes)?;
    let media = cx.operation.admission.media.as_ref();
    let own = cx.backend.xml.as_ref().or(media.map(|m| &m.mapping));
    media::parse(came, bytes, headers, &own.cloned().unwrap_or_default())
        .map_err(|why| Failure::Answer(format!("its body {why}")))
}
