//! Parts of texts replaced by patterns.

use regex::{Regex, RegexBuilder};

/// Greatest length of a pattern, and of what stands in its place, in bytes.
const MOST_PATTERN: usize = 1_000;
const MOST_WITH: usize = 200;
/// A pattern takes at most so many bytes when it is ready.
const MOST_READY: usize = 1 << 20;
/// Longer texts are not looked through; what comes of one is not longer than eight times that.
const MOST_TEXT: usize = 64 << 10;
const MOST_MADE: usize = 8 * MOST_TEXT;

/// What a pattern finds, and what stands in its place.
///
/// Patterns are regular expressions without look-around and back references (syntax of the crate `regex`), so that looking
/// for one takes time by the length of the text and of the pattern, whatever both are.
#[derive(Debug)]
pub struct Substitution {
    pattern: Regex,
    with: String,
}

impl Substitution {
    /// Makes it ready. In what stands in its place `$1` and `$name` are what groups of the pattern found, and `$$` is `$`.
    ///
    /// # Errors
    /// The key that is wrong, `pattern` or `with`, and why.
    pub fn new(pattern: &str, with: &str) -> Result<Self, (&'static str, String)> {
        if pattern.len() > MOST_PATTERN {
            return Err((
                "pattern",
                format!("a pattern has at most {MOST_PATTERN} bytes"),
            ));
        }
        if with.len() > MOST_WITH {
            let told = format!("what stands in place has at most {MOST_WITH} bytes");
            return Err(("with", told));
        }
        let ready = RegexBuilder::new(pattern).size_limit(MOST_READY).build();
        let pattern = ready.map_err(|e| ("pattern", wrong(&e)))?;
        for name in groups(with) {
            let known = match name.parse::<usize>() {
                Ok(number) => number < pattern.captures_len(),
                Err(_) => pattern.capture_names().flatten().any(|n| n == name),
            };
            if !known {
                let help = "; a letter behind it belongs to its name: write ${1}";
                return Err(("with", format!("the pattern has no group “{name}”{help}")));
            }
        }
        Ok(Self {
            pattern,
            with: with.to_owned(),
        })
    }

    /// A text with all that the pattern finds replaced; `None` where it finds nothing.
    ///
    /// # Errors
    /// What is too long.
    pub fn apply(&self, text: &str) -> Result<Option<String>, String> {
        if text.len() > MOST_TEXT {
            return Err(format!(
                "a text of more than {MOST_TEXT} bytes is not looked through"
            ));
        }
        let (mut made, mut from) = (String::new(), 0);
        for found in self.pattern.captures_iter(text) {
            let Some(whole) = found.get(0) else { continue };
            made.push_str(&text[from..whole.start()]);
            found.expand(&self.with, &mut made);
            from = whole.end();
            if made.len() > MOST_MADE {
                return Err(format!("what comes of it has more than {MOST_MADE} bytes"));
            }
        }
        if made.is_empty() && from == 0 {
            // Nothing was found, or nothing stands in place of nothing.
            return Ok(None);
        }
        made.push_str(&text[from..]);
        Ok(Some(made))
    }
}

/// What is wrong with a pattern, in one line.
fn wrong(error: &regex::Error) -> String {
    let text = error.to_string();
    let last = text.lines().last().unwrap_or_default();
    let last = last.strip_prefix("error: ").unwrap_or(last);
    format!("this is no pattern: {last}")
}

/// The groups that a replacement names.
fn groups(with: &str) -> Vec<&str> {
    let (mut all, mut rest) = (Vec::new(), with);
    while let Some(at) = rest.find('$') {
        rest = &rest[at + 1..];
        if let Some(behind) = rest.strip_prefix('$') {
            rest = behind;
            continue;
        }
        let name = match rest.strip_prefix('{') {
            Some(braced) => braced.split('}').next().unwrap_or_default(),
            None => {
                let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_'));
                &rest[..end.unwrap_or(rest.len())]
            }
        };
        if !name.is_empty() {
            all.push(name);
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_found_is_replaced() {
        for (pattern, with, text, made) in [
            (
                "^http://",
                "https://",
                "http://a/http://",
                Some("https://a/http://"),
            ),
            (
                r"(\d{2})-(?<to>\w+)",
                "$to/${1}",
                "07-FAR 12-MAR",
                Some("FAR/07 MAR/12"),
            ),
            ("x", "$$1", "axb", Some("a$1b")),
            ("", "-", "ab", Some("-a-b-")),
            (".*", "", "abc", Some("")),
            ("z", "y", "abc", None),
            ("é", "e", "né", Some("ne")),
        ] {
            let it = Substitution::new(pattern, with).unwrap();
            assert_eq!(it.apply(text).unwrap().as_deref(), made, "{pattern}");
        }
    }

    #[test]
    fn what_explodes_is_refused() {
        let told = |pattern: &str, with: &str| Substitution::new(pattern, with).unwrap_err();
        assert_eq!(told("(", "").0, "pattern");
        assert!(
            told("(", "")
                .1
                .starts_with("this is no pattern: unclosed group")
        );
        assert!(told(r"(?=a)", "").1.contains("look-around"));
        assert_eq!(told("((a{1,100}){1,100}){1,100}", "").0, "pattern");
        assert_eq!(told("(a)", "$1st"), ("with", "the pattern has no group “1st”; a letter behind it belongs to its name: write ${1}".into()));
        assert_eq!(told("a", "$2").0, "with");
        assert_eq!(told(&"a".repeat(1_001), "").0, "pattern");
        assert_eq!(told("a", &"b".repeat(201)).0, "with");
        // Nested repetitions take no longer than others.
        let nested = Substitution::new("(a*)*b", "").unwrap();
        assert_eq!(nested.apply(&"a".repeat(60_000)).unwrap(), None);
        assert!(nested.apply(&"a".repeat(70_000)).is_err());
        let growing = Substitution::new("a", &"b".repeat(200)).unwrap();
        assert!(growing.apply(&"a".repeat(60_000)).is_err());
        let doubling = Substitution::new("(?s)(.+)", &"$1".repeat(100)).unwrap();
        assert!(doubling.apply(&"a".repeat(60_000)).is_err());
    }
}
