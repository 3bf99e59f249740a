//! Names that nothing else has.

use std::collections::{HashMap, HashSet};

/// Names that were given. However many want the same one, each is found at once: what was tried for a name is not tried again.
#[derive(Default)]
pub(crate) struct Names {
    taken: HashSet<String>,
    next: HashMap<String, usize>,
}

impl Names {
    /// Takes a name as it is; `false` where it is taken.
    pub(crate) fn take(&mut self, name: &str) -> bool {
        self.taken.insert(name.to_owned())
    }

    /// A name that nothing has: the one that is wanted, or that and a number from 2.
    pub(crate) fn give(&mut self, wanted: &str, between: &str) -> String {
        if self.take(wanted) {
            return wanted.to_owned();
        }
        let mut number = self.next.get(wanted).copied().unwrap_or(2);
        loop {
            let name = format!("{wanted}{between}{number}");
            number += 1;
            if self.taken.insert(name.clone()) {
                self.next.insert(wanted.to_owned(), number);
                return name;
            }
        }
    }
}
