//! The draft: read and checked once for each revision, whoever asks.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use porch_contract::{Finding, Severity};
use porch_facade::{Checked, Files, Model};
use porch_store::Topic;
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use super::content::{CompiledContent, Content, ReleasedFacade};
use super::difference::{self, Difference};
use super::offered::{offer_files, portal_files};
use super::offers::Offering;
use super::recent::Recent;
use super::{Publication, Served};
use crate::compute::compute;
use crate::error::ApiError;

/// A model that nobody asked for in so long a time is let go: it is many times larger than what follows from it.
const MODEL_LASTS: Duration = Duration::from_secs(20);

/// What is kept of the draft.
pub(super) struct Kept {
    /// One reading at a time.
    reading: tokio::sync::Mutex<()>,
    model: Mutex<Recent<Model>>,
    summary: Mutex<Option<Arc<Summary>>>,
}

impl Default for Kept {
    fn default() -> Self {
        Self {
            reading: tokio::sync::Mutex::default(),
            model: Mutex::new(Recent::new(MODEL_LASTS)),
            summary: Mutex::default(),
        }
    }
}

/// What follows from a draft, held against what is served.
pub(crate) struct Summary {
    revision: i64,
    served: i64,
    /// Everything that was found.
    pub(crate) findings: Vec<Finding>,
    /// How it differs from what is served, facade by facade.
    pub(crate) differences: Vec<Difference>,
    /// How its offers and its portal do.
    pub(crate) offering: Offering,
    /// Its facades.
    pub(crate) facades: BTreeMap<String, FacadeFacts>,
    /// Its facades as they were checked, so that the next draft checks what changed and nothing else.
    _checked: Vec<Arc<Checked>>,
}

/// What lists show of a facade.
#[derive(Clone, Debug, Default)]
pub(crate) struct FacadeFacts {
    pub(crate) title: String,
    pub(crate) base: String,
    pub(crate) version: String,
    pub(crate) operations: Vec<String>,
    pub(crate) backends: Vec<String>,
    pub(crate) errors: usize,
}

impl Summary {
    pub(crate) fn errors(&self) -> usize {
        let errors = self.findings.iter();
        errors.filter(|f| f.severity == Severity::Error).count()
    }

    /// `same`, `changed`, `new` or `gone`.
    pub(crate) fn status(&self, facade: &str) -> &'static str {
        let found = self.differences.iter().find(|d| d.facade == facade);
        found.map_or("new", |d| d.status)
    }

    /// Facades whose draft differs from what is served.
    pub(crate) fn unreleased(&self) -> impl Iterator<Item = &Difference> {
        self.differences.iter().filter(|d| d.status != "same")
    }
}

/// What a push did.
#[derive(Serialize, ToSchema)]
pub(crate) struct Pushed {
    /// Paths that were new or different.
    changed: Vec<String>,
    removed: Vec<String>,
    /// Paths of the draft that were not among the files pushed.
    kept: Vec<String>,
    /// What the check of the whole draft finds now.
    findings: Vec<Finding>,
    /// Names of facades whose draft differs from what is served.
    unreleased: Vec<String>,
    /// Names of offers whose draft does, and `the portal`.
    unreleased_offers: Vec<String>,
}

impl Publication {
    /// The draft's files.
    pub(crate) async fn files(&self) -> Result<Files, ApiError> {
        let files = self.database.store()?.draft().await?;
        Ok(files.into_iter().map(|f| (f.path, f.text)).collect())
    }

    /// The draft, read and checked; the same as long as nothing changes.
    pub(crate) async fn model(&self) -> Result<Arc<Model>, ApiError> {
        let revision = self.draft_revision().await?;
        if let Some(known) = self.known_model(revision) {
            return Ok(known);
        }
        let _one_at_a_time = self.draft.reading.lock().await;
        // Read before the files: a change in between is noticed the next time.
        let revision = self.draft_revision().await?;
        if let Some(known) = self.known_model(revision) {
            return Ok(known);
        }
        let files = Arc::new(self.files().await?);
        let (environment, library) = (self.environment.clone(), self.library.clone());
        let model = compute(move || Arc::new(Model::read(files, &environment, &library))).await?;
        lock(&self.draft.model).keep(revision, model.clone(), Instant::now());
        Ok(model)
    }

    /// All of the draft as a release would hold it, compiled.
    pub(crate) async fn drafted(&self) -> Result<(Content, CompiledContent), ApiError> {
        let model = self.model().await?;
        let secrets = self.database.store()?.secrets(&self.environment).await?;
        let (environment, library) = (self.environment.clone(), self.library.clone());
        compute(move || {
            let names = model.documents.facades.keys();
            let facades = names.filter_map(|name| {
                let taken = ReleasedFacade::take(&model, &environment, name)?;
                Some((name.clone(), Arc::new(taken)))
            });
            let (documents, files) = (&model.documents, &*model.files);
            let offers = documents.offers.keys().filter_map(|name| {
                Some((name.clone(), Arc::new(offer_files(documents, files, name)?)))
            });
            let content = Content {
                facades: facades.collect(),
                offers: offers.collect(),
                portal: portal_files(documents, files).map(Arc::new),
            };
            let compiled = content.compile(&environment, &secrets, &library, 0);
            (content, compiled)
        })
        .await
    }

    /// A draft with other files over its own; nothing is kept.
    pub(crate) async fn model_with(
        &self,
        over: BTreeMap<String, String>,
    ) -> Result<Arc<Model>, ApiError> {
        if over.is_empty() {
            return self.model().await;
        }
        let mut files = self.files().await?;
        files.extend(over);
        let (environment, library) = (self.environment.clone(), self.library.clone());
        compute(move || Arc::new(Model::read(Arc::new(files), &environment, &library))).await
    }

    /// What follows from the draft, held against what is served; found once for each revision of both.
    pub(crate) async fn summary(&self) -> Result<Arc<Summary>, ApiError> {
        let revision = self.draft_revision().await?;
        let served = self.served();
        let known = lock(&self.draft.summary).clone();
        if let Some(known) = known
            && known.revision == revision
            && known.served == served.number
        {
            return Ok(known);
        }
        let model = self.model().await?;
        let environment = self.environment.clone();
        let made = compute(move || summary(&model, &served, &environment, revision)).await?;
        let made = Arc::new(made);
        *lock(&self.draft.summary) = Some(made.clone());
        Ok(made)
    }

    pub(crate) async fn draft_revision(&self) -> Result<i64, ApiError> {
        let revisions = self.database.store()?.revisions().await?;
        Ok(revisions.get(&Topic::Draft.name()).copied().unwrap_or(0))
    }

    fn known_model(&self, revision: i64) -> Option<Arc<Model>> {
        lock(&self.draft.model).of(revision, Instant::now())
    }

    /// Lets go of a model that nobody asked for lately. Gives whether it did.
    pub(crate) fn forget_model(&self) -> bool {
        lock(&self.draft.model).forget(Instant::now())
    }

    /// Puts files into the draft. Nothing that callers see changes.
    pub(crate) async fn push(
        &self,
        who: &str,
        files: BTreeMap<String, String>,
        remove: &[String],
        revisions: &BTreeMap<String, i64>,
    ) -> Result<Pushed, ApiError> {
        let before = self.files().await?;
        let changed: Vec<String> = files
            .iter()
            .filter(|(p, t)| before.get(*p) != Some(*t))
            .map(|(p, _)| p.clone())
            .collect();
        let removed: Vec<String> = remove
            .iter()
            .filter(|p| before.contains_key(*p))
            .cloned()
            .collect();
        let kept = before
            .keys()
            .filter(|p| !files.contains_key(*p) && !removed.contains(p))
            .cloned()
            .collect();
        if !changed.is_empty() || !removed.is_empty() || !revisions.is_empty() {
            let write: Vec<_> = files
                .into_iter()
                .map(|(path, text)| {
                    let revision = revisions.get(&path).copied();
                    (path, text, revision)
                })
                .collect();
            let change = self.database.store()?.change(who).await?;
            change.write_draft(&write, &removed).await?;
            if !changed.is_empty() || !removed.is_empty() {
                let detail = json!({ "changed": changed, "removed": removed });
                change.audit("changed the draft", "draft", detail).await?;
            }
            change.commit().await?;
        }
        let summary = self.summary().await?;
        Ok(Pushed {
            changed,
            removed,
            kept,
            findings: summary.findings.clone(),
            unreleased: summary.unreleased().map(|d| d.facade.clone()).collect(),
            unreleased_offers: summary.offering.unreleased().map(Into::into).collect(),
        })
    }

    /// Takes files out of the draft.
    pub(crate) async fn remove(&self, who: &str, files: &[String]) -> Result<(), ApiError> {
        let change = self.database.store()?.change(who).await?;
        change.write_draft(&[], files).await?;
        let detail = json!({ "changed": [], "removed": files });
        change.audit("changed the draft", "draft", detail).await?;
        Ok(change.commit().await?)
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn summary(model: &Model, served: &Served, environment: &str, revision: i64) -> Summary {
    let findings = model.findings().to_vec();
    let names = model.documents.facades.keys();
    let checked: Vec<_> = names.filter_map(|n| model.found(n)).collect();
    let facades = model
        .documents
        .facades
        .iter()
        .map(|(name, facade)| {
            let folder = facade.file.rsplit_once('/').map_or("", |(f, _)| f);
            let is_own = |f: &&Finding| f.severity == Severity::Error && f.file.starts_with(folder);
            let facts = FacadeFacts {
                title: facade.doc.title.clone(),
                base: facade.doc.base.clone(),
                version: version(model, name),
                operations: facade.doc.operations.keys().cloned().collect(),
                backends: model
                    .backends_of(facade)
                    .map(|b| b.doc.name.clone())
                    .collect(),
                errors: findings.iter().filter(is_own).count(),
            };
            (name.clone(), facts)
        })
        .collect();
    Summary {
        revision,
        served: served.number,
        differences: difference::differences(model, served, environment),
        offering: Offering::of_draft(model, &served.content),
        facades,
        findings,
        _checked: checked,
    }
}

/// The version that a facade's contract names.
fn version(model: &Model, facade: &str) -> String {
    let found = model.found(facade);
    let compiled = found.as_ref().and_then(|f| f.compiled.as_ref());
    let of_contract = || model.contract(facade).map(|c| c.version.clone());
    compiled
        .map(|c| c.version.clone())
        .or_else(of_contract)
        .unwrap_or_default()
}
