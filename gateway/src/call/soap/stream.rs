//! Large answers: converted while they stream through.

use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use http_body::Body;
use porch_soap::{Answer, AnswerReader};

use crate::backend::{Came, Lease};
use crate::body::{BodyError, Idle, Pieces};
use crate::call::coding::Coding;
use crate::failure::Failure;
use crate::problem::Tell;
use crate::trace::{Refusal, StageName};

const UNUSABLE: &str = "the backend's answer cannot be used";

/// An answer that is converted while it streams through.
pub(super) struct Converting {
    pub(super) body: Came,
    pub(super) coding: Coding,
    pub(super) reader: AnswerReader,
    /// JSON that was made already.
    pub(super) next: Vec<u8>,
    pub(super) lease: Option<Lease>,
    pub(super) idle: Idle,
    pub(super) done: bool,
    /// Tells of what goes wrong.
    pub(super) tell: Tell,
    pub(super) refusal: Option<Refusal>,
}

impl Converting {
    fn fail(&mut self, what: &'static str, why: &str) -> BodyError {
        // The connection is of no further use; the caller sees that the body is cut off.
        self.lease = None;
        self.done = true;
        self.next.clear();
        let failure = Failure::Answer(why.to_owned());
        let problem = self.tell.problem(failure, StageName::Reply);
        self.refusal = problem.map(|p| p.refusal);
        BodyError(what)
    }

    fn take(&mut self, data: Bytes) -> Result<(), BodyError> {
        let data = self.coding.decode(data);
        let data = data.map_err(|e| self.fail(UNUSABLE, &e.to_string()))?;
        let fed = self.reader.feed(&data, &mut self.next);
        fed.map_err(|e| self.fail(UNUSABLE, &e.to_string()))
    }

    fn end(&mut self) -> Result<(), BodyError> {
        self.done = true;
        let rest = self.coding.finish();
        let rest = rest.map_err(|e| self.fail(UNUSABLE, &e.to_string()))?;
        let fed = self.reader.feed(&rest, &mut self.next);
        match fed.and_then(|()| self.reader.finish(&mut self.next)) {
            Ok(Answer::Body) => {
                if let Some(lease) = self.lease.take() {
                    lease.give_back();
                }
                Ok(())
            }
            Ok(other) => Err(self.fail(UNUSABLE, &format!("{other:?}"))),
            Err(e) => Err(self.fail(UNUSABLE, &e.to_string())),
        }
    }
}

impl Pieces for Converting {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        loop {
            if !self.next.is_empty() {
                let next = Bytes::from(std::mem::take(&mut self.next));
                return Poll::Ready(Some(Ok(next)));
            }
            if self.done {
                return Poll::Ready(None);
            }
            let result = match Pin::new(&mut self.body).poll_frame(cx) {
                Poll::Ready(Some(Ok(frame))) => {
                    self.idle.came();
                    frame.into_data().map_or(Ok(()), |data| self.take(data))
                }
                Poll::Ready(Some(Err(e))) => {
                    Err(self.fail("the backend broke off", &e.to_string()))
                }
                Poll::Ready(None) => self.end(),
                Poll::Pending if self.idle.is_over(cx) => {
                    Err(self.fail("the backend fell silent", "it fell silent"))
                }
                Poll::Pending => return Poll::Pending,
            };
            if let Err(e) = result {
                return Poll::Ready(Some(Err(e)));
            }
        }
    }

    fn is_done(&self) -> bool {
        self.done && self.next.is_empty()
    }

    fn broke(&mut self) -> Option<Refusal> {
        self.refusal.take()
    }
}
