//! Replies that are kept.

use std::sync::Arc;

use axum::Extension;
use axum::extract::State;
use porch_facade::CompiledFacade;
use porch_gateway::Purge;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

/// How much is kept, by the service that is asked.
#[derive(Serialize, ToSchema)]
pub(crate) struct KeptView {
    /// Replies.
    replies: usize,
    /// Bytes of memory, about.
    bytes: usize,
    /// Bytes at most.
    most: usize,
    /// Operations whose replies are kept, each as `facade/operation`.
    operations: Vec<String>,
}

/// How much of replies is kept.
#[utoipa::path(get, path = "/api/kept", operation_id = "kept", responses((status = 200, body = KeptView)))]
pub(crate) async fn show(State(app): State<Arc<App>>) -> Json<KeptView> {
    let kept = app.kept.kept();
    let porch = app.publication.porch();
    let keeping = |f: &CompiledFacade| -> Vec<String> {
        let all = f.operations.iter();
        let all = all.filter(|o| o.cache.as_ref().is_some_and(|c| c.keeps.is_some()));
        all.map(|o| format!("{}/{}", f.name, o.id)).collect()
    };
    Json(KeptView {
        replies: kept.replies,
        bytes: kept.bytes,
        most: kept.most,
        operations: porch.facades.iter().flat_map(|f| keeping(f)).collect(),
    })
}

/// Which replies are let go: all that fit everything that is said.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PurgeOf {
    /// Name of the facade; all unless given.
    #[serde(default)]
    facade: String,
    /// An operation of it.
    #[serde(default)]
    operation: String,
    /// The beginning of paths, as callers write them.
    #[serde(default)]
    path: String,
    /// A tag.
    #[serde(default)]
    tag: String,
}

/// What was let go.
#[derive(Serialize, ToSchema)]
pub(crate) struct Purged {
    /// Replies of the service that was asked; the others let go of theirs too.
    replies: usize,
}

/// Lets go of replies that are kept.
#[utoipa::path(post, path = "/api/kept/purge", operation_id = "purge_kept", request_body = PurgeOf, responses((status = 200, body = Purged), (status = 400), (status = 404)))]
pub(crate) async fn purge(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(of): Json<PurgeOf>,
) -> Result<Json<Purged>, ApiError> {
    there_is(&app, &of)?;
    let purge = Purge {
        facade: of.facade,
        operation: of.operation,
        path: of.path,
        tag: of.tag,
    };
    let replies = app.kept.purge(&publisher.name, &purge).await?;
    Ok(Json(Purged { replies }))
}

/// What is named is there: nothing is let go by a name that was written wrongly, and nobody notices.
fn there_is(app: &App, of: &PurgeOf) -> Result<(), ApiError> {
    if !of.path.is_empty() && !of.path.starts_with('/') {
        return Err(ApiError::new(
            400,
            "That is no path",
            "A path begins with “/”, as in /sailings/v2/fares.",
        ));
    }
    if !of.operation.is_empty() && of.facade.is_empty() {
        return Err(ApiError::new(
            400,
            "Of which facade?",
            "An operation is one of a facade: name that too.",
        ));
    }
    let porch = app.publication.porch();
    let facades: Vec<&Arc<CompiledFacade>> = match of.facade.as_str() {
        "" => porch.facades.iter().collect(),
        name => vec![
            porch
                .facades
                .iter()
                .find(|f| f.name == name)
                .ok_or_else(|| {
                    ApiError::missing(format!("facade “{name}” among what is served"))
                })?,
        ],
    };
    let operations = || facades.iter().flat_map(|f| &f.operations);
    if !of.operation.is_empty() && operations().all(|o| o.id != of.operation) {
        let what = format!("operation “{}” among what is served", of.operation);
        return Err(ApiError::missing(what));
    }
    let tags = || operations().filter_map(|o| o.cache.as_ref()?.keeps.as_ref());
    if !of.tag.is_empty() && tags().all(|k| k.tags.iter().all(|t| **t != *of.tag)) {
        let what = format!("tag “{}” among what is served", of.tag);
        return Err(ApiError::missing(what));
    }
    Ok(())
}
