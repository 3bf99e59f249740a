//! What issuers say of tokens (RFC 7662): asked once for however many show the same, and remembered for a while.

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderValue, Method, Uri, header};
use porch_facade::{Introspection, TokenRule, percent_encode_segment};
use serde_json::{Map, Value};
use tokio::sync::Semaphore;
use tokio::time::Instant;

use crate::body::OutBody;
use crate::outgoing::{Fields, Outgoing};
use crate::worker::Worker;

/// An answer has at most so many bytes.
const MAX_ANSWER: usize = 64 << 10;
/// Bytes of a token at most.
const MOST_BYTES: usize = 16 << 10;
/// Tokens that are remembered.
const MOST: usize = 10_000;
/// Issuers are asked of so many at the same time: who makes tokens up keeps nobody else from being asked for long.
const AT_ONCE: usize = 64;
/// How long an issuer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long it is remembered that one gave no answer.
const PAUSE: Duration = Duration::from_secs(1);

/// What an issuer says: its claims where the token is good, `None` where it is not, or why nothing was said.
pub(crate) type Told = Result<Option<Arc<Map<String, Value>>>, String>;

/// What is remembered of a token, and until when.
type Known = Arc<tokio::sync::Mutex<Option<(Told, Instant)>>>;

/// What was said of tokens, by the rule and the token.
pub(crate) struct Introspected {
    known: Mutex<HashMap<[u8; 32], (Known, Instant)>>,
    asking: Semaphore,
}

impl Default for Introspected {
    fn default() -> Self {
        Self {
            known: Mutex::default(),
            asking: Semaphore::new(AT_ONCE),
        }
    }
}

impl Introspected {
    /// What the issuer of a rule says of a token.
    pub(crate) async fn told(
        &self,
        worker: &Rc<Worker>,
        (rule, how): (&TokenRule, &Introspection),
        (token, now): (&str, i64),
    ) -> Told {
        if token.len() > MOST_BYTES {
            return Ok(None);
        }
        let slot = self.slot(rule, how, token);
        let mut known = slot.lock().await;
        if let Some((told, until)) = &*known
            && Instant::now() < *until
        {
            return told.clone();
        }
        let asked = async {
            let _turn = self.asking.acquire().await;
            ask(worker, rule, how, token).await
        };
        let told = tokio::time::timeout(PATIENCE, asked).await;
        let told = told.unwrap_or_else(|_| Err("it does not answer in time".to_owned()));
        let told =
            told.map_err(|why| format!("{} says nothing of a token: {why}", rule.server.name));
        let lasts = lasts(&told, how, now);
        *known = Some((told.clone(), Instant::now() + lasts));
        told
    }

    /// The place of a token. Where there are too many, those that are over make room, and then all.
    fn slot(&self, rule: &TokenRule, how: &Introspection, token: &str) -> Known {
        let mut hash = blake3::Hasher::new();
        hash.update(&rule.server.identity.to_le_bytes());
        hash.update(how.authorization.as_bytes());
        hash.update(b"\0");
        hash.update(token.as_bytes());
        let key = *hash.finalize().as_bytes();
        let now = Instant::now();
        let mut all = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST && !all.contains_key(&key) {
            all.retain(|_, (_, until)| now < *until);
            if all.len() >= MOST {
                all.clear();
            }
        }
        let until = now + how.remember + PATIENCE;
        let slot = all.entry(key).or_insert_with(|| (Known::default(), until));
        slot.1 = until;
        slot.0.clone()
    }
}

/// How long what was said is remembered: never longer than the token is good.
fn lasts(told: &Told, how: &Introspection, now: i64) -> Duration {
    let Ok(said) = told else { return PAUSE };
    let ends = said.as_ref().and_then(|c| c.get("exp")?.as_f64());
    let left = ends.filter(|e| e.is_finite()).map_or(how.remember, |ends| {
        let left = (ends - now as f64).clamp(0.0, 86_400.0);
        Duration::from_secs_f64(left)
    });
    how.remember.min(left)
}

async fn ask(worker: &Rc<Worker>, rule: &TokenRule, how: &Introspection, token: &str) -> Told {
    let server = &rule.server;
    let address = server.addresses.first().ok_or("it has no address")?;
    let uri: Uri = rule
        .target
        .parse()
        .map_err(|_| "its address is none".to_owned())?;
    let mut fields = Fields::with_capacity(4);
    fields.append(header::HOST, address.host.clone());
    let form = HeaderValue::from_static("application/x-www-form-urlencoded");
    fields.append(header::CONTENT_TYPE, form);
    fields.append(header::ACCEPT, HeaderValue::from_static("application/json"));
    fields.append(header::AUTHORIZATION, how.authorization.clone());
    // RFC 7662 §2.1.
    let mut body = "token_type_hint=access_token&token=".to_owned();
    percent_encode_segment(&mut body, token);
    let mut slot = Some(Outgoing {
        method: Method::POST,
        uri,
        fields,
        body: OutBody::Full(Some(Bytes::from(body))),
    });
    let until = Instant::now() + PATIENCE;
    let sent = worker
        .backends
        .send(server, 0, &mut slot, until, PATIENCE, &|| None);
    let answered = sent.await.map_err(|e| crate::backend::failed(&e))?;
    let status = answered.head.status;
    if !status.is_success() {
        return Err(format!("it answers {status}"));
    }
    let bytes = crate::backend::whole(answered, MAX_ANSWER).await?;
    match serde_json::from_slice(&bytes) {
        Ok(Value::Object(claims)) => match claims.get("active") {
            Some(Value::Bool(true)) => Ok(Some(Arc::new(claims))),
            Some(Value::Bool(false)) => Ok(None),
            _ => Err("its answer does not say whether it is active (RFC 7662 §2.2)".to_owned()),
        },
        _ => Err("its answer is no JSON object".to_owned()),
    }
}
