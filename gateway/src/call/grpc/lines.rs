//! A caller's lines of JSON on their way to a backend, as messages.

use std::collections::VecDeque;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::{Bytes, BytesMut};
use http_body::Body;
use porch_facade::kind::grpc::GrpcCall;

use super::frames::frame;
use super::prepare::{part_to_wire, raw_to_wire};
use crate::body::{BodyError, InBody, Pieces};
use crate::failure::Complaint;
use crate::failure::{Failure, Mistake};

/// Lines that become messages while they arrive.
pub(crate) struct Lines {
    call: Arc<GrpcCall>,
    body: Option<InBody>,
    buffer: BytesMut,
    ready: VecDeque<Bytes>,
    /// What path and query say, for the first message.
    first: Option<Vec<u8>>,
    /// Whether that must be sent even when no line comes.
    bound: bool,
    count: u64,
    most: usize,
    complaint: Complaint,
}

impl Lines {
    pub(crate) fn new(
        call: Arc<GrpcCall>,
        body: InBody,
        first: Vec<u8>,
        most: usize,
        complaint: Complaint,
    ) -> Self {
        let bound = !first.is_empty();
        Self {
            call,
            body: Some(body),
            buffer: BytesMut::new(),
            ready: VecDeque::new(),
            first: Some(first),
            bound,
            count: 0,
            most,
            complaint,
        }
    }

    fn complain(&mut self, mistakes: Vec<Mistake>) -> BodyError {
        self.body = None;
        self.ready.clear();
        *self.complaint.borrow_mut() = Some(Failure::Mistakes(mistakes));
        BodyError("a line of the caller's is no message")
    }

    fn line(&mut self, line: &[u8]) -> Result<(), BodyError> {
        if line.iter().all(u8::is_ascii_whitespace) {
            return Ok(());
        }
        if line.len() > self.most {
            return Err(self.too_long());
        }
        self.count += 1;
        let overlay = self.first.take().unwrap_or_default();
        let mut wire = Vec::with_capacity(line.len());
        let result = part_to_wire(&self.call, line, false, &mut wire);
        let compress = self.call.compress;
        match result {
            Ok(()) => {
                wire.extend_from_slice(&overlay);
                self.ready.push_back(frame(&wire, compress));
                Ok(())
            }
            Err(mistakes) => {
                let before = format!("/body/{}", self.count - 1);
                let told = mistakes
                    .into_iter()
                    .map(|(pointer, message)| (format!("{before}{pointer}"), message))
                    .collect();
                Err(self.complain(told))
            }
        }
    }

    /// Raw bytes, each piece a `google.api.HttpBody` of its own.
    fn raw(&mut self, data: &[u8]) -> Result<(), BodyError> {
        let overlay = self.first.take().unwrap_or_default();
        let mut wire = Vec::with_capacity(data.len() + 16);
        raw_to_wire(&self.call, "", data, &mut wire);
        wire.extend_from_slice(&overlay);
        let compress = self.call.compress;
        self.ready.push_back(frame(&wire, compress));
        Ok(())
    }

    fn take(&mut self, data: &[u8]) -> Result<(), BodyError> {
        if self.call.raw_body {
            return self.raw(data);
        }
        // What was there before holds no end of a line: only what came is looked through.
        let mut from = self.buffer.len();
        self.buffer.extend_from_slice(data);
        while let Some(end) = self.buffer[from..].iter().position(|b| *b == b'\n') {
            let line = self.buffer.split_to(from + end + 1);
            self.line(&line)?;
            from = 0;
        }
        if self.buffer.len() > self.most {
            return Err(self.too_long());
        }
        Ok(())
    }

    fn too_long(&mut self) -> BodyError {
        let pointer = format!("/body/{}", self.count);
        let message = format!("is a line of more than {} bytes", self.most);
        self.complain(vec![(pointer, message)])
    }

    fn end(&mut self) -> Result<(), BodyError> {
        self.body = None;
        let rest = self.buffer.split();
        self.line(&rest)?;
        if self.count == 0 && self.bound {
            let wire = self.first.take().unwrap_or_default();
            self.ready.push_back(frame(&wire, false));
        }
        Ok(())
    }
}

impl Pieces for Lines {
    fn poll(&mut self, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BodyError>>> {
        loop {
            if let Some(next) = self.ready.pop_front() {
                return Poll::Ready(Some(Ok(next)));
            }
            let result = match &mut self.body {
                None => return Poll::Ready(None),
                Some(InBody::Full(bytes)) => {
                    let all = std::mem::take(bytes);
                    self.take(&all).and_then(|()| self.end())
                }
                Some(InBody::Incoming(incoming)) => match Pin::new(incoming).poll_frame(cx) {
                    Poll::Pending => return Poll::Pending,
                    Poll::Ready(Some(Ok(frame))) => {
                        frame.into_data().map_or(Ok(()), |data| self.take(&data))
                    }
                    Poll::Ready(Some(Err(_))) => {
                        self.body = None;
                        Err(BodyError("the caller broke off"))
                    }
                    Poll::Ready(None) => self.end(),
                },
            };
            if let Err(e) = result {
                return Poll::Ready(Some(Err(e)));
            }
        }
    }
}
