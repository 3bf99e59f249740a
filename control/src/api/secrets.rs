//! Secrets of the environment.

use std::sync::Arc;

use axum::extract::{Extension, State};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

#[derive(Serialize, ToSchema)]
pub(crate) struct SecretView {
    name: String,
    changed_by: String,
    changed_at: i64,
}

/// The names of the environment's secrets.
#[utoipa::path(get, path = "/api/secrets", responses((status = 200, body = Vec<SecretView>)))]
pub(crate) async fn secrets(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<SecretView>>, ApiError> {
    let environment = app.publication.environment();
    let list = app.database.store()?.secret_names(environment).await?;
    Ok(Json(
        list.into_iter()
            .map(|s| SecretView {
                name: s.name,
                changed_by: s.changed_by,
                changed_at: s.changed_at,
            })
            .collect(),
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSecret {
    name: String,
    /// White space around it is taken away.
    value: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SecretSet {
    name: String,
    /// Whether white space was taken away.
    trimmed: bool,
}

/// Sets a secret of the environment; it acts at once.
#[utoipa::path(put, path = "/api/secrets", request_body = NewSecret, responses((status = 200, body = SecretSet)))]
pub(crate) async fn set_secret(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewSecret>,
) -> Result<Json<SecretSet>, ApiError> {
    let name = body.name.trim();
    if name.is_empty()
        || !name
            .bytes()
            .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
    {
        return Err(ApiError::new(
            400,
            format!("“{name}” is no name for a secret"),
            "Names have lower-case letters, digits and hyphens.",
        ));
    }
    let value = body.value.trim();
    app.publication
        .set_secret(&publisher.name, name, value)
        .await?;
    Ok(Json(SecretSet {
        name: name.to_owned(),
        trimmed: value != body.value,
    }))
}
