//! Releasing and rolling back.

use std::sync::Arc;

use porch_contract::{Finding, has_errors, suggest};
use porch_facade::Model;
use porch_store::StoreError;
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use super::content::{Content, ReleasedFacade, Served};
use super::difference::{Difference, to_other};
use super::serves::{SampleCall, ServedFacade, sample_call};
use super::{Live, Publication, readable};
use crate::compute::compute;
use crate::error::ApiError;

/// What a release or a rollback did.
#[derive(Serialize, ToSchema)]
pub(crate) struct Released {
    number: i64,
    taken: Vec<String>,
    carried_over: Vec<String>,
    removed: Vec<String>,
    findings: Vec<Finding>,
    /// All that callers are served now.
    serves: Vec<ServedFacade>,
    /// A call of what was taken, with values from its contract.
    call: Option<SampleCall>,
}

/// Content that is to be served, and how it came to be.
struct Wanted {
    content: Content,
    taken: Vec<String>,
    removed: Vec<String>,
    /// As it is noted down.
    asked: serde_json::Value,
    note: String,
}

impl Publication {
    /// Makes the draft's facades what callers are served; one that is not in the draft any more is no longer served.
    pub(crate) async fn release(
        self: &Arc<Self>,
        who: &str,
        facades: Vec<String>,
        note: String,
    ) -> Result<Released, ApiError> {
        let (own, who) = (self.clone(), who.to_owned());
        self.to_the_end(async move {
            let mut live = own.lock.lock().await;
            own.catch_up_locked(&mut live).await?;
            let model = own.model().await?;
            let base = own.served().content.clone();
            let wanted = own.taken_from(&model, base, facades, note)?;
            own.put_live(&mut live, &who, wanted).await
        })
        .await
    }

    /// Makes an older release what callers are served, or of it only the named facades, as a new release. When `after` is
    /// given, that release must still be the one that is served.
    pub(crate) async fn rollback(
        self: &Arc<Self>,
        who: &str,
        number: i64,
        facades: Vec<String>,
        after: Option<i64>,
    ) -> Result<Released, ApiError> {
        let (own, who) = (self.clone(), who.to_owned());
        self.to_the_end(async move {
            let mut live = own.lock.lock().await;
            own.catch_up_locked(&mut live).await?;
            let served = own.served();
            if after.is_some_and(|after| after != served.number) {
                return Err(StoreError::Stale(format!("what {} serves", own.environment)).into());
            }
            let content = own.as_it_was(&served.content, number, &facades).await?;
            let named = |n: &&String| facades.is_empty() || facades.contains(n);
            let gone = |n: &&String| !content.facades.contains_key(*n);
            let taken: Vec<String> = content.facades.keys().filter(named).cloned().collect();
            let wanted = Wanted {
                asked: json!(taken),
                taken,
                removed: served
                    .content
                    .facades
                    .keys()
                    .filter(gone)
                    .cloned()
                    .collect(),
                content,
                note: match facades.as_slice() {
                    [] => format!("back to release {number}"),
                    some => format!("{} back to release {number}", some.join(", ")),
                },
            };
            own.put_live(&mut live, &who, wanted).await
        })
        .await
    }

    /// What going back to a release would change for callers, and the number of the release that is served.
    pub(crate) async fn compare_with(
        &self,
        number: i64,
        facades: Vec<String>,
    ) -> Result<(i64, Vec<Difference>), ApiError> {
        let served = self.served();
        let content = self.as_it_was(&served.content, number, &facades).await?;
        let (from, called) = (served.content.clone(), format!("release {number}"));
        let library = self.library.clone();
        let list = compute(move || to_other(&from, &content, &called, &library)).await?;
        Ok((served.number, list))
    }

    /// What is served, with the named facades as a release had them; without names, the release.
    async fn as_it_was(
        &self,
        served: &Content,
        number: i64,
        facades: &[String],
    ) -> Result<Content, ApiError> {
        let store = self.database.store()?;
        let mut old = readable(store.release(&self.environment, number).await?.content)?;
        if facades.is_empty() {
            return Ok(old);
        }
        let mut content = served.clone();
        for name in facades {
            match old.facades.remove(name) {
                Some(facade) => drop(content.facades.insert(name.clone(), facade)),
                None => {
                    let had = old.facades.keys().map(String::as_str);
                    let help = suggest(name, had)
                        .map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
                    let title = format!("Release {number} had no facade “{name}”");
                    return Err(ApiError::new(404, title, help));
                }
            }
        }
        Ok(content)
    }

    fn taken_from(
        &self,
        model: &Model,
        mut content: Content,
        facades: Vec<String>,
        note: String,
    ) -> Result<Wanted, ApiError> {
        let (mut taken, mut removed) = (Vec::new(), Vec::new());
        for name in &facades {
            match ReleasedFacade::take(model, &self.environment, name) {
                Some(facade) => {
                    content.facades.insert(name.clone(), Arc::new(facade));
                    taken.push(name.clone());
                }
                None if content.facades.remove(name).is_some() => removed.push(name.clone()),
                None => return Err(not_in_the_draft(model, name)),
            }
        }
        Ok(Wanted {
            content,
            taken,
            removed,
            asked: json!(facades),
            note,
        })
    }

    /// Checks content with the environment's secrets, keeps it and serves it.
    async fn put_live(
        &self,
        live: &mut Live,
        who: &str,
        wanted: Wanted,
    ) -> Result<Released, ApiError> {
        let after = self.served().number;
        let number = after + 1;
        let compiled = self.compile(&wanted.content, number).await?;
        let mut findings = compiled.findings.clone();
        findings.extend(compiled.porch.inside());
        if has_errors(&findings) {
            return Err(ApiError::new(
                422,
                "The release has errors, and nothing was changed",
                "Mend what is listed, push, and release again.",
            )
            .with(findings));
        }
        let json = serde_json::to_value(&wanted.content)
            .map_err(|e| ApiError::new(500, "The release cannot be kept", e.to_string()))?;
        let change = self.database.store()?.change(who).await?;
        let (environment, asked, note) = (&self.environment, wanted.asked, &wanted.note);
        let kept = change
            .create_release(environment, after, asked.clone(), json, note)
            .await?;
        let object = format!("{environment} {}", kept.number);
        let detail = json!({ "facades": asked, "note": note });
        change.audit("released", &object, detail).await?;
        change.commit().await?;
        let carried_over = wanted
            .content
            .facades
            .keys()
            .filter(|n| !wanted.taken.contains(n))
            .cloned()
            .collect();
        let served = Served {
            number: kept.number,
            made_by: kept.made_by,
            made_at: kept.made_at,
            content: wanted.content,
            from_disk: false,
        };
        let call = self.call_of(served.content.clone(), &wanted.taken).await?;
        let serves = compiled
            .facades
            .iter()
            .filter_map(|f| f.compiled.as_deref());
        let serves = serves.map(|f| ServedFacade::of(f, &self.gateway)).collect();
        self.serve(live, served, compiled);
        live.release += 1;
        self.write_snapshot().await;
        Ok(Released {
            serves,
            call,
            number: kept.number,
            taken: wanted.taken,
            carried_over,
            removed: wanted.removed,
            findings,
        })
    }

    /// A call of one of these facades; of what was tried, if anything was.
    async fn call_of(
        &self,
        content: Content,
        taken: &[String],
    ) -> Result<Option<SampleCall>, ApiError> {
        let mut each: Vec<_> = taken
            .iter()
            .map(|f| (self.answered.of(f), f.clone()))
            .collect();
        each.sort_by_key(|(answered, _)| answered.is_empty());
        let library = self.library.clone();
        compute(move || {
            let mut each = each.iter();
            each.find_map(|(answered, f)| sample_call(&content, f, answered, &library))
        })
        .await
    }
}

/// A facade whose document has errors is not among the documents read.
fn not_in_the_draft(model: &Model, name: &str) -> ApiError {
    let findings = model.documents.findings.clone();
    let known = model.documents.facades.keys().map(String::as_str);
    let near = suggest(name, known).map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
    let status = if findings.is_empty() { 404 } else { 422 };
    let title = format!("There is no facade “{name}” in the draft");
    ApiError::new(status, title, near).with(findings)
}
