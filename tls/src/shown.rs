//! What a certificate says.

use rustls_pki_types::CertificateDer;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// At most so many names of a certificate are told.
const NAMES: usize = 20;

/// What people want to know of a server's certificate (RFC 5280 §4.1).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shown {
    /// Whose it is: its subject, or its first name.
    pub subject: String,
    /// Who signed it.
    pub issuer: String,
    /// The hosts that it is for (§4.2.1.6).
    pub names: Vec<String>,
    /// From when on it holds, in seconds since 1970.
    pub begins: i64,
    /// Until when, in seconds since 1970.
    pub ends: i64,
}

/// Reads a certificate; `None` for what is none.
pub fn shown(certificate: &CertificateDer<'_>) -> Option<Shown> {
    let (_, read) = X509Certificate::from_der(certificate).ok()?;
    let names = read.subject_alternative_name().ok().flatten();
    let names = names.into_iter().flat_map(|n| n.value.general_names.iter());
    let names = names.filter_map(|name| match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress(bytes) => address(bytes),
        _ => None,
    });
    let names: Vec<String> = names.take(NAMES).collect();
    let subject = match read.subject().to_string() {
        subject if subject.is_empty() => names.first().cloned().unwrap_or_default(),
        subject => subject,
    };
    Some(Shown {
        subject,
        issuer: read.issuer().to_string(),
        names,
        begins: read.validity().not_before.timestamp(),
        ends: read.validity().not_after.timestamp(),
    })
}

pub(crate) fn address(bytes: &[u8]) -> Option<String> {
    if let Ok(four) = <[u8; 4]>::try_from(bytes) {
        return Some(std::net::Ipv4Addr::from(four).to_string());
    }
    let sixteen = <[u8; 16]>::try_from(bytes).ok()?;
    Some(std::net::Ipv6Addr::from(sixteen).to_string())
}
