//! Sending events, and asking those who are to take them.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::http::{HeaderMap, Request, header};
use bytes::Bytes;
use porch_fetch::{Allowed, Got};
use porch_proof::{Message, Saying, digest_of};
use porch_store::entity::{message, webhook};
use porch_store::{Due, Fate, MOST_DELIVERIES, now_ms};
use serde_json::{Value, json};
use tokio::sync::Semaphore;
use url::{Position, Url};

use super::own_key;
use crate::app::App;

/// Whoever takes an event has so long to answer.
const WITHIN: Duration = Duration::from_secs(10);
/// An answer may have at most so many bytes: nothing of it is read.
const MOST: usize = 64 << 10;
/// So many webhooks are sent something at once.
const AT_ONCE: usize = 50;
/// Whoever takes events has them for a minute: what is not sent by then may be sent by another node.
const AT_MOST: Duration = Duration::from_secs(40);
/// The longest gap between two attempts, in milliseconds.
const LONGEST: i64 = 6 * 3_600_000;
/// What events are in (CloudEvents JSON format §3, structured mode of the HTTP binding §3.2).
const MEDIA_TYPE: &str = "application/cloudevents+json; charset=UTF-8";

/// How long to wait behind so many attempts, in milliseconds: ten seconds, three times as long each time, at most six hours.
fn gap(attempts: i32) -> i64 {
    let times = u32::try_from(attempts.saturating_sub(1)).unwrap_or(0);
    let gap = 3_i64.checked_pow(times.min(20)).unwrap_or(i64::MAX);
    gap.saturating_mul(10_000).min(LONGEST)
}

/// Sends events as they come: to each webhook one behind the other, so that one that is slow keeps up none but itself.
pub(crate) async fn send(app: Arc<App>) {
    let room = Arc::new(Semaphore::new(AT_ONCE));
    let under_way: Arc<Mutex<HashSet<i64>>> = Arc::default();
    loop {
        let busy: Vec<i64> = locked(&under_way).iter().copied().collect();
        let most = room.available_permits().min(20) as u64;
        let due = match app.database.store() {
            Ok(store) if most > 0 => store.deliveries_due(most, &busy).await,
            _ => Ok(Vec::new()),
        };
        let due = due.unwrap_or_default();
        if due.is_empty() {
            let some = app.hooks.some.notified();
            let _ = tokio::time::timeout(Duration::from_secs(5), some).await;
            continue;
        }
        let mut by_hook: BTreeMap<i64, Vec<Due>> = BTreeMap::new();
        for one in due {
            by_hook.entry(one.webhook.id).or_default().push(one);
        }
        for (hook, due) in by_hook {
            let Ok(permit) = room.clone().acquire_owned().await else {
                return;
            };
            locked(&under_way).insert(hook);
            let (app, under_way) = (app.clone(), under_way.clone());
            tokio::spawn(async move {
                one_by_one(&app, due).await;
                locked(&under_way).remove(&hook);
                drop(permit);
                app.hooks.wake();
            });
        }
    }
}

fn locked(of: &Mutex<HashSet<i64>>) -> MutexGuard<'_, HashSet<i64>> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Sends the events of one webhook; where one is not taken, or they take too long, the rest waits.
async fn one_by_one(app: &App, due: Vec<Due>) {
    let begun = Instant::now();
    let mut next_at = None;
    for one in due {
        if next_at.is_none() && begun.elapsed() > AT_MOST {
            next_at = Some(now_ms());
        }
        let Some(at) = next_at else {
            next_at = deliver(app, &one).await;
            continue;
        };
        let Ok(store) = app.database.store() else {
            return;
        };
        if let Err(e) = store.delivery_left(one.delivery.id, at).await {
            tracing::warn!("event {} cannot be left for later: {e}", one.delivery.id);
        }
    }
}

fn allowed(app: &App, hook: &webhook::Model) -> Allowed {
    Allowed {
        local: app.config.webhooks_inside,
        // What teams write is a stranger's word.
        only_public: hook.team_id.is_some() && !app.config.webhooks_inside,
        most: MOST,
        ..Allowed::default()
    }
}

/// The DNS expression by which this service is known (HTTP Webhook §4.1).
fn origin(app: &App) -> &str {
    let own = app.config.portal.split_once("://");
    own.map_or(app.config.portal.as_str(), |(_, host)| host)
}

/// Asks whoever is there whether they agree to be sent events (HTTP Webhook §4, abuse protection).
///
/// # Errors
/// Why they do not.
pub(super) async fn agrees(app: &App, hook: &webhook::Model) -> Result<(), String> {
    let url = Url::parse(&hook.url).map_err(|e| e.to_string())?;
    let request = Request::builder()
        .method("OPTIONS")
        .uri(&url[Position::BeforePath..Position::AfterQuery])
        .header("webhook-request-origin", origin(app))
        .body(Bytes::new())
        .map_err(|e| e.to_string())?;
    let got = porch_fetch::call(&hook.url, request, &allowed(app, hook), WITHIN).await;
    let got = got.map_err(|e| e.to_string())?;
    let told = got.fields.get("webhook-allowed-origin");
    let told = told.and_then(|v| v.to_str().ok()).map(str::trim);
    let help = "whoever is there agrees by answering OPTIONS with the field WebHook-Allowed-Origin";
    match told {
        Some(one) if one == "*" || one.eq_ignore_ascii_case(origin(app)) => Ok(()),
        Some(_) => Err(format!("it agrees to another origin than {}", origin(app))),
        None => Err(format!(
            "it answered {} and did not agree: {help}",
            got.status
        )),
    }
}

/// A message as an event (CloudEvents §3.1).
fn event(source: &str, message: &message::Model) -> Value {
    let at = chrono::DateTime::from_timestamp_millis(message.at).unwrap_or_default();
    let mut detail = message.detail.clone();
    if let Some(all) = detail.as_object_mut() {
        // By which it is known that it was told already.
        all.remove("about");
    }
    let mut event = json!({
        "specversion": "1.0",
        "id": message.id.to_string(),
        "source": source,
        "type": format!("elm-porch.{}", message.kind),
        "time": at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true),
        "datacontenttype": "application/json",
        "data": { "subject": message.subject, "text": message.text, "detail": detail },
    });
    if let Some(consumer) = message.detail["consumer"].as_str() {
        event["subject"] = consumer.into();
    }
    event
}

/// A request as its signature takes it apart.
struct Sent<'r> {
    url: &'r Url,
    fields: &'r HeaderMap,
}

impl Message for Sent<'_> {
    fn method(&self) -> &str {
        "POST"
    }

    fn scheme(&self) -> &str {
        self.url.scheme()
    }

    fn authority(&self) -> &str {
        &self.url[Position::BeforeHost..Position::AfterPort]
    }

    fn path(&self) -> &str {
        self.url.path()
    }

    fn query(&self) -> Option<&str> {
        self.url.query()
    }

    fn field(&self, name: &str) -> Vec<&[u8]> {
        let all = self.fields.get_all(name).into_iter();
        all.map(header::HeaderValue::as_bytes).collect()
    }
}

async fn request(app: &App, due: &Due) -> Result<Request<Bytes>, String> {
    let url = Url::parse(&due.webhook.url).map_err(|e| e.to_string())?;
    let body = event(&app.config.portal, &due.message).to_string();
    let body = Bytes::from(body);
    let mut request = Request::post(&url[Position::BeforePath..Position::AfterQuery])
        .header(header::CONTENT_TYPE, MEDIA_TYPE)
        .header("content-digest", digest_of(&body))
        .body(body)
        .map_err(|e| e.to_string())?;
    let own = own_key(app).await.map_err(|e| {
        tracing::warn!("the key for events cannot be had: {e:?}");
        "it cannot be signed now".to_owned()
    })?;
    let saying = Saying {
        keyid: &own.keyid,
        created: now_ms() / 1000,
        nonce: "",
        tag: Some("event"),
    };
    let sent = Sent {
        url: &url,
        fields: request.headers(),
    };
    let components = ["@method", "@target-uri", "content-type", "content-digest"];
    let (input, signature) = own.signer.sign(&sent, &components, &saying)?;
    for (name, value) in [("signature-input", input), ("signature", signature)] {
        let value = header::HeaderValue::from_str(&value).map_err(|e| e.to_string())?;
        request.headers_mut().insert(name, value);
    }
    Ok(request)
}

/// Sends an event. When the webhook is tried again, where it was not taken.
async fn deliver(app: &App, due: &Due) -> Option<i64> {
    let got = match request(app, due).await {
        Ok(request) => {
            let allowed = allowed(app, &due.webhook);
            let got = porch_fetch::call(&due.webhook.url, request, &allowed, WITHIN).await;
            got.map_err(|e| e.to_string())
        }
        Err(why) => Err(why),
    };
    let problem = match &got {
        Ok(got) if got.status.is_success() => String::new(),
        Ok(got) => format!("it answered {}", got.status),
        Err(why) => why.clone(),
    };
    let attempts = due.delivery.attempts;
    let (state, next_at) = match &got {
        Ok(got) if got.status.is_success() => ("delivered", None),
        // It is gone for good (HTTP Webhook §2.2).
        Ok(got) if got.status.as_u16() == 410 => ("given-up", None),
        _ if attempts >= MOST_DELIVERIES => ("given-up", None),
        Ok(got) => ("waiting", Some(now_ms() + asked_for(got, gap(attempts)))),
        Err(_) => ("waiting", Some(now_ms() + gap(attempts))),
    };
    let fate = Fate {
        state,
        status: got.as_ref().ok().map(|g| g.status.as_u16()),
        problem: &problem,
        next_at,
    };
    let later = next_at.or((state != "delivered").then(now_ms));
    let Ok(store) = app.database.store() else {
        return later;
    };
    let noted = async {
        store.delivery_tried(due.delivery.id, &fate).await?;
        if got.is_ok_and(|g| g.status.as_u16() == 410) {
            let change = store.change("the webhook").await?;
            let hook = &due.webhook;
            change.pause_webhook(hook.team_id, hook.id, true).await?;
            let object = format!("webhook {}", hook.id);
            change
                .audit("paused", &object, json!({ "why": 410 }))
                .await?;
            change.commit().await?;
            let why = "it answered 410 Gone: nothing is sent there any more";
            store.webhook_asked(hook.id, false, why).await?;
        }
        Ok::<(), porch_store::StoreError>(())
    };
    if let Err(e) = noted.await {
        tracing::warn!(
            "what became of event {} cannot be noted: {e}",
            due.delivery.id
        );
    }
    later
}

/// How long whoever is there wants to be left alone (RFC 9110 §10.2.3, in seconds), at least the usual gap.
fn asked_for(got: &Got, gap: i64) -> i64 {
    let told = got.fields.get(header::RETRY_AFTER);
    let told = told.and_then(|v| v.to_str().ok()?.trim().parse::<i64>().ok());
    told.map_or(gap, |s| s.saturating_mul(1000).clamp(gap, LONGEST.max(gap)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gaps_grow_and_do_not_grow_for_ever() {
        let gaps: Vec<i64> = [1, 2, 3, 4, 8, 9, 100].into_iter().map(gap).collect();
        let hour = 3_600_000;
        let expected = [
            10_000,
            30_000,
            90_000,
            270_000,
            6 * hour,
            6 * hour,
            6 * hour,
        ];
        assert_eq!(gaps[..4], expected[..4]);
        assert_eq!(gaps[5..], expected[5..]);
        let all: i64 = (1..MOST_DELIVERIES).map(gap).sum();
        assert!((24 * hour..48 * hour).contains(&all), "{all}");
    }

    #[test]
    fn a_message_is_an_event_with_what_one_must_have() {
        let message = message::Model {
            id: 7,
            at: 1_700_000_000_123,
            kind: "request-granted".into(),
            team_id: Some(1),
            subject: "Open Quay is granted".into(),
            text: "x".into(),
            detail: json!({ "consumer": "gull-app", "about": "hidden" }),
            read_at: None,
        };
        let event = event("https://developers.example", &message);
        // CloudEvents §3.1.1, required attributes; and those that are given besides.
        assert_eq!(
            event,
            json!({
                "specversion": "1.0", "id": "7", "source": "https://developers.example",
                "type": "elm-porch.request-granted", "time": "2023-11-14T22:13:20.123Z",
                "datacontenttype": "application/json", "subject": "gull-app",
                "data": { "subject": "Open Quay is granted", "text": "x", "detail": { "consumer": "gull-app" } },
            })
        );
    }
}
