//! UsernameToken of WS-Security (OASIS Web Services Security UsernameToken Profile 1.1.1).

use sha1::{Digest, Sha1};

use crate::simple::to_base64;
use crate::xml::escape_text;

const WSSE: &str =
    "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd";
const WSU: &str =
    "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd";
const PROFILE: &str =
    "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0";
const BASE64: &str = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary";

/// A user's name and password, sent with every call.
#[derive(Clone, Debug)]
pub struct UsernameToken {
    /// The name.
    pub user: String,
    /// The password.
    pub password: String,
    /// Whether a digest of the password is sent in its place.
    pub digest: bool,
}

impl UsernameToken {
    /// Appends the header element.
    ///
    /// `nonce` is random and never used again; `created` is the time now (§3.1).
    pub fn write(&self, nonce: &[u8], created: &str, out: &mut Vec<u8>) {
        let text = |out: &mut Vec<u8>, text: &str| {
            // What XML cannot hold cannot be in a secret that a server knows.
            let _ = escape_text(out, text);
        };
        out.extend_from_slice(format!("<wsse:Security xmlns:wsse=\"{WSSE}\" xmlns:wsu=\"{WSU}\" soap:mustUnderstand=\"1\"><wsse:UsernameToken><wsse:Username>").as_bytes());
        text(out, &self.user);
        out.extend_from_slice(b"</wsse:Username>");
        let kind = if self.digest {
            "PasswordDigest"
        } else {
            "PasswordText"
        };
        out.extend_from_slice(format!("<wsse:Password Type=\"{PROFILE}#{kind}\">").as_bytes());
        if self.digest {
            // Base64 (SHA-1 (nonce + created + password)), §3.1.
            let digest = Sha1::new()
                .chain_update(nonce)
                .chain_update(created)
                .chain_update(&self.password)
                .finalize();
            out.extend_from_slice(to_base64(&digest).as_bytes());
        } else {
            text(out, &self.password);
        }
        out.extend_from_slice(
            format!("</wsse:Password><wsse:Nonce EncodingType=\"{BASE64}\">{}</wsse:Nonce><wsu:Created>{created}</wsu:Created></wsse:UsernameToken></wsse:Security>", to_base64(nonce)).as_bytes(),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_made_of_nonce_time_and_password() {
        let mut out = Vec::new();
        let token = UsernameToken {
            user: "porch & co".into(),
            password: "tide & tackle".into(),
            digest: true,
        };
        token.write(b"0123456789abcdef", "2027-05-14T08:30:00Z", &mut out);
        let text = String::from_utf8(out).unwrap();
        // Computed with another implementation of SHA-1.
        assert!(
            text.contains("#PasswordDigest\">jBCh4yP1lw8y0Zsv4O6+Mii9UDQ=</wsse:Password>"),
            "{text}"
        );
        assert!(text.contains("<wsse:Username>porch &amp; co</wsse:Username>"));
        assert!(text.contains(
            ">MDEyMzQ1Njc4OWFiY2RlZg==</wsse:Nonce><wsu:Created>2027-05-14T08:30:00Z</wsu:Created>"
        ));
        assert!(!text.contains("tackle"));
        let mut out = Vec::new();
        UsernameToken {
            digest: false,
            ..token
        }
        .write(b"0123456789abcdef", "2027-05-14T08:30:00Z", &mut out);
        assert!(
            String::from_utf8(out)
                .unwrap()
                .contains("#PasswordText\">tide &amp; tackle</wsse:Password>")
        );
    }
}
