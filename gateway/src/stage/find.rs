//! Match: host and path to an operation.

use std::borrow::Cow;
use std::sync::Arc;

use http::request::Parts;
use http::{HeaderValue, Method, Response, StatusCode, header};
use porch_facade::{
    Captured, CompiledFacade, CompiledOperation, CompiledPorch, Miss, NATIVE, OperationIndex,
    normalise,
};
use smallvec::SmallVec;

use super::{Sound, cors};
use crate::body::ReplyBody;
use crate::call::grpc;
use crate::exchange::state::{Exchange, target};
use crate::fields;
use crate::problem::{self, Problem};
use crate::trace::{Message, StageName};

/// The operation that a request is for.
pub(crate) struct Found<'x> {
    pub(crate) index: OperationIndex,
    pub(crate) facade: &'x Arc<CompiledFacade>,
    pub(crate) operation: &'x CompiledOperation,
    /// The path as it is compared.
    path: Cow<'x, str>,
    /// Where in it the variables' segments stand.
    captured: SmallVec<[(usize, usize); 4]>,
    /// Whether the caller speaks the backend's own protocol.
    pub(crate) native: bool,
}

impl Found<'_> {
    /// The segments that the path variables took.
    pub(crate) fn captured(&self) -> Captured<'_> {
        self.captured
            .iter()
            .map(|(from, to)| &self.path[*from..*to])
            .collect()
    }
}

/// Finds the operation, or answers for the path (`OPTIONS`).
pub(crate) fn find<'x>(
    x: &Exchange<'x>,
    parts: &'x Parts,
    sound: Sound,
) -> Result<Result<Found<'x>, Response<ReplyBody>>, Box<Problem>> {
    let from = x.recorder.borrow().begin();
    if sound.goes_no_further || parts.uri.path() == "*" {
        return of_the_porch(parts).map(Err);
    }
    let porch = x.porch;
    let path = normalise(parts.uri.path()).map_err(problem::bad_path)?.path;
    let host = if porch.router.has_hosts() {
        host(parts)
    } else {
        None
    };
    if cors::may_be(parts)
        && let Some(answer) = cors::preflight(x, parts, host.as_deref(), &path)
    {
        return answer.map(Err);
    }
    let native = grpc::is_native(&parts.method, &parts.headers);
    let method = if native {
        NATIVE
    } else {
        parts.method.as_str()
    };
    let (index, captured) = match porch.router.find(host.as_deref(), method, &path) {
        Ok(matched) => {
            let start = path.as_ptr() as usize;
            let place = |s: &&str| {
                let from = s.as_ptr() as usize - start;
                (from, from + s.len())
            };
            (
                matched.operation,
                matched.captured.iter().map(place).collect(),
            )
        }
        Err(miss) => return missed(miss, parts).map(Err),
    };
    let Some((facade, operation)) = porch.at(index) else {
        return Err(problem::nothing_here(&path));
    };
    let route = &operation.route;
    x.recorder.borrow_mut().stage(StageName::Match, from, |s| {
        s.notes.push(format!(
            "{} {}{} is the operation “{}” of the facade “{}” {}",
            route.method, facade.base, route.path, operation.id, facade.name, facade.version
        ));
        let head = format!("{} {}", parts.method, target(parts));
        let masked = facade.key_header.as_str();
        s.before = Some(Message::new(head, &parts.headers, masked));
    });
    not_paused(x, (facade, operation), index)?;
    Ok(Ok(Found {
        index,
        facade,
        operation,
        path,
        captured,
        native,
    }))
}

/// The operation that a request is for, where it is for one.
#[cold]
pub(crate) fn operation_of<'p>(
    porch: &'p CompiledPorch,
    parts: &Parts,
) -> Option<&'p CompiledOperation> {
    let path = normalise(parts.uri.path()).ok()?.path;
    let host = porch.router.has_hosts().then(|| host(parts)).flatten();
    let method = match grpc::is_native(&parts.method, &parts.headers) {
        true => NATIVE,
        false => parts.method.as_str(),
    };
    let matched = porch.router.find(host.as_deref(), method, &path).ok()?;
    porch.at(matched.operation).map(|(_, operation)| operation)
}

/// Whether nobody has stopped it.
fn not_paused(
    x: &Exchange<'_>,
    (facade, operation): (&CompiledFacade, &CompiledOperation),
    index: OperationIndex,
) -> Result<(), Box<Problem>> {
    if x.is_trial() {
        return Ok(());
    }
    let pauses = x.worker.shared.pauses.load();
    if !pauses.stops(&facade.name, &operation.id) {
        return Ok(());
    }
    x.at.set(Some(index));
    x.of_pages.set(operation.cors.is_some());
    Err(problem::paused(operation))
}

/// The answer to what is asked of the porch itself: `OPTIONS *`, and requests that may go no further (RFC 9110 §9.3.7).
fn of_the_porch(parts: &Parts) -> Result<Response<ReplyBody>, Box<Problem>> {
    match parts.method {
        Method::OPTIONS => Ok(options("OPTIONS")),
        Method::TRACE => Err(problem::other_methods("OPTIONS")),
        _ => Err(problem::bad_path("only OPTIONS takes *")),
    }
}

fn options(allowed: &str) -> Response<ReplyBody> {
    let mut response = Response::new(ReplyBody::Full(None));
    *response.status_mut() = StatusCode::NO_CONTENT;
    if let Ok(value) = HeaderValue::from_str(allowed) {
        response.headers_mut().insert(header::ALLOW, value);
    }
    response
}

fn missed(miss: Miss, parts: &Parts) -> Result<Response<ReplyBody>, Box<Problem>> {
    let allowed = match miss {
        Miss::Path => return Err(problem::nothing_here(parts.uri.path())),
        Miss::Method(allowed) => allowed.join(", "),
    };
    let allowed = format!("{allowed}, OPTIONS");
    if parts.method == Method::OPTIONS {
        Ok(options(&allowed))
    } else {
        Err(problem::other_methods(&allowed))
    }
}

/// The host that was asked for, in lower case and without its port.
pub(super) fn host(parts: &Parts) -> Option<String> {
    let text = match fields::text(&parts.headers, &header::HOST) {
        "" => return None,
        text => text,
    };
    // RFC 3986 §3.2.2: colons within brackets belong to the address.
    let end = text.find(']').map_or(0, |at| at + 1);
    let name = text[end..].find(':').map_or(text, |at| &text[..end + at]);
    Some(name.to_ascii_lowercase())
}
