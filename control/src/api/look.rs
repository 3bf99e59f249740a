//! Definitions: looked at, and documents derived from them. Nothing is kept.

use std::collections::BTreeMap;

use axum::extract::Extension;
use porch_contract::Finding;
use porch_facade::{Allowed, Choices, Look, Shaped, Source};
use porch_fetch::FetchError;
use porch_store::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::session::Publisher;
use crate::compute::compute;
use crate::error::ApiError;

#[derive(Deserialize, ToSchema)]
pub(crate) struct LookRequest {
    /// Address of a definition, or HOST:PORT (with https:// before it for TLS) of a gRPC server that tells it by reflection.
    #[serde(default)]
    url: String,
    /// Name and password for that address, as NAME:PASSWORD; nothing of it is kept.
    #[serde(default)]
    login: String,
    /// Whether addresses of the service's own host and link may be called; for administrators.
    #[serde(default)]
    allow_local: bool,
    /// Certificates in PEM that a server's own may be signed with, for reflection by TLS; the machine's unless given.
    #[serde(default)]
    trust: String,
    /// Or its files, by name.
    #[serde(default)]
    files: BTreeMap<String, String>,
    /// Or an uploaded file or ZIP, in base64 (RFC 4648 §4), with its name in `name_of_upload`.
    #[serde(default)]
    upload: String,
    /// Name of the uploaded file.
    #[serde(default)]
    name_of_upload: String,
    /// The main one of the files; found by what they hold unless given.
    #[serde(default)]
    main: String,
}

/// A source with what is worth knowing of how it was come by.
struct Found {
    source: Source,
    notes: Vec<String>,
}

impl LookRequest {
    /// What is to be looked at: uploaded, sent along, or fetched.
    async fn source(self) -> Result<Found, ApiError> {
        if !self.upload.is_empty() {
            return self.uploaded().map(plain);
        }
        if !self.url.is_empty() {
            return self.fetched().await;
        }
        let main = Some(self.main.as_str()).filter(|m| !m.is_empty());
        let files = self.files.into_iter();
        let files = files.map(|(n, t)| (n, t.into_bytes())).collect();
        let source = Source::from_files("", files, main);
        source.map(plain).map_err(|f| unreadable(&f))
    }

    /// Whether somebody may ask for it: behind an address of this host may be what only those may see who look after it.
    fn may(&self, publisher: &Publisher) -> Result<(), ApiError> {
        if !self.allow_local {
            return Ok(());
        }
        let why = "An address of the porch's own host or link may belong to what keeps it running";
        publisher.needs(Role::Administrator, why)
    }

    fn uploaded(&self) -> Result<Source, ApiError> {
        let main = Some(self.main.as_str()).filter(|m| !m.is_empty());
        let bytes = porch_soap::from_base64(&self.upload).ok_or_else(|| {
            ApiError::new(
                400,
                "The upload is not base64",
                "RFC 4648 §4 says how it looks.",
            )
        })?;
        let name = match self.name_of_upload.as_str() {
            "" => "upload",
            name => name,
        };
        Source::from_bytes(name, &bytes, main).map_err(|f| unreadable(&f))
    }

    async fn fetched(self) -> Result<Found, ApiError> {
        let mut notes = Vec::new();
        let login = match self.login.as_str() {
            "" => None,
            text => {
                let (login, trimmed) = porch_fetch::login(text).map_err(|e| {
                    ApiError::new(400, "The login is not understood", e.to_string())
                })?;
                if trimmed {
                    notes.push("White space around the login was taken away.".to_owned());
                }
                Some(login)
            }
        };
        let allowed = porch_fetch::Allowed {
            local: self.allow_local,
            login,
            trust: self.trust,
        };
        match porch_fetch::fetch(&self.url, &allowed).await {
            Ok(fetched) => {
                notes.extend(fetched.missing);
                Ok(Found {
                    source: fetched.source,
                    notes,
                })
            }
            Err(e) => Err(not_fetched(&e)),
        }
    }
}

fn plain(source: Source) -> Found {
    Found {
        source,
        notes: Vec::new(),
    }
}

fn not_fetched(e: &FetchError) -> ApiError {
    let detail = format!("{e}. {}", e.help());
    match e {
        FetchError::Unreadable(finding) => unreadable(finding),
        FetchError::Local(..) => ApiError::new(422, "The address must be allowed first", detail),
        FetchError::Address(..) => ApiError::new(422, "The definition cannot be fetched", detail),
        _ => ApiError::new(502, "The definition cannot be fetched", detail),
    }
}

fn unreadable(finding: &Finding) -> ApiError {
    ApiError::new(422, finding.message.clone(), finding.help.clone()).with(vec![finding.clone()])
}

/// What a definition offers.
#[derive(Serialize, ToSchema)]
pub(crate) struct Looked {
    #[serde(flatten)]
    look: Look,
    /// What is worth knowing of how it was come by.
    notes: Vec<String>,
}

/// Looks at a definition: what it offers, and what it would look like as REST.
#[utoipa::path(post, path = "/api/look", request_body = LookRequest, responses((status = 200, body = Looked), (status = 403), (status = 422), (status = 502)))]
pub(crate) async fn look(
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<LookRequest>,
) -> Result<Json<Looked>, ApiError> {
    request.may(&publisher)?;
    let Found { source, notes } = request.source().await?;
    let look = compute(move || porch_facade::look(&source)).await?;
    let look = look.map_err(|f| unreadable(&f))?;
    Ok(Json(Looked { look, notes }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct DeriveRequest {
    #[serde(flatten)]
    source: LookRequest,
    /// Name of the new backend and facade.
    name: String,
    /// Where the backend is called, in place of the first address in the definition.
    #[serde(default)]
    address: String,
    /// Operations to take, by their names in the definition; all unless given.
    #[serde(default)]
    only: Vec<String>,
    /// How members are called in JSON, path variables and query parameters alike: `camel` (unless given) or `as-is`.
    #[serde(default)]
    names: NameStyle,
    /// What is chosen of operations, by the id that was proposed.
    #[serde(default)]
    operations: BTreeMap<String, Shaped>,
    /// Whether callers need a key; they do unless it is said.
    key: Option<bool>,
    /// A limit for each consumer, or for each address where no key is needed.
    limit: Option<Allowed>,
}

/// How what a definition names is called in JSON.
#[derive(Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum NameStyle {
    /// In lower camel case.
    #[default]
    Camel,
    /// As in the definition.
    AsIs,
}

/// Documents for a definition.
#[derive(Serialize, ToSchema)]
pub(crate) struct DerivedDocuments {
    /// The files, by path.
    files: BTreeMap<String, String>,
    /// How many operations were wired.
    operations: usize,
    findings: Vec<Finding>,
}

/// Derives documents from a definition; nothing is kept.
#[utoipa::path(post, path = "/api/derive", request_body = DeriveRequest, responses((status = 200, body = DerivedDocuments), (status = 403), (status = 422), (status = 502)))]
pub(crate) async fn derive(
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<DeriveRequest>,
) -> Result<Json<DerivedDocuments>, ApiError> {
    request.source.may(&publisher)?;
    let Found { source, .. } = request.source.source().await?;
    let address = Some(request.address.trim().to_owned()).filter(|a| !a.is_empty());
    let choices = Choices {
        operations: request.operations,
        key: request.key,
        limit: request.limit,
    };
    let derived = compute(move || {
        let name = request.name.trim();
        let wanted = porch_facade::Wanted {
            name,
            address: address.as_deref(),
            only: &request.only,
            first: &[],
            names: match request.names {
                NameStyle::Camel => porch_facade::Names::Camel,
                NameStyle::AsIs => porch_facade::Names::AsIs,
            },
        };
        let derived = porch_facade::derive_as(&source, &wanted)?;
        derived.shaped(name, &choices)
    });
    let derived = derived.await?.map_err(|f| unreadable(&f))?;
    Ok(Json(DerivedDocuments {
        files: derived.files,
        operations: derived.operations,
        findings: derived.findings,
    }))
}
