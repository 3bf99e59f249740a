//! Certificates that callers are shown, each for its names, read again when their files change.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use crate::AskCallers;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::crypto::CryptoProvider;
use tokio_rustls::rustls::crypto::ring::{Ticketer, default_provider};
use tokio_rustls::rustls::server::{ClientHello, ResolvesServerCert};
use tokio_rustls::rustls::sign::CertifiedKey;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// A folder holds at most so many certificates, of at most so many bytes each.
const MOST: usize = 1_000;
const MOST_BYTES: u64 = 1 << 20;
/// All of them have at most so many bytes.
const MOST_OF_ALL: u64 = 32 << 20;

/// Why certificates cannot be shown.
#[derive(Debug, thiserror::Error)]
pub enum ServedError {
    /// A file cannot be read, or is not what it should be.
    #[error("{path}: {why}", path = .0.display(), why = .1)]
    File(PathBuf, String),
    /// The library takes no such configuration.
    #[error("{0}")]
    Config(String),
}

/// The certificates of a folder: of each `NAME.crt` or `NAME.pem` the certificate and those between it and an authority
/// (RFC 7468 §5), with its key in `NAME.key` beside it, or in the same file (§10).
#[derive(Debug)]
pub struct Certificates {
    folder: PathBuf,
    provider: Arc<CryptoProvider>,
    shelf: RwLock<Arc<Shelf>>,
    /// What the folder held when it was read last.
    seen: Mutex<BTreeMap<PathBuf, Vec<u8>>>,
}

/// Certificates by the names that they are for.
#[derive(Debug, Default)]
struct Shelf {
    names: HashMap<String, Arc<CertifiedKey>>,
    /// What is shown to callers who ask for no name that is there: the first by the names of files.
    first: Option<Arc<CertifiedKey>>,
}

impl Certificates {
    /// Reads a folder.
    ///
    /// # Errors
    /// When a file of it cannot be read, or it holds no certificate.
    pub fn read(folder: &Path) -> Result<Arc<Self>, ServedError> {
        let provider = Arc::new(default_provider());
        let seen = files(folder)?;
        let shelf = Shelf::of(folder, &seen, &provider)?;
        Ok(Arc::new(Self {
            folder: folder.to_owned(),
            provider,
            shelf: RwLock::new(Arc::new(shelf)),
            seen: Mutex::new(seen),
        }))
    }

    /// Reads the folder again. Gives whether what is shown is another now; what was shown before stays where it cannot be read.
    ///
    /// # Errors
    /// When it cannot be read; told once for each content.
    pub fn refresh(&self) -> Result<bool, ServedError> {
        let now = files(&self.folder)?;
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        if *seen == now {
            return Ok(false);
        }
        let shelf = Shelf::of(&self.folder, &now, &self.provider);
        *seen = now;
        *self.shelf.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(shelf?);
        Ok(true)
    }

    /// The names that certificates are there for, in order.
    pub fn names(&self) -> Vec<String> {
        let mut names: Vec<String> = self.shelf().names.keys().cloned().collect();
        names.sort();
        names
    }

    /// A server's configuration: TLS 1.2 and 1.3, the protocols that callers may choose (RFC 7301 §3.1), and whether they are asked for
    /// certificates.
    ///
    /// # Errors
    /// When the library takes no such configuration.
    pub fn server(
        self: &Arc<Self>,
        protocols: &[&[u8]],
        asks: Arc<AskCallers>,
    ) -> Result<ServerConfig, ServedError> {
        let wrong = |e: &dyn std::fmt::Display| ServedError::Config(e.to_string());
        let mut config = ServerConfig::builder_with_provider(self.provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(|e| wrong(&e))?
            .with_client_cert_verifier(asks)
            .with_cert_resolver(self.clone());
        config.alpn_protocols = protocols.iter().map(|p| p.to_vec()).collect();
        config.ticketer = Ticketer::new().map_err(|e| wrong(&e))?;
        Ok(config)
    }

    fn shelf(&self) -> Arc<Shelf> {
        let shelf = self.shelf.read().unwrap_or_else(PoisonError::into_inner);
        shelf.clone()
    }
}

impl ResolvesServerCert for Certificates {
    /// By the name that the caller asks for (RFC 6066 §3).
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        self.shelf()
            .of_name(hello.server_name().unwrap_or_default())
    }
}

impl Shelf {
    fn of(
        folder: &Path,
        files: &BTreeMap<PathBuf, Vec<u8>>,
        provider: &CryptoProvider,
    ) -> Result<Self, ServedError> {
        let mut shelf = Self::default();
        for (path, chain) in files {
            if path.extension().is_some_and(|e| e == "key") {
                continue;
            }
            let beside = path.with_extension("key");
            let key = files.get(&beside).unwrap_or(chain);
            let wrong = |why: String| ServedError::File(path.clone(), why);
            let (names, made) = certified(chain, key, provider).map_err(wrong)?;
            let made = Arc::new(made);
            for name in names {
                shelf.names.entry(name).or_insert_with(|| made.clone());
            }
            shelf.first.get_or_insert(made);
        }
        if shelf.first.is_none() {
            let why = "it holds no certificate: NAME.crt or NAME.pem, with NAME.key beside it";
            return Err(ServedError::File(folder.to_owned(), why.into()));
        }
        Ok(shelf)
    }

    /// Its own, else one for all names below its domain (RFC 9525 §6.3: of one label), else the first.
    fn of_name(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let name = name.to_ascii_lowercase();
        let own = self.names.get(&name);
        let above = || {
            let (_, domain) = name.split_once('.')?;
            self.names.get(&format!("*.{domain}"))
        };
        own.or_else(above).or(self.first.as_ref()).cloned()
    }
}

/// A certificate with its key, and the names that it is for (RFC 5280 §4.2.1.6).
fn certified(
    chain: &[u8],
    key: &[u8],
    provider: &CryptoProvider,
) -> Result<(Vec<String>, CertifiedKey), String> {
    let chain = CertificateDer::pem_slice_iter(chain).collect::<Result<Vec<_>, _>>();
    let chain = chain.map_err(|e| format!("it is no certificate in PEM: {e}"))?;
    let own = chain.first().ok_or("it holds no certificate in PEM")?;
    // What is wrong with a key is told without it.
    let key = PrivateKeyDer::from_pem_slice(key);
    let key = key.map_err(|_| "neither it nor a file `.key` beside it holds a key in PEM")?;
    let (_, read) = X509Certificate::from_der(own).map_err(|e| e.to_string())?;
    let names = read.subject_alternative_name().ok().flatten();
    let names = names.into_iter().flat_map(|n| n.value.general_names.iter());
    let names = names.filter_map(|name| match name {
        GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
        _ => None,
    });
    let names = names.collect();
    let made = CertifiedKey::from_der(chain.clone(), key, provider);
    let made = made.map_err(|e| format!("certificate and key do not fit: {e}"))?;
    Ok((names, made))
}

/// The files of a folder that may be certificates or keys.
fn files(folder: &Path) -> Result<BTreeMap<PathBuf, Vec<u8>>, ServedError> {
    let wrong =
        |path: &Path, e: &dyn std::fmt::Display| ServedError::File(path.to_owned(), e.to_string());
    let (mut all, mut left) = (BTreeMap::new(), MOST_OF_ALL);
    for entry in std::fs::read_dir(folder).map_err(|e| wrong(folder, &e))? {
        let path = entry.map_err(|e| wrong(folder, &e))?.path();
        let kind = path
            .extension()
            .and_then(|e| e.to_str())
            .unwrap_or_default();
        if !matches!(kind, "crt" | "pem" | "key") {
            continue;
        }
        let about = std::fs::metadata(&path).map_err(|e| wrong(&path, &e))?;
        if about.len() > MOST_BYTES {
            return Err(wrong(&path, &"it is too large for a certificate"));
        }
        if all.len() >= 2 * MOST {
            let told = format!("it holds more than {MOST} certificates");
            return Err(wrong(folder, &told));
        }
        left = left
            .checked_sub(about.len())
            .ok_or_else(|| wrong(folder, &"its certificates and keys are too many bytes"))?;
        let bytes = std::fs::read(&path).map_err(|e| wrong(&path, &e))?;
        all.insert(path, bytes);
    }
    Ok(all)
}
