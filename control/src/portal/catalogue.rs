//! What there is: facades that are served, as those who call see them, found by words; made once for each release.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use axum::extract::State;
use porch_facade::{Audience, CompiledFacade, CompiledOperation, CompiledPorch, Library, SignUp};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::{IntoParams, ToSchema};

use super::documents::published;
use super::looking::Looking;
use super::markdown::to_html;
use super::search::{Words, found};
use super::session::Anybody;
use super::ways::Way;
use crate::api::{Json, Path, Query, ServedOffer};
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;
use crate::publication::Content;

/// An operation, as lists show it.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct OperationLine {
    pub(crate) id: String,
    pub(crate) method: String,
    /// Below the facade's address.
    pub(crate) path: String,
    pub(crate) summary: String,
    pub(crate) tags: Vec<String>,
    pub(crate) deprecated: bool,
    /// From when it should not be used any more, as in `2027-03-01`.
    pub(crate) deprecation: Option<String>,
    /// From when it may not be there any more.
    pub(crate) sunset: Option<String>,
    /// What must be shown, one of these; none: nothing.
    pub(crate) credentials: Vec<Way>,
}

/// A facade as it is shown.
pub(crate) struct Shown {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) version: String,
    pub(crate) summary: String,
    /// In HTML.
    pub(crate) description: String,
    /// Where it is called.
    pub(crate) address: String,
    pub(crate) operations: Vec<OperationLine>,
    /// The words that each operation is found by, in lower case.
    pub(super) words: Vec<String>,
    pub(crate) openapi: Arc<str>,
}

/// All facades of a release, by name.
pub(crate) struct Catalogue {
    release: i64,
    facades: BTreeMap<String, Arc<Shown>>,
}

/// What is served now, as it is shown.
pub(super) async fn current(app: &Arc<App>) -> Result<Arc<Catalogue>, ApiError> {
    let served = app.publication.served();
    let known = app.catalogue.load_full();
    if let Some(known) = known.filter(|k| k.release == served.number) {
        return Ok(known);
    }
    let of = (app.publication.porch(), served.content.clone());
    let made = catalogue_of(app, of, served.number).await?;
    app.catalogue.store(Some(made.clone()));
    Ok(made)
}

/// The catalogue of what is compiled, and of the files that it was compiled from.
pub(super) async fn catalogue_of(
    app: &App,
    (porch, content): (Arc<CompiledPorch>, Content),
    release: i64,
) -> Result<Arc<Catalogue>, ApiError> {
    let library = app.publication.library.clone();
    let gateway = app.config.gateway.clone();
    compute(move || {
        let facades = porch.facades.iter();
        let facades =
            facades.filter_map(|f| Some((f.name.clone(), shown(f, &content, &library, &gateway)?)));
        Arc::new(Catalogue {
            release,
            facades: facades.collect(),
        })
    })
    .await
}

fn shown(
    facade: &CompiledFacade,
    content: &Content,
    library: &Library,
    gateway: &str,
) -> Option<Arc<Shown>> {
    let released = content.facades.get(&facade.name)?;
    let (document, read) = library.released(&released.files)?;
    let contract = read.contract.as_ref()?;
    let address = format!("{}{}", gateway.trim_end_matches('/'), facade.base);
    let compiled = facade.operations.iter().map(|o| (o.id.as_str(), o));
    let compiled: HashMap<&str, &CompiledOperation> = compiled.collect();
    let ways = |id: &str| -> Vec<Way> {
        let found = compiled.get(id).into_iter();
        let rules = found.flat_map(|o| &o.admission.credentials.rules);
        rules.map(|r| Way::of(&r.kind)).collect()
    };
    let (mut operations, mut words) = (Vec::new(), Vec::new());
    let written = contract.written();
    for (id, operation) in &contract.operations {
        let own = written
            .get(id.as_str())
            .map_or(&Value::Null, |w| w.operation);
        let text = |name: &str| own[name].as_str().unwrap_or_default().to_owned();
        let tags = own["tags"].as_array().into_iter().flatten();
        let (deprecation, sunset) = document.doc.dates_of(id);
        let line = OperationLine {
            deprecated: own["deprecated"] == json!(true) || deprecation.is_some(),
            deprecation: deprecation.map(|d| d.to_string()),
            sunset: sunset.map(|d| d.to_string()),
            id: id.clone(),
            method: operation.method.clone(),
            path: operation.path.to_string(),
            summary: text("summary"),
            tags: tags.filter_map(|t| t.as_str().map(str::to_owned)).collect(),
            credentials: ways(id),
        };
        let mut found = Words::new(contract);
        found.add(&line.id);
        found.add(&line.path);
        found.below(own);
        words.push(found.text);
        operations.push(line);
    }
    let info = &contract.document["info"];
    let text = |name: &str| info[name].as_str().unwrap_or_default().to_owned();
    let title = match document.doc.title.trim() {
        "" => contract.title.clone(),
        title => title.to_owned(),
    };
    let openapi = published(contract, &address, &operations).to_string();
    Some(Arc::new(Shown {
        name: facade.name.clone(),
        title,
        version: contract.version.clone(),
        summary: match text("summary").as_str() {
            "" => first_sentence(&text("description")),
            summary => summary.to_owned(),
        },
        description: to_html(&text("description")),
        address,
        operations,
        words,
        openapi: openapi.into(),
    }))
}

fn first_sentence(text: &str) -> String {
    let line = text.lines().next().unwrap_or_default();
    let end = line.find(". ").map_or(line.len(), |at| at + 1);
    line[..end].to_owned()
}

/// Facades that are shown together to somebody.
pub(crate) struct VisibleGroup {
    title: String,
    summary: String,
    pub(crate) facades: Vec<Arc<Shown>>,
}

/// What somebody sees.
pub(super) fn visible(at: &Looking, anybody: &Anybody) -> Vec<VisibleGroup> {
    let all = &at.all;
    let groups = at
        .offered
        .portal
        .as_ref()
        .and_then(|p| p.doc.groups.as_ref());
    let Some(groups) = groups else {
        return vec![VisibleGroup {
            title: "APIs".into(),
            summary: String::new(),
            facades: all.facades.values().cloned().collect(),
        }];
    };
    let seen = groups.iter().filter(|g| anybody.is(&g.see));
    seen.map(|g| VisibleGroup {
        title: g.title.clone(),
        summary: g.summary.clone(),
        facades: g
            .facades
            .iter()
            .filter_map(|f| all.facades.get(f).cloned())
            .collect(),
    })
    .collect()
}

/// A facade that somebody sees. What they do not see is not there.
pub(crate) async fn one(
    app: &Arc<App>,
    anybody: &Anybody,
    name: &str,
) -> Result<Arc<Shown>, ApiError> {
    let at = Looking::of(app, anybody).await?;
    let groups = visible(&at, anybody);
    let mut facades = groups.into_iter().flat_map(|g| g.facades);
    let found = facades.find(|f| f.name == name);
    found.ok_or_else(|| ApiError::missing(format!("API “{name}” to be seen")))
}

/// What the portal is.
#[derive(Serialize, ToSchema)]
pub(crate) struct PortalView {
    title: String,
    summary: String,
    /// Whether there is a logo, at `/logo.svg`.
    logo: bool,
    /// Colour of buttons and links on light ground; none: the portal's own.
    accent: Option<String>,
    /// The same on dark ground.
    accent_on_dark: Option<String>,
    /// What stands on the first page, in HTML.
    front: String,
    /// Names and titles of further pages.
    pages: Vec<(String, String)>,
    /// Whether everybody may make an account.
    sign_up: bool,
    /// Where APIs are called.
    gateway: String,
    /// Whether one is shown example answers in place of calls.
    examples: bool,
    /// Whether it is the draft that is looked at.
    draft: bool,
}

/// What the portal is called and looks like.
#[utoipa::path(get, path = "/api/portal", responses((status = 200, body = PortalView)))]
pub(crate) async fn portal(
    State(app): State<Arc<App>>,
    anybody: Anybody,
) -> Result<Json<PortalView>, ApiError> {
    let offered = Looking::of(&app, &anybody).await?.offered;
    let doc = offered.portal.as_ref().map(|p| &p.doc);
    let title = doc.map(|d| d.title.clone());
    Ok(Json(PortalView {
        draft: anybody.preview,
        examples: doc.is_none_or(|d| anybody.is(&d.examples)),
        title: title.unwrap_or_else(|| super::account::title(&app)),
        summary: doc.map_or_else(String::new, |d| d.summary.clone()),
        logo: offered.portal.as_ref().is_some_and(|p| p.logo.is_some()),
        accent: doc.and_then(|d| d.colours.accent.clone()),
        accent_on_dark: doc.and_then(|d| d.colours.accent_on_dark.clone()),
        front: offered
            .portal
            .as_ref()
            .map_or_else(String::new, |p| to_html(&p.front)),
        pages: doc.map_or_else(Vec::new, |d| {
            let pages = d.pages.iter();
            pages.map(|p| (p.name.clone(), p.title.clone())).collect()
        }),
        sign_up: app.config.mail.is_some() && doc.is_none_or(|d| d.sign_up == SignUp::Everyone),
        gateway: app.config.gateway.clone(),
    }))
}

/// A page.
#[derive(Serialize, ToSchema)]
pub(crate) struct PageView {
    title: String,
    /// In HTML.
    text: String,
}

/// One of the publisher's pages.
#[utoipa::path(get, path = "/api/pages/{page}", params(("page" = String, Path)), responses((status = 200, body = PageView), (status = 404)))]
pub(crate) async fn page(
    State(app): State<Arc<App>>,
    anybody: Anybody,
    Path(name): Path<String>,
) -> Result<Json<PageView>, ApiError> {
    let offered = Looking::of(&app, &anybody).await?.offered;
    let found = offered.portal.as_ref().and_then(|p| {
        let page = p.doc.pages.iter().find(|page| page.name == name)?;
        let text = p.pages.get(&name)?;
        Some(PageView {
            title: page.title.clone(),
            text: to_html(text),
        })
    });
    let missing = || ApiError::missing(format!("page “{name}”"));
    found.map(Json).ok_or_else(missing)
}

/// A facade, as lists show it.
#[derive(Serialize, ToSchema)]
pub(crate) struct FacadeLine {
    name: String,
    title: String,
    version: String,
    summary: String,
    operations: usize,
}

/// Facades that are shown together.
#[derive(Serialize, ToSchema)]
pub(crate) struct GroupLine {
    title: String,
    summary: String,
    facades: Vec<FacadeLine>,
}

/// An operation that fits what was searched for.
#[derive(Serialize, ToSchema)]
pub(crate) struct Found {
    pub(super) facade: String,
    /// Title of the facade.
    pub(super) title: String,
    pub(super) operation: OperationLine,
}

/// What there is.
#[derive(Serialize, ToSchema)]
pub(crate) struct CatalogueView {
    groups: Vec<GroupLine>,
    /// Operations that fit what was searched for, the nearest first; at most 50.
    found: Vec<Found>,
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct Searching {
    /// Words that names, paths, descriptions, parameters or members must hold, all of them.
    #[serde(default)]
    search: String,
}

/// What there is; with words, the operations that fit them.
#[utoipa::path(get, path = "/api/catalogue", params(Searching), responses((status = 200, body = CatalogueView)))]
pub(crate) async fn catalogue(
    State(app): State<Arc<App>>,
    anybody: Anybody,
    Query(searching): Query<Searching>,
) -> Result<Json<CatalogueView>, ApiError> {
    let at = Looking::of(&app, &anybody).await?;
    let groups = visible(&at, &anybody);
    let search = searching.search.to_lowercase();
    let words: Vec<&str> = search.split_whitespace().take(10).collect();
    let found = found(&groups, &words);
    let groups = groups.into_iter().map(|g| GroupLine {
        title: g.title,
        summary: g.summary,
        facades: g
            .facades
            .iter()
            .map(|f| FacadeLine {
                name: f.name.clone(),
                title: f.title.clone(),
                version: f.version.clone(),
                summary: f.summary.clone(),
                operations: f.operations.len(),
            })
            .collect(),
    });
    Ok(Json(CatalogueView {
        groups: groups.collect(),
        found,
    }))
}

/// A facade with its operations.
#[derive(Serialize, ToSchema)]
pub(crate) struct ShownFacade {
    name: String,
    title: String,
    version: String,
    summary: String,
    /// In HTML.
    description: String,
    /// Where it is called.
    address: String,
    operations: Vec<OperationLine>,
    /// Offers that open it, or some of it, as far as one sees them.
    offers: Vec<ServedOffer>,
}

/// A facade that is shown, with its operations and the offers that open it. Its contract is at `/facades/{facade}/openapi.json`.
#[utoipa::path(get, path = "/api/facades/{facade}", params(("facade" = String, Path)), responses((status = 200, body = ShownFacade), (status = 404)))]
pub(crate) async fn facade(
    State(app): State<Arc<App>>,
    anybody: Anybody,
    Path(name): Path<String>,
) -> Result<Json<ShownFacade>, ApiError> {
    let shown = one(&app, &anybody, &name).await?;
    let Looking { offered, porch, .. } = Looking::of(&app, &anybody).await?;
    let sees = |audience: &Audience| anybody.is(audience);
    let offers = offered.offers.values().filter(|o| sees(&o.doc.see));
    let opens = |entry: &String| entry.split('/').next() == Some(name.as_str());
    let offers = offers.filter(|o| o.opens.iter().any(opens));
    Ok(Json(ShownFacade {
        offers: offers
            .map(|o| ServedOffer::of(o).allowing(super::limits::of_offer(&porch, o)))
            .collect(),
        name: shown.name.clone(),
        title: shown.title.clone(),
        version: shown.version.clone(),
        summary: shown.summary.clone(),
        description: shown.description.clone(),
        address: shown.address.clone(),
        operations: shown.operations.clone(),
    }))
}
