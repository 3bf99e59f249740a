//! Names for several of a thing.

/// Words that have no other form for several.
const SAME: [&str; 12] = [
    "data",
    "info",
    "information",
    "equipment",
    "history",
    "news",
    "staff",
    "status",
    "weather",
    "series",
    "freight",
    "cargo",
];

/// A word for several of what it names: `berth` becomes `berths`. One that means several already stays as it is; of words
/// with hyphens the last is meant.
///
/// ```
/// assert_eq!(porch_contract::plural("berth"), "berths");
/// assert_eq!(porch_contract::plural("ferry-company"), "ferry-companies");
/// assert_eq!(porch_contract::plural("sailings"), "sailings");
/// ```
pub fn plural(word: &str) -> String {
    let last = word.rsplit('-').next().unwrap_or(word);
    let ends = |ends: &[&str]| ends.iter().any(|e| last.ends_with(e));
    if last.is_empty() || SAME.contains(&last) || !last.is_ascii() {
        return word.to_owned();
    }
    // `address`, `bus` and `basis` are one; other words with an `s` at their end are several.
    if ends(&["ss", "us"]) {
        return format!("{word}es");
    }
    if let Some(stem) = word.strip_suffix("is").filter(|_| last.len() > 4) {
        return format!("{stem}es");
    }
    if ends(&["s"]) {
        return word.to_owned();
    }
    let before = last.chars().rev().nth(1);
    match word.strip_suffix('y') {
        Some(stem) if before.is_some_and(|c| !"aeiou".contains(c)) => format!("{stem}ies"),
        _ if ends(&["x", "z", "ch", "sh"]) => format!("{word}es"),
        _ if last.ends_with(|c: char| c.is_ascii_digit()) => word.to_owned(),
        _ => format!("{word}s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_becomes_several_and_several_stay() {
        for (one, several) in [
            ("fare", "fares"),
            ("box", "boxes"),
            ("batch", "batches"),
            ("address", "addresses"),
            ("bus", "buses"),
            ("analysis", "analyses"),
            ("day", "days"),
            ("key", "keys"),
            ("entry", "entries"),
            ("seat-hold", "seat-holds"),
            ("vessels", "vessels"),
            ("pnr-status", "pnr-status"),
            ("thing7", "thing7"),
            ("", ""),
        ] {
            assert_eq!(plural(one), several);
            assert_eq!(plural(several), several, "{several}");
        }
    }
}
