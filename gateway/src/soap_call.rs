//! The stages of a SOAP call, from the caller's request to the reply.

use std::time::Instant;

use bytes::Bytes;
use http::{HeaderValue, Response, StatusCode, header};
use porch_facade::{CompiledPorch, MediaType, Wiring};
use porch_soap::Answer;

use crate::admit;
use crate::exchange::{Exchange, Mode, Outcome, no_wiring, note_reply};
use crate::media;
use crate::prepare::{self, Common};
use crate::reply;
use crate::reply_body::ReplyBody;
use crate::request_body::InBody;
use crate::scope::Values;
use crate::soap;
use crate::trace::Message;

impl Exchange<'_> {
    pub(crate) async fn soap(
        &mut self,
        porch: &CompiledPorch,
        values: &mut Values<'_>,
        body: InBody,
    ) -> Outcome {
        let op = values.operation;
        let Wiring::Soap(wiring) = &op.wiring else {
            return Err(no_wiring(op));
        };
        let backend = &porch.backends[op.backend];
        // A body that is only converted needs no value in between.
        let mut raw = None;
        if wiring.direct && media::kind(&media::essence(values.headers)) == Some(MediaType::Json) {
            let bytes = self.read(op, body).await?;
            if bytes.is_empty() && op.body_required {
                return Err(admit::mistakes(
                    vec![("/body".into(), "must be there".into())],
                    op,
                    "admit",
                ));
            }
            raw = (!bytes.is_empty()).then_some(bytes);
        } else if wiring.reads_body {
            values.body = self.read_value(op, values.headers, body).await?;
        }
        let from = Instant::now();
        let traceparent = self.traceparent.clone();
        let common = Common {
            backend,
            traceparent: &traceparent,
            forwarded: self.forwarded(values.headers),
        };
        let prepared =
            prepare::soap_request(wiring, &common, values, raw.as_deref(), self.recorder.full);
        let caller_body = raw.or_else(|| {
            values
                .body
                .as_ref()
                .filter(|_| self.recorder.full)
                .map(|b| b.to_string().into())
        });
        self.recorder.stage("prepare", from, |s| {
            s.before = caller_body.as_ref().map(|b| Message::default().body(b));
            match &prepared {
                Ok((request, bytes, input)) => {
                    s.notes.push(format!(
                        "the input of {} in JSON: {input}",
                        wiring.operation
                    ));
                    s.after = Some(
                        Message::new(
                            format!("POST http://{}{}", backend.authority, request.uri()),
                            request.headers(),
                            "",
                        )
                        .body(bytes)
                        .without(&backend.mask),
                    );
                }
                Err(problem) => s.notes.push(problem.refusal.why.clone()),
            }
        });
        let (request, ..) = prepared?;
        let (answer, lease, from) = self.call(op, backend, request, || None).await?;
        let (head, incoming) = answer.into_parts();
        let stream = self.mode == Mode::Live
            && wiring.reply.is_none()
            && self.chosen != Some(MediaType::Xml);
        let reading = soap::Reading {
            status: head.status,
            headers: &head.headers,
            wiring,
            op,
            idle: backend.timeout,
            keep: self.recorder.full,
            stream,
        };
        let read = soap::read(&reading, incoming).await;
        let (status_line, mask) = (head.status.to_string(), &backend.mask);
        match &read {
            Ok(read) => self.recorder.stage("call", from, |s| {
                s.after = Some(Message {
                    bytes: Some(read.bytes),
                    ..Message::new(status_line, &head.headers, "")
                        .body(&read.seen)
                        .without(mask)
                });
            }),
            Err((_, seen)) => self.recorder.stage("call", from, |s| {
                s.after = Some(
                    Message::new(status_line, &head.headers, "")
                        .body(seen)
                        .without(mask),
                )
            }),
        }
        let read = read.map_err(|(problem, _)| problem)?;
        if let Some(rest) = read.rest {
            self.recorder.stage("reply", Instant::now(), |s| {
                s.notes
                    .extend(read.notes.iter().map(|n| format!("tolerated: {n}")));
                s.notes
                    .push("the answer is large: it is converted while it streams through".into());
            });
            let mut response =
                Response::new(ReplyBody::Convert(rest.starting_with(read.json, lease)));
            response.headers_mut().insert(
                header::CONTENT_TYPE,
                HeaderValue::from_static("application/json"),
            );
            return Ok(response);
        }
        lease.give_back();
        let from = Instant::now();
        let outcome = match (&read.answer, &wiring.reply) {
            (Answer::Fault(fault), _) => Err(reply::fault(fault, &read.json, op, values.headers)),
            (Answer::Empty, None) => Ok((
                if wiring.answer.one_way {
                    StatusCode::ACCEPTED
                } else {
                    StatusCode::NO_CONTENT
                },
                Bytes::new(),
            )),
            (Answer::Body, None) => Ok((StatusCode::OK, Bytes::from(read.json))),
            (Answer::Empty | Answer::Body, Some(template)) => {
                let value = reply::json_of(&read.json, op)?;
                let soap_headers = read
                    .headers
                    .as_deref()
                    .and_then(|h| serde_json::from_slice(h).ok());
                reply::shape(
                    template,
                    values,
                    head.status,
                    &head.headers,
                    value,
                    soap_headers,
                )
                .map(|b| (StatusCode::OK, b))
            }
        };
        let outcome =
            outcome.and_then(|(status, bytes)| Ok((status, self.in_chosen_type(op, bytes)?)));
        self.recorder.stage("reply", from, |s| {
            s.notes
                .extend(read.notes.iter().map(|n| format!("tolerated: {n}")));
            note_reply(s, &outcome);
        });
        let (status, bytes) = outcome?;
        let empty = bytes.is_empty();
        let mut response = reply::own_reply(self.chosen, bytes)
            .map(|b| ReplyBody::Full(b.filter(|b| !b.is_empty())));
        *response.status_mut() = status;
        if empty {
            response.headers_mut().remove(header::CONTENT_TYPE);
        }
        Ok(response)
    }
}
