//! SOAP calls.

mod fault;
mod prepare;
mod read;
mod stream;

use std::any::Any;

use bytes::Bytes;
use http::{HeaderMap, HeaderValue, Response, StatusCode, header, response};
use porch_facade::MediaType;
use porch_facade::kind::soap::{NAME, SoapCall};
use porch_soap::Answer as Answered;

use self::read::{Answering, SoapRead};
use super::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent};
use crate::answer::{Answer, Content, Passed, Passing, Seen, Whole};
use crate::body::{InBody, ReplyBody};
use crate::failure::Failure;
use crate::media;

pub(crate) struct Soap;

fn call_of<'a>(cx: &Context<'a>) -> Result<&'a SoapCall, Failure> {
    let call: &dyn Any = &**cx.call;
    call.downcast_ref()
        .ok_or_else(|| Failure::Answer("it is no SOAP call".into()))
}

impl Protocol for Soap {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn needs(&self, cx: &Context<'_>, _: &InBody) -> Needs {
        let Ok(call) = call_of(cx) else {
            return Needs::Nothing;
        };
        let json = media::kind(&media::essence(&cx.parts.headers)) == Some(MediaType::Json);
        // A body that is only converted needs no value in between.
        if call.direct && json {
            Needs::Json { value: false }
        } else if call.reads_body {
            Needs::Value
        } else {
            Needs::Nothing
        }
    }

    fn prepare(&self, cx: &Context<'_>, body: CallerBody) -> Result<Prepared, Failure> {
        prepare::prepare(call_of(cx)?, cx, &body)
    }

    fn read<'a>(&'a self, cx: &'a Context<'a>, sent: Sent) -> Reading<'a> {
        // What is taken in stands in the future once; what is moved within it stands twice.
        let (head, mut body, mut lease) = {
            let answered = sent.answered;
            (answered.head, Some(answered.body), answered.lease)
        };
        let call = match call_of(cx) {
            Ok(call) => call,
            Err(failure) => return Reading::Done(read(head, Seen::default(), Err(failure))),
        };
        Reading::later(async move {
            let mut answering = Answering::new(cx, call, head.status, &head.headers);
            let came = answering.read(&head.headers, &mut body, &mut lease).await;
            let seen = Seen {
                body: Some(std::mem::take(&mut answering.seen)),
                bytes: Some(answering.bytes),
                ..Seen::default()
            };
            if let (true, Some(lease)) = (came.is_ok(), lease.take()) {
                lease.give_back();
            }
            let notes = came.as_ref().map(noted).unwrap_or_default();
            let answer = came.and_then(|came| answer(cx, call, came, &head.headers));
            Read {
                notes,
                ..read(head, seen, answer)
            }
        })
    }
}

fn read(head: response::Parts, seen: Seen, answer: Result<Answer, Failure>) -> Read {
    Read {
        status: head.status,
        fields: head.headers,
        seen,
        notes: Vec::new(),
        answer,
    }
}

fn noted(read: &SoapRead) -> Vec<String> {
    let tolerated = read.notes.iter().map(|n| format!("tolerated: {n}"));
    let large = "the answer is large: it is converted while it streams through";
    let streams = read.rest.is_some().then(|| large.to_owned());
    tolerated.chain(streams).collect()
}

fn answer(
    cx: &Context<'_>,
    call: &SoapCall,
    read: SoapRead,
    fields: &HeaderMap,
) -> Result<Answer, Failure> {
    if let Some(rest) = read.rest {
        let json = HeaderValue::from_static(media::name(MediaType::Json));
        let mut response = Response::new(());
        response.headers_mut().insert(header::CONTENT_TYPE, json);
        return Ok(Answer::Through(Passing {
            head: response.into_parts().0,
            body: ReplyBody::made(rest),
            of_backend: false,
        }));
    }
    let (status, body) = match read.answer {
        Answered::Fault(fault) => return Err(fault::told(cx, &fault, &read.json)),
        Answered::Empty if cx.whole => (StatusCode::OK, Content::Empty),
        Answered::Empty if call.answer.one_way => (StatusCode::ACCEPTED, Content::Empty),
        Answered::Empty => (StatusCode::NO_CONTENT, Content::Empty),
        Answered::Body if call.answer.nothing && !cx.whole => {
            (StatusCode::NO_CONTENT, Content::Empty)
        }
        Answered::Body => (StatusCode::OK, Content::Json(Bytes::from(read.json))),
    };
    let headers = read.headers.as_deref();
    Ok(Answer::Whole(Box::new(Whole {
        status,
        fields: if cx.whole {
            fields.clone()
        } else {
            HeaderMap::new()
        },
        body,
        soap_headers: headers.and_then(|h| serde_json::from_slice(h).ok()),
        passed: Passed::None,
    })))
}
