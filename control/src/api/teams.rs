//! Teams of the portal: those who call, and what they may be.

use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_store::Purpose;
use porch_store::entity::team;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::consumers::tidy_roles;
use super::extract::{Json, Path, Query};
use super::offers::tidy_text;
use super::session::Publisher;
use crate::app::App;
use crate::error::ApiError;

/// A team of the portal.
#[derive(Serialize, ToSchema)]
pub(crate) struct TeamView {
    id: i64,
    name: String,
    /// What offers and groups of the portal may ask for.
    roles: Vec<String>,
    /// E-mail addresses of its members; at most 1000.
    members: Vec<String>,
    /// Names of its consumers; at most 200.
    consumers: Vec<String>,
    /// Milliseconds since 1970.
    created_at: i64,
}

async fn view(app: &App, team: team::Model) -> Result<TeamView, ApiError> {
    let store = app.database.store()?;
    let members = store.members(team.id).await?;
    let consumers = store.consumers_of_team(team.id).await?;
    Ok(TeamView {
        roles: team.roles(),
        id: team.id,
        name: team.name,
        members: members.into_iter().map(|(p, _)| p.email).collect(),
        consumers: consumers.into_iter().map(|c| c.name).collect(),
        created_at: team.created_at,
    })
}

#[derive(Deserialize)]
pub(crate) struct Sought {
    #[serde(default)]
    search: String,
    behind: Option<i64>,
}

/// Teams of the portal by number, a hundred at a time.
#[utoipa::path(get, path = "/api/teams", params(("search" = Option<String>, Query, description = "Only those with this text in their names."), ("behind" = Option<i64>, Query, description = "The number behind which the list goes on.")), responses((status = 200, body = Vec<TeamView>)))]
pub(crate) async fn teams(
    State(app): State<Arc<App>>,
    Query(sought): Query<Sought>,
) -> Result<Json<Vec<TeamView>>, ApiError> {
    let store = app.database.store()?;
    let found = store
        .teams(&sought.search, sought.behind.unwrap_or(0), 100)
        .await?;
    let mut all = Vec::new();
    for team in found {
        all.push(view(&app, team).await?);
    }
    Ok(Json(all))
}

/// A link to the portal as it is drafted.
#[derive(Serialize, ToSchema)]
pub(crate) struct PreviewLink {
    /// Good for an hour, for whoever has it; an earlier one of one's own is good no more.
    address: String,
}

/// Makes a link with which the portal is shown as the draft has it, all of it.
#[utoipa::path(post, path = "/api/portal/preview", responses((status = 200, body = PreviewLink)))]
pub(crate) async fn preview(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
) -> Result<Json<PreviewLink>, ApiError> {
    let token = super::session::drawn()?;
    let change = app.database.store()?.change(&publisher.name).await?;
    let holder = publisher.name.as_str();
    change.keep_link(Purpose::Preview, holder, &token).await?;
    let detail = serde_json::json!({});
    change
        .audit("made a link to the draft", "portal", detail)
        .await?;
    change.commit().await?;
    let address = format!("{}/#preview={token}", app.config.portal);
    Ok(Json(PreviewLink { address }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Announcement {
    /// Those who use this facade are told.
    facade: String,
    /// Only those who use one of these operations; all of the facade unless given.
    #[serde(default)]
    operations: Vec<String>,
    subject: String,
    text: String,
}

/// Whom an announcement reached.
#[derive(Serialize, ToSchema)]
pub(crate) struct Announced {
    /// How many teams.
    teams: usize,
}

/// Tells the teams whose agreements open a facade or its operations something, as that it will change: in the portal, by
/// e-mail and by webhook.
#[utoipa::path(post, path = "/api/announcements", request_body = Announcement, responses((status = 200, body = Announced), (status = 404)))]
pub(crate) async fn announce(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(body): Json<Announcement>,
) -> Result<Json<Announced>, ApiError> {
    let (subject, text) = (tidy_text(&body.subject)?, tidy_text(&body.text)?);
    if subject.is_empty() || subject.lines().count() > 1 {
        let help = "It is what they read first.";
        return Err(ApiError::new(400, "The subject is one line", help));
    }
    let porch = app.publication.porch();
    let facade = porch.facade(&body.facade);
    let facade = facade.ok_or_else(|| ApiError::missing(format!("facade “{}”", body.facade)))?;
    let unknown = body
        .operations
        .iter()
        .find(|id| facade.operation(id).is_none());
    if let Some(unknown) = unknown {
        let title = format!("operation “{unknown}” of {}", facade.name);
        return Err(ApiError::missing(title));
    }
    let all = facade.operations.iter().map(|o| o.id.clone());
    let ids = match body.operations.is_empty() {
        true => all.collect(),
        false => body.operations,
    };
    let told = (facade.name.as_str(), ids.as_slice());
    let teams = app
        .directory
        .announce(&publisher.name, told, (subject, text))
        .await?;
    app.told();
    Ok(Json(Announced { teams }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TeamRoles {
    /// All of its roles from now on.
    roles: Vec<String>,
}

/// Gives a team its roles.
#[utoipa::path(put, path = "/api/teams/{team}/roles", params(("team" = i64, Path)), request_body = TeamRoles, responses((status = 200, body = TeamView), (status = 404)))]
pub(crate) async fn change_team(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(id): Path<i64>,
    Json(body): Json<TeamRoles>,
) -> Result<Json<TeamView>, ApiError> {
    let roles = tidy_roles(&body.roles)?;
    let changed = app
        .directory
        .change_team(&publisher.name, id, &roles)
        .await?;
    Ok(Json(view(&app, changed).await?))
}
