//! The "did you mean" of every message.

/// Words longer than this are no slip of the pen.
const MAX_WORD: usize = 64;
/// Among so many candidates at most is searched.
const MAX_CANDIDATES: usize = 2_000;

/// The candidate nearest to `word`, if one is near enough to be what was meant.
///
/// Nearness is the number of single-character edits and swaps of neighbours, without regard to
/// case; at most a third of the word's length may differ, and
/// never all of it. Long words and candidates are passed over, so that the work is
/// bounded whatever was sent.
pub fn suggest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.len() > MAX_WORD * 4 || word.chars().count() > MAX_WORD {
        return None;
    }
    let length = word.chars().count();
    // Of a single letter nothing would be left.
    let limit = (length / 3).clamp(1, 4).min(length.saturating_sub(1));
    let lower: Vec<char> = word.to_lowercase().chars().collect();
    candidates
        .into_iter()
        .take(MAX_CANDIDATES)
        .filter(|c| c.len() <= (lower.len() + limit) * 4)
        .filter_map(|c| {
            let other: Vec<char> = c.to_lowercase().chars().collect();
            (other.len().abs_diff(lower.len()) <= limit).then(|| (distance(&lower, &other), c))
        })
        .filter(|(d, _)| *d <= limit)
        .min_by_key(|(d, _)| *d)
        .map(|(_, c)| c)
}

/// Optimal string alignment distance; three rows of the matrix are enough.
fn distance(a: &[char], b: &[char]) -> usize {
    let mut before: Vec<usize> = Vec::new();
    let mut last: Vec<usize> = (0..=b.len()).collect();
    for i in 1..=a.len() {
        let mut row = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let differs = usize::from(a[i - 1] != b[j - 1]);
            row[j] = (last[j] + 1).min(row[j - 1] + 1).min(last[j - 1] + differs);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                row[j] = row[j].min(before[j - 2] + 1);
            }
        }
        before = std::mem::replace(&mut last, row);
    }
    last[b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nearest_wins_and_strangers_are_left_alone() {
        let fields = ["RouteCode", "FareClass", "Passengers"];
        assert_eq!(suggest("RuoteCode", fields), Some("RouteCode"));
        assert_eq!(suggest("passenger", fields), Some("Passengers"));
        assert_eq!(suggest("Harbour", fields), None);
        assert_eq!(suggest("a", ["b", "c"]), None, "single letters");
        assert_eq!(suggest("a", ["b", "A"]), Some("A"));
        assert_eq!(suggest("ab", ["ac"]), Some("ac"));
    }

    #[test]
    fn long_words_and_many_candidates_cost_little() {
        let long = "x".repeat(1 << 20);
        assert_eq!(suggest(&long, ["x"]), None);
        assert_eq!(suggest("RouteCode", [long.as_str()]), None);
        let mut asked = 0;
        let endless = std::iter::repeat("Passengers").inspect(|_| asked += 1);
        assert_eq!(suggest("Pasengers", endless), Some("Passengers"));
        assert_eq!(asked, MAX_CANDIDATES);
    }
}
