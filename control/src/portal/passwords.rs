//! Which passwords people may choose (OWASP ASVS 4.0.3 §2.1: at least 12 characters, none that are common, no rules of characters).

use crate::error::ApiError;

/// What is common among passwords that are long enough, and what such ones are put together from.
const COMMON: &str = include_str!("passwords.txt");

/// A password without white space around it.
///
/// # Errors
/// Where it is too short or too long, common, or what everybody knows of its owner.
pub(super) fn tidy<'p>(password: &'p str, known: &[&str]) -> Result<&'p str, ApiError> {
    let password = password.trim();
    let length = password.chars().count();
    if !(12..=200).contains(&length) || password.chars().any(char::is_control) {
        let title = "A password has 12 to 200 characters";
        return Err(ApiError::new(400, title, "Several words are easy to keep."));
    }
    let plain = password.to_lowercase();
    if is_common(&plain) || known.iter().any(|k| is_of(&plain, &k.to_lowercase())) {
        let title = "This password is easy to guess";
        let help = "Take several words that have nothing to do with you or with each other.";
        return Err(ApiError::new(400, title, help));
    }
    Ok(password)
}

/// Whether it is a common one, a few common parts behind one another, or one thing again and again.
fn is_common(plain: &str) -> bool {
    if COMMON.lines().any(|line| line == plain) {
        return true;
    }
    let chars: Vec<char> = plain.chars().collect();
    let repeats = (1..=4).any(|n| chars.windows(n + 1).all(|w| w[0] == w[n]));
    let steps: Vec<i64> = chars
        .windows(2)
        .map(|w| i64::from(u32::from(w[1])) - i64::from(u32::from(w[0])))
        .collect();
    let runs = steps.iter().filter(|s| s.abs() <= 1).count() * 4 >= steps.len() * 3;
    repeats || runs || is_of_parts(plain)
}

/// Whether nothing is left where common words, digits and marks are taken away.
fn is_of_parts(plain: &str) -> bool {
    let mut rest: String = plain.chars().filter(|c| c.is_alphabetic()).collect();
    // Numbers and marks around it disguise nothing.
    let unmasked: String = plain
        .trim_matches(|c: char| !c.is_alphabetic())
        .chars()
        .map(|c| match c {
            '0' => 'o',
            '1' | '!' => 'i',
            '3' => 'e',
            '4' | '@' => 'a',
            '5' | '$' => 's',
            '7' => 't',
            other => other,
        })
        .filter(|c| c.is_alphabetic())
        .collect();
    let mut words: Vec<&str> = COMMON
        .lines()
        .filter(|l| l.chars().all(char::is_alphabetic))
        .collect();
    words.sort_by_key(|w| std::cmp::Reverse(w.len()));
    let mut unmasked = unmasked;
    // Few of them: three words that are each common are a good password still.
    for _ in 0..2 {
        for text in [&mut rest, &mut unmasked] {
            let found = words.iter().find_map(|w| Some((text.find(w)?, w.len())));
            if let Some((at, length)) = found {
                text.replace_range(at..at + length, "");
            }
        }
    }
    rest.chars().count() <= 2 || unmasked.chars().count() <= 2
}

/// Whether it is little more than something that is known.
fn is_of(plain: &str, known: &str) -> bool {
    let name = known.split('@').next().unwrap_or(known);
    let parts = [known, name];
    parts.iter().any(|part| {
        part.chars().count() >= 4
            && plain.contains(part)
            && plain.chars().count() < part.chars().count() + 6
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_many_choose_is_refused_and_what_nobody_else_does_is_taken() {
        for bad in [
            "password1234",
            "Password123!",
            "p@ssw0rd1234",
            "123456789012",
            "qwertyuiop12",
            "aaaaaaaaaaaa",
            "abcabcabcabc",
            "abcdefghijkl",
            "iloveyou2026",
            "welcome12345",
            "letmein99999",
            "short",
            "nils.b-2026!!",
        ] {
            assert!(tidy(bad, &["nils.b-2026@example.org"]).is_err(), "{bad}");
        }
        for good in [
            "harbour fog lantern",
            "crate 17 goes to Tern Rock",
            "xK9-vq2_Lm-8dR",
            "åse liker blå båter",
        ] {
            assert!(tidy(good, &["nils@example.org", "Nils"]).is_ok(), "{good}");
        }
        assert_eq!(
            tidy("  harbour fog lantern ", &[]).unwrap(),
            "harbour fog lantern"
        );
    }
}
