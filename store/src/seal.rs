//! Sealing secrets: XChaCha20-Poly1305 with a key from a file or the environment.

use std::sync::Arc;

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};

/// Seals and opens secrets.
#[derive(Clone)]
pub struct Seal(Arc<XChaCha20Poly1305>);

/// Why a secret cannot be sealed or opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SealError {
    /// The key is not 64 hexadecimal digits.
    #[error("the sealing key must be 64 hexadecimal digits (32 bytes)")]
    Key,
    /// No random bytes.
    #[error("the system gives no random bytes")]
    Random,
    /// What is sealed was changed, or sealed with another key.
    #[error("a secret cannot be opened: it was sealed with another key")]
    Open,
}

impl Seal {
    /// A seal of a key in hexadecimal.
    ///
    /// # Errors
    /// When it is not 64 digits.
    pub fn new(hex: &str) -> Result<Self, SealError> {
        let hex = hex.trim();
        let mut key = [0u8; 32];
        if hex.len() != 64 || !hex.is_ascii() {
            return Err(SealError::Key);
        }
        for (i, byte) in key.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&hex[i * 2..i * 2 + 2], 16).map_err(|_| SealError::Key)?;
        }
        Ok(Self(Arc::new(XChaCha20Poly1305::new(&key.into()))))
    }

    /// A new random key in hexadecimal.
    ///
    /// # Errors
    /// When the system gives no random bytes.
    pub fn new_key() -> Result<String, SealError> {
        let mut key = [0u8; 32];
        getrandom::fill(&mut key).map_err(|_| SealError::Random)?;
        Ok(key.iter().map(|b| format!("{b:02x}")).collect())
    }

    /// Seals a text for one purpose; it opens for no other.
    ///
    /// # Errors
    /// See [`SealError`].
    pub fn seal(&self, purpose: &str, text: &str) -> Result<Vec<u8>, SealError> {
        let mut nonce = [0u8; 24];
        getrandom::fill(&mut nonce).map_err(|_| SealError::Random)?;
        let payload = Payload {
            msg: text.as_bytes(),
            aad: purpose.as_bytes(),
        };
        let sealed = self
            .0
            .encrypt(&XNonce::from(nonce), payload)
            .map_err(|_| SealError::Open)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens what was sealed for the same purpose.
    ///
    /// # Errors
    /// See [`SealError`].
    pub fn open(&self, purpose: &str, sealed: &[u8]) -> Result<String, SealError> {
        let (nonce, rest) = sealed.split_first_chunk::<24>().ok_or(SealError::Open)?;
        let payload = Payload {
            msg: rest,
            aad: purpose.as_bytes(),
        };
        let text = self
            .0
            .decrypt(&XNonce::from(*nonce), payload)
            .map_err(|_| SealError::Open)?;
        String::from_utf8(text).map_err(|_| SealError::Open)
    }
}

impl std::fmt::Debug for Seal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Seal(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sealed_texts_open_for_their_purpose_only() {
        let seal = Seal::new(&Seal::new_key().unwrap()).unwrap();
        let sealed = seal.seal("live/login", "tide").unwrap();
        assert_eq!(seal.open("live/login", &sealed).unwrap(), "tide");
        assert_eq!(seal.open("live/other", &sealed), Err(SealError::Open));
        assert_eq!(
            Seal::new(&"a".repeat(64))
                .unwrap()
                .open("live/login", &sealed),
            Err(SealError::Open)
        );
        assert_eq!(seal.open("live/login", &sealed[..10]), Err(SealError::Open));
        assert!(Seal::new("short").is_err());
    }
}
