//! Exchanges that are carried through, whether or not their caller is still there: of operations that take back what they
//! did where something behind it fails. One that ended in its middle could neither go on nor take anything back.

use std::rc::Rc;
use std::sync::Arc;

use http::{Request, Response};
use porch_facade::CompiledPorch;

use crate::body::{InBody, ReplyBody};
use crate::exchange::state::Mode;
use crate::exchange::{Origin, run};
use crate::stage;
use crate::worker::Worker;

/// Whether a request may be for such an operation.
pub(super) fn may_be(porch: &CompiledPorch, request: &Request<InBody>) -> bool {
    let mut methods = porch.takes_back.iter();
    methods.any(|method| **method == *request.method().as_str())
}

/// Carries an exchange out; where its operation takes something back, in a task of its own, which goes on when nobody waits
/// for it any more.
#[cold]
pub(super) async fn carried(
    worker: Rc<Worker>,
    porch: Arc<CompiledPorch>,
    request: Request<InBody>,
    origin: Rc<Origin>,
) -> Response<ReplyBody> {
    let (parts, body) = request.into_parts();
    let operation = stage::operation_of(&porch, &parts);
    let takes_back = operation.is_some_and(|op| op.takes_back());
    let request = Request::from_parts(parts, body);
    let exchange = async move {
        let (response, _) = run(&worker, &porch, request, &origin, Mode::Live).await;
        response
    };
    if !takes_back {
        return exchange.await;
    }
    match tokio::task::spawn_local(exchange).await {
        Ok(response) => response,
        Err(ended) => match ended.try_into_panic() {
            // As where it is carried out by whoever asks.
            Ok(panic) => std::panic::resume_unwind(panic),
            Err(_) => Response::new(ReplyBody::Full(None)),
        },
    }
}
