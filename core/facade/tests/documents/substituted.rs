//! Patterns in changes: each mistake where it stands.

use super::several::changed;
use super::*;

#[test]
fn what_is_no_pattern_and_where_there_is_none_is_told() {
    for (from, to, expected) in [
        (
            "remove, name: X-Powered-By",
            "substitute, name: A, pattern: '(', with: b",
            "10:51 this is no pattern: unclosed group ()",
        ),
        (
            "remove, name: X-Powered-By",
            "substitute, name: A, pattern: a",
            "10:21 it needs `with:` ()",
        ),
        (
            "remove, name: X-Powered-By",
            "remove, name: A, pattern: a",
            "10:47 “pattern” has no meaning here ()",
        ),
        (
            "op: rename, path: /metres, to: depth",
            "op: substitute, path: /metres, pattern: (a, with: b",
            "83:55 this is no pattern: unclosed group ()",
        ),
        (
            "op: rename, path: /metres, to: depth",
            "op: substitute, path: /metres, pattern: a, with: $1",
            "83:64 the pattern has no group “1”; a letter behind it belongs to its name: write ${1} ()",
        ),
        (
            "op: rename, path: /metres, to: depth",
            "op: rename, path: /metres, to: depth, pattern: a",
            "83:62 “pattern” has no meaning here ()",
        ),
    ] {
        let said = first(&changed(from, to));
        assert!(said.ends_with(expected), "{to}: {said}");
    }
}
