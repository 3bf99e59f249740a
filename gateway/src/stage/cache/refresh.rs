//! Asking for another reply while what is kept is given (RFC 5861 §3).

use http::header;
use http::request::Parts;

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
        refreshes: true,
        ..Inner::of(x)
    };
    let origin = Origin::inside(x.origin.address, inner);
    let mut request = exchange::again(parts);
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
