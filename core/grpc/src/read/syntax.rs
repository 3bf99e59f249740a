//! Newer syntax in words that the compiler knows. It reads editions as proto3, and what they mean is set right behind; what only
//! tools for other languages read is blanked, so that places stay.

use std::ops::Range;

/// The features that are understood (`descriptor.proto`, `FeatureSet`).
const FEATURES: [&str; 6] = [
    "field_presence",
    "enum_type",
    "repeated_field_encoding",
    "utf8_validation",
    "message_encoding",
    "json_format",
];

/// The edition of a file: `2023` is 1000 and so on (`enum Edition`), and where its statement stands.
fn edition(clean: &str) -> Option<(i32, Range<usize>)> {
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

/// A text as the compiler can read it, and its edition. `None` of an edition that we do not know either.
pub(super) fn understood(text: &str, clean: &str) -> Option<(String, Option<i32>)> {
    let mut text = text.to_owned();
    let edition = edition(clean);
    for range in unknown(clean, edition.is_some()) {
        // Line ends stay, so that lines do.
        let blank = |b: u8| if b == b'\n' { '\n' } else { ' ' };
        let blanks: String = text[range.clone()].bytes().map(blank).collect();
        text.replace_range(range, &blanks);
    }
    let Some((number, range)) = edition else {
        return Some((text, None));
    };
    let stands_for = "syntax=\"proto3\";";
    if number == 0 || range.len() < stands_for.len() {
        return None;
    }
    let blanks = " ".repeat(range.len() - stands_for.len());
    text.replace_range(range, &format!("{stands_for}{blanks}"));
    Some((text, Some(number)))
}

/// What the compiler would stumble over, though nothing of it matters here.
fn unknown(clean: &str, editions: bool) -> Vec<Range<usize>> {
    let mut all = Vec::new();
    let mut at = 0;
    while at < clean.len() {
        let rest = &clean[at..];
        let start = at + (rest.len() - rest.trim_start().len());
        let head = word(clean, start);
        if matches!(head, "export" | "local") && editions {
            let next = word(clean, behind(clean, start + head.len()));
            if matches!(next, "message" | "enum") {
                all.push(start..start + head.len());
                at = start + head.len();
                continue;
            }
        }
        let end = statement_end(clean, start);
        statement(clean, start..end, editions, &mut all);
        at = end + 1;
    }
    all
}

/// What of a statement is blanked: `range` ends before its `;`, `{` or `}`.
fn statement(clean: &str, range: Range<usize>, editions: bool, all: &mut Vec<Range<usize>>) {
    let head = word(clean, range.start);
    let second = behind(clean, range.start + head.len()).min(range.end);
    // With the semicolon: an empty statement may stand anywhere, but that of a message is not lost with it.
    let whole = range.start..(range.end + 1).min(clean.len());
    match head {
        // A language's own features, whose files the compiler does not have (`google/protobuf/cpp_features.proto`).
        "import" if clean[range.clone()].contains("_features.proto") => all.push(whole),
        "import" if word(clean, second) == "option" => all.push(second..second + "option".len()),
        // Names instead of texts.
        "reserved" if editions => all.push(whole),
        "option" if is_unknown(&clean[second..range.end]) => all.push(whole),
        "option" | "import" | "syntax" | "edition" | "package" => {}
        "extensions" => {
            if let Some(open) = clean[range.clone()].find('[') {
                all.push(range.start + open..range.end);
            }
        }
        _ => options(clean, range, all),
    }
}

/// The unknown ones among the options in brackets behind a field.
fn options(clean: &str, range: Range<usize>, all: &mut Vec<Range<usize>>) {
    let Some(open) = clean[range.clone()].find('[').map(|n| range.start + n) else {
        return;
    };
    let mut items = Vec::new();
    let (mut depth, mut start, mut quote) = (0usize, open + 1, None);
    let mut bytes = clean[..range.end].bytes().enumerate().skip(open + 1);
    while let Some((i, b)) = bytes.next() {
        match (quote, b) {
            (Some(_), b'\\') => drop(bytes.next()),
            (Some(q), b) if b == q => quote = None,
            (Some(_), _) => {}
            (None, b'"' | b'\'') => quote = Some(b),
            (None, b'{' | b'[' | b'(' | b'<') => depth += 1,
            (None, b']') if depth == 0 => {
                items.push(start..i);
                break;
            }
            (None, b'}' | b']' | b')' | b'>') => depth = depth.saturating_sub(1),
            (None, b',') if depth == 0 => {
                items.push(start..i);
                start = i + 1;
            }
            _ => {}
        }
    }
    let known: Vec<bool> = items
        .iter()
        .map(|item| !is_unknown(clean[item.clone()].trim_start()))
        .collect();
    if known.iter().all(|k| *k) {
        return;
    }
    match known.iter().position(|k| *k) {
        None => all.extend(items.last().map(|last| open..last.end + 1)),
        // Each with its comma: the one behind while no known one came, the one before from then on.
        Some(first) => {
            for (i, item) in items.iter().enumerate().filter(|(i, _)| !known[*i]) {
                all.push(if i < first {
                    item.start..item.end + 1
                } else {
                    item.start - 1..item.end
                });
            }
        }
    }
}

/// Whether an option, from its name on, is one that the compiler does not know and nothing here depends on.
fn is_unknown(option: &str) -> bool {
    if let Some(feature) = option.strip_prefix("features.") {
        return !FEATURES.contains(&word(feature, 0));
    }
    matches!(word(option, 0), "feature_support" | "edition_defaults")
}

/// The word that starts at a place.
fn word(text: &str, at: usize) -> &str {
    let rest = text.get(at..).unwrap_or_default();
    let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    &rest[..end.unwrap_or(rest.len())]
}

/// The first place from `at` on that is no white space.
fn behind(text: &str, at: usize) -> usize {
    let rest = text.get(at..).unwrap_or_default();
    text.len() - rest.trim_start().len()
}

/// Where a statement ends: at its `;`, or at a brace that opens or closes what it stands in. Braces and brackets of option values are gone
/// over.
fn statement_end(clean: &str, start: usize) -> usize {
    // Only an option's value holds braces; those of a group lie behind its number.
    let value = word(clean, start) == "option";
    let (mut depth, mut quote) = (0usize, None);
    let mut bytes = clean.bytes().enumerate().skip(start);
    while let Some((i, b)) = bytes.next() {
        match (quote, b) {
            (Some(_), b'\\') => drop(bytes.next()),
            (Some(q), b) if b == q => quote = None,
            (Some(_), _) => {}
            (None, b'"' | b'\'') => quote = Some(b),
            (None, b'[') => depth += 1,
            (None, b']') => depth = depth.saturating_sub(1),
            (None, b'{') if depth == 0 && !value => return i,
            (None, b'{') => depth += 1,
            (None, b'}') if depth == 0 => return i,
            (None, b'}') => depth -= 1,
            (None, b';') if depth == 0 => return i,
            _ => {}
        }
    }
    clean.len()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn read(text: &str) -> String {
        let clean = super::super::texts::without_comments(text);
        let (understood, _) = understood(text, &clean).unwrap();
        assert_eq!(understood.len(), text.len());
        assert_eq!(understood.matches('\n').count(), text.matches('\n').count());
        understood.split_whitespace().collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn what_only_other_languages_read_is_blanked() {
        let cases = [
            (
                "message M { extensions 100 [verification = UNVERIFIED]; int32 a = 1; }",
                "message M { extensions 100 ; int32 a = 1; }",
            ),
            (
                "message M { int32 a = 1 [features.(pb.cpp).string_type = VIEW, deprecated = true]; }",
                "message M { int32 a = 1 [ deprecated = true]; }",
            ),
            (
                "message M { int32 a = 1 [deprecated = true, feature_support = { a: [1, 2] }]; }",
                "message M { int32 a = 1 [deprecated = true ]; }",
            ),
            (
                "message M { int32 a = 1 [\n  features.(pb.java).x = Y // für später\n]; }",
                "message M { int32 a = 1 ; }",
            ),
            (
                "import \"google/protobuf/go_features.proto\"; message M {}",
                "message M {}",
            ),
            (
                "message M { string a = 1 [(x.y) = { s: \";}\" t: [{ u: 1 }] }, (z) = 'a[']; }",
                "message M { string a = 1 [(x.y) = { s: \";}\" t: [{ u: 1 }] }, (z) = 'a[']; }",
            ),
            (
                "message M { optional group G = 1 { extensions 5 [verification = UNVERIFIED]; } }",
                "message M { optional group G = 1 { extensions 5 ; } }",
            ),
            (
                "service S { rpc A(M) returns (M) { option (google.api.http) = { get: \"/a\" additional_bindings { get: \"/b\" } }; } }",
                "service S { rpc A(M) returns (M) { option (google.api.http) = { get: \"/a\" additional_bindings { get: \"/b\" } }; } }",
            ),
            (
                "message export { export local = 1; }",
                "message export { export local = 1; }",
            ),
        ];
        for (text, expected) in cases {
            assert_eq!(read(text), expected);
        }
    }

    #[test]
    fn editions_are_read_as_proto3_with_what_they_brought() {
        let text = "edition = \"2024\"; import option \"a.proto\"; option features.enforce_naming_style = STYLE2024; \
             option features.field_presence = IMPLICIT; export message M { reserved foo, bar; local enum E { A = 0; } }";
        assert_eq!(
            read(text),
            "syntax=\"proto3\"; import \"a.proto\"; option features.field_presence = IMPLICIT; message M { enum E { A = 0; } }"
        );
        assert_eq!(understood(text, text).unwrap().1, Some(1001));
        assert!(understood("edition = \"2030\";", "edition = \"2030\";").is_none());
    }

    #[test]
    fn broken_text_is_left_to_the_compiler() {
        for text in [
            "[",
            "message M { int32 a = 1 [",
            "extensions",
            "\"",
            "= { {",
            "import option",
            "}}}",
            "option",
        ] {
            assert!(understood(text, text).is_some());
        }
    }
}
