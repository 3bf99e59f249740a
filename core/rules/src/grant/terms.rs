//! What was agreed to: the same terms, which many agreements have, are kept once.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError, Weak};

use serde_json::Value;

/// Different terms that are looked for among those that are kept; more of them are each kept for themselves.
const MOST: usize = 10_000;

/// The terms that are in use, by their text.
fn kept() -> &'static Mutex<HashMap<Box<str>, Weak<Value>>> {
    static KEPT: OnceLock<Mutex<HashMap<Box<str>, Weak<Value>>>> = OnceLock::new();
    KEPT.get_or_init(Mutex::default)
}

/// Terms, kept together with all that are the same.
pub fn shared(terms: Value) -> Arc<Value> {
    let text = terms.to_string();
    let mut kept = kept().lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = kept.get(text.as_str()).and_then(Weak::upgrade) {
        return known;
    }
    if kept.len() >= MOST {
        kept.retain(|_, known| known.strong_count() > 0);
    }
    let terms = Arc::new(terms);
    if kept.len() < MOST {
        kept.insert(text.into(), Arc::downgrade(&terms));
    }
    terms
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn the_same_terms_are_kept_once_and_others_are_others() {
        let (one, same) = (shared(json!({ "quay": 1 })), shared(json!({ "quay": 1 })));
        assert!(Arc::ptr_eq(&one, &same));
        assert_eq!(*shared(json!({ "quay": 2 })), json!({ "quay": 2 }));
        // What nobody has any more is made anew, and right.
        drop((one, same));
        assert_eq!(*shared(json!({ "quay": 1 })), json!({ "quay": 1 }));
    }
}
