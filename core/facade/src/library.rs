//! What was read and compiled before, found again by the content it stands on.
//!
//! The library holds nothing alive: as long as a draft or a release uses something, whoever needs the same gets the same;
//! what nobody uses any more is gone.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError, Weak};

use porch_contract::{Contract, Finding};

use crate::compiled::{Checked, Definition};
use crate::documents::{BackendDoc, FacadeDoc};
use crate::kind::{Kind, Kinds, standard};
use crate::read::{Document, beside};
use crate::{Documents, Files};

/// A hash of content.
pub(crate) type Digest = [u8; 32];

/// Adds pieces of content to a hash, so that no two lists of pieces are alike.
#[derive(Default)]
pub(crate) struct Content(blake3::Hasher);

impl Content {
    pub(crate) fn add(&mut self, piece: impl AsRef<[u8]>) -> &mut Self {
        let piece = piece.as_ref();
        self.0.update(&(piece.len() as u64).to_le_bytes());
        self.0.update(piece);
        self
    }

    pub(crate) fn digest(&self) -> Digest {
        *self.0.finalize().as_bytes()
    }
}

/// A contract as it was read.
#[derive(Debug)]
pub struct ReadContract {
    /// The contract, when the text is one.
    pub contract: Option<Contract>,
    pub(crate) findings: Vec<Finding>,
}

/// Things by the digest of what they were made of.
struct Kept<T: ?Sized>(Mutex<HashMap<Digest, Weak<T>>>);

impl<T: ?Sized> Default for Kept<T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<T: ?Sized> Kept<T> {
    fn get(&self, key: &Digest) -> Option<Arc<T>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.get(key)?.upgrade()
    }

    fn keep(&self, key: Digest, made: &Arc<T>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() == kept.capacity() {
            kept.retain(|_, known| known.strong_count() > 0);
        }
        kept.insert(key, Arc::downgrade(made));
    }
}

/// What was read and compiled before. One serves a whole process.
pub struct Library {
    /// The kinds of backends.
    pub kinds: Kinds,
    definitions: Kept<dyn Definition>,
    contracts: Kept<ReadContract>,
    checked: Kept<Checked>,
    plain: Mutex<HashSet<Digest>>,
}

/// So many texts are remembered to be no documents.
const PLAIN: usize = 1 << 16;

impl Default for Library {
    fn default() -> Self {
        Self::of(standard::kinds())
    }
}

impl Library {
    /// An empty library for some kinds of backends.
    pub fn of(kinds: Kinds) -> Self {
        Self {
            kinds,
            definitions: Kept::default(),
            contracts: Kept::default(),
            checked: Kept::default(),
            plain: Mutex::default(),
        }
    }

    /// Reads what was laid aside: whether a well-formed text is a document is found once.
    pub(crate) fn read_aside(&self, documents: &mut Documents, files: &Files) {
        for file in std::mem::take(&mut documents.aside) {
            let text = files.get(&file).map_or("", |t| t);
            let key = Content::default().add(text).digest();
            let known = |plain: &Mutex<HashSet<Digest>>| {
                let plain = plain.lock().unwrap_or_else(PoisonError::into_inner);
                plain.contains(&key)
            };
            if known(&self.plain) || !documents.look_into(files, &file) {
                continue;
            }
            let mut plain = self.plain.lock().unwrap_or_else(PoisonError::into_inner);
            if plain.len() >= PLAIN {
                plain.clear();
            }
            plain.insert(key);
        }
    }

    /// The contract of the only facade among a release's files, and its document.
    pub fn released(&self, files: &Files) -> Option<(Document<FacadeDoc>, Arc<ReadContract>)> {
        let (_, facade) = Documents::named(files).facades.into_iter().next()?;
        let path = beside(&facade.file, &facade.doc.contract);
        let contract = self.contract(&path, files.get(&path)?);
        Some((facade, contract))
    }

    /// The definition of a backend, read only when none with the same content is in use.
    pub(crate) fn definition(
        &self,
        kind: &dyn Kind,
        files: &Files,
        backend: &Document<BackendDoc>,
    ) -> Result<Arc<dyn Definition>, Box<Finding>> {
        let mut content = Content::default();
        content.add(kind.name()).add(&backend.file);
        for key in [&backend.doc.definition, &backend.doc.port] {
            content.add(key.as_deref().unwrap_or_default());
        }
        for name in kind.sources(files, backend) {
            content.add(&name).add(files.get(&name).map_or("", |t| t));
        }
        let key = content.digest();
        if let Some(known) = self.definitions.get(&key) {
            return Ok(known);
        }
        let made = kind.definition(files, backend)?;
        self.definitions.keep(key, &made);
        Ok(made)
    }

    /// The contract that a text is.
    pub(crate) fn contract(&self, file: &str, text: &str) -> Arc<ReadContract> {
        let key = Content::default().add(file).add(text).digest();
        if let Some(known) = self.contracts.get(&key) {
            return known;
        }
        let (contract, findings) = porch_contract::parse_contract(file, text);
        let made = Arc::new(ReadContract { contract, findings });
        self.contracts.keep(key, &made);
        made
    }

    pub(crate) fn checked(&self, key: &Digest) -> Option<Arc<Checked>> {
        self.checked.get(key)
    }

    pub(crate) fn keep_checked(&self, key: Digest, made: &Arc<Checked>) {
        self.checked.keep(key, made);
    }
}
