//! Which pages may call.

use http::HeaderValue;

use super::RulePlace;

/// Which pages may call, by the CORS protocol.
#[derive(Debug)]
pub struct Cors {
    /// Whether any may.
    pub any: bool,
    /// Origins that may, in lower case.
    pub origins: Vec<String>,
    /// Scheme and domain of those below which all may: `https://`, `.harbour.example`.
    pub below: Vec<(String, String)>,
    /// Whether browsers may send cookies and the like.
    pub credentials: bool,
    /// Names of the fields that pages may read.
    pub expose: HeaderValue,
    /// Seconds that a browser need not ask again.
    pub max_age: HeaderValue,
    /// Where it stands.
    pub place: RulePlace,
}

impl Cors {
    /// That of the portal, whose pages may call whatever the porch serves, with credentials that stand in header fields.
    pub fn of_portal(origin: &str) -> Self {
        let expose = crate::compile::cors::EXPOSED.join(", ");
        Self {
            any: false,
            origins: vec![origin.to_ascii_lowercase()],
            below: Vec::new(),
            credentials: false,
            expose: HeaderValue::from_str(&expose).unwrap_or(HeaderValue::from_static("")),
            max_age: HeaderValue::from_static("600"),
            place: RulePlace {
                rule: "pages of the portal may call".into(),
                reach: "everywhere".into(),
                file: "".into(),
                line: 0,
            },
        }
    }

    /// Whether pages of an origin may call. Browsers write origins in lower case, without a usual port (RFC 6454 §6.2).
    pub fn allows(&self, origin: &str) -> bool {
        if self.any || self.origins.iter().any(|o| o == origin) {
            return true;
        }
        self.below.iter().any(|(scheme, domain)| {
            let rest = origin.strip_prefix(scheme.as_str());
            rest.and_then(|r| r.strip_suffix(domain.as_str()))
                .is_some_and(|name| !name.is_empty() && name.bytes().all(is_of_name))
        })
    }
}

/// Letters of host names, and the dots between their labels.
fn is_of_name(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'-' || b == b'.'
}
