//! What a provider says: of itself, its keys, and for a code.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http::{Request, header};
use porch_proof::KeySet;
use serde_json::{Map, Value};
use tokio::time::Instant;

use super::{Came, OpenId};

/// How long the provider may take for one answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// What it says of itself, and its keys, are asked for again after so long.
const OLD: Duration = Duration::from_secs(600);
/// Keys that are not known are asked for no more often than this.
const SOON: Duration = Duration::from_secs(3);
/// Bytes of an answer.
const MOST: usize = 256 << 10;

/// What a provider says of itself (OpenID Connect Discovery 1.0 §3).
#[derive(Clone)]
pub(super) struct Known {
    pub(super) authorization: String,
    token: String,
    in_body: bool,
    pub(super) names_itself: bool,
    pub(super) keys: Arc<KeySet>,
    asked: Instant,
    /// When keys were last asked for because one was missing.
    missed: Option<Instant>,
}

impl OpenId {
    /// The ID token that a code is given for (RFC 6749 §4.1.3, RFC 7636 §4.5).
    pub(super) async fn redeem(&self, known: &Known, came: &Came<'_>) -> Result<String, String> {
        let mut fields = vec![
            ("grant_type", "authorization_code"),
            ("code", came.code),
            ("redirect_uri", came.to),
            ("code_verifier", came.verifier),
        ];
        let mut request = Request::post("/").header(header::ACCEPT, "application/json");
        match &self.secret {
            Some(secret) if !known.in_body => {
                // Both are encoded as in forms before they are put together (RFC 6749 §2.3.1).
                let pair = format!("{}:{}", encoded(&self.config.client), encoded(secret));
                let value = format!("Basic {}", porch_soap::to_base64(pair.as_bytes()));
                request = request.header(header::AUTHORIZATION, value);
            }
            Some(secret) => fields.extend([
                ("client_id", self.config.client.as_str()),
                ("client_secret", secret),
            ]),
            None => fields.push(("client_id", &self.config.client)),
        }
        let request = request
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .body(Bytes::from(form(&fields)));
        let request = request.map_err(|e| e.to_string())?;
        let answer = self.ask(&known.token, request).await?;
        let token = answer.get("id_token").and_then(Value::as_str);
        Ok(token.ok_or("it gives no ID token")?.to_owned())
    }

    /// What is known of the provider, asked for where that is old; its keys anew where one is missing.
    pub(super) async fn known(&self, missing: bool) -> Result<Known, String> {
        let mut own = self.known.lock().await;
        let is_fresh = |known: &&Known| match (missing, known.missed) {
            (true, missed) => missed.is_some_and(|at| at.elapsed() < SOON),
            (false, _) => known.asked.elapsed() < OLD,
        };
        if let Some(known) = own.as_ref().filter(is_fresh) {
            return Ok(known.clone());
        }
        let asked = self.discovered().await;
        match (asked, own.as_ref()) {
            (Ok(mut known), _) => {
                known.missed = missing.then(Instant::now);
                *own = Some(known.clone());
                Ok(known)
            }
            // One that is away for a moment takes nothing from what is known of it.
            (Err(_), Some(known)) if !missing => Ok(known.clone()),
            (Err(why), _) => Err(why),
        }
    }

    async fn discovered(&self) -> Result<Known, String> {
        let issuer = self.config.issuer.trim_end_matches('/');
        let at = format!("{issuer}/.well-known/openid-configuration");
        let said = self.get(&at).await?;
        let text = |name: &str| said.get(name).and_then(Value::as_str);
        // One that calls itself otherwise is another (Discovery §4.3).
        if text("issuer") != Some(&self.config.issuer) {
            let own = short(text("issuer").unwrap_or_default());
            return Err(format!(
                "{at} names itself “{own}”, and not “{}”",
                self.config.issuer
            ));
        }
        let address = |name: &str| match text(name) {
            Some(address) if is_address(address) => Ok(address.to_owned()),
            _ => Err(format!("{at} has no address in “{name}”")),
        };
        let keys_at = address("jwks_uri")?;
        let keys = serde_json::to_vec(&self.get(&keys_at).await?).unwrap_or_default();
        let keys = KeySet::read(&keys).map_err(|e| format!("{keys_at}: {e}"))?;
        let methods = said.get("token_endpoint_auth_methods_supported");
        let methods = methods.and_then(Value::as_array);
        let takes = |name: &str| methods.is_some_and(|all| all.iter().any(|m| m == name));
        Ok(Known {
            authorization: address("authorization_endpoint")?,
            token: address("token_endpoint")?,
            in_body: takes("client_secret_post") && !takes("client_secret_basic"),
            names_itself: said.get("authorization_response_iss_parameter_supported")
                == Some(&Value::Bool(true)),
            keys: Arc::new(keys),
            asked: Instant::now(),
            missed: None,
        })
    }

    async fn get(&self, at: &str) -> Result<Map<String, Value>, String> {
        let request = Request::get("/").header(header::ACCEPT, "application/json");
        let request = request.body(Bytes::new()).map_err(|e| e.to_string())?;
        self.ask(at, request).await
    }

    /// One answer, an object.
    async fn ask(
        &self,
        at: &str,
        mut request: Request<Bytes>,
    ) -> Result<Map<String, Value>, String> {
        let url = reqwest::Url::parse(at).map_err(|e| format!("{at}: {e}"))?;
        let target = match url.query() {
            Some(query) => format!("{}?{query}", url.path()),
            None => url.path().to_owned(),
        };
        *request.uri_mut() = target.parse().map_err(|_| format!("{at} is no address"))?;
        let got = porch_fetch::call(at, request, &self.allowed, PATIENCE).await;
        let got = got.map_err(|e| e.to_string())?;
        if !got.status.is_success() {
            let said = serde_json::from_slice::<Value>(&got.body).unwrap_or_default();
            let why = said["error"].as_str().map(|e| format!(" ({})", short(e)));
            return Err(format!(
                "{at} answers {}{}",
                got.status.as_u16(),
                why.unwrap_or_default()
            ));
        }
        if got.body.len() > MOST {
            return Err(format!("{at} answers more than {MOST} bytes"));
        }
        serde_json::from_slice(&got.body).map_err(|_| format!("{at} answers no JSON object"))
    }
}

pub(super) fn is_address(text: &str) -> bool {
    let url = reqwest::Url::parse(text);
    url.is_ok_and(|u| matches!(u.scheme(), "http" | "https") && u.has_host())
}

/// As much as can be told.
pub(super) fn short(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(80).collect()
}

/// As in forms (application/x-www-form-urlencoded).
pub(super) fn encoded(text: &str) -> String {
    form(&[("", text)]).split_off(1)
}

pub(super) fn form(fields: &[(&str, &str)]) -> String {
    let mut url = reqwest::Url::parse("http://x/").expect("this is an address");
    url.query_pairs_mut().extend_pairs(fields);
    url.query().unwrap_or_default().to_owned()
}
