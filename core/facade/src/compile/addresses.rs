//! Addresses of backends, read.

use http::{HeaderValue, Uri};
use porch_contract::{PathTemplate, TemplateError};

use crate::compiled::Address;
use crate::host::no_authority;

/// Greatest weight of an address.
const MOST_WEIGHT: u32 = 100;
/// A backend has at most so many.
pub(super) const MOST_ADDRESSES: usize = 100;

/// Why an address cannot be called.
#[derive(Debug, thiserror::Error)]
pub(super) enum NoAddress {
    #[error("“{0}” is no address that can be called: http:// and https:// are")]
    Scheme(String),
    #[error("“{0}” has no usable host: {1}")]
    Host(String, String),
    #[error("“{0}”: {1}")]
    Path(String, TemplateError),
    #[error("“{0}”: the path of an address has no variables")]
    Variables(String),
    #[error("the addresses of a backend all begin with http:// or all with https://")]
    Mixed,
    #[error("another facade is the only address of a backend, and its kind is http")]
    Inside,
    #[error("{0} addresses, and {MOST_ADDRESSES} are the most")]
    Many(usize),
    #[error("{0} is no weight: 1 to {MOST_WEIGHT} are")]
    Weight(u32),
    #[error("“{0}” is no name of a facade")]
    Facade(String),
}

/// The facade of the porch that an address means.
pub(crate) fn facade_of(text: &str) -> Option<&str> {
    text.trim().strip_prefix(Address::INSIDE).map(str::trim)
}

/// Another facade as an address.
pub(super) fn within(text: &str) -> Result<Address, NoAddress> {
    let name = facade_of(text).unwrap_or_default();
    let letters = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    let good = !name.is_empty() && name.len() <= 64 && name.bytes().all(letters);
    let host = HeaderValue::from_str(name).ok().filter(|_| good);
    let host = host.ok_or_else(|| NoAddress::Facade(name.to_owned()))?;
    Ok(Address {
        authority: name.to_owned(),
        host,
        path: String::new(),
        tls: false,
        weight: 1,
    })
}

/// An address with its weight.
pub(super) fn weighted(text: &str, weight: u32) -> Result<Address, NoAddress> {
    if !(1..=MOST_WEIGHT).contains(&weight) {
        return Err(NoAddress::Weight(weight));
    }
    let address = address(text)?;
    Ok(Address { weight, ..address })
}

/// An address that can be called (RFC 9110 §4.2): scheme, host and path, and nothing else.
pub(super) fn address(text: &str) -> Result<Address, NoAddress> {
    let no_scheme = || NoAddress::Scheme(text.to_owned());
    let (scheme, rest) = text.split_once("://").ok_or_else(no_scheme)?;
    let tls = match scheme {
        "http" => false,
        "https" => true,
        _ => return Err(no_scheme()),
    };
    let (authority, path) = rest
        .find('/')
        .map_or((rest, ""), |slash| rest.split_at(slash));
    let unusable = |why: &str| NoAddress::Host(text.to_owned(), why.to_owned());
    if authority.contains('@') {
        // RFC 9110 §4.2.4: they would be shown wherever the address is, and so they are not said here.
        let host = authority.rsplit('@').next().unwrap_or_default();
        return Err(NoAddress::Host(
            format!("{scheme}://{host}{path}"),
            "user and password stand below `credentials:`, not in an address".into(),
        ));
    }
    if let Some(why) = no_authority(authority) {
        return Err(unusable(why));
    }
    match PathTemplate::parse(path) {
        _ if path.is_empty() => {}
        Ok(path) if path.variables().next().is_none() => {}
        Err(e @ TemplateError::Segment { .. }) => return Err(NoAddress::Path(text.to_owned(), e)),
        _ => {
            return Err(NoAddress::Variables(text.to_owned()));
        }
    }
    text.parse::<Uri>().map_err(|e| unusable(&e.to_string()))?;
    Ok(Address {
        authority: authority.to_owned(),
        host: HeaderValue::from_str(authority).map_err(|e| unusable(&e.to_string()))?,
        path: path.trim_end_matches('/').to_owned(),
        tls,
        weight: 1,
    })
}
