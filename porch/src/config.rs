//! Configuration: flags over `ELM_PORCH_…` over a TOML file.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use serde::Deserialize;

use crate::error::CliError;

/// What proxies write of whom they come for.
#[derive(Clone, Copy, Debug, Deserialize, ValueEnum)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum ProxiesWrite {
    /// `Forwarded` (RFC 7239).
    Forwarded,
    /// `X-Forwarded-For` and `X-Forwarded-Proto`.
    XForwarded,
}

/// What the TOML file may say; the names are those of the flags.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct FileConfig {
    pub(crate) gateway: Option<SocketAddr>,
    pub(crate) tls: Option<SocketAddr>,
    pub(crate) certificates: Option<PathBuf>,
    pub(crate) tls_only: Option<bool>,
    pub(crate) trusted_proxies: Option<Vec<String>>,
    pub(crate) proxies_write: Option<ProxiesWrite>,
    pub(crate) proxies_write_certificates: Option<bool>,
    pub(crate) console: Option<SocketAddr>,
    pub(crate) portal: Option<SocketAddr>,
    pub(crate) portal_origin: Option<String>,
    pub(crate) gateway_origin: Option<String>,
    pub(crate) mail: Option<PathBuf>,
    pub(crate) portal_openid: Option<PathBuf>,
    pub(crate) webhooks_inside: Option<bool>,
    pub(crate) database: Option<String>,
    pub(crate) counts: Option<String>,
    pub(crate) environment: Option<String>,
    pub(crate) state: Option<PathBuf>,
    pub(crate) secrets_key_file: Option<PathBuf>,
    pub(crate) workers: Option<usize>,
    pub(crate) drain: Option<u64>,
    pub(crate) connections: Option<usize>,
    pub(crate) body_memory: Option<usize>,
    pub(crate) cache_memory: Option<usize>,
    pub(crate) viewers_do_not_try: Option<bool>,
    pub(crate) openid: Option<PathBuf>,
}

pub(crate) fn read(path: Option<&Path>) -> Result<FileConfig, CliError> {
    let Some(path) = path else {
        return Ok(FileConfig::default());
    };
    let text = std::fs::read_to_string(path)
        .map_err(|e| CliError::new(format!("{}: {e}", path.display())))?;
    toml::from_str(&text).map_err(|e| CliError::new(format!("{}: {e}", path.display())))
}
