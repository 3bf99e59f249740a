//! What is offered: the offers and the portal of a release, read once.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use porch_contract::{Finding, Position};
use porch_facade::{Day, Documents, Files, GroupDoc, Library, OfferDoc, PortalDoc, Tagged, tagged};
use porch_soap::wsdl::beside;

use super::content::Content;

/// What is offered.
#[derive(Default)]
pub(crate) struct Offered {
    /// Offers by name.
    pub(crate) offers: BTreeMap<String, Arc<Offer>>,
    /// The portal, where there is a document of it.
    pub(crate) portal: Option<Portal>,
    /// What will be gone.
    pub(crate) sunsets: Vec<Sunset>,
}

/// Operations of a facade that will be gone on a day.
pub(crate) struct Sunset {
    pub(crate) facade: String,
    pub(crate) operations: Vec<String>,
    pub(crate) on: Day,
}

/// An offer of a release.
pub(crate) struct Offer {
    pub(crate) doc: OfferDoc,
    /// What an agreement opens: `sailings`, or `sailings/quoteFare`.
    pub(crate) opens: Vec<String>,
    /// The text that is accepted, in Markdown.
    pub(crate) text: Option<String>,
}

impl Offer {
    /// The hash of the text that is accepted (BLAKE3, in hexadecimal).
    pub(crate) fn digest(&self) -> Option<String> {
        let text = self.text.as_ref()?;
        Some(blake3::hash(text.as_bytes()).to_hex().to_string())
    }

    /// Title for people.
    pub(crate) fn title(&self) -> &str {
        match self.doc.title.trim() {
            "" => &self.doc.name,
            title => title,
        }
    }
}

/// The portal of a release.
pub(crate) struct Portal {
    pub(crate) doc: PortalDoc,
    /// What stands on the first page, in Markdown.
    pub(crate) front: String,
    /// Texts of pages by name.
    pub(crate) pages: BTreeMap<String, String>,
    /// The logo (SVG).
    pub(crate) logo: Option<String>,
}

/// The files of an offer: its document, and the text that is accepted.
pub(super) fn offer_files(documents: &Documents, files: &Files, name: &str) -> Option<Files> {
    let offer = documents.offers.get(name)?;
    let text = offer.doc.accept.iter().map(|a| a.text.as_str());
    Some(with_named(files, &offer.file, text))
}

/// The files of the portal.
pub(super) fn portal_files(documents: &Documents, files: &Files) -> Option<Files> {
    let portal = documents.portals.values().next()?;
    let doc = &portal.doc;
    let pages = doc.pages.iter().map(|p| p.text.as_str());
    let named = pages.chain(doc.front.as_deref()).chain(doc.logo.as_deref());
    Some(with_named(files, &portal.file, named))
}

fn with_named<'a>(files: &Files, document: &str, named: impl Iterator<Item = &'a str>) -> Files {
    let own = files.get_key_value(document);
    let named = named.filter_map(|name| files.get_key_value(&beside(document, name)));
    let all = own.into_iter().chain(named);
    all.map(|(p, t)| (p.clone(), t.clone())).collect()
}

impl Offered {
    /// Reads the offers and the portal of a release.
    pub(crate) fn of(content: &Content, library: &Library) -> Self {
        let tags = |facade: &str| of_facade(content, library, facade);
        let offers = content.offers.iter().filter_map(|(name, files)| {
            let offer = Offer::of(name, files, tags)?;
            Some((name.clone(), Arc::new(offer)))
        });
        Self {
            sunsets: content
                .facades
                .iter()
                .flat_map(|(name, of)| sunsets(name, &of.files, library))
                .collect(),
            offers: offers.collect(),
            portal: content.portal.as_ref().and_then(|files| Portal::of(files)),
        }
    }

    /// What is wrong between offers, the portal and the facades that a release holds.
    pub(crate) fn findings(&self, content: &Content) -> Vec<Finding> {
        let mut findings = Vec::new();
        let mut missing = |what: String, facade: &str| {
            let message = format!("{what} “{facade}”, which the release does not hold");
            let help = "release the facade too, or take it out of the document";
            findings.push(Finding::error("", Position::default(), message).help(help));
        };
        for (name, offer) in &self.offers {
            let facades = offer.doc.opens.iter().map(|o| o.facade.as_str());
            for facade in facades.collect::<BTreeSet<_>>() {
                if !content.facades.contains_key(facade) {
                    missing(format!("the offer {name} opens the facade"), facade);
                }
            }
        }
        let groups = self
            .portal
            .iter()
            .flat_map(|p| p.doc.groups.iter().flatten());
        for facade in groups.flat_map(|g: &GroupDoc| &g.facades) {
            if !content.facades.contains_key(facade) {
                missing("the portal shows the facade".into(), facade);
            }
        }
        findings
    }
}

/// What of a released facade will be gone, day by day.
fn sunsets(name: &str, files: &Files, library: &Library) -> Vec<Sunset> {
    // Most say no such day: nothing is read of those.
    let documents = files.values();
    if !documents.into_iter().any(|text| text.contains("sunset")) {
        return Vec::new();
    }
    let Some((document, read)) = library.released(files) else {
        return Vec::new();
    };
    let mut days: BTreeMap<Day, Vec<String>> = BTreeMap::new();
    for id in read.contract.iter().flat_map(|c| c.operations.keys()) {
        if let (_, Some(day)) = document.doc.dates_of(id) {
            days.entry(day).or_default().push(id.clone());
        }
    }
    let all = days.into_iter().map(|(on, operations)| Sunset {
        facade: name.to_owned(),
        operations,
        on,
    });
    all.collect()
}

/// The operations of a released facade, with their tags.
fn of_facade(content: &Content, library: &Library, facade: &str) -> Option<Tagged> {
    let released = content.facades.get(facade)?;
    let (_, read) = library.released(&released.files)?;
    read.contract.as_ref().map(tagged)
}

impl Offer {
    pub(super) fn of(
        name: &str,
        files: &Files,
        tags: impl Fn(&str) -> Option<Tagged>,
    ) -> Option<Self> {
        let mut documents = Documents::read(files);
        let offer = documents.offers.shift_remove(name)?;
        let accept = offer.doc.accept.as_ref();
        Some(Self {
            opens: offer.doc.openings(tags),
            text: accept.and_then(|a| files.get(&beside(&offer.file, &a.text)).cloned()),
            doc: offer.doc,
        })
    }
}

impl Portal {
    fn of(files: &Files) -> Option<Self> {
        let (_, portal) = Documents::read(files).portals.into_iter().next()?;
        let text = |name: &str| files.get(&beside(&portal.file, name)).cloned();
        let doc = &portal.doc;
        let pages = doc.pages.iter();
        let pages = pages.filter_map(|p| Some((p.name.clone(), text(&p.text)?)));
        Some(Self {
            front: doc.front.as_deref().and_then(text).unwrap_or_default(),
            pages: pages.collect(),
            logo: doc.logo.as_deref().and_then(text),
            doc: portal.doc,
        })
    }
}
