//! Addresses that are asked whether they are well, and are not. Who asks them is not the gateway: it is told.
//!
//! All workers share what is known. It hangs on the backend's identity and on how it is asked: another question may have
//! another answer.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock};

use porch_facade::CompiledBackend;

/// Addresses that are left alone, with what was found of each.
#[derive(Default)]
pub struct Watched {
    out: RwLock<HashMap<(u64, u32), Arc<str>>>,
    number: AtomicUsize,
}

impl Watched {
    /// Takes an address out, with what was found, or back in.
    pub fn set(&self, identity: u64, at: u32, out: Option<Arc<str>>) {
        let mut all = self.out.write().unwrap_or_else(PoisonError::into_inner);
        match out {
            Some(told) => drop(all.insert((identity, at), told)),
            None => drop(all.remove(&(identity, at))),
        }
        self.number.store(all.len(), Ordering::Release);
    }

    /// What was found of an address that is left alone.
    pub fn told(&self, backend: &CompiledBackend, at: usize) -> Option<Arc<str>> {
        let check = backend.health.as_ref()?;
        if self.number.load(Ordering::Acquire) == 0 {
            return None;
        }
        let all = self.out.read().unwrap_or_else(PoisonError::into_inner);
        all.get(&(check.identity, at as u32)).cloned()
    }

    pub(super) fn is_out(&self, backend: &CompiledBackend, at: usize) -> bool {
        self.told(backend, at).is_some()
    }

    /// The addresses of a backend that are left alone, each with what was found of it.
    #[cold]
    pub(crate) fn all_told(&self, backend: &CompiledBackend) -> Vec<String> {
        let all = backend.addresses.iter().enumerate();
        let out = all.filter_map(|(at, address)| {
            let told = self.told(backend, at)?;
            Some(format!("{} is not well: {told}", address.authority))
        });
        out.collect()
    }
}
