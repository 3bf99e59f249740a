//! The "did you mean" of every message.

/// The candidate nearest to `word`, if one is near enough to be what was meant.
///
/// Nearness is the number of single-character edits and swaps of neighbours, without regard to
/// case; at most a third of the word's length may differ.
pub fn suggest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (word.chars().count() / 3).clamp(1, 4);
    let lower = word.to_lowercase();
    candidates
        .into_iter()
        .map(|c| (distance(&lower, &c.to_lowercase()), c))
        .filter(|(d, _)| *d <= limit)
        .min_by_key(|(d, _)| *d)
        .map(|(_, c)| c)
}

/// Optimal string alignment distance.
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let same = usize::from(a[i - 1] != b[j - 1]);
            row[j] = (rows[i - 1][j] + 1)
                .min(row[j - 1] + 1)
                .min(rows[i - 1][j - 1] + same);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                row[j] = row[j].min(rows[i - 2][j - 2] + 1);
            }
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
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
    }
}
