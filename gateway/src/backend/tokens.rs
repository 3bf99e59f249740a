//! Tokens that backends are shown, asked for with a client's own credentials (RFC 6749 §4.4).
//!
//! A token is kept until shortly before it ends, for all workers together. However many calls need one, one request asks for it:
//! the others wait. When none can be had, those who wait are told the same, and for a moment nobody asks again.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use http::{HeaderValue, Method, StatusCode, Uri, header};
use porch_facade::{ClientGrant, Mask};
use serde_json::Value;
use tokio::time::Instant;

use super::Backends;
use super::asked::{failed, whole};
use crate::body::OutBody;
use crate::outgoing::{Fields, Outgoing};

/// An answer of an authorization server has at most so many bytes.
const MAX_ANSWER: usize = 64 << 10;
/// How long a token is good that does not say it (RFC 6749 §5.1 leaves it open).
const UNSAID: Duration = Duration::from_secs(300);
/// A token is used until so long before its end, or a tenth of its time.
const BEFORE: Duration = Duration::from_secs(30);
/// No token is kept for longer.
const LONGEST: Duration = Duration::from_secs(24 * 3600);
/// After a failure nobody asks again for so long.
const PAUSE: Duration = Duration::from_secs(1);
/// So many of the tokens that were given last are masked.
const MASKED: usize = 4;
/// More than this many are not kept: of those whose secrets or addresses changed, nobody takes leave.
const MAX_KEPT: usize = 1000;

/// The tokens of all backends, by what they were asked for with.
#[derive(Default)]
pub(crate) struct Tokens(Mutex<HashMap<u64, Arc<Slot>>>);

#[derive(Default)]
struct Slot {
    state: tokio::sync::Mutex<State>,
    /// The tokens that were given last, the newest at the end: they may still be said again.
    given: Mutex<Vec<String>>,
}

impl Slot {
    fn give(&self, field: &HeaderValue) {
        let token = field.to_str().ok().and_then(|f| f.strip_prefix("Bearer "));
        let mut given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        if given.len() >= MASKED {
            given.remove(0);
        }
        given.extend(token.map(str::to_owned));
    }
}

#[derive(Default)]
enum State {
    #[default]
    Nothing,
    Good {
        field: HeaderValue,
        until: Instant,
    },
    Failed {
        why: String,
        until: Instant,
    },
}

impl Tokens {
    fn slot(&self, grant: &ClientGrant) -> Arc<Slot> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MAX_KEPT && !known.contains_key(&grant.identity) {
            known.clear();
        }
        known.entry(grant.identity).or_default().clone()
    }

    /// The value of `Authorization` (RFC 6750 §2.1); why there is none.
    pub(crate) async fn field(
        &self,
        backends: &Backends,
        grant: &ClientGrant,
    ) -> Result<HeaderValue, String> {
        let slot = self.slot(grant);
        let mut state = slot.state.lock().await;
        let now = Instant::now();
        match &*state {
            State::Good { field, until } if now < *until => return Ok(field.clone()),
            State::Failed { why, until } if now < *until => return Err(why.clone()),
            _ => {}
        }
        match ask(backends, grant).await {
            Ok((field, good_for)) => {
                slot.give(&field);
                let until = Instant::now() + good_for;
                *state = State::Good {
                    field: field.clone(),
                    until,
                };
                Ok(field)
            }
            Err(why) => {
                let until = Instant::now() + PAUSE;
                *state = State::Failed {
                    why: why.clone(),
                    until,
                };
                Err(why)
            }
        }
    }

    /// Lets go of a token that the backend did not take, unless there is another one already.
    pub(crate) fn forget(&self, grant: &ClientGrant, field: &HeaderValue) {
        let slot = self.slot(grant);
        if let Ok(mut state) = slot.state.try_lock()
            && matches!(&*state, State::Good { field: known, .. } if known == field)
        {
            *state = State::Nothing;
        }
    }

    /// Takes the tokens that were given last out of what is shown.
    pub(crate) fn mask(&self, grant: &ClientGrant) -> Mask {
        let slot = self.slot(grant);
        let given = slot.given.lock().unwrap_or_else(PoisonError::into_inner);
        Mask::of(given.iter().map(String::as_str))
    }
}

/// Asks for a token (RFC 6749 §4.4.2); gives the field and how long it is used.
async fn ask(backends: &Backends, grant: &ClientGrant) -> Result<(HeaderValue, Duration), String> {
    let server = &grant.server;
    let told = |why: String| format!("{} gives no token: {why}", server.name);
    let address = server
        .addresses
        .first()
        .ok_or_else(|| told("it has no address".into()))?;
    let uri: Uri = grant
        .target
        .parse()
        .map_err(|_| told("its address is none".into()))?;
    let mut fields = Fields::with_capacity(4);
    fields.append(header::HOST, address.host.clone());
    let form = HeaderValue::from_static("application/x-www-form-urlencoded");
    fields.append(header::CONTENT_TYPE, form);
    fields.append(header::ACCEPT, HeaderValue::from_static("application/json"));
    if let Some(authorization) = &grant.authorization {
        fields.append(header::AUTHORIZATION, authorization.clone());
    }
    let mut slot = Some(Outgoing {
        method: Method::POST,
        uri,
        fields,
        body: OutBody::Full(Some(grant.body.clone())),
    });
    let within = server.timeout;
    let until = Instant::now() + within;
    let sent = backends.send(server, 0, &mut slot, until, within, &|| None);
    let answered = sent.await.map_err(|e| told(failed(&e)))?;
    let status = answered.head.status;
    let body = tokio::time::timeout_at(until, whole(answered, MAX_ANSWER)).await;
    let body = body.map_err(|_| told("its answer does not end in time".into()))?;
    read(status, &body.map_err(told)?).map_err(told)
}

/// Reads the answer of an authorization server (RFC 6749 §5.1, §5.2).
fn read(status: StatusCode, body: &[u8]) -> Result<(HeaderValue, Duration), String> {
    let answer: Value = serde_json::from_slice(body).unwrap_or_default();
    let text = |name: &str| answer.get(name).and_then(Value::as_str);
    let short = |text: &str| text.chars().take(200).collect::<String>();
    if !status.is_success() {
        let error = text("error").map_or_else(String::new, |e| format!(", {}", short(e)));
        let more =
            text("error_description").map_or_else(String::new, |d| format!(": {}", short(d)));
        return Err(format!("it answers {status}{error}{more}"));
    }
    let token = text("access_token").filter(|t| !t.is_empty());
    let token = token.ok_or("its answer has no access_token")?;
    let kind = text("token_type").unwrap_or_default();
    if !kind.eq_ignore_ascii_case("bearer") {
        return Err(format!(
            "its tokens are of the type “{}”, and only Bearer is known",
            short(kind)
        ));
    }
    let mut field = HeaderValue::from_str(&format!("Bearer {token}"))
        .map_err(|_| "its token cannot stand in a header field".to_owned())?;
    field.set_sensitive(true);
    let seconds = answer.get("expires_in").and_then(Value::as_f64);
    let whole = match seconds {
        Some(seconds) if seconds > 0.0 => Duration::try_from_secs_f64(seconds).unwrap_or(LONGEST),
        Some(_) => Duration::ZERO,
        None => UNSAID,
    };
    let whole = whole.min(LONGEST);
    Ok((field, whole.saturating_sub(BEFORE.min(whole / 10))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(status: u16, body: &str) -> Result<(String, u64), String> {
        let read = read(StatusCode::from_u16(status).unwrap(), body.as_bytes())?;
        Ok((read.0.to_str().unwrap().to_owned(), read.1.as_secs()))
    }

    #[test]
    fn an_answer_is_read_and_a_token_used_until_shortly_before_its_end() {
        let good = |rest: &str| {
            told(
                200,
                &format!("{{\"access_token\":\"t\",\"token_type\":\"bearer\"{rest}}}"),
            )
        };
        assert_eq!(good(",\"expires_in\":3600"), Ok(("Bearer t".into(), 3570)));
        assert_eq!(good(",\"expires_in\":100"), Ok(("Bearer t".into(), 90)));
        assert_eq!(good(",\"expires_in\":-1"), Ok(("Bearer t".into(), 0)));
        assert_eq!(
            good(",\"expires_in\":1e300"),
            Ok(("Bearer t".into(), 86_370))
        );
        assert_eq!(good(""), Ok(("Bearer t".into(), 270)));
        for (status, body, part) in [
            (
                401,
                "{\"error\":\"invalid_client\",\"error_description\":\"who?\"}",
                "401 Unauthorized, invalid_client: who?",
            ),
            (500, "<html>", "500"),
            (200, "{}", "no access_token"),
            (
                200,
                "{\"access_token\":\"t\",\"token_type\":\"mac\"}",
                "“mac”",
            ),
            (
                200,
                "{\"access_token\":\"a\\nb\",\"token_type\":\"Bearer\"}",
                "cannot stand",
            ),
        ] {
            let why = told(status, body).unwrap_err();
            assert!(why.contains(part), "{body}: {why}");
        }
    }
}
