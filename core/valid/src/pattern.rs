//! Patterns of ECMA-262 on an engine whose time grows with the text alone.

use regex::{Regex, RegexBuilder};

/// A pattern may take so much memory when it is compiled.
const LARGE: usize = 1 << 20;

/// The pattern in the engine's own words.
///
/// # Errors
/// Why there is none: looking around, going back, or too many repetitions.
pub(crate) fn compile(pattern: &str) -> Result<Regex, &'static str> {
    let own = translated(pattern);
    let made = RegexBuilder::new(&own).size_limit(LARGE).build();
    made.map_err(|e| match e {
        regex::Error::CompiledTooBig(_) => "repeats too much",
        _ => "has what no engine carries out in bounded time",
    })
}

/// Classes of ECMA-262 are those of ASCII, and anything may be escaped that is no letter.
fn translated(pattern: &str) -> String {
    let mut out = String::with_capacity(pattern.len() + 8);
    let mut chars = pattern.chars().peekable();
    let mut class = false;
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next() {
                Some('d') => out.push_str(if class { "0-9" } else { "[0-9]" }),
                Some('D') => out.push_str("[^0-9]"),
                Some('w') => out.push_str(if class { "A-Za-z0-9_" } else { "[A-Za-z0-9_]" }),
                Some('W') => out.push_str("[^A-Za-z0-9_]"),
                Some('c') => match chars.next() {
                    Some(letter) => out.push_str(&format!("\\x{:02X}", (letter as u32) & 31)),
                    None => out.push_str("\\c"),
                },
                Some(other) if other.is_ascii_alphanumeric() => {
                    out.push('\\');
                    out.push(other);
                }
                Some(other) => {
                    if !other.is_ascii_punctuation() || "/\"'`@%!,;:<>=_ ".contains(other) {
                        out.push(other);
                    } else {
                        out.push('\\');
                        out.push(other);
                    }
                }
                None => out.push('\\'),
            },
            '[' if class => out.push_str("\\["),
            '[' => {
                class = true;
                out.push('[');
                if chars.peek() == Some(&'^') {
                    chars.next();
                    out.push('^');
                }
                if chars.peek() == Some(&']') {
                    chars.next();
                    // Nothing at all, or anything at all.
                    class = false;
                    let any = out.ends_with('^');
                    out.truncate(out.len() - 1 - usize::from(any));
                    out.push_str(if any { "[\\s\\S]" } else { "[^\\s\\S]" });
                }
            }
            ']' if class => {
                class = false;
                out.push(']');
            }
            '&' | '~' if class => {
                out.push('\\');
                out.push(c);
            }
            '-' if class && out.ends_with('-') && !out.ends_with("\\-") => out.push_str("\\-"),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::compile;

    #[test]
    fn patterns_mean_what_ecma_262_says() {
        for (pattern, fits, does_not) in [
            (r"^\d+$", "12", "१२"),
            (r"^\w$", "a", "ä"),
            (r"^[\d\-]+$", "1-2", "a"),
            (r"^\/a\_b\@$", "/a_b@", "x"),
            (r"^[a&&b]+$", "&", "c"),
            (r"^[[]$", "[", "]"),
            (r"^\cA$", "\u{1}", "A"),
            (r"^[^]$", "x", ""),
            (r"^\u0041\x42$", "AB", "ab"),
            (r"^\p{Lu}$", "Ä", "ä"),
            (r"^[+--]$", ",", "*"),
        ] {
            let made = compile(pattern).unwrap_or_else(|e| panic!("{pattern} {e}"));
            assert!(made.is_match(fits) && !made.is_match(does_not), "{pattern}");
        }
        assert!(compile("[]").is_ok_and(|p| !p.is_match("x")));
        for none in ["(?=a)", r"(a)\1", "("] {
            assert!(compile(none).is_err(), "{none}");
        }
    }
}
