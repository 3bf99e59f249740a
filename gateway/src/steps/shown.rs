//! Backends that are shown a token of an authorization server (RFC 6749 §4.4, RFC 6750 §2.1).
//!
//! All of it lies aside: a call of another backend neither waits for it nor has room for it.

use std::time::Duration;

use http::{HeaderValue, StatusCode, header};
use porch_facade::ClientGrant;
use tokio::time::Instant;

use super::one::Call;
use crate::backend::Answered;
use crate::call::grpc::answer::GRPC_STATUS;
use crate::exchange::state::Exchange;
use crate::failure::{Failure, Told};
use crate::outgoing::Outgoing;

/// A request that is to be sent, and how it is made again.
pub(super) struct Sending<'s> {
    pub(super) slot: &'s mut Option<Outgoing>,
    pub(super) until: Instant,
    pub(super) within: Duration,
    /// The request once more, where it may be repeated.
    pub(super) anew: &'s dyn Fn() -> Option<Outgoing>,
}

impl<'s> Sending<'s> {
    pub(super) fn of(
        slot: &'s mut Option<Outgoing>,
        (until, within): (Instant, Duration),
        anew: &'s dyn Fn() -> Option<Outgoing>,
    ) -> Self {
        Self {
            slot,
            until,
            within,
            anew,
        }
    }
}

/// Sends a request with a token. One that the backend refuses is not shown again; where the request may be repeated, it is sent
/// once more with another.
pub(super) async fn send(
    x: &Exchange<'_>,
    call: &Call<'_>,
    grant: &ClientGrant,
    sending: Sending<'_>,
) -> Result<Answered, Failure> {
    let (backends, within) = (&x.worker.backends, sending.within);
    let shown = token(x, call, grant).await?;
    note(x, grant);
    show(sending.slot, &shown);
    let anew = || {
        let mut request = (sending.anew)();
        show(&mut request, &shown);
        request
    };
    let sent = backends.send(
        call.backend,
        call.at(),
        sending.slot,
        sending.until,
        within,
        &anew,
    );
    let answered = sent.await.map_err(Failure::Call)?;
    if !refuses(&answered) {
        return Ok(answered);
    }
    x.worker.shared.tokens.forget(grant, &shown);
    let mut again = (sending.anew)();
    if again.is_none() {
        return Ok(answered);
    }
    drop(answered);
    let other = token(x, call, grant).await?;
    show(&mut again, &other);
    let until = Instant::now() + within;
    let sent = backends.send(call.backend, call.at(), &mut again, until, within, &|| None);
    sent.await.map_err(Failure::Call)
}

/// Whether the backend does not take what it was shown: by HTTP's status (RFC 6750 §3.1), or by that of gRPC, `UNAUTHENTICATED`, where
/// nothing but a status comes.
fn refuses(answered: &Answered) -> bool {
    const UNAUTHENTICATED: &str = "16";
    let head = &answered.head;
    let status = head.headers.get(&GRPC_STATUS);
    head.status == StatusCode::UNAUTHORIZED || status.is_some_and(|s| s == UNAUTHENTICATED)
}

fn show(request: &mut Option<Outgoing>, token: &HeaderValue) {
    if let Some(request) = request {
        request.fields.set(&header::AUTHORIZATION, token.clone());
    }
}

/// What the prepared request is shown besides, for people.
fn note(x: &Exchange<'_>, grant: &ClientGrant) {
    let mut recorder = x.recorder.borrow_mut();
    if let Some(stage) = recorder.stages.last_mut() {
        stage
            .notes
            .push(format!("it is shown a token of {}", grant.server.name));
    }
}

async fn token(
    x: &Exchange<'_>,
    call: &Call<'_>,
    grant: &ClientGrant,
) -> Result<HeaderValue, Failure> {
    let worker = &x.worker;
    let given = worker.shared.tokens.field(&worker.backends, grant).await;
    given.map_err(|mut why| {
        call.backend.credentials.mask.text(&mut why);
        Failure::Told(Box::new(Told {
            status: 502,
            kind: "backend-credential",
            title: "The backend cannot be shown a credential",
            text: "What the backend demands of the porch cannot be had at the moment.".into(),
            why,
            members: Vec::new(),
            fields: Vec::new(),
        }))
    })
}
