//! Backends of the draft, and whether they are there.

use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_contract::has_errors;
use porch_facade::{BackendDoc, CompiledBackend, Document, Model, Secrets};
use porch_fetch::{FetchError, Probed};
use serde::Serialize;
use utoipa::ToSchema;

use super::extract::{Json, Path};
use super::session::Publisher;
use super::trials::may_try;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;

/// A backend of the draft.
#[derive(Serialize, ToSchema)]
pub(crate) struct BackendView {
    name: String,
    title: String,
    kind: String,
    /// Where it is called here.
    addresses: Vec<String>,
    /// What it is shown when it is called, in words; never a value.
    credentials: Vec<String>,
    /// The facades that call it.
    facades: Vec<String>,
    /// Its document.
    file: String,
    /// Seconds that it is left alone still in what is served, since too many of its calls failed; 0: it is not.
    resting: u64,
    /// Its addresses that are left alone in what is served, since they are not well.
    out: Vec<OutView>,
}

/// An address that is left alone.
#[derive(Serialize, ToSchema)]
pub(crate) struct OutView {
    address: String,
    /// What was found of it.
    told: String,
}

/// The backends of the draft.
#[utoipa::path(get, path = "/api/backends", operation_id = "list_backends", responses((status = 200, body = Vec<BackendView>)))]
pub(crate) async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<BackendView>>, ApiError> {
    let model = app.publication.model().await?;
    let environment = app.publication.environment().to_owned();
    let views = compute(move || {
        let all = model.documents.backends.values();
        let mut all: Vec<BackendView> = all.map(|b| view(&model, b, &environment)).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    });
    let mut views = views.await?;
    let porch = app.publication.porch();
    let served = porch.facades.iter().flat_map(|f| &f.backends);
    for backend in served {
        let resting = app.kept.resting(backend);
        let out = out_of(&app, backend);
        if resting.is_none() && out.is_empty() {
            continue;
        }
        if let Some(view) = views.iter_mut().find(|v| v.name == backend.name) {
            view.resting = resting.map_or(0, |left| left.as_secs() + 1);
            view.out = out;
        }
    }
    Ok(Json(views))
}

/// The addresses of a backend that are not well.
fn out_of(app: &App, backend: &CompiledBackend) -> Vec<OutView> {
    let all = backend.addresses.iter().enumerate();
    let out = all.filter_map(|(at, address)| {
        let told = app.kept.not_well(backend, at)?;
        Some(OutView {
            address: format!("{}{}", address.origin(backend.transport), address.path),
            told: told.to_string(),
        })
    });
    out.collect()
}

fn view(model: &Model, backend: &Document<BackendDoc>, environment: &str) -> BackendView {
    let doc = &backend.doc;
    let here = model.documents.environments.get(environment);
    let here = here.and_then(|e| e.doc.backends.get(&doc.name));
    let address = here.map(|p| &p.address).or(doc.address.as_ref());
    BackendView {
        name: doc.name.clone(),
        title: doc.title.clone(),
        kind: doc.kind.clone(),
        addresses: address.map_or_else(Vec::new, shown),
        credentials: doc.credentials.calling.places(),
        facades: callers(model, &doc.name),
        file: backend.file.clone(),
        resting: 0,
        out: Vec::new(),
    }
}

/// The addresses of a backend, each with its weight where it has one.
fn shown(addresses: &porch_facade::Addresses) -> Vec<String> {
    let all = addresses.weighted().into_iter();
    let all = all.map(|(address, weight)| match weight {
        1 => address.to_owned(),
        weight => format!("{address} (weight {weight})"),
    });
    all.collect()
}

/// The facades that call a backend.
fn callers(model: &Model, backend: &str) -> Vec<String> {
    let all = model.documents.facades.iter();
    let calls = all.filter(|(_, f)| f.doc.backends().any(|b| b == backend));
    calls.map(|(name, _)| name.clone()).collect()
}

/// What was found of a backend.
#[derive(Serialize, ToSchema)]
pub(crate) struct ProbeView {
    name: String,
    kind: String,
    /// What was shown, in words: the credentials for calling, and nothing else.
    shown: Vec<String>,
    addresses: Vec<ProbedAddress>,
}

/// What was found of one address.
#[derive(Serialize, ToSchema)]
pub(crate) struct ProbedAddress {
    address: String,
    /// What was asked.
    asked: String,
    /// Whether something answered.
    reached: bool,
    /// Whether it answered that what it was shown is not good, or that it wants to be shown something.
    refused: bool,
    /// Its status, or why there is none.
    told: String,
    /// What can be done about it.
    help: String,
    /// The address that its name stands for.
    at: String,
    /// The version of TLS; empty without it.
    tls: String,
    certificate: Option<CertificateView>,
    /// How long it took, in microseconds.
    us: u64,
}

/// A server's certificate.
#[derive(Serialize, ToSchema)]
pub(crate) struct CertificateView {
    subject: String,
    issuer: String,
    /// The hosts that it is for.
    names: Vec<String>,
    /// Until when it holds, in milliseconds since 1970.
    ends: i64,
}

/// Asks each address of a backend whether it is there, with the credentials that it is called with.
#[utoipa::path(post, path = "/api/backends/{backend}/probe", operation_id = "probe_backend", params(("backend" = String, Path)), responses((status = 200, body = ProbeView), (status = 404), (status = 422)))]
pub(crate) async fn probe(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Path(name): Path<String>,
) -> Result<Json<ProbeView>, ApiError> {
    // It shows secrets to backends, as a trial run does.
    may_try(&publisher, app.config.viewers_do_not_try, "GET")?;
    let model = app.publication.model().await?;
    let Some(document) = model.documents.backends.get(&name) else {
        let known = model.documents.backends.keys().map(String::as_str);
        let near = porch_contract::suggest(&name, known);
        let near = near.map_or_else(String::new, |n| format!("; did you mean “{n}”?"));
        return Err(ApiError::missing(format!(
            "backend “{name}” in the draft{near}"
        )));
    };
    let (kind, shown) = (
        document.doc.kind.clone(),
        document.doc.credentials.calling.places(),
    );
    let environment = app.publication.environment();
    let secrets = app.database.store()?.secrets(environment).await?;
    let (read, wanted) = (model.clone(), name.clone());
    let compiled = compute(move || compiled(&read, &wanted, &Secrets::Known(&secrets)));
    let backend = compiled.await??;
    let addresses = match backend.inside() {
        Some(facade) => vec![of_facade(
            facade,
            app.publication.porch().facade(facade).is_some(),
        )],
        None => {
            let probed = porch_fetch::probe(&backend).await;
            probed.into_iter().map(told).collect()
        }
    };
    Ok(Json(ProbeView {
        name,
        kind,
        shown,
        addresses,
    }))
}

/// A backend that is a facade of this porch: nothing is asked, it is served or not.
fn of_facade(name: &str, served: bool) -> ProbedAddress {
    let (told, help) = match served {
        true => ("it is served", ""),
        false => ("it is not served", "release it"),
    };
    ProbedAddress {
        address: format!("{}{name}", porch_facade::Address::INSIDE),
        asked: "the facade of this porch".into(),
        reached: served,
        refused: false,
        told: told.into(),
        help: help.into(),
        at: "this process".into(),
        tls: String::new(),
        certificate: None,
        us: 0,
    }
}

/// A backend as a facade that calls it has it.
fn compiled(
    model: &Model,
    name: &str,
    secrets: &Secrets<'_>,
) -> Result<Arc<CompiledBackend>, ApiError> {
    let mut findings = Vec::new();
    for facade in callers(model, name) {
        let Some(checked) = model.compile(&facade, secrets) else {
            continue;
        };
        let backends = checked.compiled.iter().flat_map(|f| &f.backends);
        let mut found = backends.filter(|b| b.name == name);
        let file = model.documents.backends.get(name).map(|b| &b.file);
        let own: Vec<_> = checked
            .findings
            .iter()
            .filter(|f| Some(&f.file) == file)
            .cloned()
            .collect();
        match found.next() {
            Some(backend) if !has_errors(&own) => return Ok(backend.clone()),
            _ => findings.extend(own),
        }
    }
    Err(match findings.is_empty() {
        true => ApiError::new(
            422,
            format!("No facade of the draft calls {name}"),
            "A backend is asked as a facade calls it: wire an operation to it first.",
        ),
        false => ApiError::new(
            422,
            format!("The document of {name} has mistakes"),
            "Mend them, and ask again.",
        )
        .with(findings),
    })
}

fn told(probed: Probed) -> ProbedAddress {
    let us = u64::try_from(probed.took.as_micros()).unwrap_or(u64::MAX);
    let view = ProbedAddress {
        address: probed.address,
        asked: probed.asked,
        reached: false,
        refused: false,
        told: String::new(),
        help: String::new(),
        at: String::new(),
        tls: String::new(),
        certificate: None,
        us,
    };
    match probed.reached {
        Ok(reached) => ProbedAddress {
            reached: true,
            refused: reached.refused,
            told: reached.status,
            at: reached.connection.address.to_string(),
            tls: reached.connection.tls,
            certificate: reached.connection.certificate.map(|c| CertificateView {
                subject: c.subject,
                issuer: c.issuer,
                names: c.names,
                ends: c.ends.saturating_mul(1000),
            }),
            ..view
        },
        Err(e) => ProbedAddress {
            told: why(&e),
            help: help(&e),
            ..view
        },
    }
}

/// Why there was no answer, without the address, which stands beside it.
fn why(e: &FetchError) -> String {
    match e {
        FetchError::Answer(_, why) | FetchError::Address(_, why) | FetchError::TooMuch(_, why) => {
            why.clone()
        }
        FetchError::Certificate(_, why) => format!("its certificate is not trusted: {why}"),
        other => other.to_string(),
    }
}

fn help(e: &FetchError) -> String {
    match e {
        FetchError::Certificate(..) => {
            "say whose signatures are good with `trust:` in the backend's document".into()
        }
        _ => String::new(),
    }
}
