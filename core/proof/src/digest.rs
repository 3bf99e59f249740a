//! Digests of bodies (RFC 9530).

use ring::digest::{SHA256, SHA512, digest};

use crate::fields::{Item, Member, dictionary, written};

/// Whether a body is what `Content-Digest` says it is: every digest that is known is compared, and there is one.
///
/// # Errors
/// Why it is not.
pub fn is_digest_of(field: &str, body: &[u8]) -> Result<(), String> {
    let all = dictionary(field).map_err(|e| format!("Content-Digest: {e}"))?;
    let mut known = false;
    for (name, member) in all {
        let algorithm = match name.as_str() {
            "sha-256" => &SHA256,
            "sha-512" => &SHA512,
            // What is weak, or not known, says nothing (RFC 9530 §5).
            _ => continue,
        };
        let Member::Item(Item::Bytes(told), _) = member else {
            return Err(format!("the digest “{name}” is no bytes"));
        };
        known = true;
        if digest(algorithm, body).as_ref() != told {
            return Err(format!("the body is not what its digest “{name}” says"));
        }
    }
    match known {
        true => Ok(()),
        false => Err("Content-Digest has no digest by sha-256 or sha-512".to_owned()),
    }
}

/// `Content-Digest` of a body.
pub fn digest_of(body: &[u8]) -> String {
    let digest = digest(&SHA256, body).as_ref().to_vec();
    format!("sha-256={}", written(&Item::Bytes(digest)))
}
