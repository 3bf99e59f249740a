//! The stages of an HTTP call, from the caller's request to the reply.

use std::time::Instant;

use bytes::Bytes;
use http::request::Parts;
use http::{HeaderValue, Response, header};
use http_body::Body;
use porch_facade::{CompiledPorch, Wiring};
use serde_json::Value;

use crate::exchange::{Exchange, Outcome, no_wiring, note_reply};
use crate::media;
use crate::prepare::{self, Asked, Common};
use crate::reply;
use crate::reply_body::{ReplyBody, StreamBody};
use crate::request_body::{InBody, OutBody};
use crate::scope::Values;
use crate::trace::Message;

impl Exchange<'_> {
    pub(crate) async fn http(
        &mut self,
        porch: &CompiledPorch,
        values: &mut Values<'_>,
        captured: &[&str],
        parts: &Parts,
        body: InBody,
    ) -> Outcome {
        let op = values.operation;
        let Wiring::Http(wiring) = &op.wiring else {
            return Err(no_wiring(op));
        };
        let (backend, facade) = (&porch.backends[op.backend], &porch.facades[op.facade]);
        let mut body = Some(body);
        let given = media::kind(&media::essence(&parts.headers));
        // A body in another media type than the backend's is converted; one of no known type is not touched.
        let convert = op.media.is_some()
            && wiring.body.is_none()
            && body.as_ref().is_some_and(|b| b.length() != Some(0))
            && given.is_some_and(|k| k != prepare::speaks(wiring));
        if wiring.reads_body || convert {
            let taken = body.take().unwrap_or(InBody::Full(Bytes::new()));
            values.body = self.read_value(op, values.headers, taken).await?;
        }
        let from = Instant::now();
        let traceparent = self.traceparent.clone();
        let forwarded = self.forwarded(&parts.headers);
        let make = |values: &Values<'_>| {
            let common = Common {
                backend,
                traceparent: &traceparent,
                forwarded: forwarded.clone(),
            };
            prepare::http_request(
                wiring,
                &common,
                values,
                &Asked {
                    parts,
                    captured,
                    key_header: &facade.key_header,
                    convert,
                },
            )
        };
        let mut request = make(values)?;
        let streamed = match (matches!(request.body(), OutBody::Empty), body.take()) {
            (true, Some(InBody::Incoming(incoming))) if !incoming.is_end_stream() => {
                *request.body_mut() = OutBody::Stream {
                    body: incoming,
                    left: op.max_body.0,
                };
                true
            }
            (true, Some(InBody::Full(bytes))) if !bytes.is_empty() => {
                *request.body_mut() = OutBody::Full(Some(bytes));
                true
            }
            _ => false,
        };
        self.recorder.stage("prepare", from, |s| {
            let message = Message::new(
                format!(
                    "{} http://{}{}",
                    request.method(),
                    backend.authority,
                    request.uri()
                ),
                request.headers(),
                "",
            )
            .without(&backend.mask);
            s.after = Some(if streamed {
                message.streamed(request.body().size_hint().exact())
            } else {
                message
            });
        });
        // A request without a body whose method is safe (RFC 9110 §9.2.1) may be sent again.
        let safe = !streamed && wiring.body.is_none() && request.method().is_safe();
        let (answer, lease, from) = self
            .call(op, backend, request, || {
                if safe { make(values).ok() } else { None }
            })
            .await?;
        let (mut head, incoming) = answer.into_parts();
        let came = media::kind(&media::essence(&head.headers));
        let other = self.chosen.is_some()
            && came.is_some()
            && came != self.chosen
            && !incoming.is_end_stream();
        // What a reply makes of an answer is for answers that succeeded; others are passed on as they are.
        let template = wiring.reply.as_ref().filter(|_| head.status.is_success());
        if template.is_some() || other {
            let bytes = reply::collect(incoming, backend.timeout, op).await?;
            lease.give_back();
            self.recorder.stage("call", from, |s| {
                s.after = Some(
                    Message::new(head.status.to_string(), &head.headers, "")
                        .body(&bytes)
                        .without(&backend.mask),
                )
            });
            let from = Instant::now();
            let own = wiring
                .xml
                .as_ref()
                .or(op.media.as_ref().map(|m| &m.mapping))
                .cloned()
                .unwrap_or_default();
            let came = came.unwrap_or(prepare::speaks(wiring));
            let value = if bytes.is_empty() {
                Ok(Value::Null)
            } else {
                media::parse(came, &bytes, &head.headers, &own)
                    .map_err(|why| reply::bad_answer(op, format!("its body {why}")))
            };
            let outcome = match (template, value) {
                (_, Err(problem)) => Err(problem),
                (Some(template), Ok(value)) => {
                    reply::shape(template, values, head.status, &head.headers, value, None)
                }
                (None, Ok(value)) => Ok(value.to_string().into()),
            };
            let outcome =
                outcome.and_then(|bytes| Ok((head.status, self.in_chosen_type(op, bytes)?)));
            self.recorder.stage("reply", from, |s| {
                if other {
                    s.notes.push(format!(
                        "the answer's {} becomes {} by the generic mapping",
                        media::name(came),
                        self.chosen.map_or("", media::name)
                    ));
                }
                note_reply(s, &outcome);
            });
            let (status, bytes) = outcome?;
            let mut response = reply::own_reply(self.chosen, bytes).map(ReplyBody::Full);
            *response.status_mut() = status;
            if template.is_none() {
                reply::pass_on(&mut head.headers, backend, facade);
                reply::converted(&mut head.headers, response.headers());
                *response.headers_mut() = head.headers;
            }
            return Ok(response);
        }
        let length = incoming.size_hint().exact();
        self.recorder.stage("call", from, |s| {
            s.after =
                Some(Message::new(head.status.to_string(), &head.headers, "").streamed(length))
        });
        reply::pass_on(&mut head.headers, backend, facade);
        if self.chosen.is_some() {
            head.headers
                .append(header::VARY, HeaderValue::from_static("accept"));
        }
        let lease = if incoming.is_end_stream() {
            lease.give_back();
            None
        } else {
            Some(lease)
        };
        let stream = StreamBody {
            body: incoming,
            lease,
            idle: backend.timeout,
            timer: None,
            ending: None,
        };
        self.recorder.stage("reply", Instant::now(), |s| {
            s.notes.push("the answer streams through".into())
        });
        Ok(Response::from_parts(
            head,
            ReplyBody::Stream(Box::new(stream)),
        ))
    }
}
