//! Public keys as people have them: in PEM (RFC 7468 §13), or as a JSON Web Key (RFC 7517).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::json;

use crate::alg::PublicKey;
use crate::jwk::KeySet;

/// Bytes of a key's text at most.
const MOST: usize = 16 << 10;

/// The bytes of the first block of a name.
pub(crate) fn of(text: &[u8], name: &str) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(text).ok().filter(|t| t.len() <= MOST)?;
    let (begin, end) = (
        format!("-----BEGIN {name}-----"),
        format!("-----END {name}-----"),
    );
    let (_, rest) = text.split_once(&begin)?;
    let (body, _) = rest.split_once(&end)?;
    let body: String = body.split_ascii_whitespace().collect();
    STANDARD.decode(body).ok()
}

/// One value in DER (X.690 §8.1): its tag, what is in it, and what stands behind it.
fn value(bytes: &[u8]) -> Option<(u8, &[u8], &[u8])> {
    let (tag, rest) = bytes.split_first()?;
    let (first, rest) = rest.split_first()?;
    let (length, rest) = match first {
        short @ 0..=0x7f => (usize::from(*short), rest),
        0x81 => (usize::from(*rest.first()?), &rest[1..]),
        0x82 => {
            let (length, rest) = rest.split_first_chunk::<2>()?;
            (usize::from(u16::from_be_bytes(*length)), rest)
        }
        _ => return None,
    };
    let (inner, behind) = rest.split_at_checked(length)?;
    Some((*tag, inner, behind))
}

const SEQUENCE: u8 = 0x30;
const BITS: u8 = 0x03;
const NAME: u8 = 0x06;
const INTEGER: u8 = 0x02;

/// A `SubjectPublicKeyInfo` (RFC 5280 §4.1.2.7).
fn from_der(der: &[u8]) -> Option<PublicKey> {
    let inner = |tag: u8, bytes| value(bytes).filter(|v| v.0 == tag);
    let (_, info, _) = inner(SEQUENCE, der)?;
    let (_, algorithm, rest) = inner(SEQUENCE, info)?;
    let (_, bits, _) = inner(BITS, rest)?;
    let key = bits.strip_prefix(&[0])?;
    let (_, name, parameters) = inner(NAME, algorithm)?;
    match name {
        // id-Ed25519 (RFC 8410 §3).
        [0x2b, 0x65, 0x70] => (key.len() == 32).then(|| PublicKey::Ed25519(key.to_vec())),
        // id-ecPublicKey with a named curve (RFC 5480 §2.1.1).
        [0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02, 0x01] => {
            let (_, curve, _) = inner(NAME, parameters)?;
            match (curve, key.len(), key.first()) {
                ([0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07], 65, Some(4)) => {
                    Some(PublicKey::P256(key.to_vec()))
                }
                ([0x2b, 0x81, 0x04, 0x00, 0x22], 97, Some(4)) => {
                    Some(PublicKey::P384(key.to_vec()))
                }
                _ => None,
            }
        }
        // rsaEncryption, and id-RSASSA-PSS (RFC 8017 appendix A).
        [0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01 | 0x0a] => {
            let (_, numbers, _) = inner(SEQUENCE, key)?;
            let (_, n, rest) = inner(INTEGER, numbers)?;
            let (_, e, _) = inner(INTEGER, rest)?;
            let n: Vec<u8> = n.iter().copied().skip_while(|b| *b == 0).collect();
            let fits = (256..=1024).contains(&n.len()) && (1..=8).contains(&e.len());
            fits.then(|| PublicKey::Rsa(n, e.to_vec()))
        }
        _ => None,
    }
}

impl PublicKey {
    /// Reads a public key in PEM or as a JSON Web Key.
    ///
    /// # Errors
    /// Why it is none.
    pub fn read(text: &str) -> Result<Self, String> {
        let known = "keys are Ed25519, P-256, P-384 and RSA with 2048 to 8192 bits";
        if text.contains("PRIVATE KEY") {
            return Err("that is a private key: keep it, and give the public one".to_owned());
        }
        if text.trim_start().starts_with('{') {
            let value: serde_json::Value =
                serde_json::from_str(text).map_err(|e| format!("it is no JSON: {e}"))?;
            if value.get("d").is_some() {
                return Err("that is a private key: keep it, and give the public one".to_owned());
            }
            let set = KeySet::read(json!({ "keys": [value] }).to_string().as_bytes());
            return match set.ok().and_then(|mut set| set.keys.pop()) {
                Some(jwk) => Ok(jwk.key),
                None => Err(format!("it is no public key that is known: {known}")),
            };
        }
        let der = of(text.as_bytes(), "PUBLIC KEY");
        let der = der.ok_or("it is neither a public key in PEM nor a JSON Web Key")?;
        from_der(&der).ok_or_else(|| format!("it is no public key that is known: {known}"))
    }
}
