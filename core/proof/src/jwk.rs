//! Keys and sets of them (RFC 7517), as issuers publish them.

use serde_json::Value;

use crate::alg::{Algorithm, PublicKey};
use crate::from_base64url;

/// Keys of a set that are looked at.
const MOST: usize = 100;

/// A key of a set.
#[derive(Clone, Debug)]
pub struct Jwk {
    /// What it is called.
    pub kid: Option<String>,
    /// The only algorithm that it is for, where that is said.
    pub algorithm: Option<Algorithm>,
    /// The key itself.
    pub key: PublicKey,
}

/// The keys of an issuer.
#[derive(Clone, Debug, Default)]
pub struct KeySet {
    /// Those that can verify signatures; others are left out (RFC 7517 §5).
    pub keys: Vec<Jwk>,
}

impl KeySet {
    /// Reads a set.
    ///
    /// # Errors
    /// Why it is none.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let document: Value = serde_json::from_slice(bytes).map_err(|e| format!("no JSON: {e}"))?;
        let Some(all) = document.get("keys").and_then(Value::as_array) else {
            return Err("no `keys` (RFC 7517 §5)".to_owned());
        };
        let keys: Vec<Jwk> = all.iter().take(MOST).filter_map(Jwk::of).collect();
        match keys.is_empty() {
            true => Err("none of its keys can verify signatures".to_owned()),
            false => Ok(Self { keys }),
        }
    }

    /// The keys that a signature may be of: that of the name it says, or all that fit, where it names none.
    pub fn candidates(
        &self,
        kid: Option<&str>,
        algorithm: Algorithm,
    ) -> impl Iterator<Item = &Jwk> {
        self.keys.iter().filter(move |k| {
            let named = kid.is_none_or(|kid| k.kid.as_deref() == Some(kid));
            named && k.key.fits(algorithm) && k.algorithm.is_none_or(|own| own == algorithm)
        })
    }
}

impl Jwk {
    /// Reads one key; `None` where it is of a kind that is not known, secret, or for something else.
    pub(crate) fn of(value: &Value) -> Option<Self> {
        let text = |name: &str| value.get(name).and_then(Value::as_str);
        let bytes = |name: &str| text(name).and_then(from_base64url);
        // RFC 7517 §4.2 and §4.3: a key that is for something else verifies nothing.
        let is_for_signatures = text("use").is_none_or(|u| u == "sig")
            && value.get("key_ops").is_none_or(|ops| {
                let mut all = ops.as_array().into_iter().flatten();
                all.any(|op| op == "verify")
            });
        if !is_for_signatures {
            return None;
        }
        let algorithm = match text("alg") {
            Some(name) => Some(Algorithm::of(name)?),
            None => None,
        };
        let point = |size: usize| {
            let (x, y) = (bytes("x")?, bytes("y")?);
            let whole = x.len() == size && y.len() == size;
            whole.then(|| [&[4], x.as_slice(), y.as_slice()].concat())
        };
        let key = match (text("kty")?, text("crv")) {
            ("EC", Some("P-256")) => PublicKey::P256(point(32)?),
            ("EC", Some("P-384")) => PublicKey::P384(point(48)?),
            ("OKP", Some("Ed25519")) => PublicKey::Ed25519(bytes("x").filter(|x| x.len() == 32)?),
            ("RSA", _) => {
                let (n, e) = (bytes("n")?, bytes("e")?);
                // Leading zeros are no part of the number (RFC 7518 §6.3.1.1), and sizes are what is verified at all.
                let n = n
                    .iter()
                    .copied()
                    .skip_while(|b| *b == 0)
                    .collect::<Vec<_>>();
                let fits = (256..=1024).contains(&n.len()) && e.len() <= 8;
                fits.then_some(PublicKey::Rsa(n, e))?
            }
            _ => return None,
        };
        Some(Self {
            kid: text("kid").map(str::to_owned),
            algorithm: algorithm.filter(|a| key.fits(*a)),
            key,
        })
    }
}
