//! What trial runs were answered well: values that are known to work, for the call that a release prints.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use crate::target::Values;

/// So many operations are remembered.
const MOST: usize = 256;

/// The values of a request.
#[derive(Clone, Default)]
pub(crate) struct Given {
    pub(crate) path: Values,
    pub(crate) query: Values,
    /// The body as it was sent, if there was one.
    pub(crate) body: Option<String>,
}

/// The values that operations of the draft answered well last, by facade and `operationId`.
#[derive(Default)]
pub(super) struct Answered(Mutex<HashMap<(String, String), Arc<Given>>>);

impl Answered {
    pub(super) fn keep(&self, facade: &str, operation: &str, given: Given) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (facade.to_owned(), operation.to_owned());
        // Any may go: a call is only made of the contract's values then.
        if all.len() >= MOST
            && !all.contains_key(&key)
            && let Some(one) = all.keys().next().cloned()
        {
            all.remove(&one);
        }
        all.insert(key, Arc::new(given));
    }

    /// What is known of one facade, by `operationId`.
    pub(super) fn of(&self, facade: &str) -> HashMap<String, Arc<Given>> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let own = all.iter().filter(|((of, _), _)| of == facade);
        own.map(|((_, operation), given)| (operation.clone(), given.clone()))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_so_many_are_remembered() {
        let answered = Answered::default();
        for i in 0..MOST + 50 {
            answered.keep("sailings", &format!("op{i}"), Given::default());
        }
        answered.keep("cargo", "op", Given::default());
        assert_eq!(answered.of("sailings").len(), MOST - 1);
        assert_eq!(answered.of("cargo").len(), 1);
    }
}
