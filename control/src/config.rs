//! The set-up.

use std::path::PathBuf;
use std::sync::Arc;

use crate::mail::Mail;
use crate::openid::OpenId;

/// How the control plane is set up.
#[derive(Clone)]
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
    /// The provider by which people sign in, where there is one.
    pub openid: Option<Arc<OpenId>>,
    /// How browsers reach the portal, as in `https://developers.skerry.example`, without a slash at its end.
    pub portal: String,
    /// Whether webhooks may lead by plain HTTP, and to this host and its networks.
    pub webhooks_inside: bool,
    /// The provider by which those who call sign in, where there is one.
    pub portal_openid: Option<Arc<OpenId>>,
    /// The server that takes letters, where there is one.
    pub mail: Option<Mail>,
}
