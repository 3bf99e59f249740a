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
pub use sign::{Saying, Signer};
pub use signature::{Signed, SignedBy, SigningKey};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

/// Bytes in base64url without padding, and nothing else (RFC 7515 §2).
pub(crate) fn from_base64url(text: &str) -> Option<Vec<u8>> {
    URL_SAFE_NO_PAD.decode(text).ok()
}
