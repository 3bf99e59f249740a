//! What is behind secrets that expressions name.

use std::sync::Arc;

use super::FacadeCompiler;
use crate::Mask;
use crate::compiled::Secrets;

impl FacadeCompiler<'_> {
    /// Takes out the secrets that expressions name; whatever is shown of a backend's calls goes without them as well.
    pub(super) fn lent(&mut self) -> (Vec<String>, Mask) {
        let named = self.lent.take();
        let mask = Mask::of(named.values().map(String::as_str));
        if !mask.is_empty() {
            for backend in &mut self.backends {
                let credentials = &mut Arc::make_mut(backend).credentials;
                credentials.mask = credentials.mask.with(&mask);
            }
        }
        let digests = named
            .iter()
            .map(|(n, value)| (n.clone(), Secrets::digest(value)));
        self.secrets.extend(digests);
        (named.into_keys().collect(), mask)
    }
}
