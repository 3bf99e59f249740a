//! Texts of `.proto` files, as far as they must be understood before they are compiled.

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
                .unwrap_or(rest)
                .trim();
            let inner = rest.strip_prefix(['"', '\''])?;
            inner.strip_suffix(['"', '\'']).map(str::to_owned)
        })
        .collect()
}

/// The edition of a file: `2023` is 1000 and so on (`enum Edition`), and where its statement stands.
pub(super) fn edition(clean: &str) -> Option<(i32, std::ops::Range<usize>)> {
    let start = clean.len() - clean.trim_start().len();
    let rest = clean[start..].strip_prefix("edition")?;
    let end = start + clean[start..].find(';')? + 1;
    let value = rest.trim_start().strip_prefix('=')?;
    let year = value.split(';').next()?.trim().trim_matches(['"', '\'']);
    let number = match year {
        "2023" => 1000,
        "2024" => 1001,
        _ => 0,
    };
    Some((number, start..end))
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
