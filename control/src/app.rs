//! What all handlers share: the services.

use std::sync::Arc;

use arc_swap::ArcSwapOption;
use porch_gateway::{Shared, Trials};
use porch_store::Seal;

use crate::config::AppConfig;
use crate::database::Database;
use crate::directory::{Attempts, Directory};
use crate::hooks::Hooks;
use crate::kept::KeptInMind;
use crate::mail::Letters;
use crate::observatory::Observatory;
use crate::portal::{Catalogue, DraftShown};
use crate::publication::Publication;
use crate::trouble::Trouble;

/// What all handlers share.
pub struct App {
    /// The set-up.
    pub config: AppConfig,
    /// Where trial runs are carried out.
    pub(crate) trials: Trials,
    /// Seals secrets.
    pub(crate) seal: Seal,
    pub(crate) database: Database,
    /// The draft, and what callers are served.
    pub(crate) publication: Arc<Publication>,
    /// Accounts, consumers, keys and pauses.
    pub(crate) directory: Arc<Directory>,
    /// Replies that are kept, and backends that are left alone.
    pub(crate) kept: KeptInMind,
    /// Usage, traces, audit.
    pub(crate) observatory: Arc<Observatory>,
    /// Failed attempts to sign in.
    pub(crate) attempts: Attempts,
    /// Failed attempts to sign in to the portal.
    pub(crate) people: Attempts,
    /// How many letters may be caused, and when there are some.
    pub(crate) letters: Letters,
    /// When there are events to be sent, and how they are signed.
    pub(crate) hooks: Hooks,
    /// What the portal shows of the release.
    pub(crate) catalogue: ArcSwapOption<Catalogue>,
    /// What it would show of the draft.
    pub(crate) preview: ArcSwapOption<DraftShown>,
    pub(crate) previewing: tokio::sync::Mutex<()>,
    pub(crate) trouble: Arc<Trouble>,
}

impl App {
    /// The store, once the database was reached.
    pub fn store(&self) -> Option<Arc<porch_store::Store>> {
        self.database.store().ok()
    }

    /// Somebody was told something: letters and events are to be sent.
    pub(crate) fn told(&self) {
        self.letters.wake();
        self.hooks.wake();
    }

    /// Nothing connected yet, nothing served yet.
    pub fn new(config: AppConfig, shared: Arc<Shared>, trials: Trials, seal: Seal) -> Arc<Self> {
        let database = Database::default();
        let trouble = Arc::new(Trouble::default());
        Arc::new(Self {
            publication: Arc::new(Publication::new(
                &config,
                shared.clone(),
                database.clone(),
                seal.clone(),
                trouble.clone(),
            )),
            kept: KeptInMind::new(shared.clone(), database.clone()),
            directory: Arc::new(Directory::new(
                shared.clone(),
                database.clone(),
                seal.clone(),
            )),
            observatory: Arc::new(Observatory::new(shared, database.clone())),
            database,
            trials,
            seal,
            attempts: Attempts::new(),
            people: Attempts::new(),
            letters: Letters::new(),
            hooks: Hooks::new(),
            catalogue: ArcSwapOption::empty(),
            preview: ArcSwapOption::empty(),
            previewing: tokio::sync::Mutex::default(),
            trouble,
            config,
        })
    }
}
