//! gRPC calls: with one message or many, either way, and native callers who are let through.

pub(crate) mod answer;
mod failed;
mod frames;
mod gathered;
mod lines;
mod native;
mod prepare;
mod stream;

use std::any::Any;
use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, Method, Response, StatusCode, header, response};
use porch_facade::kind::grpc::{GrpcCall, MessagePart, NAME};

use self::answer::{Ended, Part};
use self::frames::frame;
use self::stream::Stream;
pub(crate) use native::{is_native, refusal};

use super::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent};
use crate::answer::{Answer, Content, Passed, Passing, Seen, Whole};
use crate::backend::{Answered, CallFailure};
use crate::body::{Idle, InBody, OutBody, ReplyBody, Through};
use crate::call::messages::{Form, Messages};
use crate::failure::Complaint;
use crate::failure::Failure;
use crate::fields;

/// How long a stream's first message is waited for before the reply begins without it.
const FIRST: Duration = Duration::from_millis(500);
/// A trial run shows so many messages of a stream, and waits so long for them.
const SHOWN: u32 = 20;
const SHOWN_FOR: Duration = Duration::from_secs(5);

pub(crate) struct Grpc;

fn call_of(cx: &Context<'_>) -> Result<Arc<GrpcCall>, Failure> {
    let call: Arc<dyn Any + Send + Sync> = cx.call.clone();
    call.downcast()
        .map_err(|_| Failure::Answer("it is no gRPC call".into()))
}

/// A message as a trace shows it: its JSON, or why it has none.
fn shown(call: &GrpcCall, id: porch_grpc::MessageId, wire: &[u8]) -> Vec<u8> {
    let mut json = Vec::new();
    match call.types.to_json(id, wire, call.json, &mut json) {
        Ok(()) => json,
        Err(e) => format!("({e})").into_bytes(),
    }
}

impl Protocol for Grpc {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn needs(&self, cx: &Context<'_>, _: &InBody) -> Needs {
        match call_of(cx) {
            Ok(call) if cx.native || call.client_streaming => Needs::Stream,
            Ok(call) if call.raw_body => Needs::Raw,
            Ok(call) if call.reads_body || !matches!(call.body, MessagePart::None) => Needs::Json {
                value: call.reads_body,
            },
            _ => Needs::Nothing,
        }
    }

    fn prepare(&self, cx: &Context<'_>, body: CallerBody) -> Result<Prepared, Failure> {
        let call = call_of(cx)?;
        let timeout = cx.backend.timeout;
        let within = prepare::deadline(&cx.parts.headers).map_or(timeout, |d| d.min(timeout));
        if cx.native {
            return native::prepare(&call, cx, within, body);
        }
        let query = cx.parts.uri.query().filter(|_| !call.own);
        let query = query.unwrap_or_default();
        let bound = prepare::bound(&call, cx.scope, query)?;
        if call.client_streaming {
            lines(call, cx, within, bound, body)
        } else {
            one_message(&call, cx, within, &bound, &body)
        }
    }

    fn read<'a>(&'a self, cx: &'a Context<'a>, sent: Sent) -> Reading<'a> {
        let call = match call_of(cx) {
            Ok(call) => call,
            Err(failure) => return Reading::Done(bare(sent.answered.head, Err(failure))),
        };
        if cx.native {
            let silence = (!call.client_streaming).then_some(cx.backend.idle);
            return Reading::Done(passed(sent.answered, silence));
        }
        let Sent {
            answered,
            until,
            complaint,
        } = sent;
        let (head, body, lease) = (answered.head, answered.body, answered.lease);
        // A call that fails at once has its status among the header fields.
        if let Some(ended) = answer::ended(&head.headers)
            && head.status == StatusCode::OK
        {
            if cx.gathers().is_some() && call.server_streaming {
                return Reading::Done(gathered::none(&call, cx, head, ended));
            }
            return Reading::Done(over(&call, cx, head, complaint, Ok((None, ended))));
        }
        let most = call.max_message;
        let mut answer = match answer::Answer::new(&head, (body, lease), most) {
            Ok(answer) => answer,
            Err(wrong) => return Reading::Done(bare(head, Err(wrong.into()))),
        };
        if let (true, Some(of)) = (call.server_streaming, cx.gathers()) {
            return Reading::later(gathered::gathered(call, cx, head, answer, (until, of)));
        }
        if call.server_streaming {
            return Reading::later(stream(call, cx, head, answer, (until, complaint)));
        }
        // What is taken in stands in the future once; what is moved within it stands twice.
        Reading::later(async move {
            let result = match tokio::time::timeout_at(until, answer::only(&mut answer)).await {
                Ok(result) => result.map_err(Failure::from),
                Err(_) => Err(Failure::Call(CallFailure::Timeout)),
            };
            over(&call, cx, head, complaint, result)
        })
    }
}

/// A request with one message.
fn one_message(
    call: &GrpcCall,
    cx: &Context<'_>,
    within: Duration,
    bound: &prepare::Bound,
    body: &CallerBody,
) -> Result<Prepared, Failure> {
    let kind = fields::text(&cx.parts.headers, &header::CONTENT_TYPE);
    let patch = cx.parts.method == Method::PATCH;
    let body = body.bytes().filter(|b| !b.is_empty());
    let (wire, mask) = prepare::message(call, bound, body.map(Bytes::as_ref), kind, patch)
        .map_err(Failure::Mistakes)?;
    if wire.len() > call.max_message {
        return Err(Failure::body(format!(
            "is a message of {} bytes, more than the {} that are allowed",
            wire.len(),
            call.max_message
        )));
    }
    let mut seen = Seen::default();
    if cx.keep {
        if !mask.is_empty() {
            seen.notes.push(format!(
                "no mask was sent: it is made of the members that were, {}",
                mask.join(", ")
            ));
        }
        seen.notes.push(format!(
            "the message {} of {} has {} bytes; shown is its JSON",
            call.types.message(call.input).name,
            call.method,
            wire.len()
        ));
        seen.body = Some(shown(call, call.input, &wire));
        seen.bytes = Some(wire.len() as u64);
    }
    let out = OutBody::Full(Some(frame(&wire, call.compress)));
    Ok(Prepared {
        request: prepare::request(call, cx, within, out)?,
        within,
        again: false,
        complaint: None,
        seen,
    })
}

/// A request whose lines become messages while they arrive.
fn lines(
    call: Arc<GrpcCall>,
    cx: &Context<'_>,
    within: Duration,
    bound: prepare::Bound,
    body: CallerBody,
) -> Result<Prepared, Failure> {
    let complaint: Complaint = Rc::new(RefCell::new(None));
    let first = [bound.query, bound.over].concat();
    let taken = match body {
        CallerBody::Unread(body) => body,
        CallerBody::Bytes(bytes) => InBody::Full(bytes),
        CallerBody::Gone => InBody::Full(Bytes::new()),
    };
    let most = usize::try_from(cx.operation.admission.max_body).unwrap_or(usize::MAX);
    let lines = lines::Lines::new(call.clone(), taken, first, most, complaint.clone());
    let mut seen = Seen {
        streamed: true,
        ..Seen::default()
    };
    if cx.keep {
        seen.notes.push(format!(
            "each line becomes a message {} of {} while it arrives",
            call.types.message(call.input).name,
            call.method
        ));
    }
    Ok(Prepared {
        request: prepare::request(&call, cx, within, OutBody::Made(Box::new(lines)))?,
        within,
        again: false,
        complaint: Some(complaint),
        seen,
    })
}

fn bare(head: response::Parts, answer: Result<Answer, Failure>) -> Read {
    Read {
        status: head.status,
        fields: head.headers,
        seen: Seen::default(),
        notes: Vec::new(),
        answer,
    }
}

/// A native answer: passed through as it comes, trailers included, until it is silent for too long where only it speaks.
fn passed(answered: Answered, silence: Option<Duration>) -> Read {
    let (status, fields) = (answered.head.status, answered.head.headers.clone());
    let through = Through {
        body: answered.body,
        lease: answered.lease,
        idle: silence.map(Idle::new),
        ending: None,
    };
    let passing = Passing {
        head: answered.head,
        body: ReplyBody::Through(Box::new(through)),
        of_backend: true,
    };
    Read {
        status,
        fields,
        seen: Seen {
            streamed: true,
            ..Seen::default()
        },
        notes: Vec::new(),
        answer: Ok(Answer::Through(passing)),
    }
}

/// A call that is over: its one message, or its failure.
fn over(
    call: &GrpcCall,
    cx: &Context<'_>,
    head: response::Parts,
    complaint: Option<Complaint>,
    result: Result<(Option<Bytes>, Ended), Failure>,
) -> Read {
    let mut seen = Seen::default();
    if let (true, Ok((message, ended))) = (cx.keep, &result) {
        seen.notes.push(format!(
            "the call ended with {} ({})",
            porch_grpc::status::code_name(ended.code),
            ended.code
        ));
        let mut fields = head.headers.clone();
        for (name, value) in &ended.trailers {
            if !head.headers.contains_key(name) {
                fields.append(name.clone(), value.clone());
            }
        }
        seen.fields = Some(fields);
        if let Some(wire) = message {
            note_message(call, wire, "the message", &mut seen);
        }
    }
    let complaint = complaint.and_then(|c| c.borrow_mut().take());
    let answer = match (complaint, result) {
        (Some(complaint), _) => Err(complaint),
        (None, Err(failure)) => Err(failure),
        (None, Ok((_, ended))) if ended.code != 0 => Err(failed::told(call, cx.faults, &ended)),
        // A stream may be empty.
        (None, Ok((None, _))) if call.server_streaming => Ok(no_messages(call, cx, &head.headers)),
        (None, Ok((None, _))) => {
            let why = "it ended well, but without a message";
            Err(Failure::Answer(why.into()))
        }
        (None, Ok((Some(wire), ended))) => whole(call, cx, &head.headers, &wire, &ended.trailers),
    };
    Read {
        status: head.status,
        fields: head.headers,
        seen,
        notes: Vec::new(),
        answer,
    }
}

/// A stream that ended well before its first message.
fn no_messages(call: &GrpcCall, cx: &Context<'_>, headers: &HeaderMap) -> Answer {
    let form = Form::of(&cx.parts.headers, call.raw_response && !cx.whole);
    Answer::Through(Passing {
        head: stream_head(call, headers, form.content_type(), form),
        body: ReplyBody::Full(None),
        of_backend: false,
    })
}

fn note_message(call: &GrpcCall, wire: &[u8], which: &str, seen: &mut Seen) {
    let name = &call.types.message(call.output).name;
    seen.notes.push(format!(
        "{which} {name} has {} bytes; shown is its JSON",
        wire.len()
    ));
    seen.body = Some(shown(call, call.output, wire));
    seen.bytes = Some(wire.len() as u64);
}

fn whole(
    call: &GrpcCall,
    cx: &Context<'_>,
    headers: &HeaderMap,
    wire: &Bytes,
    trailers: &HeaderMap,
) -> Result<Answer, Failure> {
    let body = if call.raw_response && !cx.whole {
        let (kind, data) = answer::raw(call, wire)?;
        let kind = if kind.is_empty() {
            "application/octet-stream".into()
        } else {
            kind
        };
        Content::Raw(kind, data)
    } else {
        let json = answer::to_json(call, wire)?;
        cx.share.gather(json.len())?;
        Content::Json(json.into())
    };
    let passed = metadata(call, headers).chain(metadata(call, trailers));
    Ok(Answer::Whole(Box::new(Whole {
        status: StatusCode::OK,
        fields: if cx.whole {
            headers.clone()
        } else {
            HeaderMap::new()
        },
        body,
        soap_headers: None,
        passed: Passed::These(passed.collect()),
    })))
}

/// A reply that is sent while its messages come.
async fn stream(
    call: Arc<GrpcCall>,
    cx: &Context<'_>,
    head: response::Parts,
    mut answer: answer::Answer,
    (until, complaint): (tokio::time::Instant, Option<Complaint>),
) -> Read {
    // Failures before the first message have a status of their own; a stream that is silent for long begins without.
    let first_until = until.min(tokio::time::Instant::now() + FIRST);
    let first = match tokio::time::timeout_at(first_until, answer.next()).await {
        Ok(Ok(Part::Ended(ended))) if ended.code != 0 => {
            return over(&call, cx, head, complaint, Ok((None, ended)));
        }
        Ok(Err(wrong)) => return over(&call, cx, head, complaint, Err(wrong.into())),
        Ok(Ok(part)) => Some(part),
        Err(_) => None,
    };
    let mut seen = Seen::default();
    if let (true, Some(Part::Message(wire))) = (cx.keep, &first) {
        note_message(&call, wire, "the first message", &mut seen);
    }
    let raw = call.raw_response && !cx.whole;
    let form = Form::of(&cx.parts.headers, raw);
    let mut kind = form.content_type().to_owned();
    if let (Form::Raw, Some(Part::Message(wire))) = (form, &first)
        && let Ok((own, _)) = answer::raw(&call, wire)
        && !own.is_empty()
    {
        kind = own;
    }
    let idle = (!call.client_streaming).then(|| Idle::new(cx.backend.idle));
    let source = Stream {
        call: call.clone(),
        answer,
        form,
        tell: cx.tell.clone(),
        complaint,
        idle,
    };
    let body = body_of(source, cx, first);
    let passing = Passing {
        head: stream_head(&call, &head.headers, &kind, form),
        body,
        of_backend: false,
    };
    Read {
        status: head.status,
        fields: head.headers,
        seen,
        notes: stream_notes(cx, form),
        answer: Ok(Answer::Through(passing)),
    }
}

fn body_of(source: Stream, cx: &Context<'_>, first: Option<Part>) -> ReplyBody {
    let first = match first {
        // It ended well before the first message.
        Some(Part::Ended(_)) => return ReplyBody::Full(None),
        Some(Part::Message(wire)) => Some(source.made(&wire)),
        None => None,
    };
    let (form, tell) = (source.form, source.tell.clone());
    let mut messages = Messages::new(Box::new(source), form, tell);
    if cx.trial {
        messages = messages.bounded(SHOWN, SHOWN_FOR);
    }
    ReplyBody::made(Box::new(match first {
        Some(first) => messages.starting_with(first),
        None => messages,
    }))
}

fn stream_notes(cx: &Context<'_>, form: Form) -> Vec<String> {
    if !cx.keep {
        return Vec::new();
    }
    let mut notes = vec![format!(
        "each message is sent on as it comes, as {}",
        form.content_type()
    )];
    if cx.trial {
        notes.push(format!(
            "a trial run shows at most {SHOWN} messages, and waits {} seconds for them",
            SHOWN_FOR.as_secs()
        ));
    }
    notes
}

fn stream_head(call: &GrpcCall, headers: &HeaderMap, kind: &str, form: Form) -> response::Parts {
    let mut response = Response::new(());
    let own = response.headers_mut();
    if let Ok(kind) = HeaderValue::from_str(kind) {
        own.insert(header::CONTENT_TYPE, kind);
    }
    own.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    if form != Form::Raw {
        own.insert(header::VARY, HeaderValue::from_static("accept"));
    }
    for (name, value) in metadata(call, headers) {
        own.append(name, value);
    }
    response.into_parts().0
}

/// The metadata that is passed back; bytes stay as they are, in base64.
fn metadata<'a>(
    call: &'a GrpcCall,
    from: &'a HeaderMap,
) -> impl Iterator<Item = (HeaderName, HeaderValue)> + 'a {
    let fields = call.metadata_back.iter().flat_map(|name| {
        from.get_all(name)
            .into_iter()
            .map(move |value| (name.clone(), value.clone()))
    });
    fields.filter(|(name, value)| {
        !name.as_str().ends_with("-bin")
            || value
                .to_str()
                .is_ok_and(|v| porch_grpc::status::binary(v).is_some())
    })
}
