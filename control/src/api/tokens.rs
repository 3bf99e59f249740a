//! Sessions of people, and tokens with which machines act in an account's name.

use std::sync::Arc;

use axum::extract::{Extension, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use porch_store::entity::{machine_token, session};
use porch_store::{NewToken, Role, Store};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::accounts::role_of;
use super::extract::{Json, Path, Query};
use super::keys::tidy_label;
use super::session::{Publisher, signed_out, token_of};
use crate::app::App;
use crate::error::ApiError;

const DAY: i64 = 86_400_000;
/// How long a token lasts unless something is said, and at most.
const USUAL_DAYS: u32 = 90;
const MOST_DAYS: u32 = 366;

#[derive(Serialize, ToSchema)]
pub(crate) struct SessionView {
    /// What it is ended by.
    id: i64,
    /// What it is for, as was said when signing in.
    label: String,
    /// Milliseconds since 1970.
    created_at: i64,
    /// Milliseconds since 1970.
    ends_at: i64,
    /// Whether it is the one that asks.
    own: bool,
}

fn session_view(session: session::Model, token: Option<&str>) -> SessionView {
    SessionView {
        own: token.is_some_and(|token| Store::is_session(&session, token)),
        id: session.id,
        label: session.label,
        created_at: session.created_at,
        ends_at: session.expires_at,
    }
}

/// One's own sessions, the newest first.
#[utoipa::path(get, path = "/api/sessions", responses((status = 200, body = Vec<SessionView>)))]
pub(crate) async fn sessions(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    headers: HeaderMap,
) -> Result<Json<Vec<SessionView>>, ApiError> {
    let token = token_of(&headers);
    let all = app.database.store()?.sessions(&publisher.name).await?;
    let view = |s| session_view(s, token.as_deref());
    Ok(Json(all.into_iter().map(view).collect()))
}

/// Ends one of one's own sessions.
#[utoipa::path(delete, path = "/api/sessions/{id}", params(("id" = i64, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(crate) async fn end_session(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    publisher.is_a_person("end sessions")?;
    let (directory, name) = (&app.directory, &publisher.name);
    directory.end_sessions(name, name, Some(id), false).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends all of one's own sessions, this one too. Tokens of machines stay.
#[utoipa::path(delete, path = "/api/sessions", responses((status = 204), (status = 403)))]
pub(crate) async fn end_all_sessions(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    publisher.is_a_person("end sessions")?;
    let (directory, name) = (&app.directory, &publisher.name);
    directory.end_sessions(name, name, None, false).await?;
    Ok(signed_out(&headers).into_response())
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct EndWhat {
    /// Whether the tokens of its machines end too.
    #[serde(default)]
    tokens: bool,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct EndedView {
    /// How many sessions there were.
    sessions: u64,
    /// How many tokens were taken away.
    tokens: u64,
}

/// Ends all sessions of an account, and the tokens of its machines where that is asked for.
#[utoipa::path(delete, path = "/api/accounts/{name}/sessions", params(("name" = String, Path), EndWhat), responses((status = 200, body = EndedView), (status = 404)))]
pub(crate) async fn end_account_sessions(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
    Query(what): Query<EndWhat>,
) -> Result<Json<EndedView>, ApiError> {
    publisher.is_a_person("end sessions")?;
    let (directory, who) = (&app.directory, &publisher.name);
    let ended = directory
        .end_sessions(who, &name, None, what.tokens)
        .await?;
    Ok(Json(EndedView {
        sessions: ended.sessions,
        tokens: ended.tokens,
    }))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct TokenView {
    /// What it is ended by.
    id: i64,
    /// How it begins.
    prefix: String,
    label: String,
    /// In whose name it acts.
    account: String,
    /// What it may do at most: `viewer`, `publisher` or `administrator`; never more than its account.
    role: String,
    /// Milliseconds since 1970.
    created_at: i64,
    /// Milliseconds since 1970.
    ends_at: i64,
    /// Milliseconds since 1970, to the minute; none: it was not used yet.
    last_used_at: Option<i64>,
    /// The whole token, for `Authorization: Bearer`: shown once, when it is made.
    #[serde(skip_serializing_if = "Option::is_none")]
    token: Option<String>,
}

fn token_view(made: machine_token::Model, account: String, token: Option<String>) -> TokenView {
    TokenView {
        id: made.id,
        prefix: made.prefix,
        label: made.label,
        account,
        role: made.role,
        created_at: made.created_at,
        ends_at: made.expires_at,
        last_used_at: (made.used_at > 0).then_some(made.used_at),
        token,
    }
}

/// Tokens of machines, the newest first: one's own; administrators see all. Ended ones are shown for ninety days.
#[utoipa::path(get, path = "/api/tokens", responses((status = 200, body = Vec<TokenView>)))]
pub(crate) async fn tokens(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
) -> Result<Json<Vec<TokenView>>, ApiError> {
    let all = app.database.store()?.machines(publisher.whose()).await?;
    let view = |(token, account)| token_view(token, account, None);
    Ok(Json(all.into_iter().map(view).collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewMachineToken {
    /// What it is for.
    label: String,
    /// What it may do: `viewer` unless given, and never more than whoever makes it.
    role: Option<String>,
    /// Days until it ends: 90 unless given, 366 at most.
    days: Option<u32>,
}

/// Makes a token with which a machine acts in one's own name. The answer is the only place where it is shown whole.
#[utoipa::path(post, path = "/api/tokens", request_body = NewMachineToken, responses((status = 201, body = TokenView), (status = 403), (status = 409)))]
pub(crate) async fn create_token(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<NewMachineToken>,
) -> Result<(StatusCode, Json<TokenView>), ApiError> {
    publisher.is_a_person("make tokens")?;
    let label = tidy_label(&body.label)?;
    if label.is_empty() {
        return Err(ApiError::new(400, "Say what the token is for", ""));
    }
    let role = body.role.as_deref().map_or(Ok(Role::Viewer), role_of)?;
    publisher.needs(role, "A token may do no more than whoever makes it")?;
    let days = body.days.unwrap_or(USUAL_DAYS);
    if !(1..=MOST_DAYS).contains(&days) {
        let title = format!("A token lasts 1 to {MOST_DAYS} days");
        return Err(ApiError::new(
            400,
            title,
            "Make another one before it ends.",
        ));
    }
    let mut random = [0u8; 25];
    getrandom::fill(&mut random)
        .map_err(|_| ApiError::new(500, "The system gives no random bytes", ""))?;
    let token = porch_rules::key::new_key(&random);
    let new = NewToken {
        token: &token,
        prefix: porch_rules::key::prefix(&token).unwrap_or_default(),
        label,
        role,
        expires_at: chrono::Utc::now().timestamp_millis() + i64::from(days) * DAY,
    };
    let made = app.directory.create_machine(&publisher.name, &new).await?;
    let view = token_view(made, publisher.name, Some(token.clone()));
    Ok((StatusCode::CREATED, Json(view)))
}

/// Takes a token away: one of one's own; administrators take any. It is good for nothing at once.
#[utoipa::path(delete, path = "/api/tokens/{id}", params(("id" = i64, Path)), responses((status = 204), (status = 404)))]
pub(crate) async fn end_token(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    publisher.is_a_person("end tokens")?;
    let (directory, who) = (&app.directory, &publisher.name);
    directory.end_machine(who, id, publisher.whose()).await?;
    Ok(StatusCode::NO_CONTENT)
}
