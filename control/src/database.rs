//! The store, once the database has been reached.

use std::sync::Arc;

use arc_swap::ArcSwapOption;
use porch_store::Store;

use crate::error::ApiError;

/// The store, once the database has been reached. Cloning is cheap.
#[derive(Clone, Default)]
pub(crate) struct Database(Arc<ArcSwapOption<Store>>);

impl Database {
    pub(crate) fn set(&self, store: Store) {
        self.0.store(Some(Arc::new(store)));
    }

    /// The store.
    ///
    /// # Errors
    /// When the database has not been reached yet.
    pub(crate) fn store(&self) -> Result<Arc<Store>, ApiError> {
        self.0.load_full().ok_or_else(|| {
            ApiError::new(
                503,
                "The database does not answer",
                "Callers are served from the last release on disk. Changes are possible again when it is back.",
            )
        })
    }

    pub(crate) async fn is_up(&self) -> bool {
        match self.0.load_full() {
            Some(store) => store.is_up().await,
            None => false,
        }
    }
}
