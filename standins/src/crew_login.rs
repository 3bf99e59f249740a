//! The crew's login: an issuer of tokens with discovery, keys that rotate, and introspection.

use std::sync::{Arc, Mutex, PoisonError};

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Form, Json, Router};
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use rcgen::{KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData};
use serde::Deserialize;
use serde_json::{Value, json};

/// Its clients: name, secret, and the scopes that each may ask for.
const CLIENTS: [(&str, &str, &str); 2] = [
    ("roster-app", "seven bells", "roster harbour-master"),
    ("tide-clock", "low water", "roster"),
];
/// For whom its tokens are.
const AUDIENCE: &str = "skerry-line";
const LASTS: i64 = 300;

/// A key with its name.
struct Own {
    kid: String,
    pair: KeyPair,
}

impl Own {
    fn new(number: usize) -> Self {
        Self {
            kid: format!("tide-{number}"),
            pair: KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).expect("a key can be made"),
        }
    }

    /// As others see it (RFC 7517 §4, RFC 7518 §6.2.1).
    fn public(&self) -> Value {
        use base64::Engine;
        let b64 = |bytes| base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(bytes);
        let point = self.pair.der_bytes();
        json!({
            "kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": self.kid,
            "x": b64(&point[1..33]), "y": b64(&point[33..65]),
        })
    }
}

/// Its keys, the newest last, and how many there were.
#[derive(Clone)]
struct Login(Arc<Mutex<(Vec<Own>, usize)>>);

impl Login {
    fn with<T>(&self, f: impl FnOnce(&mut (Vec<Own>, usize)) -> T) -> T {
        f(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

pub(crate) fn routes() -> Router {
    let login = Login(Arc::new(Mutex::new((vec![Own::new(1)], 1))));
    Router::new()
        .route("/.well-known/openid-configuration", get(discovery))
        .route("/keys", get(keys))
        .route("/token", post(token))
        .route("/introspect", post(introspect))
        .route("/rotate", post(rotate))
        .with_state(login)
}

fn issuer(headers: &HeaderMap) -> String {
    let host = headers.get(header::HOST).and_then(|h| h.to_str().ok());
    format!("http://{}", host.unwrap_or("127.0.0.1"))
}

async fn discovery(headers: HeaderMap) -> Json<Value> {
    let issuer = issuer(&headers);
    Json(json!({
        "issuer": issuer,
        "jwks_uri": format!("{issuer}/keys"),
        "token_endpoint": format!("{issuer}/token"),
        "introspection_endpoint": format!("{issuer}/introspect"),
        "response_types_supported": ["token"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
    }))
}

async fn keys(State(login): State<Login>) -> Json<Value> {
    let all: Vec<Value> = login.with(|(keys, _)| keys.iter().map(Own::public).collect());
    Json(json!({ "keys": all }))
}

/// Another key from now on; the one before goes on being good, and those before that do not.
async fn rotate(State(login): State<Login>) -> Json<Value> {
    let kid = login.with(|(keys, made)| {
        *made += 1;
        keys.push(Own::new(*made));
        if keys.len() > 2 {
            keys.remove(0);
        }
        format!("tide-{made}")
    });
    Json(json!({ "kid": kid }))
}

#[derive(Deserialize)]
struct Asked {
    #[serde(default)]
    grant_type: String,
    #[serde(default)]
    client_id: String,
    #[serde(default)]
    client_secret: String,
    #[serde(default)]
    scope: String,
}

fn refused(status: StatusCode, error: &str) -> Response {
    (status, Json(json!({ "error": error }))).into_response()
}

/// An access token for a client of its own (RFC 6749 §4.4, RFC 9068).
async fn token(
    State(login): State<Login>,
    headers: HeaderMap,
    Form(asked): Form<Asked>,
) -> Response {
    if asked.grant_type != "client_credentials" {
        return refused(StatusCode::BAD_REQUEST, "unsupported_grant_type");
    }
    let known = CLIENTS
        .iter()
        .find(|(name, secret, _)| *name == asked.client_id && *secret == asked.client_secret);
    let Some((name, _, may)) = known else {
        return refused(StatusCode::UNAUTHORIZED, "invalid_client");
    };
    let may: Vec<&str> = may.split(' ').collect();
    if !asked.scope.split_whitespace().all(|s| may.contains(&s)) {
        return refused(StatusCode::BAD_REQUEST, "invalid_scope");
    }
    let now = chrono::Utc::now().timestamp();
    let claims = json!({
        "iss": issuer(&headers), "aud": AUDIENCE, "sub": name, "client_id": name, "scope": asked.scope,
        "iat": now, "exp": now + LASTS, "jti": format!("{now}-{}", chrono::Utc::now().timestamp_subsec_nanos()),
    });
    let made = login.with(|(keys, _)| {
        let own = keys.last().expect("there is a key");
        let mut head = Header::new(Algorithm::ES256);
        head.typ = Some("at+jwt".into());
        head.kid = Some(own.kid.clone());
        let key = EncodingKey::from_ec_der(&own.pair.serialize_der());
        encode(&head, &claims, &key)
    });
    match made {
        Ok(token) => Json(json!({
            "access_token": token, "token_type": "Bearer", "expires_in": LASTS, "scope": asked.scope,
        }))
        .into_response(),
        Err(_) => refused(StatusCode::INTERNAL_SERVER_ERROR, "server_error"),
    }
}

#[derive(Deserialize)]
struct Shown {
    #[serde(default)]
    token: String,
}

/// Whether a token is good (RFC 7662 §2.2): one that is signed with a key of now.
async fn introspect(State(login): State<Login>, Form(shown): Form<Shown>) -> Json<Value> {
    use jsonwebtoken::{DecodingKey, Validation, decode, decode_header};
    let kid = decode_header(&shown.token).ok().and_then(|h| h.kid);
    let public = login.with(|(keys, _)| {
        let own = keys.iter().find(|k| Some(&k.kid) == kid.as_ref());
        own.map(Own::public)
    });
    let claims = public.and_then(|key| {
        let (x, y) = (key["x"].as_str()?, key["y"].as_str()?);
        let key = DecodingKey::from_ec_components(x, y).ok()?;
        let mut valid = Validation::new(Algorithm::ES256);
        valid.set_audience(&[AUDIENCE]);
        decode::<Value>(&shown.token, &key, &valid).ok()
    });
    match claims {
        Some(read) => {
            let mut said = read.claims;
            said["active"] = json!(true);
            Json(said)
        }
        None => Json(json!({ "active": false })),
    }
}
