//! Keys: secrets that consumers show.
//!
//! A key is drawn from 160 random bits, so a plain BLAKE3 hash is enough to keep it by: there is nothing to guess from.

/// Hash of a whole key.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct KeyHash(pub(crate) [u8; 32]);

const ALPHABET: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
const PREFIX: usize = 8;

impl KeyHash {
    /// The hash of a key as the caller sent it.
    pub fn of(key: &str) -> Self {
        Self(*blake3::hash(key.as_bytes()).as_bytes())
    }

    /// The hash from its hexadecimal spelling.
    pub fn from_hex(text: &str) -> Option<Self> {
        let mut out = [0; 32];
        if text.len() != 64 || !text.is_ascii() {
            return None;
        }
        for (i, byte) in out.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&text[i * 2..i * 2 + 2], 16).ok()?;
        }
        Some(Self(out))
    }

    /// The hash in hexadecimal.
    pub fn to_hex(self) -> String {
        self.0.iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl std::fmt::Debug for KeyHash {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("KeyHash(…)")
    }
}

/// A new key from random bytes: eight characters to know it by, a dash, and the secret.
///
/// ```
/// let key = porch_rules::key::new_key(&[7; 25]);
/// assert_eq!(porch_rules::key::prefix(&key), Some(&key[..8]));
/// ```
pub fn new_key(random: &[u8; 25]) -> String {
    let bits: Vec<u8> = random
        .iter()
        .flat_map(|b| (0..8).rev().map(move |i| b >> i & 1))
        .collect();
    let mut key: String = bits
        .chunks(5)
        .map(|c| ALPHABET[c.iter().fold(0, |n, b| n << 1 | *b) as usize] as char)
        .collect();
    key.insert(PREFIX, '-');
    key
}

/// The part of a key that it is known by afterwards; `None` for what cannot be a key.
pub fn prefix(key: &str) -> Option<&str> {
    (key.len() == 41 && key.is_ascii() && key.as_bytes()[PREFIX] == b'-').then(|| &key[..PREFIX])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_has_a_prefix_and_a_hash_that_survives_spelling() {
        let key = new_key(&[0xa7; 25]);
        assert_eq!((key.len(), prefix(&key).unwrap().len()), (41, 8));
        assert_eq!(prefix("short"), None);
        let hash = KeyHash::of(&key);
        assert_eq!(KeyHash::from_hex(&hash.to_hex()), Some(hash));
        assert_eq!(KeyHash::from_hex(&"é".repeat(32)), None);
        assert_ne!(KeyHash::of(&format!("{key} ")), hash);
    }
}
