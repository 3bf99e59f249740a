//! Algorithms of signatures, and the keys that fit each (RFC 7518 §3, RFC 8037 §3.1).

use ring::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ED25519, RSA_PKCS1_2048_8192_SHA256,
    RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512, RSA_PSS_2048_8192_SHA256,
    RSA_PSS_2048_8192_SHA384, RSA_PSS_2048_8192_SHA512, RsaParameters, RsaPublicKeyComponents,
    UnparsedPublicKey,
};

/// An algorithm of JSON Web Signatures. Those with a shared secret are none: who can verify one can make one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Algorithm {
    /// ECDSA on P-256 with SHA-256.
    Es256,
    /// ECDSA on P-384 with SHA-384.
    Es384,
    /// RSASSA-PKCS1-v1_5 with SHA-256.
    Rs256,
    /// The same with SHA-384.
    Rs384,
    /// The same with SHA-512.
    Rs512,
    /// RSASSA-PSS with SHA-256.
    Ps256,
    /// The same with SHA-384.
    Ps384,
    /// The same with SHA-512.
    Ps512,
    /// EdDSA on Ed25519.
    EdDsa,
}

impl Algorithm {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Es256,
        Self::Es384,
        Self::Rs256,
        Self::Rs384,
        Self::Rs512,
        Self::Ps256,
        Self::Ps384,
        Self::Ps512,
        Self::EdDsa,
    ];

    /// Its registered name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Es256 => "ES256",
            Self::Es384 => "ES384",
            Self::Rs256 => "RS256",
            Self::Rs384 => "RS384",
            Self::Rs512 => "RS512",
            Self::Ps256 => "PS256",
            Self::Ps384 => "PS384",
            Self::Ps512 => "PS512",
            Self::EdDsa => "EdDSA",
        }
    }

    /// The algorithm of a registered name, which is told from others by case too (RFC 7515 §4.1.1).
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|a| a.name() == name)
    }

    fn rsa(self) -> Option<&'static RsaParameters> {
        Some(match self {
            Self::Rs256 => &RSA_PKCS1_2048_8192_SHA256,
            Self::Rs384 => &RSA_PKCS1_2048_8192_SHA384,
            Self::Rs512 => &RSA_PKCS1_2048_8192_SHA512,
            Self::Ps256 => &RSA_PSS_2048_8192_SHA256,
            Self::Ps384 => &RSA_PSS_2048_8192_SHA384,
            Self::Ps512 => &RSA_PSS_2048_8192_SHA512,
            Self::Es256 | Self::Es384 | Self::EdDsa => return None,
        })
    }
}

/// A public key.
#[derive(Clone, PartialEq, Eq)]
pub enum PublicKey {
    /// On P-256: both coordinates, uncompressed (SEC 1 §2.3.3).
    P256(Vec<u8>),
    /// On P-384.
    P384(Vec<u8>),
    /// Modulus and exponent.
    Rsa(Vec<u8>, Vec<u8>),
    /// On Ed25519.
    Ed25519(Vec<u8>),
}

impl std::fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.kind())
    }
}

/// A key is of another kind than an algorithm needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoKey;

impl PublicKey {
    /// What kind of key it is.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::P256(_) => "P-256",
            Self::P384(_) => "P-384",
            Self::Rsa(..) => "RSA",
            Self::Ed25519(_) => "Ed25519",
        }
    }

    /// Whether it is of the kind that an algorithm needs.
    pub fn fits(&self, algorithm: Algorithm) -> bool {
        match self {
            Self::P256(_) => algorithm == Algorithm::Es256,
            Self::P384(_) => algorithm == Algorithm::Es384,
            Self::Rsa(..) => algorithm.rsa().is_some(),
            Self::Ed25519(_) => algorithm == Algorithm::EdDsa,
        }
    }

    /// Whether a signature of a message is its.
    ///
    /// # Errors
    /// When the algorithm needs another kind of key.
    pub fn verifies(
        &self,
        algorithm: Algorithm,
        message: &[u8],
        signature: &[u8],
    ) -> Result<bool, NoKey> {
        if !self.fits(algorithm) {
            return Err(NoKey);
        }
        let good = match self {
            Self::P256(point) => {
                let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point);
                key.verify(message, signature)
            }
            Self::P384(point) => {
                let key = UnparsedPublicKey::new(&ECDSA_P384_SHA384_FIXED, point);
                key.verify(message, signature)
            }
            Self::Ed25519(point) => {
                UnparsedPublicKey::new(&ED25519, point).verify(message, signature)
            }
            Self::Rsa(n, e) => match algorithm.rsa() {
                Some(parameters) => {
                    RsaPublicKeyComponents { n, e }.verify(parameters, message, signature)
                }
                None => return Err(NoKey),
            },
        };
        Ok(good.is_ok())
    }
}
