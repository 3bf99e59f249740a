//! How offers and the portal differ between the draft and what is served, and which agreements that touches.

use std::collections::{BTreeMap, BTreeSet};

use porch_facade::{Files, Model, OfferDoc, WhenChanged, tagged};
use porch_store::Store;
use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;

use super::content::Content;
use super::difference::changed_texts;
use super::offered::{Offer, offer_files, portal_files};
use crate::error::ApiError;

/// How one offer differs between the draft and what is served.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct OfferDifference {
    pub(crate) offer: String,
    /// `same`, `changed`, `new` (not served yet) or `gone` (served, but not in the draft).
    pub(crate) status: &'static str,
    /// What changes, in words.
    changes: Vec<String>,
    /// Changed files, as unified differences.
    files: BTreeMap<String, String>,
    /// How many agreements of it hold, or will.
    agreements: i64,
    /// What becomes of them.
    then: String,
}

/// How offers and the portal differ.
#[derive(Clone, Default, Serialize, ToSchema)]
pub(crate) struct Offering {
    /// Offer by offer.
    pub(crate) offers: Vec<OfferDifference>,
    /// The portal: `same`, `changed`, `new` or `gone`; none: there is none.
    pub(crate) portal: Option<&'static str>,
    /// Changed files of the portal, as unified differences.
    pub(crate) portal_files: BTreeMap<String, String>,
}

impl Offering {
    /// What is not served yet: names of offers, and `the portal`.
    pub(crate) fn unreleased(&self) -> impl Iterator<Item = &str> {
        let offers = self.offers.iter().filter(|o| o.status != "same");
        let portal = self.portal.filter(|status| *status != "same");
        let offers = offers.map(|o| o.offer.as_str());
        offers.chain(portal.map(|_| "the portal"))
    }

    /// Between a draft and what is served.
    pub(super) fn of_draft(model: &Model, served: &Content) -> Self {
        let (documents, files) = (&model.documents, &*model.files);
        let names = documents.offers.keys().chain(served.offers.keys());
        let tags = |facade: &str| model.contract(facade).map(tagged);
        let of = |name: &String| {
            let draft = offer_files(documents, files, name);
            let served = served.offers.get(name).map(|f| &**f);
            difference(name, served, draft.as_ref(), &tags, "draft")
        };
        let offers = names.collect::<BTreeSet<_>>().into_iter().map(of).collect();
        let draft = portal_files(documents, files);
        let served = served.portal.as_deref();
        let (portal, portal_files) = of_portal(served, draft.as_ref(), "draft");
        Self {
            offers,
            portal,
            portal_files,
        }
    }

    /// Between what is served and what an older release had.
    pub(super) fn to_other(served: &Content, other: &Content, called: &str) -> Self {
        let names = served.offers.keys().chain(other.offers.keys());
        let of = |name: &String| {
            let one = |content: &Content| content.offers.get(name).cloned();
            let (old, new) = (one(served), one(other));
            difference(name, old.as_deref(), new.as_deref(), &|_| None, called)
        };
        let offers = names.collect::<BTreeSet<_>>().into_iter().map(of).collect();
        let (old, new) = (served.portal.as_deref(), other.portal.as_deref());
        let (portal, portal_files) = of_portal(old, new, called);
        Self {
            offers,
            portal,
            portal_files,
        }
    }

    /// Adds how many agreements each change touches.
    pub(crate) async fn add_agreements(&mut self, store: &Store) -> Result<(), ApiError> {
        if self.offers.is_empty() {
            return Ok(());
        }
        let counts: BTreeMap<String, i64> =
            store.agreements_by_offer().await?.into_iter().collect();
        for offer in &mut self.offers {
            offer.agreements = counts.get(&offer.offer).copied().unwrap_or(0);
        }
        Ok(())
    }
}

fn of_portal(
    served: Option<&Files>,
    new: Option<&Files>,
    called: &str,
) -> (Option<&'static str>, BTreeMap<String, String>) {
    let none = Files::new();
    match (served, new) {
        (None, None) => (None, BTreeMap::new()),
        (Some(s), Some(n)) if s == n => (Some("same"), BTreeMap::new()),
        (Some(s), Some(n)) => (Some("changed"), changed_texts(s, n, called)),
        (None, Some(n)) => (Some("new"), changed_texts(&none, n, called)),
        (Some(_), None) => (Some("gone"), BTreeMap::new()),
    }
}

fn difference(
    name: &str,
    served: Option<&Files>,
    new: Option<&Files>,
    tags: &dyn Fn(&str) -> Option<porch_facade::Tagged>,
    called: &str,
) -> OfferDifference {
    let mut difference = OfferDifference {
        offer: name.to_owned(),
        status: "same",
        changes: Vec::new(),
        files: BTreeMap::new(),
        agreements: 0,
        then: String::new(),
    };
    match (served, new) {
        (Some(s), Some(n)) if s == n => {}
        (Some(s), Some(n)) => {
            difference.status = "changed";
            difference.files = changed_texts(s, n, called);
            let (old, new) = (Offer::of(name, s, tags), Offer::of(name, n, tags));
            if let (Some(old), Some(new)) = (old, new) {
                difference.changes = in_words(&old, &new);
                difference.then = match new.doc.when_changed {
                    WhenChanged::Keep => "agreements keep the terms that were agreed on",
                    WhenChanged::Follow => "agreements get the new terms with the release",
                }
                .into();
            }
        }
        (None, _) => difference.status = "new",
        (Some(_), None) => {
            difference.status = "gone";
            difference.changes = vec!["nobody can ask for it any more".into()];
            difference.then = "agreements hold on".into();
        }
    }
    difference
}

/// What of an offer changes, in words.
fn in_words(old: &Offer, new: &Offer) -> Vec<String> {
    let mut told = Vec::new();
    let names: BTreeSet<&String> = old.doc.terms.keys().chain(new.doc.terms.keys()).collect();
    for name in names {
        let of = |doc: &OfferDoc| {
            doc.terms
                .get(name)
                .map_or("none".to_owned(), Value::to_string)
        };
        let (was, is) = (of(&old.doc), of(&new.doc));
        if was != is {
            told.push(format!("the term {name} was {was} and is {is}"));
        }
    }
    let opened = |of: &Offer| of.opens.iter().cloned().collect::<BTreeSet<String>>();
    let (was, is) = (opened(old), opened(new));
    told.extend(was.difference(&is).map(|e| format!("it opens {e} no more")));
    told.extend(is.difference(&was).map(|e| format!("it opens {e} too")));
    let lasts = |of: &Offer| match of.doc.lasts {
        Some(span) => format!("{} hours", span.0.as_secs() / 3600),
        None => "without end".to_owned(),
    };
    let accept = |of: &Offer| match &of.doc.accept {
        Some(accept) => format!("version {}", accept.version),
        None => "nothing".to_owned(),
    };
    let (a, b) = (&old.doc, &new.doc);
    let word = |value: Value| value.as_str().unwrap_or_default().to_owned();
    let granting = |of: &OfferDoc| word(serde_json::json!(of.granted));
    let renewing = |of: &OfferDoc| word(serde_json::json!(of.renewed));
    let parts = [
        ("it lasts", lasts(old), lasts(new)),
        ("what is accepted:", accept(old), accept(new)),
        ("it is granted", granting(a), granting(b)),
        ("it is renewed", renewing(a), renewing(b)),
        ("seen by", a.see.in_words(), b.see.in_words()),
        ("asked for by", a.ask.in_words(), b.ask.in_words()),
        ("its price:", a.price.clone(), b.price.clone()),
        ("its title:", a.title.clone(), b.title.clone()),
        ("its summary:", a.summary.clone(), b.summary.clone()),
    ];
    let changed = parts.into_iter().filter(|(_, was, is)| was != is);
    told.extend(changed.map(|(what, was, is)| match was.as_str() {
        "" => format!("{what} {is}"),
        _ => format!("{what} {is}, and was {was}"),
    }));
    told
}
