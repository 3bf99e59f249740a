//! The stages of a gRPC call, from the caller's request to the reply.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::Method;
use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Response, StatusCode, header};
use hyper::body::Incoming;
use porch_facade::{
    CompiledBackend, CompiledOperation, CompiledPorch, GrpcWiring, MediaType, MessagePart, Wiring,
};

use super::answer::{self, Answer, Ended, Part};
use super::frames::frame;
use super::lines::{Complaint, Lines};
use super::prepare::{self, Unfit};
use super::stream::{Form, Messages};
use crate::admit;
use crate::exchange::{Exchange, Mode, Outcome, note_reply};
use crate::media;
use crate::pool::CallFailure;
use crate::prepare::forwarded_fields;
use crate::problem::Problem;
use crate::reply;
use crate::reply_body::ReplyBody;
use crate::request_body::{InBody, OutBody};
use crate::scope::Values;
use crate::trace::Message;

/// How long a stream's first message is waited for before the reply begins without it.
const FIRST: Duration = Duration::from_millis(500);
/// A trial run shows so many messages of a stream, and waits so long for them.
const SHOWN: u32 = 20;
const SHOWN_FOR: Duration = Duration::from_secs(5);

/// What a gRPC call needs of the request besides its values.
pub(crate) struct Asked<'a> {
    pub(crate) parts: &'a Parts,
    pub(crate) operation: u32,
    pub(crate) id: &'a str,
}

fn wiring_of(op: &CompiledOperation) -> Result<&GrpcWiring, Box<Problem>> {
    match &op.wiring {
        Wiring::Grpc(wiring) => Ok(wiring),
        _ => Err(crate::exchange::no_wiring(op)),
    }
}

/// A message as a trace shows it: its JSON, or why it has none.
fn shown(wiring: &GrpcWiring, id: porch_grpc::MessageId, wire: &[u8]) -> Vec<u8> {
    let mut json = Vec::new();
    match wiring.types.to_json(id, wire, wiring.json, &mut json) {
        Ok(()) => json,
        Err(e) => format!("({e})").into_bytes(),
    }
}

impl Exchange<'_> {
    pub(crate) async fn grpc(
        &mut self,
        porch: &Arc<CompiledPorch>,
        values: &mut Values<'_>,
        asked: &Asked<'_>,
        body: InBody,
    ) -> Outcome {
        let op = values.operation;
        let wiring = wiring_of(op)?;
        let backend = &porch.backends[op.backend];
        let within =
            prepare::deadline(values.headers).map_or(backend.timeout, |d| d.min(backend.timeout));
        let mut body = Some(body);
        let mut bytes = None;
        if !wiring.client_streaming
            && (wiring.reads_body || !matches!(wiring.body, MessagePart::None))
        {
            let taken = body.take().unwrap_or(InBody::Full(Bytes::new()));
            bytes = self.message_body(op, wiring, values, taken).await?;
        }
        let from = Instant::now();
        let query = asked.parts.uri.query().unwrap_or_default();
        let unfit = |e: Unfit| match e {
            Unfit::Mistakes(list) => admit::mistakes(list, op, "prepare"),
            Unfit::Problem(problem) => problem,
        };
        let prepared = prepare::bound(wiring, values, query)
            .map_err(unfit)
            .and_then(|bound| {
                if wiring.client_streaming {
                    return Ok((bound, Vec::new(), Vec::new()));
                }
                let kind = values
                    .headers
                    .get(header::CONTENT_TYPE)
                    .and_then(|v| v.to_str().ok())
                    .unwrap_or_default();
                let (wire, mask) = prepare::message(
                    wiring,
                    &bound,
                    bytes.as_deref(),
                    kind,
                    asked.parts.method == Method::PATCH,
                )
                .map_err(|list| admit::mistakes(list, op, "prepare"))?;
                if wire.len() > wiring.max_message {
                    return Err(admit::mistakes(
                        vec![(
                            "/body".into(),
                            format!(
                                "is a message of {} bytes, more than the {} that are allowed",
                                wire.len(),
                                wiring.max_message
                            ),
                        )],
                        op,
                        "prepare",
                    ));
                }
                Ok((bound, wire, mask))
            });
        let complaint: Complaint = Rc::new(RefCell::new(None));
        let prepared = prepared.map(|(bound, wire, mask)| {
            let out = if wiring.client_streaming {
                let first = [bound.query, bound.over].concat();
                let taken = body.take().unwrap_or(InBody::Full(Bytes::new()));
                OutBody::Lines(Box::new(Lines::new(
                    porch.clone(),
                    asked.operation,
                    taken,
                    first,
                    op.max_body.0 as usize,
                    complaint.clone(),
                )))
            } else {
                OutBody::Full(Some(frame(&wire, wiring.compress)))
            };
            let request = prepare::request(
                wiring,
                backend,
                values.headers,
                within,
                &self.traceparent,
                self.forwarded(values.headers),
                out,
            );
            (request, wire, mask)
        });
        self.recorder.stage("prepare", from, |s| {
            s.before = bytes.as_ref().map(|b| Message::default().body(b));
            match &prepared {
                Ok((request, wire, mask)) => {
                    if !mask.is_empty() {
                        s.notes.push(format!(
                            "no mask was sent: it is made of the members that were, {}",
                            mask.join(", ")
                        ));
                    }
                    let name = &wiring.types.message(wiring.input).name;
                    let message = Message::new(
                        format!("POST http://{}{}", backend.authority, request.uri()),
                        request.headers(),
                        "",
                    );
                    s.after = Some(if wiring.client_streaming {
                        s.notes.push(format!(
                            "each line becomes a message {name} of {} while it arrives",
                            wiring.method
                        ));
                        message.streamed(None).without(&backend.mask)
                    } else {
                        s.notes.push(format!(
                            "the message {name} of {} has {} bytes; shown is its JSON",
                            wiring.method,
                            wire.len()
                        ));
                        Message {
                            bytes: Some(wire.len() as u64),
                            ..message
                                .body(&shown(wiring, wiring.input, wire))
                                .without(&backend.mask)
                        }
                    });
                }
                Err(problem) => s.notes.push(problem.refusal.why.clone()),
            }
        });
        let (request, ..) = prepared?;
        let from = Instant::now();
        let until = tokio::time::Instant::now() + within;
        let sent = tokio::time::timeout_at(until, self.worker.channels.send(backend, request))
            .await
            .unwrap_or(Err(CallFailure::Timeout));
        let (head, incoming) = match sent {
            Ok(answer) => answer.into_parts(),
            Err(failure) => {
                if matches!(failure, CallFailure::Timeout) {
                    self.worker.channels.forget(backend);
                }
                let problem = match complaint.borrow_mut().take() {
                    Some(mistakes) => admit::mistakes(mistakes, op, "prepare"),
                    None => reply::call_failed(&failure, op, backend),
                };
                self.recorder
                    .stage("call", from, |s| s.notes.push(problem.refusal.why.clone()));
                return Err(problem);
            }
        };
        // A call that fails at once has its status among the header fields.
        let outright = answer::ended(&head.headers);
        let answer = Answer::new(head.status, &head.headers, incoming, wiring.max_message);
        let call = Call {
            op,
            wiring,
            backend,
            head: &head,
            from,
            until,
            complaint,
        };
        let answer = match (outright, answer) {
            (Some(ended), _) if head.status == StatusCode::OK => {
                return self.over(&call, Ok((None, ended)), values);
            }
            (_, Err(why)) => {
                self.recorder.stage("call", from, |s| {
                    s.after = Some(
                        Message::new(head.status.to_string(), &head.headers, "")
                            .without(&backend.mask),
                    )
                });
                return Err(answer::bad(op, why));
            }
            (_, Ok(answer)) => answer,
        };
        if wiring.server_streaming {
            return self.stream(porch, &call, answer, asked, values).await;
        }
        let result = match tokio::time::timeout_at(until, answer::only(answer)).await {
            Ok(result) => result.map_err(|why| answer::bad(op, why)),
            Err(_) => Err(reply::call_failed(&CallFailure::Timeout, op, backend)),
        };
        self.over(&call, result, values)
    }

    /// The caller's body, when the message needs it.
    async fn message_body(
        &mut self,
        op: &CompiledOperation,
        wiring: &GrpcWiring,
        values: &mut Values<'_>,
        body: InBody,
    ) -> Result<Option<Bytes>, Box<Problem>> {
        let bytes = self.read(op, body).await?;
        if bytes.is_empty() {
            if op.body_required && !wiring.raw_body {
                return Err(admit::mistakes(
                    vec![("/body".into(), "must be there".into())],
                    op,
                    "admit",
                ));
            }
            return Ok(None);
        }
        if !wiring.raw_body {
            let essence = media::essence(values.headers);
            // Whoever says nothing means JSON.
            if !essence.is_empty() && media::kind(&essence) != Some(MediaType::Json) {
                return Err(Problem::new(
                    415,
                    "media-type",
                    "Media type not understood",
                    format!("Send application/json; {essence} came."),
                    "admit",
                )
                .by(&op.place)
                .header(header::ACCEPT, "application/json"));
            }
        }
        if wiring.reads_body {
            let value = serde_json::from_slice(&bytes).map_err(|e| {
                admit::mistakes(
                    vec![("/body".into(), format!("is no JSON: {e}"))],
                    op,
                    "admit",
                )
            })?;
            values.body = Some(value);
        }
        Ok(Some(bytes))
    }

    /// A call that is over: its one message, or its failure.
    fn over(
        &mut self,
        call: &Call<'_>,
        result: Result<(Option<Bytes>, Ended), Box<Problem>>,
        values: &mut Values<'_>,
    ) -> Outcome {
        let (op, wiring) = (call.op, call.wiring);
        self.recorder.stage("call", call.from, |s| {
            let mut message = Message::new(call.head.status.to_string(), &call.head.headers, "");
            match &result {
                Ok((answer, ended)) => {
                    s.notes.push(format!(
                        "the call ended with {} ({})",
                        porch_grpc::status::code_name(ended.code),
                        ended.code
                    ));
                    let behind = Message::new(String::new(), &ended.trailers, "").headers;
                    message.headers.extend(
                        behind
                            .into_iter()
                            .filter(|h| !call.head.headers.contains_key(&h.0)),
                    );
                    if let Some(wire) = answer {
                        s.notes.push(format!(
                            "the message {} has {} bytes; shown is its JSON",
                            wiring.types.message(wiring.output).name,
                            wire.len()
                        ));
                        message = Message {
                            bytes: Some(wire.len() as u64),
                            ..message.body(&shown(wiring, wiring.output, wire))
                        };
                    }
                }
                Err(problem) => s.notes.push(problem.refusal.why.clone()),
            }
            s.after = Some(message.without(&call.backend.mask));
        });
        if let Some(mistakes) = call.complaint.borrow_mut().take() {
            return Err(admit::mistakes(mistakes, op, "prepare"));
        }
        let (answer, ended) = result?;
        let from = Instant::now();
        if ended.code != 0 {
            let mut problem = answer::failed(&ended, op, wiring);
            problem.headers.extend(metadata(wiring, &ended.trailers));
            self.recorder
                .stage("reply", from, |s| s.notes.push(problem.refusal.why.clone()));
            return Err(problem);
        }
        let Some(wire) = answer else {
            return Err(answer::bad(op, "it ended well, but without a message"));
        };
        let made = self.made(call, &wire, values);
        self.recorder.stage("reply", from, |s| note_reply(s, &made));
        let (kind, bytes) = made?;
        let mut response = Response::new(ReplyBody::Full(Some(bytes)));
        if let Ok(kind) = HeaderValue::from_str(&kind) {
            response.headers_mut().insert(header::CONTENT_TYPE, kind);
        }
        for (name, value) in
            metadata(wiring, &call.head.headers).chain(metadata(wiring, &ended.trailers))
        {
            response.headers_mut().append(name, value);
        }
        Ok(response)
    }

    /// Content type and body of a reply with one message.
    fn made(
        &self,
        call: &Call<'_>,
        wire: &[u8],
        values: &mut Values<'_>,
    ) -> Result<(String, Bytes), Box<Problem>> {
        let (op, wiring) = (call.op, call.wiring);
        if wiring.raw_response && wiring.reply.is_none() {
            let (kind, data) = answer::raw(wiring, wire).map_err(|why| answer::bad(op, why))?;
            return Ok((
                if kind.is_empty() {
                    "application/octet-stream".into()
                } else {
                    kind
                },
                data,
            ));
        }
        let json = answer::to_json(wiring, wire).map_err(|why| answer::bad(op, why))?;
        let bytes = match &wiring.reply {
            None => Bytes::from(json),
            Some(template) => reply::shape(
                template,
                values,
                StatusCode::OK,
                &call.head.headers,
                reply::json_of(&json, op)?,
                None,
            )?,
        };
        let bytes = self.in_chosen_type(op, bytes)?;
        Ok((
            media::name(self.chosen.unwrap_or(MediaType::Json)).into(),
            bytes,
        ))
    }

    /// A reply that is sent while its messages come.
    async fn stream(
        &mut self,
        porch: &Arc<CompiledPorch>,
        call: &Call<'_>,
        mut answer: Answer,
        asked: &Asked<'_>,
        values: &mut Values<'_>,
    ) -> Outcome {
        let (op, wiring) = (call.op, call.wiring);
        // Failures before the first message have a status of their own; a stream that is silent for long begins without.
        let until = call.until.min(tokio::time::Instant::now() + FIRST);
        let first = match tokio::time::timeout_at(until, answer.next()).await {
            Ok(Ok(Part::Ended(ended))) if ended.code != 0 => {
                return self.over(call, Ok((None, ended)), values);
            }
            Ok(Err(why)) => return self.over(call, Err(answer::bad(op, why)), values),
            Ok(Ok(part)) => Some(part),
            Err(_) => None,
        };
        self.recorder.stage("call", call.from, |s| {
            let message = Message::new(call.head.status.to_string(), &call.head.headers, "");
            s.after = Some(match &first {
                Some(Part::Message(wire)) => {
                    s.notes.push(format!(
                        "the first message {} has {} bytes; shown is its JSON",
                        wiring.types.message(wiring.output).name,
                        wire.len()
                    ));
                    Message {
                        bytes: Some(wire.len() as u64),
                        ..message
                            .body(&shown(wiring, wiring.output, wire))
                            .without(&call.backend.mask)
                    }
                }
                _ => message,
            });
        });
        let form = Form::of(
            values.headers,
            wiring.raw_response && wiring.reply.is_none(),
        );
        let trial = self.mode == Mode::Trial;
        self.recorder.stage("reply", Instant::now(), |s| {
            s.notes.push(format!(
                "each message is sent on as it comes, as {}",
                form.content_type()
            ));
            if trial {
                s.notes.push(format!(
                    "a trial run shows at most {SHOWN} messages, and waits {} seconds for them",
                    SHOWN_FOR.as_secs()
                ));
            }
        });
        let mut kind = form.content_type().to_owned();
        let complaint = wiring.client_streaming.then(|| call.complaint.clone());
        let mut messages = Box::new(Messages::new(
            porch.clone(),
            asked.operation,
            answer,
            form,
            asked.id.to_owned(),
            complaint,
        ));
        if trial {
            messages = messages.bounded(SHOWN, SHOWN_FOR);
        }
        let body = match first {
            Some(Part::Message(wire)) => {
                if form == Form::Raw
                    && let Ok((own, _)) = answer::raw(wiring, &wire)
                    && !own.is_empty()
                {
                    kind = own;
                }
                ReplyBody::Messages(messages.starting_with(&wire))
            }
            // It ended well before the first message.
            Some(Part::Ended(_)) => ReplyBody::Full(None),
            None => ReplyBody::Messages(messages),
        };
        let mut response = Response::new(body);
        if let Ok(kind) = HeaderValue::from_str(&kind) {
            response.headers_mut().insert(header::CONTENT_TYPE, kind);
        }
        response
            .headers_mut()
            .insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        if form != Form::Raw {
            response
                .headers_mut()
                .insert(header::VARY, HeaderValue::from_static("accept"));
        }
        for (name, value) in metadata(wiring, &call.head.headers) {
            response.headers_mut().append(name, value);
        }
        Ok(response)
    }

    /// A native call: passed through as it comes, both ways.
    pub(crate) async fn native(
        &mut self,
        porch: &Arc<CompiledPorch>,
        op: &CompiledOperation,
        parts: &Parts,
        body: InBody,
    ) -> Outcome {
        let wiring = wiring_of(op)?;
        let (backend, facade) = (&porch.backends[op.backend], &porch.facades[op.facade]);
        let from = Instant::now();
        let within =
            prepare::deadline(&parts.headers).map_or(backend.timeout, |d| d.min(backend.timeout));
        let left = if wiring.client_streaming {
            u64::MAX
        } else {
            op.max_body.0
        };
        let out = match body {
            InBody::Incoming(body) => OutBody::Stream { body, left },
            InBody::Full(bytes) => OutBody::Full(Some(bytes)),
        };
        let mut request = prepare::request(
            wiring,
            backend,
            &HeaderMap::new(),
            within,
            &self.traceparent,
            self.forwarded(&parts.headers),
            out,
        );
        let own = std::mem::take(request.headers_mut());
        let mut headers = forwarded_fields(&parts.headers, &facade.key_header, own.len());
        for (name, value) in &own {
            // How its messages are compressed is between the caller and the backend.
            if !matches!(
                name.as_str(),
                "content-type" | "grpc-accept-encoding" | "grpc-encoding"
            ) {
                headers.insert(name.clone(), value.clone());
            }
        }
        *request.headers_mut() = headers;
        self.recorder.stage("prepare", from, |s| {
            s.notes.push(format!(
                "a native call of {}: passed through as it comes",
                wiring.method
            ));
            s.after = Some(
                Message::new(
                    format!("POST http://{}{}", backend.authority, request.uri()),
                    request.headers(),
                    "",
                )
                .streamed(None)
                .without(&backend.mask),
            );
        });
        let from = Instant::now();
        let sent = tokio::time::timeout(within, self.worker.channels.send(backend, request))
            .await
            .unwrap_or(Err(CallFailure::Timeout));
        let (mut head, incoming): (_, Incoming) = match sent {
            Ok(answer) => answer.into_parts(),
            Err(failure) => {
                let problem = reply::call_failed(&failure, op, backend);
                self.recorder
                    .stage("call", from, |s| s.notes.push(problem.refusal.why.clone()));
                return Err(problem);
            }
        };
        self.recorder.stage("call", from, |s| {
            s.after = Some(Message::new(head.status.to_string(), &head.headers, "").streamed(None))
        });
        reply::pass_on(&mut head.headers, backend, facade);
        Ok(Response::from_parts(
            head,
            ReplyBody::Native {
                body: incoming,
                ending: None,
            },
        ))
    }
}

/// A call whose answer has begun.
struct Call<'a> {
    op: &'a CompiledOperation,
    wiring: &'a GrpcWiring,
    backend: &'a CompiledBackend,
    head: &'a http::response::Parts,
    from: Instant,
    until: tokio::time::Instant,
    complaint: Complaint,
}

/// The metadata that is passed back; bytes stay as they are, in base64.
fn metadata<'a>(
    wiring: &'a GrpcWiring,
    from: &'a HeaderMap,
) -> impl Iterator<Item = (HeaderName, HeaderValue)> + 'a {
    let fields = wiring.metadata_back.iter().flat_map(|name| {
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
