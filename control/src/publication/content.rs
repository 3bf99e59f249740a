//! What a release holds.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use porch_contract::Finding;
use porch_facade::{
    Addresses, Checked, CompiledPorch, EnvironmentDoc, Files, Library, Model, PlaceDoc, Secrets,
};
use serde::{Deserialize, Serialize};

use super::offered::Offered;

/// One facade of a release: everything it stands on.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct ReleasedFacade {
    /// Its files.
    pub(crate) files: Files,
    /// Addresses of its backends that the environment's document names.
    pub(crate) addresses: BTreeMap<String, String>,
}

/// What a release holds.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Content {
    /// Facades by name.
    pub(crate) facades: BTreeMap<String, Arc<ReleasedFacade>>,
    /// Offers by name: each with its document and the text that is accepted.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) offers: BTreeMap<String, Arc<Files>>,
    /// The portal: its document, its logo and its pages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) portal: Option<Arc<Files>>,
}

/// What an environment serves.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Served {
    pub(crate) number: i64,
    pub(crate) made_by: String,
    pub(crate) made_at: i64,
    pub(crate) content: Content,
    /// Whether it came from disk, because the database did not answer.
    #[serde(default)]
    pub(crate) from_disk: bool,
}

/// What was compiled of a release.
#[derive(Default)]
pub(crate) struct CompiledContent {
    pub(crate) porch: CompiledPorch,
    /// The facades, to be found again when the next release has the same.
    pub(crate) facades: Vec<Arc<Checked>>,
    pub(crate) findings: Vec<Finding>,
    /// Its offers and its portal.
    pub(crate) offered: Offered,
}

impl Content {
    /// Compiles all facades; those that are in use with the same content and secrets are taken as they are.
    pub(crate) fn compile(
        &self,
        environment: &str,
        secrets: &HashMap<String, String>,
        library: &Arc<Library>,
        number: i64,
    ) -> CompiledContent {
        let (mut facades, mut findings) = (Vec::new(), Vec::new());
        for (name, released) in &self.facades {
            let here = EnvironmentDoc {
                elm_porch: "environment/1".into(),
                name: environment.into(),
                backends: released.places(),
            };
            let secrets = Secrets::Known(secrets);
            let (checked, found) =
                Model::of_release(name, &released.files, here, library, &secrets);
            findings.extend(found);
            facades.extend(checked);
        }
        let compiled = facades.iter().filter_map(|c| c.compiled.clone()).collect();
        let (porch, clashes) = CompiledPorch::assemble(number as u64, compiled);
        findings.extend(clashes);
        let offered = Offered::of(self, library);
        CompiledContent {
            offered,
            porch,
            facades,
            findings,
        }
    }
}

impl ReleasedFacade {
    fn places(&self) -> indexmap::IndexMap<String, PlaceDoc> {
        self.addresses
            .iter()
            .map(|(backend, address)| {
                let address = Addresses::from_joined(address);
                (backend.clone(), PlaceDoc { address })
            })
            .collect()
    }

    /// The facade as a release would take it from the draft.
    pub(crate) fn take(model: &Model, environment: &str, name: &str) -> Option<Self> {
        let facade = model.documents.facades.get(name)?;
        let here = model.documents.environments.get(environment);
        let places = here.map(|e| &e.doc.backends);
        let addresses = model
            .backends_of(facade)
            .filter_map(|b| {
                let place = places?.get(&b.doc.name)?;
                Some((b.doc.name.clone(), place.address.joined()))
            })
            .collect();
        Some(Self {
            files: model.bundle(name)?,
            addresses,
        })
    }
}
