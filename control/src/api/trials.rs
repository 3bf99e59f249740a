//! Trial runs.

mod recorded;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use axum::extract::{Extension, State};
use bytes::Bytes;
use porch_contract::Finding;
use porch_facade::{CompiledFacade, CompiledOperation, CompiledPorch, Documents, Model, Secrets};
use porch_gateway::{GivenAnswer, Trace, TrialReply, TrialRequest};
use porch_store::Role;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

use self::recorded::InPlace;
use super::extract::Json;
use super::session::Publisher;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;
use crate::publication::Given;
use crate::target::target;

#[derive(Deserialize, ToSchema)]
pub(crate) struct Trial {
    facade: String,
    operation: String,
    /// Values of the path variables.
    #[serde(default)]
    path: BTreeMap<String, Value>,
    /// Query parameters.
    #[serde(default)]
    query: BTreeMap<String, Value>,
    /// Header fields.
    #[serde(default)]
    headers: BTreeMap<String, String>,
    /// The body, if there is one.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    body: Option<Value>,
    /// The body as a text, sent as it stands: all digits of numbers are kept. Goes before `body`.
    text: Option<String>,
    /// Answers in place of calls, by the calls' names; `answer` where an operation has one call. Of a call that is made for
    /// each of a list, the list of what all of them gave.
    #[serde(default)]
    answers: BTreeMap<String, TrialAnswer>,
    /// An exchange that was kept: what its calls were answered stands in place of them, but where an answer is given here.
    answers_of: Option<String>,
    /// Files to put over the draft's for this run only.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

/// An answer in place of a call.
#[derive(Deserialize, ToSchema)]
pub(crate) struct TrialAnswer {
    /// Its status; 200 unless given.
    status: Option<u16>,
    /// Its body.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    body: Value,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct TrialResult {
    status: u16,
    headers: Vec<(String, String)>,
    body: String,
    /// Every stage.
    trace: Trace,
    /// Whether callers would get the same: false while the draft differs from what is served.
    released: bool,
}

/// Carries out one exchange against the draft. Nothing is published, no limit counts, no key is demanded.
#[utoipa::path(post, path = "/api/trials", request_body = Trial, responses((status = 200, body = TrialResult), (status = 422)))]
pub(crate) async fn run(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(trial): Json<Trial>,
) -> Result<Json<TrialResult>, ApiError> {
    let sent_along = !trial.files.is_empty();
    let model = app.publication.model_with(trial.files.clone()).await?;
    if sent_along {
        let told = "Files of one's own can be tried by publishers";
        publisher.needs(Role::Publisher, told)?;
        let own = app.publication.model().await?;
        let environment = app.publication.environment();
        meets_only_its_own_secrets(environment, &own.documents, &model.documents)?;
    }
    let environment = app.publication.environment();
    let secrets = Arc::new(app.database.store()?.secrets(environment).await?);
    let compiled = |model: Arc<Model>| {
        let (name, secrets) = (trial.facade.clone(), secrets.clone());
        compute(move || with_what_it_stands_on(&model, &name, &secrets))
    };
    let (porch, mut findings) = compiled(model.clone()).await?;
    if sent_along && porch.facades.iter().any(|f| !f.named.is_empty()) {
        let (own, _) = compiled(app.publication.model().await?).await?;
        names_only_its_own_secrets(&own, &porch)?;
    }
    findings.extend(model.documents.findings.iter().cloned());
    let facade = porch.facade(&trial.facade).cloned();
    let Some((facade, op)) = facade
        .as_ref()
        .and_then(|f| Some((f, f.operation(&trial.operation)?)))
    else {
        return Err(no_operation(&trial, facade.as_deref()).with(findings));
    };
    if porch_contract::has_errors(&findings) {
        let help = "Mend what is listed, and try again.";
        return Err(ApiError::new(422, "The draft has errors", help).with(findings));
    }
    may_try(&publisher, app.config.viewers_do_not_try, &op.route.method)?;
    let request = request(&trial, facade, op)?;
    let in_place = in_place(&app, &publisher, &trial, (facade, op)).await?;
    let is_real = in_place.given.is_empty() && in_place.recorded.is_empty();
    let reply = app
        .trials
        .run(TrialRequest {
            porch: Arc::new(porch),
            request,
            answers: in_place.given,
            recorded: in_place.recorded,
        })
        .await
        .ok_or_else(|| ApiError::new(500, "The trial run was lost", ""))?;
    let status = app.publication.summary().await?.status(&trial.facade);
    if !sent_along && is_real && (200..300).contains(&reply.status) {
        remember(&app, trial);
    }
    Ok(Json(result(reply, !sent_along && status == "same")))
}

/// What stands in place of calls: what is given, and what an exchange that was kept has besides.
async fn in_place(
    app: &App,
    publisher: &Publisher,
    trial: &Trial,
    at: (&CompiledFacade, &CompiledOperation),
) -> Result<InPlace, ApiError> {
    let mut in_place = InPlace {
        given: answers(publisher, trial, at.1)?,
        recorded: Vec::new(),
    };
    let id = trial.answers_of.as_deref().map(str::trim);
    if let Some(id) = id.filter(|id| !id.is_empty()) {
        let told = "Answers that were kept can be tried by publishers";
        publisher.needs(Role::Publisher, told)?;
        recorded::of_exchange(app, id, at, &mut in_place).await?;
    }
    Ok(in_place)
}

fn result(reply: TrialReply, released: bool) -> TrialResult {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let headers = reply.headers.iter();
    TrialResult {
        status: reply.status,
        headers: headers
            .map(|(k, v)| (k.to_string(), text(v.as_bytes())))
            .collect(),
        body: text(&reply.body),
        trace: reply.trace,
        released,
    }
}

/// A facade compiled, and the facades of the porch that it stands on.
fn with_what_it_stands_on(
    model: &Model,
    name: &str,
    secrets: &HashMap<String, String>,
) -> (CompiledPorch, Vec<Finding>) {
    let names = model.stands_on(name);
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    model.porch(&names, &Secrets::Known(secrets))
}

/// Keeps the values of a trial run that was answered well.
fn remember(app: &App, trial: Trial) {
    let body = trial.body.filter(|body| !body.is_null());
    let given = Given {
        path: trial.path,
        query: trial.query,
        body: trial.text.or_else(|| body.map(|b| b.to_string())),
    };
    let publication = &app.publication;
    publication.answered(&trial.facade, &trial.operation, given);
}

/// Who may carry out a call of this method: viewers only those that change nothing (RFC 9110, section 9.2.1).
pub(super) fn may_try(
    publisher: &Publisher,
    viewers_do_not: bool,
    method: &str,
) -> Result<(), ApiError> {
    let safe = method.parse().is_ok_and(|m: http::Method| m.is_safe());
    if viewers_do_not {
        publisher.needs(Role::Publisher, "Viewers' trial runs are switched off")
    } else if !safe {
        publisher.needs(
            Role::Publisher,
            "What may change something is tried by publishers",
        )
    } else {
        Ok(())
    }
}

fn no_operation(trial: &Trial, facade: Option<&CompiledFacade>) -> ApiError {
    let known = facade.into_iter().flat_map(|f| &f.operations);
    let near = porch_contract::suggest(&trial.operation, known.map(|o| o.id.as_str()))
        .map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
    ApiError::new(
        422,
        format!(
            "The draft has no operation “{}” that can be tried",
            trial.operation
        ),
        near,
    )
}

/// The answers that are given in place of calls.
fn answers(
    publisher: &Publisher,
    trial: &Trial,
    op: &CompiledOperation,
) -> Result<Vec<(String, GivenAnswer)>, ApiError> {
    if trial.answers.is_empty() {
        return Ok(Vec::new());
    }
    publisher.needs(
        Role::Publisher,
        "Answers of one's own can be tried by publishers",
    )?;
    let names: Vec<&str> = op.steps.iter().map(|s| &*s.name).collect();
    let one = |(name, given): (&String, &TrialAnswer)| {
        if !names.contains(&name.as_str()) {
            let title = format!("“{}” has no call “{name}”", op.id);
            let detail = match names.as_slice() {
                [] => "It calls nothing.".to_owned(),
                names => format!("There are: {}.", names.join(", ")),
            };
            return Err(ApiError::new(422, title, detail));
        }
        let status = given.status.unwrap_or(200);
        let known = (200..600).contains(&status);
        let status = http::StatusCode::from_u16(status).ok().filter(|_| known);
        let Some(status) = status else {
            let title = format!("The answer of “{name}” has no status that an answer can have");
            return Err(ApiError::new(422, title, "Statuses are 200 to 599."));
        };
        let body = given.body.clone();
        Ok((name.clone(), GivenAnswer { status, body }))
    };
    trial.answers.iter().map(one).collect()
}

/// The request that a caller would send.
fn request(
    trial: &Trial,
    facade: &CompiledFacade,
    op: &CompiledOperation,
) -> Result<http::Request<Bytes>, ApiError> {
    let target = target(&trial.path, &trial.query, &facade.base, &op.route.path)?;
    let mut request = http::Request::builder()
        .method(op.route.method.as_str())
        .uri(&target);
    for (name, value) in &trial.headers {
        request = request.header(name, value.trim());
    }
    let mut names = trial.headers.keys();
    let has_type = names.any(|k| k.eq_ignore_ascii_case("content-type"));
    let given = trial.body.as_ref().filter(|body| !body.is_null());
    let text = trial.text.clone().or_else(|| given.map(Value::to_string));
    let body = text.filter(|text| !text.trim().is_empty());
    if body.is_some() && !has_type {
        request = request.header("content-type", "application/json");
    }
    let body = body.map_or_else(Bytes::new, Bytes::from);
    request
        .body(body)
        .map_err(|e| ApiError::new(422, "No request can be made of this", e.to_string()))
}

/// The secrets that a set of documents names, each with an address that it is sent to.
fn secrets_of(environment: &str, documents: &Documents) -> BTreeSet<(String, String)> {
    let here = documents.environments.get(environment);
    let mut all = BTreeSet::new();
    for (name, backend) in &documents.backends {
        let place = here.and_then(|e| e.doc.backends.get(name));
        let addresses = place.map(|p| &p.address).or(backend.doc.address.as_ref());
        for address in addresses.map_or_else(Vec::new, |a| a.all()) {
            for secret in backend.doc.credentials.secrets() {
                all.insert((secret.to_owned(), address.trim().to_owned()));
            }
            // Whoever is shown the token has what the secret opens.
            let client = backend.doc.credentials.client_secrets();
            for (server, secret) in client
                .iter()
                .flat_map(|(s, all)| all.iter().map(move |n| (s, n)))
            {
                let place = format!("{server} for a token that {} is shown", address.trim());
                all.insert(((*secret).to_owned(), place));
            }
        }
    }
    all
}

/// The same for secrets that expressions name: each goes to the same addresses as in the draft, and is named by the same
/// facade.
fn names_only_its_own_secrets(own: &CompiledPorch, with: &CompiledPorch) -> Result<(), ApiError> {
    let pairs = |porch: &CompiledPorch| {
        let mut all = BTreeSet::new();
        for facade in &porch.facades {
            let backends = facade.backends.iter().flat_map(|b| &b.addresses);
            let places: Vec<String> = backends
                .map(|a| {
                    let scheme = if a.tls { "https" } else { "http" };
                    format!("{scheme}://{}{}", a.authority, a.path)
                })
                .collect();
            for secret in &facade.named {
                all.insert((secret.clone(), format!("the facade {}", facade.name)));
                all.extend(places.iter().map(|p| (secret.clone(), p.clone())));
            }
        }
        all
    };
    let known = pairs(own);
    only_known(pairs(with).into_iter().find(|pair| !known.contains(pair)))
}

/// Documents that are only sent along with a trial run meet no secret that the draft's own documents do not send to the
/// very same address: else whoever tries could have it sent to themselves.
fn meets_only_its_own_secrets(
    environment: &str,
    own: &Documents,
    with: &Documents,
) -> Result<(), ApiError> {
    let known = secrets_of(environment, own);
    let mut all = secrets_of(environment, with).into_iter();
    only_known(all.find(|pair| !known.contains(pair)))
}

fn only_known(other: Option<(String, String)>) -> Result<(), ApiError> {
    match other {
        None => Ok(()),
        Some((secret, address)) => Err(ApiError::new(
            403,
            format!("A trial run does not send the secret “{secret}” to {address}"),
            "No document of the draft does so. Push the documents first, then try what stands in the draft.",
        )),
    }
}
