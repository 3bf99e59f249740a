//! Webhooks: what people are told, sent as events (CloudEvents 1.0.2) by HTTP (CloudEvents HTTP Webhook 1.0.1), signed
//! (RFC 9421), and tried again with growing gaps.

mod send;

use std::sync::Arc;
use std::time::{Duration, Instant};

use porch_proof::{SignedBy, Signer};
use porch_rules::limit::{Limit, States};
use porch_store::entity::{delivery, message, webhook};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use tokio::sync::{Notify, OnceCell};
use url::Url;
use utoipa::ToSchema;

pub(crate) use self::send::send;
use crate::app::App;
use crate::error::ApiError;

/// What may be told, in the order of a caller's life.
const KINDS: [&str; 12] = [
    "request-made",
    "request-granted",
    "request-turned-down",
    "request-withdrawn",
    "quota-near",
    "quota-used-up",
    "key-ending",
    "agreement-ending",
    "deprecation",
    "sunset",
    "break",
    "member",
];
/// So often in an hour whoever is at a webhook of one team may be asked whether they agree.
const ASKED: Limit = Limit::of(30, Duration::from_secs(3600));

/// The service's own key, by which events are signed.
pub(crate) struct OwnKey {
    pub(crate) signer: Signer,
    /// What it is known by: its thumbprint (RFC 7638).
    pub(crate) keyid: String,
    /// Its public part (JWK, RFC 7517).
    pub(crate) jwk: Value,
}

/// What is shared by those who send events.
pub(crate) struct Hooks {
    some: Notify,
    key: OnceCell<OwnKey>,
    asked: States,
    started: Instant,
}

impl Hooks {
    pub(crate) fn new() -> Self {
        Self {
            some: Notify::new(),
            key: OnceCell::new(),
            asked: States::new(),
            started: Instant::now(),
        }
    }

    /// There are events to be sent.
    pub(crate) fn wake(&self) {
        self.some.notify_one();
    }

    pub(crate) fn sweep(&self) {
        self.asked.sweep(self.started.elapsed().as_millis() as u64);
    }

    fn may_ask(&self, team: Option<i64>) -> Result<(), ApiError> {
        let subject = team.map_or(u64::MAX, i64::cast_unsigned);
        let now = self.started.elapsed().as_millis() as u64;
        match self.asked.ask(1, subject, ASKED, 1, now).allowed {
            true => Ok(()),
            false => Err(ApiError::new(
                429,
                "Webhooks were asked too often whether they agree",
                "Try again in an hour.",
            )),
        }
    }
}

/// The service's own key, made the first time that it is needed.
pub(crate) async fn own_key(app: &App) -> Result<&OwnKey, ApiError> {
    let made = app.hooks.key.get_or_try_init(|| async {
        let failed = |why: String| ApiError::new(500, "The key for events cannot be had", why);
        let new = porch_proof::new_key().map_err(failed)?;
        let pem = app.database.store()?.own_key("events", &new).await?;
        let signer = Signer::of(SignedBy::Ed25519, pem.as_bytes()).map_err(failed)?;
        let (jwk, keyid) = signer
            .public()
            .ok_or_else(|| failed("it is none of Ed25519".into()))?;
        let jwk = serde_json::from_str(&jwk).unwrap_or_default();
        Ok::<OwnKey, ApiError>(OwnKey { signer, keyid, jwk })
    });
    made.await
}

/// The keys by which events are signed, as a set (RFC 7517 §5).
pub(crate) async fn key_set(app: &App) -> Result<Value, ApiError> {
    let own = own_key(app).await?;
    let mut jwk = own.jwk.clone();
    jwk["kid"] = own.keyid.as_str().into();
    jwk["use"] = "sig".into();
    Ok(json!({ "keys": [jwk] }))
}

/// A webhook.
#[derive(Serialize, ToSchema)]
pub(crate) struct WebhookView {
    id: i64,
    url: String,
    /// Kinds of messages that are sent; none: all.
    kinds: Vec<String>,
    /// Whether whoever is there agreed to be sent events.
    agreed: bool,
    paused: bool,
    /// Why nothing is sent; empty: it is.
    problem: String,
    made_by: String,
    /// Milliseconds since 1970.
    created_at: i64,
}

impl From<webhook::Model> for WebhookView {
    fn from(w: webhook::Model) -> Self {
        Self {
            kinds: w.kinds(),
            id: w.id,
            url: w.url,
            agreed: w.agreed_at.is_some(),
            paused: w.paused,
            problem: w.problem,
            made_by: w.made_by,
            created_at: w.created_at,
        }
    }
}

/// An event, and what became of it.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryView {
    id: i64,
    /// Kind of the message that it tells.
    kind: String,
    subject: String,
    /// When it was told, in milliseconds since 1970.
    at: i64,
    /// `waiting`, `delivered` or `given-up`.
    state: String,
    attempts: i32,
    /// When it is tried next, in milliseconds since 1970.
    next_at: Option<i64>,
    tried_at: Option<i64>,
    /// What was answered last.
    status: Option<i32>,
    /// Why it was not taken; empty: it was, or was not tried yet.
    problem: String,
}

impl DeliveryView {
    fn of(d: delivery::Model, m: message::Model) -> Self {
        Self {
            id: d.id,
            kind: m.kind,
            subject: m.subject,
            at: d.made_at,
            state: d.state,
            attempts: d.attempts,
            next_at: d.next_at,
            tried_at: d.tried_at,
            status: d.status,
            problem: d.problem,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewWebhook {
    /// Where events are sent, by HTTPS.
    url: String,
    /// Kinds of messages that are sent; all unless given.
    #[serde(default)]
    kinds: Vec<String>,
}

/// Whether events are sent.
#[derive(Deserialize, ToSchema)]
#[serde(try_from = "Map<String, Value>")]
pub(crate) struct WebhookPause {
    pub(crate) paused: bool,
}

/// Of an object alone: a list of one truth would be taken for one otherwise.
impl TryFrom<Map<String, Value>> for WebhookPause {
    type Error = &'static str;

    fn try_from(body: Map<String, Value>) -> Result<Self, Self::Error> {
        let paused = body.get("paused").and_then(Value::as_bool);
        let missing = "`paused` is missing: whether nothing is sent";
        paused.map(|paused| Self { paused }).ok_or(missing)
    }
}

/// Whose webhooks are meant, and who acts.
pub(crate) struct Owner<'a> {
    pub(crate) who: &'a str,
    /// None: the publishers.
    pub(crate) team: Option<i64>,
}

fn tidy_url(app: &App, text: &str) -> Result<String, ApiError> {
    let text = text.trim();
    let wrong = |why: &str| ApiError::new(400, "Events cannot be sent there", why);
    if text.len() > 2000 {
        return Err(wrong("The address has more than 2000 characters."));
    }
    let url = Url::parse(text).map_err(|e| wrong(&format!("“{text}” is no address: {e}.")))?;
    let secure = url.scheme() == "https" || (url.scheme() == "http" && app.config.webhooks_inside);
    if !secure {
        return Err(wrong("The address must begin with https://."));
    }
    if !url.username().is_empty() || url.password().is_some() || url.fragment().is_some() {
        return Err(wrong(
            "An address of events has no name, password or fragment.",
        ));
    }
    Ok(url.to_string())
}

/// An address as the audit has it: what stands behind its `?` may be a secret.
fn without_query(url: &str) -> &str {
    url.split('?').next().unwrap_or_default()
}

fn tidy_kinds(kinds: &[String]) -> Result<Vec<String>, ApiError> {
    let mut tidy: Vec<String> = kinds.iter().map(|k| k.trim().to_owned()).collect();
    tidy.sort_unstable();
    tidy.dedup();
    match tidy.iter().find(|k| !KINDS.contains(&k.as_str())) {
        None => Ok(tidy),
        Some(other) => {
            let help = format!("There are {}.", KINDS.join(", "));
            let title = format!("“{other}” is no kind of message");
            Err(ApiError::new(400, title, help))
        }
    }
}

pub(crate) async fn list(app: &App, owner: &Owner<'_>) -> Result<Vec<WebhookView>, ApiError> {
    let all = app.database.store()?.webhooks(owner.team).await?;
    Ok(all.into_iter().map(WebhookView::from).collect())
}

/// Adds a webhook. Publishers say where their own events go; whoever is at a stranger's address is asked first.
pub(crate) async fn add(
    app: &Arc<App>,
    owner: &Owner<'_>,
    new: &NewWebhook,
) -> Result<WebhookView, ApiError> {
    let (url, kinds) = (tidy_url(app, &new.url)?, tidy_kinds(&new.kinds)?);
    app.hooks.may_ask(owner.team)?;
    let store = app.database.store()?;
    let change = store.change(owner.who).await?;
    let made = change.create_webhook(owner.team, &url, &kinds).await?;
    let object = format!("webhook {}", made.id);
    let detail = json!({ "url": without_query(&url), "kinds": kinds });
    change.audit("added", &object, detail).await?;
    change.commit().await?;
    ask(app, owner, &made).await
}

/// Asks whoever is at a webhook whether they agree to be sent events.
pub(crate) async fn ask(
    app: &Arc<App>,
    owner: &Owner<'_>,
    hook: &webhook::Model,
) -> Result<WebhookView, ApiError> {
    let store = app.database.store()?;
    let asked = match owner.team {
        None => Ok(()),
        Some(_) => send::agrees(app, hook).await,
    };
    let problem = asked.as_ref().err().map_or("", String::as_str);
    store.webhook_asked(hook.id, asked.is_ok(), problem).await?;
    app.hooks.wake();
    Ok(store.webhook(owner.team, hook.id).await?.into())
}

/// Asks once more.
pub(crate) async fn ask_again(
    app: &Arc<App>,
    owner: &Owner<'_>,
    id: i64,
) -> Result<WebhookView, ApiError> {
    let hook = app.database.store()?.webhook(owner.team, id).await?;
    app.hooks.may_ask(owner.team)?;
    ask(app, owner, &hook).await
}

pub(crate) async fn pause(
    app: &App,
    owner: &Owner<'_>,
    id: i64,
    paused: bool,
) -> Result<WebhookView, ApiError> {
    let store = app.database.store()?;
    let change = store.change(owner.who).await?;
    change.pause_webhook(owner.team, id, paused).await?;
    let what = if paused { "paused" } else { "resumed" };
    let object = format!("webhook {id}");
    change.audit(what, &object, json!({})).await?;
    change.commit().await?;
    app.hooks.wake();
    Ok(store.webhook(owner.team, id).await?.into())
}

pub(crate) async fn remove(app: &App, owner: &Owner<'_>, id: i64) -> Result<(), ApiError> {
    let change = app.database.store()?.change(owner.who).await?;
    let gone = change.delete_webhook(owner.team, id).await?;
    let object = format!("webhook {id}");
    let detail = json!({ "url": without_query(&gone.url) });
    change.audit("removed", &object, detail).await?;
    change.commit().await?;
    Ok(())
}

/// Events of a webhook, the newest first, a hundred at a time.
pub(crate) async fn events(
    app: &App,
    owner: &Owner<'_>,
    id: i64,
    before: Option<i64>,
) -> Result<Vec<DeliveryView>, ApiError> {
    let store = app.database.store()?;
    store.webhook(owner.team, id).await?;
    let found = store.deliveries(id, before, 100).await?;
    Ok(found
        .into_iter()
        .map(|(d, m)| DeliveryView::of(d, m))
        .collect())
}

/// Sends an event once more.
pub(crate) async fn again(
    app: &App,
    owner: &Owner<'_>,
    (id, event): (i64, i64),
) -> Result<(), ApiError> {
    let store = app.database.store()?;
    store.webhook(owner.team, id).await?;
    let change = store.change(owner.who).await?;
    change.send_again(id, event).await?;
    let object = format!("webhook {id}");
    let detail = json!({ "event": event });
    change.audit("sent again", &object, detail).await?;
    change.commit().await?;
    app.hooks.wake();
    Ok(())
}
