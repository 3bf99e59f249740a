//! Certificates that callers show: who has one proves it in the handshake; whose it is, and whether it is good, is asked where
//! it matters.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, CertificateRevocationListDer, UnixTime};
use tokio_rustls::rustls::client::danger::HandshakeSignatureValid;
use tokio_rustls::rustls::crypto::{
    WebPkiSupportedAlgorithms, ring::default_provider, verify_tls12_signature,
    verify_tls13_signature,
};
use tokio_rustls::rustls::server::WebPkiClientVerifier;
use tokio_rustls::rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use tokio_rustls::rustls::{
    CertRevocationListError, CertificateError, DigitallySignedStruct, DistinguishedName, Error,
    RootCertStore, SignatureScheme,
};
use x509_parser::objects::{oid_registry, oid2abbrev};
use x509_parser::prelude::{
    AttributeTypeAndValue, FromDer, GeneralName, X509Certificate, X509Name,
};

/// Bytes of a certificate, and certificates between it and an authority, at most.
const MOST_BYTES: usize = 16 << 10;
const MOST_BETWEEN: usize = 8;
/// Names that a certificate is looked up by, at most.
const MOST_NAMES: usize = 32;

/// Asks callers for a certificate in the handshake, where somebody wants one; none need have one (RFC 8446 §4.3.2).
///
/// That a caller has the key of what it shows is proven here. Whether it is good is not: a caller whose certificate one
/// facade does not take may call the others.
#[derive(Debug)]
pub struct AskCallers {
    wanted: AtomicBool,
    algorithms: WebPkiSupportedAlgorithms,
}

impl Default for AskCallers {
    fn default() -> Self {
        Self {
            wanted: AtomicBool::new(false),
            algorithms: default_provider().signature_verification_algorithms,
        }
    }
}

impl AskCallers {
    /// Whether whoever comes from now on is asked.
    pub fn want(&self, wanted: bool) {
        self.wanted.store(wanted, Ordering::Relaxed);
    }
}

impl ClientCertVerifier for AskCallers {
    fn offer_client_auth(&self) -> bool {
        self.wanted.load(Ordering::Relaxed)
    }

    fn client_auth_mandatory(&self) -> bool {
        false
    }

    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn verify_client_cert(
        &self,
        own: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        _: UnixTime,
    ) -> Result<ClientCertVerified, Error> {
        let small = |c: &CertificateDer<'_>| c.len() <= MOST_BYTES;
        match small(own) && between.len() <= MOST_BETWEEN && between.iter().all(small) {
            true => Ok(ClientCertVerified::assertion()),
            false => Err(Error::InvalidCertificate(CertificateError::BadEncoding)),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &self.algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &self.algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}

/// A certificate that a caller has shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OfCaller {
    own: CertificateDer<'static>,
    between: Vec<CertificateDer<'static>>,
    /// Its SHA-256, in small hexadecimal digits.
    pub fingerprint: String,
    /// Its subject (RFC 5280 §4.1.2.6), as in `C=NO, O=Quayside, CN=kiosk`, its values as RFC 4514 §2.4 writes them.
    pub subject: String,
    /// Its alternative names (§4.2.1.6): `dns:`, `uri:`, `email:` or `ip:` with the name.
    pub names: Vec<String>,
    begins: i64,
    ends: i64,
}

impl OfCaller {
    /// Reads what was shown, the certificate itself first.
    ///
    /// # Errors
    /// When it is none, or larger than it may be.
    pub fn read(chain: &[CertificateDer<'_>]) -> Result<Self, &'static str> {
        let (own, between) = chain.split_first().ok_or("no certificate is there")?;
        if own.len() > MOST_BYTES || between.len() > MOST_BETWEEN {
            return Err("the certificate is larger than it may be");
        }
        let none = "it cannot be read as a certificate (RFC 5280 §4.1)";
        let (rest, read) = X509Certificate::from_der(own).map_err(|_| none)?;
        if !rest.is_empty() {
            return Err(none);
        }
        let names = read.subject_alternative_name().map_err(|_| none)?;
        let names = names.into_iter().flat_map(|n| n.value.general_names.iter());
        let names = names.filter_map(|name| match name {
            GeneralName::DNSName(name) => Some(format!("dns:{}", name.to_ascii_lowercase())),
            GeneralName::URI(uri) => Some(format!("uri:{uri}")),
            GeneralName::RFC822Name(address) => Some(format!("email:{address}")),
            GeneralName::IPAddress(bytes) => Some(format!("ip:{}", crate::shown::address(bytes)?)),
            _ => None,
        });
        Ok(Self {
            fingerprint: fingerprint(own),
            subject: subject(read.subject()),
            names: names.take(MOST_NAMES).collect(),
            begins: read.validity().not_before.timestamp(),
            ends: read.validity().not_after.timestamp(),
            own: own.clone().into_owned(),
            between: between.iter().map(|c| c.clone().into_owned()).collect(),
        })
    }

    /// Reads one in PEM.
    ///
    /// # Errors
    /// When it is none.
    pub fn read_pem(pem: &str) -> Result<Self, &'static str> {
        let chain = CertificateDer::pem_slice_iter(pem.as_bytes()).take(MOST_BETWEEN + 1);
        let chain: Result<Vec<_>, _> = chain.collect();
        let chain = chain.map_err(|_| "it cannot be read as PEM (RFC 7468 §5)")?;
        Self::read(&chain)
    }

    /// Its SHA-256 as tokens name it (`x5t#S256`, RFC 8705 §3.1).
    pub fn thumbprint(&self) -> String {
        use base64::Engine;
        let hash = ring::digest::digest(&ring::digest::SHA256, &self.own);
        base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(hash)
    }

    /// Whether it holds at a time, in seconds since 1970.
    ///
    /// # Errors
    /// Why it does not.
    pub fn holds_at(&self, now: i64) -> Result<(), &'static str> {
        match now {
            now if now < self.begins => Err("it does not hold yet"),
            now if now > self.ends => Err("it has ended"),
            _ => Ok(()),
        }
    }

    /// What it is looked up by: where an authority has signed it all of its names, else its fingerprint alone, since anybody can
    /// write what he likes into a certificate of his own.
    pub fn known_by(&self, signed: bool) -> impl Iterator<Item = String> + '_ {
        let subject = (!self.subject.is_empty()).then(|| format!("subject:{}", self.subject));
        let named = self.names.iter().cloned().chain(subject);
        let fingerprint = format!("sha256:{}", self.fingerprint);
        std::iter::once(fingerprint).chain(named.filter(move |_| signed))
    }
}

/// A name in the order of its certificate, each value as RFC 4514 §2.4 writes it: no value can look like another name.
fn subject(name: &X509Name<'_>) -> String {
    let written = |attribute: &AttributeTypeAndValue<'_>| {
        let oid = attribute.attr_type();
        let kind =
            oid2abbrev(oid, oid_registry()).map_or_else(|_| oid.to_id_string(), str::to_owned);
        match attribute.as_str() {
            Ok(text) => format!("{kind}={}", escaped(text)),
            Err(_) => {
                let bytes = attribute.as_slice();
                let hex: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
                format!("{kind}=#{hex}")
            }
        }
    };
    let relative = name.iter_rdn().map(|rdn| {
        let all: Vec<String> = rdn.iter().map(written).collect();
        all.join("+")
    });
    relative.collect::<Vec<_>>().join(", ")
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let last = text.chars().count().saturating_sub(1);
    for (i, c) in text.chars().enumerate() {
        let edge = c == ' ' && (i == 0 || i == last) || c == '#' && i == 0;
        if edge || matches!(c, '"' | '+' | ',' | ';' | '<' | '>' | '\\' | '=') {
            out.push('\\');
        }
        match c.is_control() {
            true => out.push_str(&format!("\\{:02x}", u32::from(c))),
            false => out.push(c),
        }
    }
    out
}

/// The SHA-256 of a certificate.
fn fingerprint(certificate: &CertificateDer<'_>) -> String {
    let hash = ring::digest::digest(&ring::digest::SHA256, certificate);
    hash.as_ref().iter().map(|b| format!("{b:02x}")).collect()
}

/// Those who sign callers' certificates, and what they have revoked.
#[derive(Debug)]
pub struct Authorities(Arc<dyn ClientCertVerifier>);

impl Authorities {
    /// Authorities and their revocation lists, in PEM (RFC 7468 §5 and §6).
    ///
    /// # Errors
    /// What of it cannot be read.
    pub fn read(authorities: &str, revoked: Option<&str>) -> Result<Self, String> {
        let mut roots = RootCertStore::empty();
        for certificate in CertificateDer::pem_slice_iter(authorities.as_bytes()) {
            let certificate =
                certificate.map_err(|e| format!("it is no certificate in PEM: {e}"))?;
            roots.add(certificate).map_err(|e| e.to_string())?;
        }
        if roots.is_empty() {
            return Err("it holds no certificate in PEM".into());
        }
        let provider = Arc::new(default_provider());
        let mut builder = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider);
        if let Some(revoked) = revoked {
            let lists = CertificateRevocationListDer::pem_slice_iter(revoked.as_bytes());
            let lists: Result<Vec<_>, _> = lists.collect();
            let lists = lists.map_err(|e| format!("it is no revocation list in PEM: {e}"))?;
            if lists.is_empty() {
                return Err("it holds no revocation list in PEM".into());
            }
            builder = builder
                .with_crls(lists)
                .only_check_end_entity_revocation()
                .enforce_revocation_expiration();
        }
        let verifier = builder.build().map_err(|e| e.to_string())?;
        Ok(Self(verifier))
    }

    /// Whether one of them has signed a certificate for a client (RFC 5280 §4.2.1.12), it holds, and it was not revoked.
    ///
    /// # Errors
    /// Why it is not good.
    pub fn check(&self, of: &OfCaller, now: i64) -> Result<(), String> {
        let seconds = u64::try_from(now).unwrap_or(0);
        let now = UnixTime::since_unix_epoch(std::time::Duration::from_secs(seconds));
        let checked = self.0.verify_client_cert(&of.own, &of.between, now);
        checked.map(drop).map_err(|e| why(&e))
    }
}

fn why(e: &Error) -> String {
    let text = match e {
        Error::InvalidCertificate(CertificateError::UnknownIssuer) => {
            "none of the authorities has signed it"
        }
        Error::InvalidCertificate(CertificateError::Revoked) => "it was revoked",
        Error::InvalidCertificate(CertificateError::UnknownRevocationStatus) => {
            "no revocation list of its authority is there"
        }
        Error::InvalidCertificate(
            CertificateError::ExpiredRevocationList
            | CertificateError::ExpiredRevocationListContext { .. },
        ) => "the revocation list of its authority has ended",
        Error::InvalidCertRevocationList(CertRevocationListError::BadSignature) => {
            "the revocation list is not its authority's"
        }
        other => return other.to_string(),
    };
    text.to_owned()
}

#[cfg(test)]
mod tests {
    use super::escaped;

    #[test]
    fn a_value_looks_like_no_other_name() {
        for (text, written) in [
            ("kiosk", "kiosk"),
            ("kiosk, O=Quayside", "kiosk\\, O\\=Quayside"),
            (" gates ", "\\ gates\\ "),
            ("#1+2", "\\#1\\+2"),
            ("a\nb", "a\\0ab"),
            ("", ""),
        ] {
            assert_eq!(escaped(text), written);
        }
    }
}
