//! What all handlers share: the services.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use porch_gateway::{Shared, Trials};
use porch_rules::limit::Windows;
use porch_store::Seal;

use crate::database::Database;
use crate::directory::Directory;
use crate::observatory::Observatory;
use crate::publication::Publication;

/// How the control plane is set up.
#[derive(Clone, Debug)]
pub struct AppConfig {
    /// The environment that this service serves.
    pub environment: String,
    /// Folder for what must survive without the database.
    pub state: PathBuf,
    /// Address of the database.
    pub database: String,
    /// How callers reach the gateway, for people.
    pub gateway: String,
    /// Whether viewers may not even try what is safe.
    pub viewers_do_not_try: bool,
}

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
    /// Usage, traces, audit.
    pub(crate) observatory: Arc<Observatory>,
    /// Failed attempts to sign in.
    pub(crate) attempts: Windows,
    pub(crate) trouble: Arc<Trouble>,
}

impl App {
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
            directory: Arc::new(Directory::new(shared.clone(), database.clone())),
            observatory: Arc::new(Observatory::new(shared, database.clone())),
            database,
            trials,
            seal,
            attempts: Windows::new(),
            trouble,
            config,
        })
    }
}

/// What went wrong lately, for the overview.
#[derive(Default)]
pub(crate) struct Trouble(Mutex<String>);

impl Trouble {
    /// Notes down what went wrong, or with an empty text that all is well again.
    pub(crate) fn set(&self, text: impl Into<String>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = text.into();
    }

    pub(crate) fn get(&self) -> String {
        self.0
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }
}
