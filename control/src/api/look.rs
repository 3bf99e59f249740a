//! Definitions: looked at, and documents derived from them. Nothing is kept.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::{Extension, State};
use porch_contract::Finding;
use porch_facade::{Allowed, Choices, Look, Shaped, Source};
use porch_fetch::FetchError;
use porch_store::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::session::Publisher;
use crate::app::App;
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
    /// Certificates in PEM that a server's own may be signed with; those of the machine unless given.
    #[serde(default)]
    trust: String,
    /// The name that the certificate of the address's server must have, where that is another than the address's.
    #[serde(default)]
    server_name: String,
    /// A certificate in PEM that this server is shown, where it asks for one; nothing of it is kept.
    #[serde(default)]
    certificate: String,
    /// That certificate's private key, in PEM.
    #[serde(default)]
    certificate_key: String,
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
    /// Or sample calls: command lines of curl, which are made once each. Together with `files` they are not made again, and
    /// only their credentials count.
    #[serde(default)]
    sample: String,
    /// Or exchanges as they are written down: requests and answers of HTTP, one behind the other. Nothing is called.
    #[serde(default)]
    exchanges: String,
    /// Title of what follows from exchanges.
    #[serde(default)]
    title: String,
}

/// A source with what is worth knowing of how it was come by.
struct Found {
    source: Source,
    /// The description that follows from sample calls.
    described: BTreeMap<String, String>,
    /// Definitions of which one must be chosen.
    offers: Vec<porch_fetch::Offer>,
    notes: Vec<String>,
}

impl LookRequest {
    /// What is to be looked at: uploaded, sent along, or fetched.
    async fn source(self) -> Result<Found, ApiError> {
        if !self.upload.is_empty() {
            return self.uploaded().map(plain);
        }
        if !self.exchanges.is_empty() {
            let read = move || written_down(&self.exchanges, &self.title);
            return compute(read).await?;
        }
        if !self.sample.is_empty() && self.files.is_empty() {
            return self.sampled().await;
        }
        if !self.url.is_empty() {
            return self.fetched().await;
        }
        let credentials = credentials_of(&self.sample)?;
        let main = Some(self.main.as_str()).filter(|m| !m.is_empty());
        let files = self.files.into_iter();
        let files = files.map(|(n, t)| (n, t.into_bytes())).collect();
        let source = Source::from_files("", files, main).map_err(|f| unreadable(&f))?;
        Ok(plain(Source {
            trust: self.trust,
            made: !credentials.is_empty(),
            credentials,
            ..source
        }))
    }

    /// The one definition that is meant, for somebody who may ask for it.
    pub(super) async fn one(self, publisher: &Publisher) -> Result<Source, ApiError> {
        self.may(publisher)?;
        let Found { source, offers, .. } = self.source().await?;
        if offers.is_empty() {
            return Ok(source);
        }
        let told = "Look at the address, and choose one of what it offers.";
        Err(ApiError::new(
            422,
            "The address offers several definitions",
            told,
        ))
    }

    /// Makes sample calls.
    async fn sampled(self) -> Result<Found, ApiError> {
        let mut notes = Vec::new();
        let (text, allowed) = (self.sample.clone(), self.allowed(&mut notes)?);
        let sampled = porch_fetch::sample(&text, &allowed).await;
        let sampled = sampled.map_err(|e| not_fetched(&e))?;
        notes.extend(sampled.told);
        Ok(Found {
            described: sampled.source.files.clone(),
            notes,
            ..plain(sampled.source)
        })
    }

    /// Whether somebody may ask for it: behind an address of this host may be what only those may see who look after it.
    fn may(&self, publisher: &Publisher) -> Result<(), ApiError> {
        if !self.sample.is_empty() && self.files.is_empty() {
            let why = "Sample calls are made as they are written, and may change something";
            publisher.needs(Role::Publisher, why)?;
        }
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

    /// What may be called, and how.
    fn allowed(self, notes: &mut Vec<String>) -> Result<porch_fetch::Allowed, ApiError> {
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
        let own = (!self.certificate.is_empty()).then(|| {
            let (chain, key) = (self.certificate, self.certificate_key);
            std::sync::Arc::new(porch_facade::OwnCertificate { chain, key })
        });
        Ok(porch_fetch::Allowed {
            local: self.allow_local,
            only_public: false,
            most: 0,
            login,
            trust: self.trust,
            server_name: self.server_name.trim().to_owned(),
            own,
        })
    }

    async fn fetched(self) -> Result<Found, ApiError> {
        let mut notes = Vec::new();
        let url = self.url.clone();
        let allowed = self.allowed(&mut notes)?;
        let fetched = porch_fetch::fetch(&url, &allowed).await;
        let elsewhere = match &fetched {
            Ok(fetched) => !porch_facade::is_definition(&fetched.source),
            Err(e) => matches!(e, FetchError::Answer(..)) || porch_fetch::is_server(&url),
        };
        let offers = match elsewhere && url.contains("://") {
            true => porch_fetch::offers(&url, &allowed)
                .await
                .unwrap_or_default(),
            false => Vec::new(),
        };
        let fetched = match porch_fetch::only_own(&url, &offers) {
            Some(one) => {
                notes.push(format!("Taken from {}, {}.", one.address, one.found));
                porch_fetch::fetch(&one.address, &allowed).await
            }
            None if !offers.is_empty() => {
                return Ok(Found {
                    offers,
                    notes,
                    ..plain(Source::default())
                });
            }
            None => fetched,
        };
        let fetched = fetched.map_err(|e| not_fetched(&e))?;
        notes.extend(fetched.missing);
        Ok(Found {
            notes,
            ..plain(fetched.source)
        })
    }
}

/// What follows from exchanges that somebody wrote down.
fn written_down(text: &str, title: &str) -> Result<Found, ApiError> {
    let exchanges = porch_sample::read_exchanges(text).map_err(|e| no_sample(&e))?;
    let title = Some(title.trim()).filter(|t| !t.is_empty());
    let learned = porch_sample::learn(&exchanges, title);
    let main = "exchanges".to_owned();
    Ok(Found {
        notes: learned.told,
        ..plain(Source {
            files: BTreeMap::from([(main.clone(), learned.text)]),
            main,
            made: true,
            ..Source::default()
        })
    })
}

/// The credentials of sample calls, which are not made for them.
fn credentials_of(sample: &str) -> Result<Vec<porch_sample::Known>, ApiError> {
    if sample.is_empty() {
        return Ok(Vec::new());
    }
    let calls = porch_sample::read_commands(sample).map_err(|e| no_sample(&e))?;
    let calls = calls
        .into_iter()
        .map(|call| porch_sample::Exchange { call, answer: None });
    let calls: Vec<porch_sample::Exchange> = calls.collect();
    Ok(porch_sample::learn(&calls, None).credentials)
}

fn no_sample(e: &porch_sample::NoSample) -> ApiError {
    ApiError::new(422, e.message.clone(), e.help.clone())
}

fn plain(source: Source) -> Found {
    Found {
        source,
        described: BTreeMap::new(),
        offers: Vec::new(),
        notes: Vec::new(),
    }
}

fn not_fetched(e: &FetchError) -> ApiError {
    let detail = format!("{e}. {}", e.help());
    match e {
        FetchError::Unreadable(finding) => unreadable(finding),
        FetchError::Sample(told) => no_sample(told),
        FetchError::Local(..) => ApiError::new(422, "The address must be allowed first", detail),
        FetchError::Address(..) => ApiError::new(422, "The definition cannot be fetched", detail),
        _ => ApiError::new(502, "The definition cannot be fetched", detail),
    }
}

pub(super) fn unreadable(finding: &Finding) -> ApiError {
    ApiError::new(422, finding.message.clone(), finding.help.clone()).with(vec![finding.clone()])
}

/// What a definition offers.
#[derive(Serialize, ToSchema)]
pub(crate) struct Looked {
    #[serde(flatten)]
    look: Look,
    /// The description that follows from sample calls, by its file: what is derived from it makes no call again.
    described: BTreeMap<String, String>,
    /// Definitions that the address offers in its catalogue, of which one is to be chosen; it is none itself then.
    offers: Vec<OfferView>,
    /// What is worth knowing of how it was come by.
    notes: Vec<String>,
}

/// A definition that an address offers.
#[derive(Serialize, ToSchema)]
pub(crate) struct OfferView {
    /// Where it is.
    address: String,
    title: String,
    media_type: String,
}

/// Looks at a definition: what it offers, and what it would look like as REST.
#[utoipa::path(post, path = "/api/look", request_body = LookRequest, responses((status = 200, body = Looked), (status = 403), (status = 422), (status = 502)))]
pub(crate) async fn look(
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<LookRequest>,
) -> Result<Json<Looked>, ApiError> {
    request.may(&publisher)?;
    let Found {
        source,
        described,
        offers,
        notes,
    } = request.source().await?;
    if !offers.is_empty() {
        return Ok(Json(Looked {
            look: Look::default(),
            described,
            offers: offers.into_iter().map(offered).collect(),
            notes,
        }));
    }
    let look = compute(move || porch_facade::look(&source)).await?;
    let look = look.map_err(|f| unreadable(&f))?;
    Ok(Json(Looked {
        look,
        described,
        offers: Vec::new(),
        notes,
    }))
}

fn offered(offer: porch_fetch::Offer) -> OfferView {
    OfferView {
        address: offer.address,
        title: offer.title,
        media_type: offer.media_type,
    }
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
    /// Whether there is no backend yet, and operations answer with examples of the contract.
    #[serde(default)]
    calls_nothing: bool,
    /// Whether the secrets that samples carried are set in the environment. Those that are there already stay.
    #[serde(default)]
    keep_secrets: bool,
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
    /// Names of the secrets that samples carried and that the backends' documents name.
    secrets: Vec<String>,
    /// Those of them that were set now.
    secrets_kept: Vec<String>,
}

/// Derives documents from a definition; nothing is kept but secrets, where that is asked for.
#[utoipa::path(post, path = "/api/derive", request_body = DeriveRequest, responses((status = 200, body = DerivedDocuments), (status = 403), (status = 422), (status = 502)))]
pub(crate) async fn derive(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(request): Json<DeriveRequest>,
) -> Result<Json<DerivedDocuments>, ApiError> {
    if request.keep_secrets {
        publisher.needs(Role::Administrator, "Secrets are set by administrators")?;
    }
    let source = request.source.one(&publisher).await?;
    let address = Some(request.address.trim().to_owned()).filter(|a| !a.is_empty());
    let choices = Choices {
        operations: request.operations,
        key: request.key,
        limit: request.limit,
    };
    let keep_secrets = request.keep_secrets;
    let derived = compute(move || {
        let name = request.name.trim();
        let wanted = porch_facade::Wanted {
            name,
            address: address.as_deref(),
            only: &request.only,
            calls_nothing: request.calls_nothing,
            names: match request.names {
                NameStyle::Camel => porch_facade::Names::Camel,
                NameStyle::AsIs => porch_facade::Names::AsIs,
            },
            ..porch_facade::Wanted::default()
        };
        let derived = porch_facade::derive_as(&source, &wanted)?;
        derived.shaped(name, &choices)
    });
    let derived = derived.await?.map_err(|f| unreadable(&f))?;
    let secrets_kept = match keep_secrets {
        true => keep(&app, &publisher, &derived.secrets).await?,
        false => Vec::new(),
    };
    Ok(Json(DerivedDocuments {
        files: derived.files,
        operations: derived.operations,
        findings: derived.findings,
        secrets: derived.secrets.into_iter().map(|s| s.name).collect(),
        secrets_kept,
    }))
}

/// Sets secrets that nobody has set yet; what is there may belong to another backend.
async fn keep(
    app: &App,
    publisher: &Publisher,
    secrets: &[porch_facade::Stored],
) -> Result<Vec<String>, ApiError> {
    let environment = app.publication.environment();
    let there = app.database.store()?.secret_names(environment).await?;
    let mut kept = Vec::new();
    for secret in secrets {
        if there.iter().any(|t| t.name == secret.name) {
            continue;
        }
        let value = secret.value.trim();
        app.publication
            .set_secret(&publisher.name, &secret.name, value)
            .await?;
        kept.push(secret.name.clone());
    }
    Ok(kept)
}
