//! Keys of issuers: fetched when the first token comes, and again when they are old or a token names one that is not among them.
//!
//! However many tokens wait, one request asks. An issuer that is away takes nothing from what is known of it; one that is asked
//! for keys which it has not is asked no more than once in a while, whoever makes such tokens up.

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderValue, Method, Uri, header};
use porch_facade::TokenRule;
use porch_proof::KeySet;
use serde_json::Value;
use tokio::time::Instant;

use crate::backend::{Answered, Backends};
use crate::body::OutBody;
use crate::outgoing::{Fields, Outgoing};
use crate::worker::Worker;

/// A set of keys, or a discovery document, has at most so many bytes.
const MAX_ANSWER: usize = 256 << 10;
/// Keys are asked for again after so long.
const OLD: Duration = Duration::from_secs(600);
/// Not more often than this, for keys that nobody has.
const SOON: Duration = Duration::from_secs(3);
/// After a failure nobody asks again for so long.
const PAUSE: Duration = Duration::from_secs(2);
/// How long an issuer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// More than this many are not kept.
const MOST: usize = 1000;

/// The keys of all issuers, by where they are asked for.
#[derive(Default)]
pub(crate) struct Issuers(Mutex<HashMap<u64, Arc<Slot>>>);

#[derive(Default)]
struct Slot {
    known: Mutex<Known>,
    asking: Arc<tokio::sync::Mutex<()>>,
}

#[derive(Clone, Default)]
struct Known {
    keys: Option<Arc<KeySet>>,
    asked: Option<Instant>,
    failed: Option<(String, Instant)>,
}

impl Issuers {
    fn slot(&self, rule: &TokenRule) -> Arc<Slot> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let id = rule.server.identity;
        if all.len() >= MOST && !all.contains_key(&id) {
            all.clear();
        }
        all.entry(id).or_default().clone()
    }

    /// The keys of an issuer; newer ones than `seen`, where a token named one that is not among these.
    ///
    /// # Errors
    /// Why there are none.
    pub(crate) async fn keys(
        &self,
        worker: &Rc<Worker>,
        rule: &Arc<TokenRule>,
        seen: Option<&Arc<KeySet>>,
    ) -> Result<Arc<KeySet>, String> {
        let slot = self.slot(rule);
        let fresh = |known: &Known, now: Instant| {
            let age = known.asked.map(|asked| now - asked);
            let keys = known.keys.as_ref()?;
            let bound = match seen {
                // Others may have fetched them since this token was read.
                Some(seen) if Arc::ptr_eq(seen, keys) => SOON,
                _ => OLD,
            };
            age.is_some_and(|age| age < bound).then(|| keys.clone())
        };
        let known = slot.known();
        if let Some(keys) = fresh(&known, Instant::now()) {
            return Ok(keys);
        }
        if let (None, Some(keys)) = (seen, known.keys) {
            // Nobody waits for newer ones: an issuer that is slow slows nothing down.
            if let Ok(turn) = slot.asking.clone().try_lock_owned() {
                let (worker, rule, slot) = (worker.clone(), rule.clone(), slot.clone());
                tokio::task::spawn_local(async move {
                    let _ = slot.renewed(&worker.backends, &rule).await;
                    drop(turn);
                });
            }
            return Ok(keys);
        }
        let _turn = slot.asking.lock().await;
        let known = slot.known();
        let now = Instant::now();
        if let Some(keys) = fresh(&known, now) {
            return Ok(keys);
        }
        slot.renewed(&worker.backends, rule).await
    }
}

impl Slot {
    fn known(&self) -> Known {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.clone()
    }

    /// The keys as the issuer gives them now; those that are known, where it gives none. Whoever calls this has the turn.
    async fn renewed(&self, backends: &Backends, rule: &TokenRule) -> Result<Arc<KeySet>, String> {
        let (known, now) = (self.known(), Instant::now());
        if let Some((why, until)) = &known.failed
            && now < *until
        {
            return known.keys.clone().ok_or_else(|| why.clone());
        }
        let fetched = tokio::time::timeout(PATIENCE, fetch(backends, rule)).await;
        let fetched = fetched.unwrap_or_else(|_| Err("it does not answer in time".to_owned()));
        let mut own = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match fetched {
            Ok(keys) => {
                let keys = Arc::new(keys);
                *own = Known {
                    keys: Some(keys.clone()),
                    asked: Some(now),
                    failed: None,
                };
                Ok(keys)
            }
            Err(why) => {
                let why = format!("{} gives no keys: {why}", rule.server.name);
                own.failed = Some((why.clone(), Instant::now() + PAUSE));
                match &own.keys {
                    Some(keys) => {
                        tracing::warn!("{why}; those that are known are used");
                        Ok(keys.clone())
                    }
                    None => Err(why),
                }
            }
        }
    }
}

async fn fetch(backends: &Backends, rule: &TokenRule) -> Result<KeySet, String> {
    let first = get(backends, rule, &rule.target).await?;
    if !rule.discovers {
        return KeySet::read(&first);
    }
    let document: Value = serde_json::from_slice(&first)
        .map_err(|e| format!("its discovery document is no JSON: {e}"))?;
    let text = |name: &str| document.get(name).and_then(Value::as_str);
    // OpenID Connect Discovery 1.0 §4.3: who says that it is another is another.
    if text("issuer") != Some(&rule.expected.issuer) {
        let said: String = text("issuer")
            .unwrap_or("nobody")
            .chars()
            .take(100)
            .collect();
        return Err(format!("its discovery document is of {said}"));
    }
    let place = text("jwks_uri").ok_or("its discovery document has no jwks_uri")?;
    let uri: Uri = place
        .parse()
        .map_err(|_| "its jwks_uri is no address".to_owned())?;
    let own = rule.server.addresses.first();
    let same = own.is_some_and(|own| {
        let authority = uri.authority().map(|a| a.as_str());
        uri.scheme_str() == Some(own.scheme()) && authority == Some(own.authority.as_str())
    });
    if !same {
        let shown: String = place.chars().take(100).collect();
        return Err(format!(
            "its keys are elsewhere, at {shown}: name that with `keys:`"
        ));
    }
    let target = uri.path_and_query().map_or("/", |p| p.as_str());
    KeySet::read(&get(backends, rule, target).await?)
}

async fn get(backends: &Backends, rule: &TokenRule, target: &str) -> Result<Bytes, String> {
    let server = &rule.server;
    let address = server.addresses.first().ok_or("it has no address")?;
    let uri: Uri = target
        .parse()
        .map_err(|_| "its address is none".to_owned())?;
    let mut fields = Fields::with_capacity(2);
    fields.append(header::HOST, address.host.clone());
    fields.append(header::ACCEPT, HeaderValue::from_static("application/json"));
    let mut slot = Some(Outgoing {
        method: Method::GET,
        uri,
        fields,
        body: OutBody::Empty,
    });
    let until = Instant::now() + PATIENCE;
    let sent = backends.send(server, 0, &mut slot, until, PATIENCE, &|| None);
    let answered: Answered = sent.await.map_err(|e| crate::backend::failed(&e))?;
    let status = answered.head.status;
    if !status.is_success() {
        return Err(format!("it answers {status}"));
    }
    crate::backend::whole(answered, MAX_ANSWER).await
}
