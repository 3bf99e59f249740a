//! Texts of `.proto` files, as far as they must be understood before they are compiled.

use porch_contract::Position;

/// A text without its comments, as long as it was, so that places stay.
pub(super) fn without_comments(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut out = bytes.to_vec();
    let (mut i, mut quote) = (0, None);
    while i < bytes.len() {
        match (quote, bytes[i]) {
            (Some(_), b'\\') => i += 1,
            (Some(q), b) if b == q => quote = None,
            (Some(_), _) => {}
            (None, b @ (b'"' | b'\'')) => quote = Some(b),
            (None, b'/') if bytes.get(i + 1) == Some(&b'/') => {
                while i < bytes.len() && bytes[i] != b'\n' {
                    out[i] = b' ';
                    i += 1;
                }
                continue;
            }
            (None, b'/') if bytes.get(i + 1) == Some(&b'*') => {
                let end = text[i + 2..].find("*/").map_or(bytes.len(), |n| i + n + 4);
                for b in &mut out[i..end] {
                    if *b != b'\n' {
                        *b = b' ';
                    }
                }
                i = end;
                continue;
            }
            _ => {}
        }
        i += 1;
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// The files that a `.proto` file imports.
pub(super) fn imports(clean: &str) -> Vec<String> {
    clean
        .split(';')
        .filter_map(|statement| {
            let rest = statement.trim().strip_prefix("import")?.trim_start();
            let rest = rest
                .strip_prefix("public")
                .or_else(|| rest.strip_prefix("weak"))
                .or_else(|| rest.strip_prefix("option"))
                .unwrap_or(rest)
                .trim();
            let inner = rest.strip_prefix(['"', '\''])?;
            inner.strip_suffix(['"', '\'']).map(str::to_owned)
        })
        .collect()
}

/// Where a method of a service is defined.
pub(super) fn method_position(clean: &str, service: &str, method: &str) -> Option<Position> {
    let within = named(clean, 0, "service", service)?;
    let at = named(clean, within, "rpc", method)?;
    let before = &clean[..at];
    Some(Position {
        line: before.matches('\n').count() + 1,
        column: before.rsplit('\n').next().unwrap_or("").chars().count() + 1,
    })
}

/// The first place from `from` on where `keyword` stands before `name`.
fn named(clean: &str, from: usize, keyword: &str, name: &str) -> Option<usize> {
    let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
    clean[from..].match_indices(keyword).find_map(|(at, _)| {
        let at = from + at;
        let rest = clean[at + keyword.len()..].trim_start();
        let behind = rest.strip_prefix(name)?;
        let alone = !clean[..at].ends_with(is_word) && !behind.starts_with(is_word);
        (alone && rest.len() < clean.len() - at - keyword.len()).then_some(at)
    })
}

pub(super) fn too_deep(clean: &str) -> bool {
    let mut depth = 0usize;
    clean.bytes().any(|b| {
        match b {
            b'{' | b'<' | b'[' => depth += 1,
            b'}' | b'>' | b']' => depth = depth.saturating_sub(1),
            _ => {}
        }
        depth > MAX_BRACES
    })
}

/// Text nested deeper than this is not given to the compiler, which calls itself for each level.
pub(super) const MAX_BRACES: usize = 120;
