//! What a release holds.

use std::collections::BTreeMap;

use porch_facade::{Documents, Files, bundle};
use serde::{Deserialize, Serialize};

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
    pub(crate) facades: BTreeMap<String, ReleasedFacade>,
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

/// The facade as a release would take it from a set of files.
pub(crate) fn take(
    files: &Files,
    documents: &Documents,
    environment: &str,
    name: &str,
) -> Option<ReleasedFacade> {
    let own = bundle(files, documents, name)?;
    let facade = documents.facades.get(name)?;
    let places = documents
        .environments
        .get(environment)
        .map(|e| &e.doc.backends);
    let addresses = facade
        .doc
        .operations
        .values()
        .filter_map(|o| {
            Some((
                o.call.backend.clone(),
                places?.get(&o.call.backend)?.address.joined(),
            ))
        })
        .collect();
    Some(ReleasedFacade {
        files: own,
        addresses,
    })
}
