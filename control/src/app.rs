//! What all handlers share.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use arc_swap::{ArcSwap, ArcSwapOption};
use porch_facade::Files;
use porch_gateway::{Shared, Trials};
use porch_rules::limit::Windows;
use porch_store::{Seal, Store};

use crate::error::ApiError;
use crate::served::Served;

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
    /// What the gateway works from.
    pub shared: Arc<Shared>,
    /// Where trial runs are carried out.
    pub trials: Trials,
    /// Seals secrets.
    pub seal: Seal,
    pub(crate) store: ArcSwapOption<Store>,
    pub(crate) served: ArcSwap<Served>,
    /// Failed attempts to sign in.
    pub(crate) attempts: Windows,
    /// One release, one key change at a time.
    pub(crate) publishing: tokio::sync::Mutex<()>,
    /// What went wrong lately, for the overview.
    pub(crate) trouble: Mutex<String>,
}

impl App {
    /// Nothing connected yet, nothing served yet.
    pub fn new(config: AppConfig, shared: Arc<Shared>, trials: Trials, seal: Seal) -> Arc<Self> {
        Arc::new(Self {
            config,
            shared,
            trials,
            seal,
            store: ArcSwapOption::empty(),
            served: ArcSwap::from_pointee(Served::default()),
            attempts: Windows::new(),
            publishing: tokio::sync::Mutex::new(()),
            trouble: Mutex::default(),
        })
    }

    /// The store, when the database has been reached.
    pub(crate) fn store(&self) -> Result<Arc<Store>, ApiError> {
        self.store.load_full().ok_or_else(|| ApiError::new(503, "The database does not answer", "Callers are served from the last release on disk. Changes are possible again when it is back."))
    }

    /// The draft's files as the core wants them.
    pub(crate) async fn draft_files(&self) -> Result<Files, ApiError> {
        Ok(self
            .store()?
            .draft()
            .await?
            .into_iter()
            .map(|f| (f.path, f.text))
            .collect())
    }

    /// Notes down what went wrong, or that all is well again.
    pub(crate) fn set_trouble(&self, text: impl Into<String>) {
        *self
            .trouble
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) = text.into();
    }

    pub(crate) fn trouble(&self) -> String {
        self.trouble
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .clone()
    }
}
