//! FNV-1a of 64 bits: quick for short texts, and the same in every run.

use std::hash::Hasher;

const START: u64 = 0xcbf2_9ce4_8422_2325;
const PRIME: u64 = 0x100_0000_01b3;

/// A hasher for tables that only publishers put texts into, so that nobody can provoke collisions.
#[derive(Clone, Debug)]
pub struct Fnv(u64);

impl Default for Fnv {
    fn default() -> Self {
        Self(START)
    }
}

impl Hasher for Fnv {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        for b in bytes {
            self.0 = (self.0 ^ u64::from(*b)).wrapping_mul(PRIME);
        }
    }
}

/// A number for a text, the same in every run.
///
/// ```
/// assert_eq!(porch_contract::stable_id("quay"), porch_contract::stable_id("quay"));
/// assert_ne!(porch_contract::stable_id("quay"), porch_contract::stable_id("Quay"));
/// ```
pub fn stable_id(text: &str) -> u64 {
    let mut hash = Fnv::default();
    hash.write(text.as_bytes());
    hash.finish()
}
