//! Proxies that callers may come by, and whom they come for: `Forwarded` (RFC 7239) or the older fields are only heeded
//! where a declared one wrote them. What anybody else claims is dropped, and so is the field that the proxies do not write:
//! they pass it on as whoever called them wrote it.

use std::net::IpAddr;
use std::rc::Rc;
use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderMap, HeaderName, header};
use ipnet::IpNet;
use porch_tls::OfCaller;
use rustls_pki_types::CertificateDer;

use crate::exchange::{Origin, ShownCertificate};

/// Networks of proxies whose word is taken, and where it stands.
#[derive(Clone, Debug, Default)]
pub struct Proxies {
    networks: Arc<[IpNet]>,
    write: Written,
    /// Whether they write which certificate whoever they come for has shown (RFC 9440).
    certificates: bool,
}

/// What proxies write of whom they come for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Written {
    /// `Forwarded`.
    #[default]
    Forwarded,
    /// `X-Forwarded-For` and `X-Forwarded-Proto`.
    Older,
}

/// A network that is none, as it was written.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("“{0}” is no network")]
pub struct NoNetwork(pub String);

const FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
const CLIENT_CERT: HeaderName = HeaderName::from_static("client-cert");
const CLIENT_CERT_CHAIN: HeaderName = HeaderName::from_static("client-cert-chain");
/// Characters of a certificate at most.
const MOST_OF_CERTIFICATE: usize = 32 << 10;
/// So many proxies may stand behind one another.
const MOST: usize = 32;

impl Proxies {
    /// Those of some networks, or single addresses.
    ///
    /// # Errors
    /// The first that is no network.
    pub fn of<'t>(
        texts: impl IntoIterator<Item = &'t str>,
        write: Written,
    ) -> Result<Self, NoNetwork> {
        let one = |text: &str| {
            let address = || text.parse::<IpAddr>().ok().map(IpNet::from);
            text.parse().ok().or_else(address)
        };
        let all = texts.into_iter().map(|text| {
            let text = text.trim();
            one(text).ok_or_else(|| NoNetwork(text.to_owned()))
        });
        Ok(Self {
            networks: all.collect::<Result<_, _>>()?,
            write,
            certificates: false,
        })
    }

    /// The same, where they write `Client-Cert` and `Client-Cert-Chain` (RFC 9440 §2), or take away what callers wrote there.
    pub fn with_certificates(self, certificates: bool) -> Self {
        Self {
            certificates,
            ..self
        }
    }

    /// Whether a peer's word is taken.
    pub(crate) fn trusts(&self, peer: IpAddr) -> bool {
        let peer = peer.to_canonical();
        self.networks.iter().any(|net| net.contains(&peer))
    }

    /// Where a request of a proxy comes from.
    #[cold]
    pub(super) fn origin(&self, peer: IpAddr, secure: bool, headers: &HeaderMap) -> Rc<Origin> {
        let (address, secure) = self.comes_from(peer, secure, headers);
        let certificate = self.certificates.then(|| certificate(headers)).flatten();
        Rc::new(Origin::of(address).by_tls(secure).showing(certificate))
    }

    /// The nearest address that is none of the proxies', and whether it came by TLS, as the nearest proxy says.
    fn comes_from(&self, peer: IpAddr, secure: bool, headers: &HeaderMap) -> (IpAddr, bool) {
        let hops = match self.write {
            Written::Forwarded => forwarded(headers),
            Written::Older => before_that(headers),
        };
        let mut at = peer;
        for hop in hops.iter().rev().take(MOST) {
            if !self.trusts(at) {
                break;
            }
            match hop.address {
                Some(address) => at = address.to_canonical(),
                // A proxy that hides whom it comes for answers for them itself (RFC 7239 §6.2, §6.3).
                None => break,
            }
        }
        let last = hops.last().and_then(|hop| hop.secure);
        (at, last.unwrap_or(secure))
    }
}

/// The certificate that a proxy was shown (RFC 9440 §2.2, §2.3): byte sequences of RFC 9651 §3.3.5.
fn certificate(headers: &HeaderMap) -> Option<Rc<ShownCertificate>> {
    let mut own = headers.get_all(CLIENT_CERT).iter();
    let first = own.next()?;
    let unreadable = "the proxy's field “Client-Cert” is no byte sequence (RFC 9440 §2.2)";
    let read = |text: &str| -> Option<CertificateDer<'static>> {
        let text = text.trim().strip_prefix(':')?.strip_suffix(':')?;
        (text.len() <= MOST_OF_CERTIFICATE).then_some(())?;
        Some(STANDARD.decode(text).ok()?.into())
    };
    let mut whole = || -> Option<Vec<CertificateDer<'static>>> {
        // Of its own field there is one.
        own.next().is_none().then_some(())?;
        let mut chain = vec![read(first.to_str().ok()?)?];
        for field in headers.get_all(CLIENT_CERT_CHAIN) {
            for one in field.to_str().ok()?.split(',').take(MOST) {
                chain.push(read(one)?);
            }
        }
        Some(chain)
    };
    let read = whole().ok_or(unreadable);
    Some(ShownCertificate::of(read.and_then(|c| OfCaller::read(&c))))
}

/// One proxy's word.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Hop {
    address: Option<IpAddr>,
    secure: Option<bool>,
}

/// The elements of `Forwarded` (RFC 7239 §4), the first proxy's first.
fn forwarded(headers: &HeaderMap) -> Vec<Hop> {
    let fields = headers.get_all(header::FORWARDED).iter();
    let fields = fields.map(|f| f.to_str().unwrap_or_default());
    let elements = fields.flat_map(|f| apart(f, ','));
    let hop = |element: &str| {
        let mut hop = Hop {
            address: None,
            secure: None,
        };
        for pair in apart(element, ';') {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            let value = value.trim().trim_matches('"');
            match name.trim().to_ascii_lowercase().as_str() {
                "for" => hop.address = node(value),
                "proto" => hop.secure = Some(value.eq_ignore_ascii_case("https")),
                _ => {}
            }
        }
        hop
    };
    elements.map(hop).collect()
}

/// Parts of a list; separators in quotes are none.
fn apart(text: &str, by: char) -> Vec<&str> {
    let mut quoted = false;
    text.split(move |c: char| {
        quoted ^= c == '"';
        c == by && !quoted
    })
    .collect()
}

/// What proxies wrote before there was a standard.
fn before_that(headers: &HeaderMap) -> Vec<Hop> {
    let fields = headers.get_all(FORWARDED_FOR).iter();
    let fields = fields.map(|f| f.to_str().unwrap_or_default());
    let mut hops: Vec<Hop> = fields
        .flat_map(|f| f.split(','))
        .map(|text| Hop {
            address: node(text.trim()),
            secure: None,
        })
        .collect();
    let proto = headers.get(FORWARDED_PROTO).and_then(|v| v.to_str().ok());
    let proto = proto.and_then(|p| p.rsplit(',').next()).map(str::trim);
    if let (Some(last), Some(proto)) = (hops.last_mut(), proto) {
        last.secure = Some(proto.eq_ignore_ascii_case("https"));
    }
    hops
}

/// An address, which may have a port, and has brackets where it is of IPv6 (RFC 7239 §6).
fn node(text: &str) -> Option<IpAddr> {
    if let Some(rest) = text.strip_prefix('[') {
        return rest.split_once(']')?.0.parse().ok();
    }
    let plain = text.parse().ok();
    plain.or_else(|| {
        text.rsplit_once(':')?
            .0
            .parse()
            .ok()
            .filter(IpAddr::is_ipv4)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn from(headers: &[(&str, &str)]) -> String {
        let write = match headers.iter().any(|(n, _)| n.starts_with("x-")) {
            true => Written::Older,
            false => Written::Forwarded,
        };
        by(write, headers)
    }

    fn by(write: Written, headers: &[(&str, &str)]) -> String {
        let proxies = Proxies::of(["10.0.0.0/8", "2001:db8::1"], write).expect("networks");
        let headers: HeaderMap = headers
            .iter()
            .map(|(n, v)| {
                (
                    n.parse::<HeaderName>().expect("a name"),
                    v.parse().expect("a value"),
                )
            })
            .collect();
        let peer = [10, 0, 0, 1].into();
        let (address, secure) = proxies.comes_from(peer, false, &headers);
        format!("{address}{}", if secure { " by TLS" } else { "" })
    }

    #[test]
    fn the_nearest_address_that_is_no_proxy_is_the_caller() {
        for (field, value, expected) in [
            ("forwarded", "for=192.0.2.7", "192.0.2.7"),
            (
                "forwarded",
                "For=\"192.0.2.7:4711\";proto=https",
                "192.0.2.7 by TLS",
            ),
            ("forwarded", "for=\"[2001:db8::9]:80\"", "2001:db8::9"),
            (
                "forwarded",
                "for=\"[2001:db8::9]\";by=\"a;b,c\", for=10.2.3.4",
                "2001:db8::9",
            ),
            // Whoever stands in front may have written anything.
            (
                "forwarded",
                "for=10.9.9.9, for=192.0.2.7, for=10.2.3.4",
                "192.0.2.7",
            ),
            ("forwarded", "for=192.0.2.1, for=unknown", "10.0.0.1"),
            ("forwarded", "for=_hidden", "10.0.0.1"),
            ("forwarded", "by=10.0.0.1", "10.0.0.1"),
            ("forwarded", "", "10.0.0.1"),
            ("x-forwarded-for", "192.0.2.7", "192.0.2.7"),
            (
                "x-forwarded-for",
                "6.6.6.6, 192.0.2.7,10.2.3.4",
                "192.0.2.7",
            ),
            ("x-forwarded-for", "192.0.2.7:99", "192.0.2.7"),
            ("x-forwarded-for", "::ffff:192.0.2.7", "192.0.2.7"),
            ("x-forwarded-for", "quay", "10.0.0.1"),
        ] {
            assert_eq!(from(&[(field, value)]), expected, "{field}: {value}");
        }
        // What the proxies do not write came from who called them.
        let both = [
            ("forwarded", "for=192.0.2.7"),
            ("x-forwarded-for", "192.0.2.8"),
        ];
        assert_eq!(by(Written::Forwarded, &both), "192.0.2.7");
        assert_eq!(by(Written::Older, &both), "192.0.2.8");
        assert_eq!(by(Written::Forwarded, &both[1..]), "10.0.0.1");
        assert_eq!(by(Written::Older, &both[..1]), "10.0.0.1");
        let proto = [
            ("x-forwarded-for", "192.0.2.8"),
            ("x-forwarded-proto", "http, HTTPS"),
        ];
        assert_eq!(from(&proto), "192.0.2.8 by TLS");
        let many = vec!["for=10.1.1.1"; 5_000].join(",");
        assert_eq!(from(&[("forwarded", &many)]), "10.1.1.1");
    }

    #[test]
    fn what_is_no_network_is_told() {
        let wrong = Proxies::of(["10.0.0.0/8", "quay"], Written::Older).err();
        assert_eq!(wrong, Some(NoNetwork("quay".into())));
        let none = Proxies::default();
        assert!(!none.trusts([127, 0, 0, 1].into()));
    }
}
