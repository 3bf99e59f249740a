//! Regular expressions of others.

use regex::RegexBuilder;

/// Whether a text may be a regular expression of ECMA-262: it is one that can be carried out here, or has something that only
/// engines without a bound know (looking around, going back).
pub(crate) fn is_sound(text: &str) -> bool {
    const LARGE: usize = 1 << 20;
    let made = RegexBuilder::new(text).size_limit(LARGE).build();
    match made {
        Ok(_) | Err(regex::Error::CompiledTooBig(_)) => true,
        Err(_) => {
            let known = [
                "(?=", "(?!", "(?<=", "(?<!", "(?<", "\\1", "\\2", "\\u", "\\c", "\\/", "\\-",
                "\\_", "\\p{",
            ];
            known.iter().any(|k| text.contains(k)) && balanced(text)
        }
    }
}

/// Whether brackets and parentheses have their ends.
fn balanced(text: &str) -> bool {
    let (mut round, mut class, mut chars) = (0usize, false, text.chars());
    while let Some(c) = chars.next() {
        match (c, class) {
            ('\\', _) if chars.next().is_none() => return false,
            ('[', false) => class = true,
            (']', true) => class = false,
            ('(', false) => round += 1,
            (')', false) => match round.checked_sub(1) {
                Some(less) => round = less,
                None => return false,
            },
            _ => {}
        }
    }
    round == 0 && !class
}

#[cfg(test)]
mod tests {
    use super::is_sound;

    #[test]
    fn what_could_be_a_pattern_is_told_from_what_could_not() {
        for sound in [
            "^[A-Z]{3}$",
            "(?=a)b",
            r"^\/a\-b$",
            r"\u0041",
            r"(a)\1",
            r"\p{Lu}",
        ] {
            assert!(is_sound(sound), "{sound}");
        }
        for broken in ["(", "[a", "a{2,1}", "*", "(?=", r"\u(", "+"] {
            assert!(!is_sound(broken), "{broken}");
        }
    }
}
