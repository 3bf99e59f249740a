//! The set-up.

use std::path::PathBuf;

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
