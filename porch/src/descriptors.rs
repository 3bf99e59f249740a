//! Open files: as many as the system grants, and who may have how many of them.

use rustix::process::{Resource, getrlimit, setrlimit};

/// Connections of the console.
pub(crate) const OF_CONSOLE: usize = 256;
/// Connections of the portal.
pub(crate) const OF_PORTAL: usize = 256;
/// The database's, files, listeners, definitions that are fetched, and some to spare.
const OF_THE_SERVICE: usize = 128;
/// More callers than this are not waited for by default.
const MOST_CALLERS: usize = 10_000;

/// Connections of callers: each may need another one to a backend. What the console and the service itself need is kept back.
pub(crate) fn for_callers() -> usize {
    callers(granted())
}

/// Raises the limit as far as the system lets us, and gives it.
fn granted() -> usize {
    let mut limit = getrlimit(Resource::Nofile);
    let before = limit.current;
    limit.current = limit.maximum;
    if setrlimit(Resource::Nofile, limit).is_err() {
        limit.current = before;
    }
    // None at all: as many as one likes.
    limit
        .current
        .map_or(usize::MAX, |n| usize::try_from(n).unwrap_or(usize::MAX))
}

fn callers(granted: usize) -> usize {
    let left = granted.saturating_sub(OF_CONSOLE + OF_PORTAL + OF_THE_SERVICE);
    (left / 2).clamp(16, MOST_CALLERS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn console_and_service_keep_theirs() {
        assert_eq!(callers(1024), 192);
        assert!(callers(4096) * 2 + OF_CONSOLE + OF_PORTAL + OF_THE_SERVICE <= 4096);
        assert_eq!(callers(usize::MAX), MOST_CALLERS);
        assert_eq!(callers(64), 16, "some, in any case");
        assert!(granted() > 0);
    }
}
