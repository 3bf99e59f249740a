//! What the options of `porch serve` say, made what the service is set up with.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use porch_control::{FirstAccount, Mail, OpenId};
use porch_gateway::{Certificates, Proxies, SecureConfig, Written};
use porch_store::Seal;

use crate::config::ProxiesWrite;
use crate::counting::Counts;
use crate::error::CliError;

/// The provider by which people may sign in.
pub(super) fn openid(file: Option<&Path>) -> Result<Option<OpenId>, CliError> {
    let parse = |text: &str| toml::from_str(text).map_err(|e| e.to_string());
    let read = file.map(|file| OpenId::read(file, parse)).transpose();
    read.map_err(|e| CliError::new(format!("openid: {e}")).usage())
}

/// The server that takes letters.
pub(super) fn mail(file: Option<&Path>) -> Result<Option<Mail>, CliError> {
    let parse = |text: &str| toml::from_str(text).map_err(|e| e.to_string());
    let read = file.map(|file| Mail::read(file, parse)).transpose();
    read.map_err(|e| CliError::new(format!("mail: {e}")).usage())
}

/// An origin (RFC 6454 §6.2): a scheme and a host, perhaps a port, and nothing else.
pub(super) fn origin(what: &str, text: Option<String>) -> Result<Option<String>, CliError> {
    let Some(text) = text else { return Ok(None) };
    let text = text.trim().trim_end_matches('/').to_ascii_lowercase();
    let host = text
        .strip_prefix("https://")
        .or_else(|| text.strip_prefix("http://"));
    let sound = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '[' | ']');
    match host.is_some_and(|h| !h.is_empty() && h.chars().all(sound)) {
        true => Ok(Some(text)),
        false => Err(
            CliError::new(format!("“{text}” is no origin of the {what}"))
                .help("write a scheme and a host, as in https://developers.example")
                .usage(),
        ),
    }
}

/// Where limits are counted: as the option says it, or the file.
pub(super) fn counts(option: Option<Counts>, file: Option<&str>) -> Result<Counts, CliError> {
    let of_file = || file.map_or(Ok(Counts::default()), str::parse);
    option
        .map_or_else(of_file, Ok)
        .map_err(|e| CliError::new(format!("counts: {e}")).usage())
}

/// Proxies that callers come by.
pub(super) fn proxies(
    networks: Option<Vec<String>>,
    write: Option<ProxiesWrite>,
) -> Result<Proxies, CliError> {
    let networks = networks.unwrap_or_default();
    let write = match write {
        Some(ProxiesWrite::Forwarded) => Written::Forwarded,
        Some(ProxiesWrite::XForwarded) => Written::Older,
        None if networks.is_empty() => Written::default(),
        None => {
            let message = "what the trusted proxies write is not said";
            let help = "say --proxies-write forwarded or x-forwarded: what they do not write themselves, their callers may have written";
            return Err(CliError::new(message).help(help).usage());
        }
    };
    Proxies::of(networks.iter().map(String::as_str), write).map_err(|e| {
        CliError::new(format!("trusted proxies: {e}"))
            .help("networks are written as 10.20.0.0/16 or 2001:db8::/32, single addresses as they are")
            .usage()
    })
}

/// How callers are served by TLS.
pub(super) fn secure(
    address: Option<SocketAddr>,
    folder: Option<PathBuf>,
    only: bool,
) -> Result<Option<SecureConfig>, CliError> {
    let wrong = |message: &str, help: &str| Err(CliError::new(message).help(help).usage());
    let (address, folder) = match (address, folder) {
        (Some(address), Some(folder)) => (address, folder),
        (None, None) if !only => return Ok(None),
        (None, _) => {
            return wrong(
                "nobody can come by TLS",
                "say where, as in --tls 0.0.0.0:443",
            );
        }
        (Some(_), None) => {
            return wrong(
                "there are no certificates to show by TLS",
                "say where they are: --certificates DIR",
            );
        }
    };
    let certificates = Certificates::read(&folder);
    let certificates = certificates.map_err(|e| {
        CliError::new(format!("certificates: {e}"))
            .help("each NAME.crt or NAME.pem has its key in NAME.key beside it, or in itself")
    })?;
    Ok(Some(SecureConfig {
        address,
        certificates,
        only,
    }))
}

pub(super) fn first_account(name: Option<String>) -> Result<Option<FirstAccount>, CliError> {
    match (name, std::env::var("ELM_PORCH_FIRST_PASSWORD")) {
        (Some(name), Ok(password)) => Ok(Some(FirstAccount { name, password })),
        (Some(_), Err(_)) => Err(CliError::new("the first administrator has no password")
            .help("set ELM_PORCH_FIRST_PASSWORD")
            .usage()),
        _ => Ok(None),
    }
}

/// The seal of the key in the environment, in a file, or of a new key in the state folder.
pub(super) fn seal(file: Option<&Path>, state: &Path) -> Result<Seal, CliError> {
    if let Ok(key) = std::env::var("ELM_PORCH_SECRETS_KEY") {
        return Seal::new(&key).map_err(|e| CliError::new(format!("ELM_PORCH_SECRETS_KEY: {e}")));
    }
    let own = state.join("seal.key");
    let path = file.unwrap_or(&own);
    let fail = |e: String| CliError::new(format!("{}: {e}", path.display()));
    if file.is_none() && !path.exists() {
        let key = Seal::new_key().map_err(|e| fail(e.to_string()))?;
        write_private(path, &key).map_err(|e| fail(e.to_string()))?;
        tracing::info!(
            "made a key to seal secrets with: {}; keep a copy of it apart from the database's",
            path.display()
        );
    }
    let text = std::fs::read_to_string(path).map_err(|e| fail(e.to_string()))?;
    Seal::new(&text).map_err(|e| fail(e.to_string()))
}

fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path)?;
    file.write_all(text.as_bytes())
}
