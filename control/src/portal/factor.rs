//! A second factor: codes of an authenticator by time (RFC 6238), and codes that are each good once for who has lost it.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::StatusCode;
use data_encoding::BASE32_NOPAD;
use porch_store::entity::person;
use serde::{Deserialize, Serialize};
use serde_json::json;
use totp_rs::{Builder, Secret, Totp};
use utoipa::ToSchema;

use super::account::{shown_again, title, write_of_change};
use super::session::Caller;
use crate::api::{Json, too_many};
use crate::app::App;
use crate::error::ApiError;

/// So many codes are made that are each good once.
const CODES: usize = 8;

/// The factor of a secret (RFC 6238 with what authenticators know: SHA-1, six digits, thirty seconds, one step early or late).
fn factor(app: &App, email: &str, secret: &str) -> Result<Totp, ApiError> {
    let wrong = || ApiError::new(400, "The secret is none", "Begin again.");
    let secret = Secret::try_from_base32(secret.trim()).map_err(|_| wrong())?;
    // What it is called there must not hold what its parts are told apart by.
    let title = title(app).replace(':', " ");
    let made = Builder::new()
        .with_secret(secret)
        .with_account_name(email)
        .with_issuer(Some(title));
    made.build().map_err(|_| wrong())
}

fn now() -> u64 {
    u64::try_from(chrono::Utc::now().timestamp()).unwrap_or(0)
}

fn random<const N: usize>() -> Result<[u8; N], ApiError> {
    let mut random = [0u8; N];
    let failed = |_| ApiError::new(500, "The system gives no random bytes", "");
    getrandom::fill(&mut random).map_err(failed)?;
    Ok(random)
}

/// Whether a code is the second factor's of whoever showed their password; without a factor nothing is asked for.
pub(super) async fn shown(
    app: &App,
    person: &person::Model,
    code: &str,
    address: IpAddr,
) -> Result<(), ApiError> {
    let store = app.database.store()?;
    let Some(secret) = store.factor_of(person)? else {
        return Ok(());
    };
    let code: String = code.chars().filter(|c| c.is_ascii_alphanumeric()).collect();
    if code.is_empty() {
        let help = "It is in your authenticator; or use one of the codes that you kept.";
        return Err(ApiError::new(401, "A code is needed too", help).needing("code"));
    }
    // Codes are guessed apart from passwords, and as slowly.
    let name = format!("code {}", person.email);
    let attempt = app.people.begin(&name, address).map_err(too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let digits = code.len() == 6 && code.bytes().all(|b| b.is_ascii_digit());
    let good = match digits {
        true => match factor(app, &person.email, &secret)?.check(&code, now()) {
            Some(step) => {
                let step = i64::try_from(step).unwrap_or(i64::MAX);
                store.use_factor_step(person.id, step).await?
            }
            None => false,
        },
        false => {
            let code = code.to_ascii_uppercase();
            store.use_factor_code(person.id, &code).await?
        }
    };
    if !good {
        let help = "Each code is good once: wait for the next one.";
        return Err(ApiError::new(401, "The code is wrong or was used", help).needing("code"));
    }
    app.people.succeeded(&attempt);
    Ok(())
}

/// One shows once more that it is oneself.
#[derive(Deserialize, ToSchema)]
pub(crate) struct Again {
    #[serde(default)]
    password: String,
    /// The code of the second factor, where there is one.
    #[serde(default)]
    code: String,
}

/// A second factor that is not set yet.
#[derive(Serialize, ToSchema)]
pub(crate) struct NewFactor {
    /// In base 32 (RFC 4648 §6).
    secret: String,
    /// The same as an address that authenticators read.
    address: String,
    /// The same as a picture (SVG).
    picture: String,
}

/// Draws a secret for an authenticator. It is asked for from when a code of it is shown.
#[utoipa::path(post, path = "/api/account/factor", operation_id = "begin_factor", request_body = Again, responses((status = 200, body = NewFactor), (status = 401)))]
pub(crate) async fn begin(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<Again>,
) -> Result<Json<NewFactor>, ApiError> {
    shown_again(&app, &caller, &body.password, peer.ip()).await?;
    let secret = BASE32_NOPAD.encode(&random::<20>()?);
    let failed = |_| ApiError::new(500, "The secret cannot be shown", "");
    let address = factor(&app, caller.who(), &secret)?.to_url();
    let address = address.map_err(failed)?;
    let code = qrcode::QrCode::new(address.as_bytes());
    let code = code.map_err(|_| ApiError::new(500, "The secret cannot be shown", ""))?;
    let mut picture = code.render::<qrcode::render::svg::Color<'_>>();
    let picture = picture.min_dimensions(200, 200).build();
    Ok(Json(NewFactor {
        secret,
        address,
        picture,
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SettingFactor {
    #[serde(default)]
    password: String,
    /// What was drawn.
    secret: String,
    /// A code of it.
    code: String,
}

/// Codes that are each good once.
#[derive(Serialize, ToSchema)]
pub(crate) struct FactorCodes {
    codes: Vec<String>,
}

/// Asks for a second factor from now on. The answer is the only place where the codes for a lost authenticator are shown.
#[utoipa::path(put, path = "/api/account/factor", operation_id = "set_factor", request_body = SettingFactor, responses((status = 200, body = FactorCodes), (status = 400), (status = 401), (status = 409)))]
pub(crate) async fn set(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<SettingFactor>,
) -> Result<Json<FactorCodes>, ApiError> {
    shown_again(&app, &caller, &body.password, peer.ip()).await?;
    let factor = factor(&app, caller.who(), &body.secret)?;
    let code: String = body.code.split_whitespace().collect();
    let Some(step) = factor.check(&code, now()) else {
        let help = "Is the clock of your device right?";
        return Err(ApiError::new(400, "The code is not of this secret", help));
    };
    let mut codes = Vec::new();
    for _ in 0..CODES {
        codes.push(BASE32_NOPAD.encode(&random::<10>()?));
    }
    let change = app.database.store()?.change(caller.who()).await?;
    let person = held(&change, &caller).await?;
    if person.factor.is_some() {
        let help = "Take it away first.";
        return Err(ApiError::new(409, "There is a second factor already", help));
    }
    let step = i64::try_from(step).unwrap_or(i64::MAX);
    let own = (body.secret.trim(), step);
    change.set_factor(person, Some(own), &codes).await?;
    done(&app, change, &caller, "A second factor was set").await?;
    Ok(Json(FactorCodes { codes }))
}

/// Asks for no second factor any more.
#[utoipa::path(delete, path = "/api/account/factor", operation_id = "remove_factor", request_body = Again, responses((status = 204), (status = 401)))]
pub(crate) async fn remove(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<Again>,
) -> Result<StatusCode, ApiError> {
    let person = shown_again(&app, &caller, &body.password, peer.ip()).await?;
    shown(&app, &person, &body.code, peer.ip()).await?;
    let change = app.database.store()?.change(caller.who()).await?;
    let person = held(&change, &caller).await?;
    change.set_factor(person, None, &[]).await?;
    done(&app, change, &caller, "The second factor was taken away").await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Whoever is signed in, whom nobody else changes meanwhile.
async fn held(change: &porch_store::Change, caller: &Caller) -> Result<person::Model, ApiError> {
    let found = change.held_person(caller.who()).await?;
    found.ok_or_else(|| ApiError::missing("account of yours"))
}

async fn done(
    app: &App,
    change: porch_store::Change,
    caller: &Caller,
    what: &str,
) -> Result<(), ApiError> {
    write_of_change(app, &change, caller.who(), what).await?;
    let object = format!("person {}", caller.who());
    let detail = json!({ "factor": what });
    change.audit("changed", &object, detail).await?;
    change.commit().await?;
    app.told();
    Ok(())
}
