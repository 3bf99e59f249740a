//! Proofs that callers show: signed tokens (RFC 7515, 7517, 7519, 9068, 9449) and signed requests (RFC 9421, 9530), held against keys.
//!
//! This crate decides and does not act: it fetches nothing and reads no clock. What it reads comes from strangers: everything is
//! bounded in size before it is looked at, and nothing is guessed: which algorithms are taken is said by whoever asks, never by
//! what is shown.
#![warn(missing_docs)]

mod alg;
mod component;
mod digest;
mod dpop;
mod fields;
mod jwk;
mod jwt;
mod pem;
mod sign;
mod signature;

pub use alg::{Algorithm, NoKey, PublicKey};
pub use component::Message;
pub use digest::{digest_of, is_digest_of};
pub use dpop::{Possession, Shown, possession};
pub use jwk::{Jwk, KeySet};
pub use jwt::{Expected, NotGood, Token};
pub use sign::{Saying, Signer, new_key};
pub use signature::{Signed, SignedBy, SigningKey};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

/// What is said of a verifier before it is shown (RFC 7636 §4.2, `S256`).
///
/// ```
/// let challenge = porch_proof::challenge_of("dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk");
/// assert_eq!(challenge, "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM");
/// ```
pub fn challenge_of(verifier: &str) -> String {
    let hash = ring::digest::digest(&ring::digest::SHA256, verifier.as_bytes());
    URL_SAFE_NO_PAD.encode(hash)
}

/// Bytes in base64url without padding, and nothing else (RFC 7515 §2).
pub(crate) fn from_base64url(text: &str) -> Option<Vec<u8>> {
    URL_SAFE_NO_PAD.decode(text).ok()
}
