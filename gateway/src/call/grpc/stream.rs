//! Answers of several messages, one by one.

use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;
use porch_facade::kind::grpc::GrpcCall;

use super::answer::{self, Part};
use super::failed;
use crate::body::Idle;
use crate::call::messages::{Form, MessageSource};
use crate::failure::Complaint;
use crate::failure::Failure;
use crate::problem::Tell;
use crate::scope::AnswerOnly;

/// The messages of an answer.
pub(super) struct Stream {
    pub(super) call: Arc<GrpcCall>,
    pub(super) answer: answer::Answer,
    pub(super) form: Form,
    /// The operation, with what its reply makes of each message.
    pub(super) tell: Tell,
    pub(super) complaint: Option<Complaint>,
    /// Where only the server speaks; where both do, it may be the caller's turn.
    pub(super) idle: Option<Idle>,
}

impl Stream {
    /// A message as it is sent on.
    pub(super) fn made(&self, message: &Bytes) -> Result<Bytes, Failure> {
        if self.form == Form::Raw {
            let raw = answer::raw(&self.call, message)?;
            return Ok(raw.1);
        }
        let json = answer::to_json(&self.call, message)?;
        let Some(template) = self.tell.operation().and_then(|o| o.reply.body.as_ref()) else {
            return Ok(json.into());
        };
        let body = serde_json::from_slice(&json).map_err(|e| Failure::Answer(e.to_string()))?;
        let scope = AnswerOnly::new(body);
        match template.render(&scope) {
            Ok(value) => Ok(value.map_or_else(Bytes::new, |v| v.to_string().into())),
            Err((source, error)) => Err(Failure::Answer(format!(
                "the reply cannot be built: ={source}: {error}"
            ))),
        }
    }
}

impl MessageSource for Stream {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, Failure>>> {
        let end = match self.answer.poll(cx) {
            Poll::Pending if self.idle.as_mut().is_some_and(|idle| idle.is_over(cx)) => {
                return Poll::Ready(Some(Err(Failure::Silent)));
            }
            Poll::Pending => return Poll::Pending,
            Poll::Ready(Ok(Part::Message(message))) => {
                if let Some(idle) = &mut self.idle {
                    idle.came();
                }
                return Poll::Ready(Some(self.made(&message)));
            }
            Poll::Ready(Ok(Part::Ended(ended))) if ended.code == 0 => return Poll::Ready(None),
            Poll::Ready(end) => end,
        };
        let complaint = self.complaint.as_ref().and_then(|c| c.borrow_mut().take());
        let faults = self
            .tell
            .operation()
            .and_then(|o| o.steps.first())
            .map(|s| &s.faults);
        Poll::Ready(Some(Err(match (complaint, end) {
            (Some(complaint), _) => complaint,
            (None, Ok(Part::Ended(ended))) => match faults {
                Some(faults) => failed::told(&self.call, faults, &ended),
                None => failed::told(&self.call, &Default::default(), &ended),
            },
            (None, Ok(Part::Message(message))) => return Poll::Ready(Some(self.made(&message))),
            (None, Err(wrong)) => wrong.into(),
        })))
    }
}
