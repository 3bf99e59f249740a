//! HTTP Message Signatures (RFC 9421) of requests.

use ring::hmac;
use ring::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ED25519, RSA_PKCS1_2048_8192_SHA256,
    RSA_PSS_2048_8192_SHA512, RsaPublicKeyComponents, UnparsedPublicKey,
};

use crate::alg::PublicKey;
use crate::component::{Component, Message};
use crate::fields::{Item, Member, Params, dictionary, written_params};

/// Signatures of one request, and components of each, that are looked at.
const MOST_SIGNATURES: usize = 8;
const MOST_COMPONENTS: usize = 50;
/// Bytes of what is signed at most.
const MOST_BYTES: usize = 64 << 10;

/// An algorithm of message signatures, by its registered name (RFC 9421 §6.2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignedBy {
    /// `hmac-sha256`.
    Hmac,
    /// `ed25519`.
    Ed25519,
    /// `ecdsa-p256-sha256`.
    P256,
    /// `ecdsa-p384-sha384`.
    P384,
    /// `rsa-pss-sha512`.
    RsaPss,
    /// `rsa-v1_5-sha256`.
    RsaV15,
}

impl SignedBy {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::Hmac,
        Self::Ed25519,
        Self::P256,
        Self::P384,
        Self::RsaPss,
        Self::RsaV15,
    ];

    /// Its registered name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Hmac => "hmac-sha256",
            Self::Ed25519 => "ed25519",
            Self::P256 => "ecdsa-p256-sha256",
            Self::P384 => "ecdsa-p384-sha384",
            Self::RsaPss => "rsa-pss-sha512",
            Self::RsaV15 => "rsa-v1_5-sha256",
        }
    }

    /// The algorithm of a registered name.
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|a| a.name() == name)
    }
}

/// What signatures of a consumer are held against.
#[derive(Clone)]
pub enum SigningKey {
    /// A secret that both have.
    Shared(Box<[u8]>),
    /// A public key.
    Public(PublicKey),
}

impl std::fmt::Debug for SigningKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Shared(_) => f.write_str("Shared(…)"),
            Self::Public(key) => key.fmt(f),
        }
    }
}

impl SigningKey {
    /// Whether it is of the kind that an algorithm needs.
    pub fn fits(&self, by: SignedBy) -> bool {
        matches!(
            (self, by),
            (Self::Shared(_), SignedBy::Hmac)
                | (Self::Public(PublicKey::Ed25519(_)), SignedBy::Ed25519)
                | (Self::Public(PublicKey::P256(_)), SignedBy::P256)
                | (Self::Public(PublicKey::P384(_)), SignedBy::P384)
                | (
                    Self::Public(PublicKey::Rsa(..)),
                    SignedBy::RsaPss | SignedBy::RsaV15
                )
        )
    }

    /// Whether a signature of a message is its.
    pub fn verifies(&self, by: SignedBy, message: &[u8], signature: &[u8]) -> bool {
        if !self.fits(by) {
            return false;
        }
        match (self, by) {
            (Self::Shared(secret), _) => {
                let key = hmac::Key::new(hmac::HMAC_SHA256, secret);
                hmac::verify(&key, message, signature).is_ok()
            }
            (Self::Public(PublicKey::Ed25519(key)), _) => UnparsedPublicKey::new(&ED25519, key)
                .verify(message, signature)
                .is_ok(),
            (Self::Public(PublicKey::P256(key)), _) => {
                let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, key);
                key.verify(message, signature).is_ok()
            }
            (Self::Public(PublicKey::P384(key)), _) => {
                let key = UnparsedPublicKey::new(&ECDSA_P384_SHA384_FIXED, key);
                key.verify(message, signature).is_ok()
            }
            (Self::Public(PublicKey::Rsa(n, e)), by) => {
                let parameters = match by {
                    SignedBy::RsaPss => &RSA_PSS_2048_8192_SHA512,
                    _ => &RSA_PKCS1_2048_8192_SHA256,
                };
                let key = RsaPublicKeyComponents { n, e };
                key.verify(parameters, message, signature).is_ok()
            }
        }
    }
}

/// One signature of a request. Nothing of it is true before it is verified.
#[derive(Clone, Debug)]
pub struct Signed {
    /// Its name among the request's signatures.
    pub label: String,
    /// What the key is known by.
    pub keyid: String,
    /// The algorithm, where it says one.
    pub by: Option<SignedBy>,
    /// When it was made, in seconds since 1970.
    pub created: Option<i64>,
    /// When it ends.
    pub expires: Option<i64>,
    /// What it says once and never again.
    pub nonce: Option<String>,
    /// What it is for.
    pub tag: Option<String>,
    components: Vec<Component>,
    params: Params,
    signature: Vec<u8>,
}

impl Signed {
    /// Reads the signatures of a request, from its fields `Signature-Input` and `Signature` (§4.1, §4.2).
    ///
    /// # Errors
    /// Why they are none.
    pub fn read(input: &str, signature: &str) -> Result<Vec<Self>, String> {
        if input.len() + signature.len() > MOST_BYTES {
            return Err(format!("the signature has more than {MOST_BYTES} bytes"));
        }
        let inputs = dictionary(input).map_err(|e| format!("Signature-Input: {e}"))?;
        let signatures = dictionary(signature).map_err(|e| format!("Signature: {e}"))?;
        let mut all = Vec::new();
        for (label, member) in inputs.into_iter().take(MOST_SIGNATURES) {
            let Member::List(items, params) = member else {
                return Err(format!("“{label}” of Signature-Input is no list"));
            };
            let found = signatures.iter().find(|(name, _)| *name == label);
            let Some((_, Member::Item(Item::Bytes(bytes), _))) = found else {
                return Err(format!("“{label}” has no signature"));
            };
            all.push(Self::of(label, items, params, bytes.clone())?);
        }
        match all.is_empty() {
            true => Err("there is no signature".to_owned()),
            false => Ok(all),
        }
    }

    fn of(
        label: String,
        items: Vec<(Item, Params)>,
        params: Params,
        signature: Vec<u8>,
    ) -> Result<Self, String> {
        if items.len() > MOST_COMPONENTS {
            return Err(format!("more than {MOST_COMPONENTS} components are signed"));
        }
        let mut components: Vec<Component> = Vec::new();
        for (item, params) in items {
            let Item::Text(name) = item else {
                return Err("a component is no text".to_owned());
            };
            let twice = |c: &Component| c.name == name && c.params == params;
            if components.iter().any(twice) {
                return Err(format!("“{name}” is signed twice (RFC 9421 §2)"));
            }
            components.push(Component { name, params });
        }
        let text = |key: &str| match params.iter().find(|(n, _)| n == key) {
            Some((_, Item::Text(text))) => Ok(Some(text.clone())),
            Some(_) => Err(format!("“{key}” is no text")),
            None => Ok(None),
        };
        let time = |key: &str| match params.iter().find(|(n, _)| n == key) {
            Some((_, Item::Number(at))) => Ok(Some(*at)),
            Some(_) => Err(format!("“{key}” is no time")),
            None => Ok(None),
        };
        let by = match text("alg")? {
            None => None,
            Some(name) => Some(
                SignedBy::of(&name)
                    .ok_or_else(|| format!("“{name}” is no algorithm that is known"))?,
            ),
        };
        Ok(Self {
            label,
            keyid: text("keyid")?.ok_or("it names no key (`keyid`)")?,
            by,
            created: time("created")?,
            expires: time("expires")?,
            nonce: text("nonce")?,
            tag: text("tag")?,
            components,
            signature,
            params,
        })
    }

    /// Whether a component is signed, without parameters.
    pub fn covers(&self, name: &str) -> bool {
        let same = |c: &Component| c.name == name && c.params.is_empty();
        self.components.iter().any(same)
    }

    /// What is signed (§2.5).
    ///
    /// # Errors
    /// Why it cannot be told.
    pub fn base(&self, message: &dyn Message) -> Result<String, String> {
        let mut base = String::new();
        for component in &self.components {
            let value = component.value(message)?;
            // A line feed would be a component of its own.
            if value.contains(['\n', '\r']) {
                return Err(format!("“{}” has a line feed", component.name));
            }
            base.push_str(&component.written());
            base.push_str(": ");
            base.push_str(&value);
            base.push('\n');
            if base.len() > MOST_BYTES {
                return Err(format!("more than {MOST_BYTES} bytes are signed"));
            }
        }
        base.push_str("\"@signature-params\": ");
        base.push_str(&self.written_input());
        Ok(base)
    }

    /// The member of `Signature-Input`, as it is signed.
    fn written_input(&self) -> String {
        let names: Vec<String> = self.components.iter().map(Component::written).collect();
        format!("({}){}", names.join(" "), written_params(&self.params))
    }

    /// Whether it is that of a key, by an algorithm.
    pub fn is_of(&self, key: &SigningKey, by: SignedBy, base: &str) -> bool {
        key.verifies(by, base.as_bytes(), &self.signature)
    }
}
