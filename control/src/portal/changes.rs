//! What was changed of what one sees, release by release.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::State;
use porch_store::entity::history;
use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;

use super::catalogue::{one, visible};
use super::looking::Looking;
use super::session::Anybody;
use crate::api::{Before, Json, Path, Query};
use crate::app::App;
use crate::error::ApiError;

/// So many changes of a facade are shown at once.
const MOST: u64 = 20;
/// So many things that are new are shown at most.
const NEWS: u64 = 12;
/// So many changes are shown of each of them.
const SHOWN: usize = 10;
/// What is older than so many days is not new.
const NEW_FOR: i64 = 60;

/// Something that is different for those who call.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeLine {
    /// `breaks`, `adds` or `tells`.
    harm: String,
    /// Empty: it is about the whole.
    operation: String,
    what: String,
}

/// What a release changed of a facade.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangedView {
    id: i64,
    facade: String,
    title: String,
    /// Milliseconds since 1970.
    at: i64,
    version: String,
    /// `new` or `changed`.
    status: String,
    changes: Vec<ChangeLine>,
}

impl ChangedView {
    fn of(row: history::Model, title: &str) -> Self {
        let text = |value: &Value, name: &str| value[name].as_str().unwrap_or_default().to_owned();
        let changes = row.changes.as_array().into_iter().flatten();
        let changes = changes.map(|c| ChangeLine {
            harm: text(c, "harm"),
            operation: text(c, "operation"),
            what: text(c, "what"),
        });
        Self {
            changes: changes.collect(),
            id: row.id,
            title: title.to_owned(),
            facade: row.facade,
            at: row.at,
            version: row.version,
            status: row.status,
        }
    }
}

/// What was changed of a facade for those who call it, the newest first, twenty at a time.
#[utoipa::path(get, path = "/api/facades/{facade}/changes", operation_id = "changes_of_facade", params(("facade" = String, Path), ("before" = Option<i64>, Query, description = "Only those with a smaller number: the next page.")), responses((status = 200, body = Vec<ChangedView>), (status = 404)))]
pub(crate) async fn changes(
    State(app): State<Arc<App>>,
    anybody: Anybody,
    Path(name): Path<String>,
    Query(page): Query<Before>,
) -> Result<Json<Vec<ChangedView>>, ApiError> {
    let shown = one(&app, &anybody, &name).await?;
    let store = app.database.store()?;
    let environment = app.publication.environment();
    let names = [shown.name.as_str()];
    let found = store.history(environment, &names, page.before, MOST);
    let rows = found.await?.into_iter().filter(says_something);
    let all = rows.map(|row| ChangedView::of(row, &shown.title));
    Ok(Json(all.collect()))
}

/// What is the same for those who call is no news for them.
fn says_something(row: &history::Model) -> bool {
    row.status == "new" || row.changes.as_array().is_some_and(|c| !c.is_empty())
}

/// What is new of what one sees, the newest first; of the last sixty days.
#[utoipa::path(get, path = "/api/news", responses((status = 200, body = Vec<ChangedView>)))]
pub(crate) async fn news(
    State(app): State<Arc<App>>,
    anybody: Anybody,
) -> Result<Json<Vec<ChangedView>>, ApiError> {
    let at = Looking::of(&app, &anybody).await?;
    let groups = visible(&at, &anybody);
    let facades = groups.iter().flat_map(|g| &g.facades);
    let titles: HashMap<&str, &str> = facades
        .map(|f| (f.name.as_str(), f.title.as_str()))
        .collect();
    let names: Vec<&str> = titles.keys().copied().collect();
    let store = app.database.store()?;
    let environment = app.publication.environment();
    let found = store.history(environment, &names, None, MOST).await?;
    let since = porch_store::now_ms() - NEW_FOR * 24 * 3_600_000;
    let rows = found
        .into_iter()
        .filter(|row| row.at >= since && says_something(row));
    let rows = rows.take(usize::try_from(NEWS).unwrap_or(12));
    let views = rows.map(|row| {
        let title = titles.get(row.facade.as_str()).copied().unwrap_or_default();
        let mut view = ChangedView::of(row, title);
        view.changes.truncate(SHOWN);
        view
    });
    Ok(Json(views.collect()))
}
