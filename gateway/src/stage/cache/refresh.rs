//! Asking for another reply while what is kept is given (RFC 5861 §3).

use http::request::Parts;
use http::{Method, Request, header};

use crate::body::InBody;
use crate::cache::Key;
use crate::exchange::state::{Exchange, Mode};
use crate::exchange::{self, Inner, Origin};
use crate::worker::InFlight;

/// Begins to ask, unless somebody does already or the worker has enough to do.
pub(super) fn begin(x: &Exchange<'_>, parts: &Parts, key: &Key) {
    if x.worker.shared.cache.is_asked(key) || x.worker.is_full() {
        return;
    }
    let (worker, porch) = (x.worker.clone(), x.porch.clone());
    let inner = Inner {
        depth: x.origin.inner.as_ref().map_or(1, |i| i.depth + 1),
        full: false,
        trial: false,
        refreshes: true,
        copy: None,
        caller: x.caller.clone(),
    };
    let origin = Origin::inside(x.origin.address, inner);
    let mut request = Request::new(InBody::Full(bytes::Bytes::new()));
    *request.method_mut() = Method::GET;
    *request.uri_mut() = parts.uri.clone();
    *request.version_mut() = parts.version;
    *request.headers_mut() = parts.headers.clone();
    // What this caller wants of its own reply is not what the next one wants.
    for name in [
        header::CACHE_CONTROL,
        header::PRAGMA,
        header::RANGE,
        header::IF_RANGE,
        header::IF_NONE_MATCH,
        header::IF_MODIFIED_SINCE,
    ] {
        request.headers_mut().remove(name);
    }
    tokio::task::spawn_local(async move {
        let _counted = InFlight::new(&worker);
        let running = exchange::run(&worker, &porch, request, &origin, Mode::Inside);
        drop(Box::pin(running).await);
    });
}
