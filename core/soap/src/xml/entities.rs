//! The internal entities of a document type declaration (XML 1.0 §4.2.1): how large they make a text is found out before
//! anything replaces them.

use std::collections::HashMap;

/// Entities may make a text so much larger.
const MAX_GROWTH: usize = 8 << 20;
/// So many entities may be declared.
const MAX_ENTITIES: usize = 1000;

/// Whether what entities stand for stays within bounds; where and why not.
///
/// Only a text with a declaration is looked through, once for the declarations and once for the references.
pub(crate) fn entities_fit(text: &str) -> Result<(), (usize, String)> {
    let Some(start) = text.find("<!DOCTYPE") else {
        return Ok(());
    };
    let (declared, end) = declarations(&text[start..]).map_err(|at| {
        let message = format!("more than {MAX_ENTITIES} entities are declared");
        (start + at, message)
    })?;
    if declared.is_empty() {
        return Ok(());
    }
    // What declarations refer to is only replaced where they are referred to themselves.
    let content = start + end;
    let mut sizes = HashMap::new();
    let mut grown = 0usize;
    for (at, name) in references(&text[content..]) {
        grown = grown.saturating_add(size_of(name, &declared, &mut sizes, 0));
        if grown > MAX_GROWTH {
            let message = format!("its entities stand for more than {MAX_GROWTH} bytes");
            return Err((content + at, message));
        }
    }
    Ok(())
}

/// Names and values of the entities that a text declares, and where the last one ends; the place of the first that is one
/// too many.
fn declarations(text: &str) -> Result<(HashMap<&str, &str>, usize), usize> {
    let mut declared = HashMap::new();
    let (mut from, mut end) = (0, 0);
    while let Some(i) = text[from..].find("<!ENTITY") {
        let at = from + i;
        from = at + "<!ENTITY".len();
        let rest = text[from..].trim_start();
        let Some((name, rest)) = rest.split_once(|c: char| c.is_ascii_whitespace()) else {
            break;
        };
        let rest = rest.trim_start();
        let Some(quote) = rest.chars().next().filter(|c| matches!(c, '"' | '\'')) else {
            continue;
        };
        let value = rest[1..].split(quote).next().unwrap_or("");
        end = text.len() - rest.len() + 1 + value.len();
        // The first declaration of a name counts.
        declared.entry(name).or_insert(value);
        if declared.len() > MAX_ENTITIES {
            return Err(at);
        }
    }
    Ok((declared, end))
}

/// The references in a text, with their places.
fn references(text: &str) -> impl Iterator<Item = (usize, &str)> {
    memchr::memchr_iter(b'&', text.as_bytes()).filter_map(|at| {
        let name = &text[at + 1..];
        let end = name.bytes().take(256).position(|b| b == b';')?;
        Some((at, &name[..end]))
    })
}

/// How many bytes an entity stands for, entities inside it replaced; each is worked out once.
fn size_of<'t>(
    name: &'t str,
    declared: &HashMap<&'t str, &'t str>,
    sizes: &mut HashMap<&'t str, usize>,
    depth: usize,
) -> usize {
    if let Some(size) = sizes.get(name) {
        return *size;
    }
    let Some(value) = declared.get(name).copied() else {
        return 0;
    };
    // Whoever meets it again before it is worked out refers to itself.
    sizes.insert(name, MAX_GROWTH);
    if depth > 64 {
        return MAX_GROWTH;
    }
    let mut size = value.len();
    for (_, inner) in references(value) {
        size = size.saturating_add(size_of(inner, declared, sizes, depth + 1));
    }
    sizes.insert(name, size);
    size
}

#[cfg(test)]
mod tests {
    use super::*;

    fn document(entities: &str, content: &str) -> String {
        format!("<!DOCTYPE a [{entities}]><a>{content}</a>")
    }

    #[test]
    fn what_grows_beyond_the_bound_is_refused_where_it_does() {
        // One large entity, often: 100 KB of text that would be 4 GB.
        let large = format!("<!ENTITY e '{}'>", "x".repeat(50_000));
        let (at, message) = entities_fit(&document(&large, &"&e;".repeat(20_000))).unwrap_err();
        assert!(message.contains("stand for more than"), "{message}");
        assert!(at > 50_000 && at < 52_000, "{at}");
        // Each ten times the one before: 10^12 bytes.
        let tenfold: String = (1..12)
            .map(|i| format!("<!ENTITY e{i} \"{}\">", format!("&e{};", i - 1).repeat(10)))
            .collect();
        let bomb = format!("<!ENTITY e0 'x'>{tenfold}");
        assert!(entities_fit(&document(&bomb, "&e11;")).is_err());
        assert!(entities_fit(&document(&bomb, "&e3;")).is_ok());
        // A thousand of them that refer to each other end, too.
        let circle = "<!ENTITY a '&b;&b;'><!ENTITY b '&a;&a;'>";
        assert!(entities_fit(&document(circle, "&a;")).is_err());
        let many: String = (0..1001).map(|i| format!("<!ENTITY n{i} ''>")).collect();
        assert!(
            entities_fit(&document(&many, ""))
                .unwrap_err()
                .1
                .contains("1000")
        );
    }

    #[test]
    fn ordinary_documents_pass() {
        for (entities, content) in [
            ("", "&amp;&#65;"),
            ("<!ENTITY kind 'x:int'>", "&kind; &kind;"),
            (
                "<!ENTITY % p ''><!ENTITY e SYSTEM 'http://x.example/'>",
                "&e;",
            ),
            ("<!ENTITY", ""),
            ("<!ENTITY x", "&"),
            ("<!ENTITY x 'open", "&x"),
        ] {
            assert_eq!(
                entities_fit(&document(entities, content)),
                Ok(()),
                "{entities}"
            );
        }
        let plain = format!("<a>{}</a>", "&amp;".repeat(100_000));
        assert_eq!(entities_fit(&plain), Ok(()));
    }
}
