//! What somebody looks at: what is released, or, for publishers who were given a link, the draft.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use porch_facade::CompiledPorch;
use porch_store::Purpose;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use super::catalogue::{Catalogue, catalogue_of, current};
use super::session::{Anybody, cookie_of, own_page};
use crate::api::Json;
use crate::app::App;
use crate::error::ApiError;
use crate::publication::Offered;

const COOKIE: &str = "porch-portal-preview";
/// How long a link to the draft is good, in seconds.
const LASTS: u32 = 3600;

/// What somebody looks at.
pub(super) struct Looking {
    pub(super) offered: Arc<Offered>,
    pub(super) porch: Arc<CompiledPorch>,
    pub(super) all: Arc<Catalogue>,
}

/// The draft as it would be shown.
pub(crate) struct DraftShown {
    revision: i64,
    offered: Arc<Offered>,
    porch: Arc<CompiledPorch>,
    all: Arc<Catalogue>,
}

impl Looking {
    pub(super) async fn of(app: &Arc<App>, anybody: &Anybody) -> Result<Self, ApiError> {
        if anybody.preview {
            return drafted(app).await;
        }
        Ok(Self {
            offered: app.publication.offered(),
            porch: app.publication.porch(),
            all: current(app).await?,
        })
    }
}

async fn drafted(app: &Arc<App>) -> Result<Looking, ApiError> {
    let _one_at_a_time = app.previewing.lock().await;
    let revision = app.publication.draft_revision().await?;
    let known = app.preview.load_full().filter(|k| k.revision == revision);
    let shown = match known {
        Some(known) => known,
        None => {
            let (content, compiled) = app.publication.drafted().await?;
            let (porch, offered) = (Arc::new(compiled.porch), Arc::new(compiled.offered));
            let made = Arc::new(DraftShown {
                revision,
                all: catalogue_of(app, (porch.clone(), content), -1).await?,
                offered,
                porch,
            });
            app.preview.store(Some(made.clone()));
            made
        }
    };
    Ok(Looking {
        offered: shown.offered.clone(),
        porch: shown.porch.clone(),
        all: shown.all.clone(),
    })
}

/// Whether a request comes from somebody who was given a link to the draft.
pub(super) async fn is_preview(app: &App, headers: &HeaderMap) -> Result<bool, ApiError> {
    let Some(token) = cookie_of(headers, COOKIE) else {
        return Ok(false);
    };
    let store = app.database.store()?;
    Ok(store
        .holder_of_link(Purpose::Preview, token)
        .await?
        .is_some())
}

fn set(app: &App, token: &str, lasts: u32, body: impl IntoResponse) -> Response {
    let secure = match app.config.portal.starts_with("https://") {
        true => " Secure;",
        false => "",
    };
    let cookie =
        format!("{COOKIE}={token}; Path=/; HttpOnly;{secure} SameSite=Strict; Max-Age={lasts}");
    ([(header::SET_COOKIE, cookie)], body).into_response()
}

/// The link to the draft.
#[derive(Deserialize, ToSchema)]
#[serde(try_from = "Map<String, Value>")]
pub(crate) struct PreviewToken {
    /// What stands behind `#preview=` in the link.
    token: String,
}

/// Of an object alone: a list of one text would be taken for one otherwise.
impl TryFrom<Map<String, Value>> for PreviewToken {
    type Error = &'static str;

    fn try_from(body: Map<String, Value>) -> Result<Self, Self::Error> {
        let token = body.get("token").and_then(Value::as_str);
        let token = token.map(|t| t.trim().to_owned());
        token
            .map(|token| Self { token })
            .ok_or("`token` is missing: what stands behind `#preview=`")
    }
}

/// Whether the draft is looked at.
#[derive(Serialize, ToSchema)]
pub(crate) struct PreviewView {
    draft: bool,
}

/// Looks at the draft from now on, with a link that a publisher was given.
#[utoipa::path(post, path = "/api/preview", operation_id = "begin_preview", request_body = PreviewToken, responses((status = 200, body = PreviewView), (status = 404)))]
pub(crate) async fn begin(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
    Json(body): Json<PreviewToken>,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    let store = app.database.store()?;
    let holder = store.holder_of_link(Purpose::Preview, &body.token).await?;
    holder
        .ok_or_else(|| ApiError::missing("link to the draft that is good; ask for another one"))?;
    Ok(set(
        &app,
        &body.token,
        LASTS,
        Json(PreviewView { draft: true }),
    ))
}

/// Looks at what is released again.
#[utoipa::path(delete, path = "/api/preview", operation_id = "end_preview", responses((status = 204)))]
pub(crate) async fn end(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    Ok(set(&app, "", 0, StatusCode::NO_CONTENT))
}
