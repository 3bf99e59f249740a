//! The exchange: match → admit → prepare → call → reply → record.

mod context;
pub(crate) mod state;

pub(crate) use context::{Copied, Copy, Inner, Origin, ShownCertificate, again, unix_ms};

use std::rc::Rc;
use std::sync::Arc;

use http::request::Parts;
use http::{HeaderValue, Response, StatusCode, Version, header};
use porch_facade::CompiledPorch;

use crate::body::{InBody, ReplyBody};
use crate::call::grpc;
use crate::fields::{RATE_LIMIT, RATE_LIMIT_POLICY, TRACEPARENT};
use crate::problem::{Problem, Tell};
use crate::scope::{Parameters, Scope};
use crate::stage::{self, Found, Sound};
use crate::steps;
use crate::steps::request::Request;
use crate::trace::{Refusal, StageName, Trace};
use crate::worker::Worker;
use state::{Exchange, Mode};

/// A body of a refused request is not waited for: where it may be longer than this, the connection closes, and says so
/// (RFC 9112 §9.6).
const DRAINED: u64 = 16 << 10;

/// Carries out one exchange. The trace is given for trial runs; those of live traffic are handed out as records.
pub(crate) fn run<'r>(
    worker: &'r Rc<Worker>,
    porch: &'r Arc<CompiledPorch>,
    request: http::Request<InBody>,
    origin: &'r Origin,
    mode: Mode,
) -> impl Future<Output = (Response<ReplyBody>, Option<Box<Trace>>)> + use<'r> {
    let (mut parts, body) = request.into_parts();
    // What is taken in stands in the future once; the arguments of an `async fn` that are changed or taken apart stand twice.
    async move {
        let sound = stage::sound(&mut parts);
        let unread = parts.version < Version::HTTP_2 && body.length().is_none_or(|n| n > DRAINED);
        let mut x = Exchange::begin(worker, porch, &parts, &body, origin, mode);
        let (response, refusal) = match x.stages(&parts, body, sound).await {
            Ok(response) => (response, None),
            Err(mut problem) => {
                if x.counted > 0 || x.rare.is_some() {
                    x.refused();
                }
                if let Some(caller) = problem.caller.take() {
                    x.caller = caller;
                }
                x.worded(&parts, &mut problem);
                let mut response = x.refusal(&parts, &problem);
                if unread && matches!(problem.refusal.stage, StageName::Match | StageName::Admit) {
                    let close = HeaderValue::from_static("close");
                    response.headers_mut().insert(header::CONNECTION, close);
                }
                (response, Some(problem.refusal))
            }
        };
        ended(x, &parts, response, refusal)
    }
}

/// The end of an exchange: what every reply carries, and what is noted down.
fn ended(
    mut x: Exchange<'_>,
    parts: &Parts,
    mut response: Response<ReplyBody>,
    refusal: Option<Refusal>,
) -> (Response<ReplyBody>, Option<Box<Trace>>) {
    let headers = response.headers_mut();
    if let Some(rate) = x.rate.take() {
        headers.insert(RATE_LIMIT_POLICY, rate.policy);
        headers.insert(RATE_LIMIT, rate.state);
    }
    headers.insert(TRACEPARENT, x.traceparent.clone());
    let of_pages =
        x.of_pages.get() || (x.worker.shared.has_portal() && stage::cors::is_of_page(parts));
    if of_pages {
        stage::cors::tell(&x, parts, headers);
    }
    let packs = x.packs.get() && x.mode == Mode::Live;
    let worker = x.worker;
    let trace = stage::record(x, parts, refusal, &mut response);
    if packs {
        stage::pack(worker, parts, &mut response);
    }
    (response, trace)
}

impl<'x> Exchange<'x> {
    /// The stages, in order.
    async fn stages(
        &mut self,
        parts: &Parts,
        body: InBody,
        sound: Result<Sound, Box<Problem>>,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let sound = sound?;
        let found = match stage::find(self, parts, sound)? {
            Ok(found) => found,
            Err(response) => return Ok(response),
        };
        self.at.set(Some(found.index));
        self.of_pages.set(found.operation.cors.is_some());
        self.packs.set(found.operation.compress);
        let captured = found.captured();
        let demanded = &found.operation.admission.credentials;
        if self.mode == Mode::Live && (demanded.proven || !demanded.in_query.is_empty()) {
            let has_body = body.length() != Some(0);
            match Box::pin(self.shown(&found, parts, has_body)).await? {
                None => {}
                // Without what was shown in the query, as if it had not stood there.
                Some(parts) => return Box::pin(self.stages(&parts, body, Ok(sound))).await,
            }
        }
        let admitted = match stage::admit(self, &found, &captured, parts, &body) {
            Ok(admitted) => admitted,
            Err(problem) => {
                if problem.status == StatusCode::PAYLOAD_TOO_LARGE {
                    body.discard().await;
                }
                return Err(problem);
            }
        };
        if self.mode == Mode::Live && self.goes_aside(&found) {
            let taken = (parts, captured.as_slice());
            return Box::pin(self.aside(&found, taken, admitted.parameters, body)).await;
        }
        let x: &Self = self;
        if let Some(plan) = &found.operation.cache {
            if let Some(kept) = stage::kept(x, &found, plan, parts, &body) {
                return Ok(kept);
            }
            let taken = (parts, captured.as_slice());
            return Box::pin(stage::cached(
                x,
                &found,
                plan,
                taken,
                admitted.parameters,
                body,
            ))
            .await;
        }
        // The same as `carried`, which would have all of it twice.
        let request = x.request(&found, (parts, &captured));
        let mut scope = x.scope(&request, admitted.parameters);
        let outcome = steps::run(x, &request, &mut scope, body).await?;
        let response = stage::reply(x, &request, outcome, &mut scope)?;
        match &found.operation.answers {
            None => Ok(response),
            Some(plan) => Box::pin(stage::keeps(x, &request, plan, response)).await,
        }
    }

    /// What is shown that takes more than a look at the table of grants, or stands in the query: without that, where it does.
    async fn shown(
        &mut self,
        found: &Found<'_>,
        parts: &Parts,
        has_body: bool,
    ) -> Result<Option<Box<Parts>>, Box<Problem>> {
        let (facade, op) = (found.facade, found.operation);
        let is_taken = self.rare.as_ref().is_some_and(|r| r.taken.is_some());
        if !is_taken
            && let Some((taken, rest)) =
                stage::without_credentials(parts, &op.admission.credentials)
        {
            self.rare().taken = Some(taken);
            // It is found once more.
            self.recorder.borrow_mut().stages.pop();
            return Ok(Some(rest));
        }
        if op.admission.credentials.proven
            && let Some((caller, digest)) = stage::prove(self, facade, op, parts, has_body).await?
        {
            self.caller = caller;
            if digest.is_some() {
                self.rare().digest = digest;
            }
        }
        Ok(None)
    }

    /// Whether there is something to see to before it goes on: a body that is signed, or a line to wait in.
    #[inline]
    fn goes_aside(&self, found: &Found<'_>) -> bool {
        let signed = self.rare.as_ref().is_some_and(|r| r.digest.is_some());
        let limits = &found.operation.admission.limits;
        let together = || self.worker.shared.common.is_some() && limits.of_time().next().is_some();
        signed || !limits.at_once.is_empty() || together()
    }

    /// The rest of the stages, behind that: all of it in a place of its own.
    async fn aside(
        &mut self,
        found: &Found<'_>,
        (parts, captured): (&Parts, &[&str]),
        parameters: Parameters<'_>,
        body: InBody,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let signed = self.rare.as_ref().is_some_and(|r| r.digest.is_some());
        let body = match signed {
            true => self.digested(found, body).await?,
            false => body,
        };
        let limits = &found.operation.admission.limits;
        if self.worker.shared.common.is_some() && limits.of_time().next().is_some() {
            self.limits(found, parts, &parameters, false).await?;
        }
        if !limits.at_once.is_empty() {
            self.limits(found, parts, &parameters, true).await?;
        }
        let (x, taken): (&Self, _) = (self, (parts, captured));
        let Some(plan) = &found.operation.cache else {
            return x.carried(found, taken, parameters, body).await;
        };
        match stage::kept(x, found, plan, parts, &body) {
            Some(kept) => Ok(kept),
            None => stage::cached(x, found, plan, taken, parameters, body).await,
        }
    }

    /// The body, once it is all here and is what its signed digest says.
    async fn digested(&self, found: &Found<'_>, body: InBody) -> Result<InBody, Box<Problem>> {
        let op = found.operation;
        let bytes = body.collect(op.admission.max_body, &self.share).await;
        let bytes = bytes.map_err(|failure| crate::problem::body_unreadable(failure, op))?;
        let told = self.rare.as_ref().and_then(|r| r.digest.as_deref());
        let same = porch_proof::is_digest_of(told.unwrap_or_default(), &bytes);
        same.map_err(|why| crate::problem::other_body(why, &op.admission.credentials))?;
        Ok(InBody::Full(bytes))
    }

    /// Waits for its place among those that are under way at the same time, or for limits that several nodes count together.
    async fn limits(
        &mut self,
        found: &Found<'_>,
        parts: &Parts,
        parameters: &Parameters<'_>,
        at_once: bool,
    ) -> Result<(), Box<Problem>> {
        let (parameters, caller) = (parameters.clone(), self.caller.clone());
        let by = (&caller, self.origin.address);
        let scope = Scope::of(found.operation, &parts.headers, parameters, by);
        let of = (&**found.facade, found.operation);
        match at_once {
            true => stage::at_once(self, of, scope).await,
            false => stage::together(self, of, scope).await,
        }
    }

    #[inline(always)]
    fn request<'a>(
        &self,
        found: &Found<'a>,
        (parts, captured): (&'a Parts, &'a [&'a str]),
    ) -> Request<'a> {
        Request {
            facade: found.facade,
            operation: found.operation,
            parts,
            captured,
            native: found.native,
            tell: Tell::new(found.facade, found.index.operation, self.id()),
        }
    }

    #[inline(always)]
    fn scope<'a>(&'a self, request: &Request<'a>, parameters: Parameters<'a>) -> Scope<'a> {
        let by = (&self.caller, self.origin.address);
        Scope::of(request.operation, &request.parts.headers, parameters, by)
    }

    /// Carries out a request that may pass, and gives what it is answered with.
    pub(crate) async fn carried(
        &self,
        found: &Found<'_>,
        taken: (&Parts, &[&str]),
        parameters: Parameters<'_>,
        body: InBody,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let request = self.request(found, taken);
        let mut scope = self.scope(&request, parameters);
        let outcome = steps::run(self, &request, &mut scope, body).await?;
        let response = stage::reply(self, &request, outcome, &mut scope)?;
        match &found.operation.answers {
            None => Ok(response),
            Some(plan) => Box::pin(stage::keeps(self, &request, plan, response)).await,
        }
    }

    /// What was counted for a call that reached no backend is given back.
    #[cold]
    fn refused(&mut self) {
        let at = self.at.get().and_then(|at| self.porch.at(at));
        if let (false, Some((_, op))) = (self.reached.get(), at) {
            stage::give_back(self, op);
        }
    }

    /// Says a problem as the facade's documents say it.
    fn worded(&self, parts: &Parts, problem: &mut Problem) {
        let operation = self.at.get().and_then(|at| {
            let facade = self.porch.facades.get(at.facade as usize)?;
            facade.operations.get(at.operation as usize)
        });
        if let Some(words) = operation.and_then(|o| o.words.as_deref()) {
            problem.in_words_of(words, &parts.headers);
        }
    }

    /// A refusal as the caller understands it.
    fn refusal(&self, parts: &Parts, problem: &Problem) -> Response<ReplyBody> {
        let mut response = if grpc::is_native(&parts.method, &parts.headers) {
            grpc::refusal(problem)
        } else {
            let (kind, bytes) = problem.render(self.id(), &parts.headers);
            let mut response = Response::new(ReplyBody::Full(Some(bytes)));
            *response.status_mut() = problem.status;
            response.headers_mut().insert(header::CONTENT_TYPE, kind);
            response
        };
        for (name, value) in &problem.headers {
            // Of challenges there may be several (RFC 9110 §11.6.1).
            response.headers_mut().append(name, value.clone());
        }
        response
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The size of the future that a function of these five gives.
    fn size_of<A, B, C, D, E, F: Future>(_: fn(A, B, C, D, E) -> F) -> usize {
        std::mem::size_of::<F>()
    }

    #[test]
    fn an_exchange_is_small_enough_to_be_moved() {
        // It is moved into a box for each request. What it holds twice, or for the rarest of cases, every call pays for.
        let size = size_of(
            |worker: &'static Rc<Worker>,
             porch: &'static Arc<CompiledPorch>,
             request,
             from,
             mode| { run(worker, porch, request, from, mode) },
        );
        assert!(size <= 2_920, "{size} bytes");
    }
}
