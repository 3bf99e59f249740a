//! Releasing and rolling back.

use std::sync::Arc;

use porch_contract::{Finding, has_errors, suggest};
use porch_facade::{Model, WhenChanged};
use porch_store::{Change, StoreError, Topic};
use serde::Serialize;
use serde_json::json;
use utoipa::ToSchema;

use super::content::{Content, ReleasedFacade, Served};
use super::difference::{Difference, to_other};
use super::offered::{Offered, offer_files, portal_files};
use super::offers::Offering;
use super::serves::{SampleCall, ServedFacade, sample_call};
use super::telling::Telling;
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
    /// Offers that were taken, and `the portal`.
    offered: Vec<String>,
    /// Those that are offered no more.
    no_longer_offered: Vec<String>,
    /// How many consumers' agreements got new terms.
    followed: usize,
    findings: Vec<Finding>,
    /// All that callers are served now.
    serves: Vec<ServedFacade>,
    /// A call of what was taken, with values from its contract.
    call: Option<SampleCall>,
}

/// What a release takes from the draft.
#[derive(Debug, Default)]
pub(crate) struct Taking {
    pub(crate) facades: Vec<String>,
    pub(crate) offers: Vec<String>,
    pub(crate) portal: bool,
}

impl Wanted {
    /// Facades that are served as before.
    fn carried_over(&self) -> Vec<String> {
        let all = self.content.facades.keys();
        all.filter(|n| !self.taken.contains(n)).cloned().collect()
    }
}

impl Taking {
    /// As it is noted down.
    fn noted(&self) -> serde_json::Value {
        let offers = self.offers.iter().map(|o| format!("offer {o}"));
        let portal = self.portal.then(|| "the portal".to_owned());
        let all = self.facades.iter().cloned().chain(offers).chain(portal);
        json!(all.collect::<Vec<_>>())
    }
}

/// Content that is to be served, and how it came to be.
struct Wanted {
    content: Content,
    taken: Vec<String>,
    removed: Vec<String>,
    /// Offers that are taken, and the portal.
    offered: Vec<String>,
    /// Those that are offered no more.
    gone: Vec<String>,
    /// As it is noted down.
    asked: serde_json::Value,
    note: String,
}

impl Publication {
    /// Makes the draft's facades what callers are served; one that is not in the draft any more is no longer served.
    pub(crate) async fn release(
        self: &Arc<Self>,
        who: &str,
        taking: Taking,
        note: String,
    ) -> Result<Released, ApiError> {
        let (own, who) = (self.clone(), who.to_owned());
        self.to_the_end(async move {
            let mut live = own.lock.lock().await;
            own.catch_up_locked(&mut live).await?;
            let model = own.model().await?;
            let base = own.served().content.clone();
            let wanted = own.taken_from(&model, base, taking, note)?;
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
                offered: Vec::new(),
                gone: Vec::new(),
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
    ) -> Result<(i64, Vec<Difference>, Offering), ApiError> {
        let served = self.served();
        let content = self.as_it_was(&served.content, number, &facades).await?;
        let (from, called) = (served.content.clone(), format!("release {number}"));
        let library = self.library.clone();
        let (list, offering) = compute(move || {
            let offering = Offering::to_other(&from, &content, &called);
            (to_other(&from, &content, &called, &library), offering)
        })
        .await?;
        Ok((served.number, list, offering))
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
        taking: Taking,
        note: String,
    ) -> Result<Wanted, ApiError> {
        let (mut taken, mut removed) = (Vec::new(), Vec::new());
        let asked = taking.noted();
        let (offered, gone) = offers_from(model, &mut content, &taking)?;
        for name in &taking.facades {
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
            offered,
            gone,
            asked,
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
        findings.extend(compiled.offered.findings(&wanted.content));
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
        let telling = self.telling(&wanted.content).await?;
        let change = self.database.store()?.change(who).await?;
        let (environment, asked, note) = (&self.environment, wanted.asked.clone(), &wanted.note);
        let kept = change
            .create_release(environment, after, asked.clone(), json, note)
            .await?;
        let object = format!("{environment} {}", kept.number);
        let detail = json!({ "facades": asked, "note": note });
        change.audit("released", &object, detail).await?;
        let followed = follow(&change, &self.offered(), &compiled.offered).await?;
        telling.tell(&change, environment, kept.number).await?;
        change.commit().await?;
        let carried_over = wanted.carried_over();
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
            offered: wanted.offered,
            no_longer_offered: wanted.gone,
            followed,
            findings,
        })
    }

    /// What serving other content changes for those who call.
    async fn telling(&self, next: &Content) -> Result<Telling, ApiError> {
        let (served, next) = (self.served().content.clone(), next.clone());
        let library = self.library.clone();
        compute(move || Telling::of(&served, &next, &library)).await
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

/// Takes offers and the portal from the draft. Those that are taken, and those that are there no more.
fn offers_from(
    model: &Model,
    content: &mut Content,
    taking: &Taking,
) -> Result<(Vec<String>, Vec<String>), ApiError> {
    let (documents, files) = (&model.documents, &*model.files);
    let (mut offered, mut gone) = (Vec::new(), Vec::new());
    let mut documents_taken = Vec::new();
    for name in &taking.offers {
        match offer_files(documents, files, name) {
            Some(own) => {
                documents_taken.push(documents.offers[name].file.as_str());
                content.offers.insert(name.clone(), Arc::new(own));
                offered.push(name.clone());
            }
            None if content.offers.remove(name).is_some() => gone.push(name.clone()),
            None => {
                let known = documents.offers.keys().map(String::as_str);
                let near = suggest(name, known);
                let near = near.map_or_else(String::new, |n| format!("Did you mean “{n}”?"));
                let title = format!("There is no offer “{name}” in the draft");
                let status = if documents.findings.is_empty() {
                    404
                } else {
                    422
                };
                let refused = ApiError::new(status, title, near);
                return Err(refused.with(documents.findings.clone()));
            }
        }
    }
    if taking.portal {
        match portal_files(documents, files) {
            Some(own) => {
                documents_taken.push(documents.portals[0].file.as_str());
                content.portal = Some(Arc::new(own));
                offered.push("the portal".into());
            }
            None if content.portal.take().is_some() => gone.push("the portal".into()),
            None => {
                let title = "There is no portal in the draft";
                let refused = ApiError::new(404, title, "Write a document `portal/1`.");
                return Err(refused.with(documents.findings.clone()));
            }
        }
    }
    let of_taken = |f: &&Finding| documents_taken.contains(&f.file.as_str());
    let findings: Vec<Finding> = model.offer_findings();
    let findings: Vec<Finding> = findings.iter().filter(of_taken).cloned().collect();
    match has_errors(&findings) {
        true => Err(ApiError::new(
            422,
            "The release has errors, and nothing was changed",
            "Mend what is listed, push, and release again.",
        )
        .with(findings)),
        false => Ok((offered, gone)),
    }
}

/// Gives agreements the terms of their offers, where these say so and have changed. How many consumers have some of them.
async fn follow(change: &Change, before: &Offered, now: &Offered) -> Result<usize, ApiError> {
    let mut consumers = std::collections::BTreeSet::new();
    for (name, offer) in &now.offers {
        let same = before
            .offers
            .get(name)
            .is_some_and(|old| old.doc.terms == offer.doc.terms && old.opens == offer.opens);
        if same || offer.doc.when_changed == WhenChanged::Keep {
            continue;
        }
        let terms = json!(offer.doc.terms);
        consumers.extend(change.follow_offer(name, &terms, &offer.opens).await?);
    }
    // Of very many, everybody reads everything again.
    match consumers.len() {
        0..=500 => {
            for consumer in &consumers {
                change.touch_grants(*consumer, &[]).await?;
            }
        }
        _ => change.touch(&Topic::Grants).await?,
    }
    Ok(consumers.len())
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
