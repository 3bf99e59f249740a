//! The crew's login: an issuer of tokens with discovery, keys that rotate, and introspection.

use std::sync::{Arc, Mutex, PoisonError};

use axum::extract::{Query, RawQuery, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Response};
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
/// What signs people in by it: its name, its secret.
const PAGES: [(&str, &str); 2] = [
    ("porch-console", "three long blasts"),
    ("porch-portal", "three long blasts"),
];
/// Whom it knows: what it calls them for ever, what they are called, and their groups.
const PEOPLE: [(&str, &str, &[&str]); 3] = [
    ("crew-11", "mikkel", &["harbour-masters", "deck"]),
    ("crew-23", "sunniva", &["deck"]),
    ("crew-42", "ravn", &["galley"]),
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

/// What somebody signed in for, until its code is redeemed.
struct Granted {
    code: String,
    person: usize,
    asked: Asks,
}

/// Its keys, the newest last, how many there were, and codes that are not redeemed yet.
#[derive(Default)]
struct Kept {
    keys: Vec<Own>,
    made: usize,
    granted: Vec<Granted>,
}

#[derive(Clone)]
struct Login(Arc<Mutex<Kept>>);

impl Login {
    fn with<T>(&self, f: impl FnOnce(&mut Kept) -> T) -> T {
        f(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// A token, signed with the newest key.
    fn signed(&self, kind: &str, claims: &Value) -> Option<String> {
        self.with(|own| {
            let own = own.keys.last()?;
            let mut head = Header::new(Algorithm::ES256);
            head.typ = Some(kind.into());
            head.kid = Some(own.kid.clone());
            let key = EncodingKey::from_ec_der(&own.pair.serialize_der());
            encode(&head, claims, &key).ok()
        })
    }
}

pub(crate) fn routes() -> Router {
    let first = Kept {
        keys: vec![Own::new(1)],
        made: 1,
        ..Kept::default()
    };
    let login = Login(Arc::new(Mutex::new(first)));
    Router::new()
        .route("/.well-known/openid-configuration", get(discovery))
        .route("/keys", get(keys))
        .route("/sign-in", get(sign_in))
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
        "authorization_endpoint": format!("{issuer}/sign-in"),
        "authorization_response_iss_parameter_supported": true,
        "token_endpoint": format!("{issuer}/token"),
        "code_challenge_methods_supported": ["S256"],
        "introspection_endpoint": format!("{issuer}/introspect"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
    }))
}

async fn keys(State(login): State<Login>) -> Json<Value> {
    let all: Vec<Value> = login.with(|own| own.keys.iter().map(Own::public).collect());
    Json(json!({ "keys": all }))
}

/// Another key from now on; the one before goes on being good, and those before that do not.
async fn rotate(State(login): State<Login>) -> Json<Value> {
    let kid = login.with(|own| {
        own.made += 1;
        own.keys.push(Own::new(own.made));
        if own.keys.len() > 2 {
            own.keys.remove(0);
        }
        format!("tide-{}", own.made)
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
    #[serde(default)]
    code: String,
    #[serde(default)]
    redirect_uri: String,
    #[serde(default)]
    code_verifier: String,
}

/// What a browser is sent here with (OpenID Connect Core 1.0 §3.1.2.1), and who was chosen on the page.
#[derive(Clone, Default, Deserialize)]
struct Asks {
    #[serde(default)]
    client_id: String,
    #[serde(default)]
    redirect_uri: String,
    #[serde(default)]
    state: String,
    #[serde(default)]
    nonce: String,
    #[serde(default)]
    code_challenge: String,
    #[serde(default)]
    person: String,
}

/// The page on which the crew chooses who they are; whoever is chosen is sent back.
async fn sign_in(
    State(login): State<Login>,
    headers: HeaderMap,
    RawQuery(query): RawQuery,
    Query(asked): Query<Asks>,
) -> Response {
    if !PAGES.iter().any(|(name, _)| *name == asked.client_id) {
        return refused(StatusCode::BAD_REQUEST, "unauthorized_client");
    }
    let with = if asked.redirect_uri.contains('?') {
        '&'
    } else {
        '?'
    };
    let issuer = issuer(&headers);
    let back = |what: &str| {
        let to = format!(
            "{}{with}{what}&state={}&iss={issuer}",
            asked.redirect_uri, asked.state
        );
        (StatusCode::SEE_OTHER, [(header::LOCATION, to)]).into_response()
    };
    if asked.person == "nobody" {
        return back("error=access_denied");
    }
    let chosen = PEOPLE.iter().position(|(_, name, _)| *name == asked.person);
    let Some(person) = chosen else {
        let query = query
            .unwrap_or_default()
            .replace('&', "&amp;")
            .replace('"', "&quot;");
        let one = |name: &str| {
            format!("<li><a href=\"/sign-in?{query}&amp;person={name}\">{name}</a></li>")
        };
        let all: String = PEOPLE.iter().map(|(_, name, _)| one(name)).collect();
        return Html(format!(
            "<!doctype html><html lang=\"en\"><title>Crew login</title><h1>Crew login</h1><p>Who are you?</p><ul>{all}{}</ul></html>",
            one("nobody")
        ))
        .into_response();
    };
    let code = login.with(|own| {
        let code = format!(
            "watch-{}-{}",
            own.granted.len(),
            chrono::Utc::now().timestamp_micros()
        );
        if own.granted.len() > 100 {
            own.granted.remove(0);
        }
        let (own_code, asked) = (code.clone(), asked.clone());
        own.granted.push(Granted {
            code: own_code,
            person,
            asked,
        });
        code
    });
    back(&format!("code={code}"))
}

/// The tokens that a code is given for, once (RFC 6749 §4.1.3, RFC 7636 §4.6).
fn redeemed(login: &Login, headers: &HeaderMap, asked: &Asked) -> Response {
    use base64::Engine;
    let shown = headers
        .get(header::AUTHORIZATION)
        .and_then(|v| v.to_str().ok());
    let pair = shown.and_then(|text| text.strip_prefix("Basic "));
    let pair = pair.and_then(|text| base64::engine::general_purpose::STANDARD.decode(text).ok());
    let pair = String::from_utf8(pair.unwrap_or_default())
        .unwrap_or_default()
        .replace('+', " ");
    let client = PAGES
        .iter()
        .find(|(name, secret)| pair == format!("{name}:{secret}"));
    let Some((client, _)) = client else {
        return refused(StatusCode::UNAUTHORIZED, "invalid_client");
    };
    let granted = login.with(|own| {
        let at = own.granted.iter().position(|g| g.code == asked.code)?;
        Some(own.granted.remove(at))
    });
    let hash = challenge(asked.code_verifier.as_bytes());
    let fits = |g: &Granted| {
        g.asked.client_id == *client
            && g.asked.redirect_uri == asked.redirect_uri
            && g.asked.code_challenge == hash
    };
    let Some(granted) = granted.filter(fits) else {
        return refused(StatusCode::BAD_REQUEST, "invalid_grant");
    };
    let (subject, name, groups) = PEOPLE[granted.person];
    let now = chrono::Utc::now().timestamp();
    let claims = json!({
        "iss": issuer(headers), "aud": client, "sub": subject, "nonce": granted.asked.nonce,
        "preferred_username": name, "email": format!("{name}@crew.example"), "email_verified": true, "groups": groups,
        "iat": now, "exp": now + LASTS,
    });
    match login.signed("JWT", &claims) {
        Some(token) => Json(json!({
            "access_token": "none", "token_type": "Bearer", "expires_in": LASTS, "id_token": token,
        }))
        .into_response(),
        None => refused(StatusCode::INTERNAL_SERVER_ERROR, "server_error"),
    }
}

/// What was said of a verifier before it was shown (RFC 7636 §4.2).
fn challenge(verifier: &[u8]) -> String {
    use base64::Engine;
    let hash = ring::digest::digest(&ring::digest::SHA256, verifier);
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(hash)
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
    if asked.grant_type == "authorization_code" {
        return redeemed(&login, &headers, &asked);
    }
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
    match login.signed("at+jwt", &claims) {
        Some(token) => Json(json!({
            "access_token": token, "token_type": "Bearer", "expires_in": LASTS, "scope": asked.scope,
        }))
        .into_response(),
        None => refused(StatusCode::INTERNAL_SERVER_ERROR, "server_error"),
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
    let public = login.with(|own| {
        let own = own.keys.iter().find(|k| Some(&k.kid) == kid.as_ref());
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
