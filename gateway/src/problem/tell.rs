//! Problems of replies that have begun.

use std::sync::Arc;

use bytes::Bytes;
use http::HeaderMap;
use porch_facade::{CompiledFacade, CompiledOperation};

use super::{Problem, of_failure};
use crate::failure::Failure;
use crate::trace::{Refusal, StageName};

/// Makes problems of failures when their exchange is long over, and only its reply goes on.
#[derive(Clone)]
pub(crate) struct Tell {
    facade: Arc<CompiledFacade>,
    operation: u32,
    /// The exchange's id.
    id: [u8; ID],
}

/// Length of an exchange's id.
const ID: usize = 49;

impl Tell {
    pub(crate) fn new(facade: &Arc<CompiledFacade>, operation: u32, id: &str) -> Self {
        Self {
            facade: facade.clone(),
            operation,
            id: id.as_bytes().try_into().unwrap_or([b'0'; ID]),
        }
    }

    fn id(&self) -> &str {
        std::str::from_utf8(&self.id).unwrap_or_default()
    }

    pub(crate) fn operation(&self) -> Option<&CompiledOperation> {
        self.facade.operations.get(self.operation as usize)
    }

    /// The problem document of a failure, and what is noted down of it.
    pub(crate) fn document(&self, failure: Failure, stage: StageName) -> (Bytes, Option<Refusal>) {
        match self.problem(failure, stage) {
            None => (Bytes::new(), None),
            Some(problem) => (
                problem.render(self.id(), &HeaderMap::new()).1,
                Some(problem.refusal),
            ),
        }
    }

    /// The problem of a failure, which is noted down in the log.
    pub(crate) fn problem(&self, failure: Failure, stage: StageName) -> Option<Box<Problem>> {
        let operation = self.operation()?;
        let backend = operation
            .steps
            .first()
            .and_then(|s| self.facade.backends.get(s.backend));
        let problem = of_failure(failure, operation, backend.map(|b| &**b), stage);
        tracing::warn!(
            "{}: a stream broke off: {}",
            operation.id,
            problem.refusal.why
        );
        Some(problem)
    }
}
