//! What consumers show besides keys and passwords: tokens of issuers, and signatures.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::StatusCode;
use porch_proof::PublicKey;
use porch_store::entity::credential;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Json, Path};
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct ClientView {
    /// What it is known by: the client and its issuer.
    name: String,
    /// The issuer, as its tokens name it.
    issuer: String,
    /// The client, as its tokens name it.
    client: String,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
}

impl From<credential::Model> for ClientView {
    fn from(c: credential::Model) -> Self {
        let behind = format!(" of {}", c.label);
        let client = c.prefix.strip_suffix(&behind).unwrap_or(&c.prefix);
        Self {
            client: client.to_owned(),
            name: c.prefix.clone(),
            issuer: c.label,
            created_at: c.created_at,
            last_used_at: c.last_used_at,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewClient {
    /// The issuer, as its tokens name it (`iss`).
    issuer: String,
    /// The client, as its tokens name it: what the document's `consumer:` says of them.
    client: String,
}

/// Notes that tokens of an issuer for a client are a consumer's.
#[utoipa::path(post, path = "/api/consumers/{consumer}/clients", params(("consumer" = String, Path)), request_body = NewClient, responses((status = 201, body = ClientView), (status = 404), (status = 409)))]
pub(crate) async fn create_client(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewClient>,
) -> Result<(StatusCode, Json<ClientView>), ApiError> {
    let (issuer, client) = (body.issuer.trim(), body.client.trim());
    let sound = |t: &str| (1..=300).contains(&t.len()) && !t.chars().any(char::is_control);
    if !sound(issuer) || !sound(client) {
        let title = "Issuer and client have 1 to 300 characters each";
        return Err(ApiError::new(400, title, "Write them as its tokens do."));
    }
    let made = app
        .directory
        .set_client(&publisher.name, &consumer, (issuer, client))
        .await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(ClientView::from(made))))
}

/// Tokens of a client are nobody's any more.
#[utoipa::path(delete, path = "/api/clients/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_client(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let client = ("token", name.as_str());
    let directory = &app.directory;
    directory.delete_credential(&publisher.name, client).await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SigningKeyView {
    /// What it is known by (`keyid`).
    keyid: String,
    /// `shared`: a secret that both have; else the kind of the public key.
    kind: String,
    created_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
}

impl From<credential::Model> for SigningKeyView {
    fn from(c: credential::Model) -> Self {
        let public = c.proof.as_deref().map(PublicKey::read);
        Self {
            kind: match public {
                Some(Ok(key)) => key.kind().to_owned(),
                _ => "shared".to_owned(),
            },
            keyid: c.prefix,
            created_at: c.created_at,
            last_used_at: c.last_used_at,
        }
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSigningKey {
    /// What it is known by (`keyid`).
    keyid: String,
    /// A public key, in PEM (RFC 7468 §13) or as a JSON Web Key (RFC 7517).
    public_key: Option<String>,
    /// A secret that both have, for `hmac-sha256`: at least 32 characters; white space around it is taken away.
    secret: Option<String>,
}

/// Whether a secret is none: a public key where a secret is expected would be taken as one, and nothing signed would ever fit.
fn no_key(secret: &str) -> Result<(), ApiError> {
    let help = match secret {
        pem if pem.starts_with("-----BEGIN") && pem.contains("PRIVATE KEY") => {
            "A private key stays with the consumer; give the public one, as `public_key` (`--public-key FILE`)."
        }
        key if key.starts_with("-----BEGIN") || key.starts_with('{') => {
            "Give it as `public_key` (`--public-key FILE`)."
        }
        _ => return Ok(()),
    };
    Err(ApiError::new(
        400,
        "This is a key, and no secret that both have",
        help,
    ))
}

/// A public key as it is kept. A private one that was pasted is told of, and not kept.
pub(crate) fn read_public_key(text: &str) -> Result<String, ApiError> {
    let wrong = |why| ApiError::new(400, "The key cannot be taken", why);
    PublicKey::read(text).map_err(wrong)?;
    Ok(text.trim().to_owned())
}

/// Notes a key that a consumer signs requests with: a public one, or a secret.
#[utoipa::path(post, path = "/api/consumers/{consumer}/signing-keys", params(("consumer" = String, Path)), request_body = NewSigningKey, responses((status = 201, body = SigningKeyView), (status = 404), (status = 409)))]
pub(crate) async fn create_signing_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(consumer): Path<String>,
    Json(body): Json<NewSigningKey>,
) -> Result<(StatusCode, Json<SigningKeyView>), ApiError> {
    let keyid = body.keyid.trim();
    let sound = |c: char| (' '..='~').contains(&c);
    if !(1..=200).contains(&keyid.len()) || !keyid.chars().all(sound) {
        let title = "A key is known by 1 to 200 printable characters of ASCII";
        return Err(ApiError::new(
            400,
            title,
            "They stand in `keyid` (RFC 9421 §2.3).",
        ));
    }
    let kept = match (&body.public_key, &body.secret) {
        (Some(public), None) => read_public_key(public)?,
        (None, Some(secret)) => {
            let secret = secret.trim();
            no_key(secret)?;
            if !(32..=1000).contains(&secret.len()) {
                let help = "Draw it: nobody has to remember it.";
                return Err(ApiError::new(
                    400,
                    "A secret has 32 to 1000 characters",
                    help,
                ));
            }
            app.directory.sealed(keyid, secret)?
        }
        _ => {
            let title = "A key is a public one, or a secret";
            return Err(ApiError::new(400, title, "Give one of the two."));
        }
    };
    let made = app
        .directory
        .set_signing_key(&publisher.name, &consumer, (keyid, kept))
        .await?;
    app.publication.write_snapshot().await;
    Ok((StatusCode::CREATED, Json(SigningKeyView::from(made))))
}

/// Takes a key away that requests are signed with.
#[utoipa::path(delete, path = "/api/signing-keys/{keyid}", params(("keyid" = String, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn delete_signing_key(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(keyid): Path<String>,
) -> Result<StatusCode, ApiError> {
    let key = ("signature", keyid.as_str());
    app.directory
        .delete_credential(&publisher.name, key)
        .await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}
