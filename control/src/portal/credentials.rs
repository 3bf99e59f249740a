//! Other credentials than keys of one's applications: public keys that requests are signed with, and certificates.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use porch_store::entity::credential;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::applications::own;
use super::session::Caller;
use crate::api::{Json, Path, drawn, read_certificate, read_public_key};
use crate::app::App;
use crate::directory::OwnCredential;
use crate::error::ApiError;

/// An application has at most so many of a kind.
const MOST: usize = 20;

/// A public key or a certificate.
#[derive(Serialize, ToSchema)]
pub(crate) struct OwnCredentialView {
    /// `signature`, `certificate`, `token` or `password`.
    kind: String,
    /// What it is known by: of a signature its `keyid`, of a certificate its fingerprint, of a token its client and issuer.
    known_by: String,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
}

impl From<credential::Model> for OwnCredentialView {
    fn from(c: credential::Model) -> Self {
        Self {
            kind: c.kind,
            known_by: c.prefix,
            created_at: c.created_at,
            last_used_at: c.last_used_at,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct OwnPublicKey {
    /// In PEM (RFC 7468 §13) or as a JSON Web Key (RFC 7517); the private key stays where it is.
    public_key: String,
}

/// Takes a public key that requests are signed with (RFC 9421). What it is known by (`keyid`) is drawn here: nobody takes another
/// one's name.
#[utoipa::path(post, path = "/api/applications/{application}/signing-keys", operation_id = "create_own_signing_key", params(("application" = String, Path)), request_body = OwnPublicKey, responses((status = 201, body = OwnCredentialView), (status = 400), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn create_signing_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(body): Json<OwnPublicKey>,
) -> Result<(StatusCode, Json<OwnCredentialView>), ApiError> {
    let of = own(&app, &caller, &name).await?;
    let kept = read_public_key(&body.public_key)?;
    let drawn = drawn()?;
    let new = OwnCredential {
        kind: "signature",
        known_by: &format!("key-{}", drawn.get(..16).unwrap_or(&drawn)),
        proof: Some(kept),
        most: MOST,
    };
    made(&app, &caller, &of.name, &new).await
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct OwnCertificateText {
    /// In PEM (RFC 7468 §5); it is known by its fingerprint.
    certificate: String,
}

/// Takes a certificate that is shown by TLS.
#[utoipa::path(post, path = "/api/applications/{application}/certificates", operation_id = "create_own_certificate", params(("application" = String, Path)), request_body = OwnCertificateText, responses((status = 201, body = OwnCredentialView), (status = 400), (status = 401), (status = 404), (status = 409)))]
pub(crate) async fn create_certificate(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(body): Json<OwnCertificateText>,
) -> Result<(StatusCode, Json<OwnCredentialView>), ApiError> {
    let of = own(&app, &caller, &name).await?;
    let new = OwnCredential {
        kind: "certificate",
        known_by: &read_certificate(&body.certificate)?,
        proof: None,
        most: MOST,
    };
    made(&app, &caller, &of.name, &new).await
}

async fn made(
    app: &App,
    caller: &Caller,
    consumer: &str,
    new: &OwnCredential<'_>,
) -> Result<(StatusCode, Json<OwnCredentialView>), ApiError> {
    let directory = &app.directory;
    let made = directory
        .add_own_credential(caller.who(), consumer, new)
        .await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(made.into())))
}

/// Takes a public key or a certificate away: it opens nothing any more.
#[utoipa::path(delete, path = "/api/credentials/{kind}/{known_by}", operation_id = "delete_own_credential", params(("kind" = String, Path, description = "`signature` or `certificate`."), ("known_by" = String, Path)), responses((status = 204), (status = 401), (status = 404)))]
pub(crate) async fn delete(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((kind, known_by)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::missing(format!("{kind} “{known_by}” of yours"));
    if !["signature", "certificate"].contains(&kind.as_str()) {
        return Err(missing());
    }
    let store = app.database.store()?;
    let found = store.credential(&kind, &known_by).await;
    let found = found.map_err(|_| missing())?;
    let of = store.consumer_of_number(found.consumer_id).await?;
    if of.is_none_or(|c| c.team_id != Some(caller.0.team.id)) {
        return Err(missing());
    }
    let credential = (kind.as_str(), known_by.as_str());
    let directory = &app.directory;
    directory
        .delete_credential(caller.who(), credential)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}
