//! Templates that fit the same paths.

use std::collections::BTreeMap;

use porch_contract::{PathTemplate, Segment};

/// At most so many pairs of templates are looked at, and of those that need it so many pairs of segments.
const MAX_PAIRS: usize = 1_000_000;
const MAX_SEGMENTS: usize = 2_000_000;

/// Pairs of templates of which some paths fit both and neither is more specific, the one that wins first; by their places in
/// the list. Which one wins: fixed text stands before a variable, a variable before one of several segments, from left to
/// right.
pub(crate) fn clashes(templates: &[PathTemplate]) -> Vec<(usize, usize)> {
    // Those that begin with different texts have no path in common.
    let mut by_first: BTreeMap<Option<&str>, Vec<usize>> = BTreeMap::new();
    for (i, template) in templates.iter().enumerate() {
        if template.variables().next().is_some() {
            by_first.entry(first(template)).or_default().push(i);
        }
    }
    let open = by_first.remove(&None).unwrap_or_default();
    let mut found = Vec::new();
    let (mut pairs, mut segments) = (MAX_PAIRS, MAX_SEGMENTS);
    let mut groups: Vec<(Vec<usize>, &[usize])> = vec![(open.clone(), &[])];
    groups.extend(by_first.into_values().map(|group| (group, open.as_slice())));
    for (group, others) in groups {
        for (n, a) in group.iter().enumerate() {
            for b in group[n + 1..].iter().chain(others) {
                let Some(fewer) = pairs.checked_sub(1) else {
                    return sorted(found);
                };
                pairs = fewer;
                if stand_apart(&templates[*a].segments, &templates[*b].segments) {
                    continue;
                }
                let cost = templates[*a].segments.len() * templates[*b].segments.len();
                let Some(fewer) = segments.checked_sub(cost) else {
                    return sorted(found);
                };
                segments = fewer;
                if is_unclear(&templates[*a], &templates[*b]) {
                    let wins = wins(&templates[*a], &templates[*b]);
                    found.push(if wins { (*a, *b) } else { (*b, *a) });
                }
            }
        }
    }
    sorted(found)
}

fn sorted(mut found: Vec<(usize, usize)>) -> Vec<(usize, usize)> {
    found.sort_unstable();
    found
}

/// Whether two templates differ in fixed text before either has a variable of several segments, or in length without one: no
/// path fits both. The last segment may have a verb at its end, which is not looked at here.
fn stand_apart(a: &[Segment], b: &[Segment]) -> bool {
    let mut rest = false;
    for (i, (x, y)) in a.iter().zip(b).enumerate() {
        if is_rest(x) || is_rest(y) {
            rest = true;
            break;
        }
        let last = i + 1 == a.len() || i + 1 == b.len();
        if !last && !fit(x, y) {
            return true;
        }
    }
    !rest && a.len() != b.len() && !a.iter().chain(b).any(is_rest)
}

fn first(template: &PathTemplate) -> Option<&str> {
    match template.segments.first() {
        Some(Segment::Literal(text)) => Some(text),
        _ => None,
    }
}

fn is_unclear(a: &PathTemplate, b: &PathTemplate) -> bool {
    let unclear = |a: &PathTemplate, b: &PathTemplate| {
        a.verb == b.verb
            && meet(&a.segments, &b.segments)
            && !covers(&a.segments, &b.segments)
            && !covers(&b.segments, &a.segments)
    };
    unclear(a, b) || (a.verb != b.verb && unclear(&with_verb(a), &with_verb(b)))
}

/// A verb behind fixed text belongs to that text: the template with the two apart.
fn with_verb(template: &PathTemplate) -> PathTemplate {
    let mut apart = template.clone();
    if let (None, Some(Segment::Literal(text))) = (&template.verb, apart.segments.last_mut())
        && let Some((before, verb)) = text.clone().rsplit_once(':')
    {
        before.clone_into(text);
        apart.verb = Some(verb.to_owned());
    }
    apart
}

fn is_rest(segment: &Segment) -> bool {
    matches!(segment, Segment::Rest(_))
}

/// Whether one segment fits both.
fn fit(a: &Segment, b: &Segment) -> bool {
    match (a, b) {
        (Segment::Literal(a), Segment::Literal(b)) => a == b,
        (Segment::Mixed(a), Segment::Mixed(b)) => a.may_meet(b),
        (Segment::Mixed(m), Segment::Literal(t)) | (Segment::Literal(t), Segment::Mixed(m)) => {
            m.divide(t, |_| {})
        }
        _ => true,
    }
}

/// Whether some path fits both.
fn meet(a: &[Segment], b: &[Segment]) -> bool {
    // can[i][j]: what is left of both from there on has a path in common.
    let mut can = vec![vec![false; b.len() + 1]; a.len() + 1];
    can[a.len()][b.len()] = true;
    for i in (0..a.len()).rev() {
        for j in (0..b.len()).rev() {
            let one = fit(&a[i], &b[j]);
            can[i][j] = one
                && (can[i + 1][j + 1]
                    || (is_rest(&a[i]) && can[i][j + 1])
                    || (is_rest(&b[j]) && can[i + 1][j]));
        }
    }
    can[0][0]
}

/// Whether every path of `narrow` fits `wide`.
fn covers(wide: &[Segment], narrow: &[Segment]) -> bool {
    let mut can = vec![vec![false; narrow.len() + 1]; wide.len() + 1];
    can[wide.len()][narrow.len()] = true;
    for i in (0..wide.len()).rev() {
        for j in (0..narrow.len()).rev() {
            can[i][j] = match (&wide[i], &narrow[j]) {
                (Segment::Literal(a), Segment::Literal(b)) => a == b && can[i + 1][j + 1],
                (Segment::Mixed(a), Segment::Mixed(b)) => a.is_like(b) && can[i + 1][j + 1],
                (Segment::Mixed(m), Segment::Literal(t)) => {
                    m.divide(t, |_| {}) && can[i + 1][j + 1]
                }
                (Segment::Literal(_) | Segment::Mixed(_), _)
                | (Segment::Parameter(_), Segment::Rest(_)) => false,
                (Segment::Parameter(_), _) => can[i + 1][j + 1],
                (Segment::Rest(_), _) => can[i + 1][j + 1] || can[i][j + 1],
            };
        }
    }
    can[0][0]
}

fn wins(a: &PathTemplate, b: &PathTemplate) -> bool {
    let rank = |s: &Segment| match s {
        Segment::Literal(_) => 0,
        Segment::Mixed(_) => 1,
        Segment::Parameter(_) => 2,
        Segment::Rest(_) => 3,
    };
    let ranks = |t: &PathTemplate| t.segments.iter().map(rank).collect::<Vec<u8>>();
    let (a, b) = (ranks(a), ranks(b));
    let differs = a.iter().zip(&b).find(|(a, b)| a != b);
    differs.map_or(a.len() >= b.len(), |(a, b)| a < b)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(paths: &[&str]) -> Vec<(usize, usize)> {
        let parsed: Vec<PathTemplate> = paths
            .iter()
            .map(|p| PathTemplate::parse(p).unwrap())
            .collect();
        clashes(&parsed)
    }

    #[test]
    fn only_pairs_of_which_neither_is_more_specific_are_named_the_winner_first() {
        for (paths, wanted) in [
            (&["/a/{x}", "/{y}/b"][..], vec![(0, 1)]),
            (&["/{y}/b", "/a/{x}"], vec![(1, 0)]),
            (&["/a/{x}", "/a/b", "/{y}/{z}"], vec![]),
            (&["/a/{x}", "/b/{x}"], vec![]),
            (&["/{r*}", "/{r*}/raw", "/a/{x}"], vec![(2, 1)]),
            (&["/a/{r*}/x", "/a/b/{r*}"], vec![(1, 0)]),
            (&["/a/{x}:go", "/a/{y}:stop", "/{z}/b:go"], vec![(0, 2)]),
            (&["/a/{x}/c", "/a/b/{y}", "/a/b/c"], vec![(1, 0)]),
        ] {
            assert_eq!(found(paths), wanted, "{paths:?}");
        }
    }

    #[test]
    fn many_templates_are_looked_at_within_a_bound() {
        // Long ones that all meet: each pair costs the product of their lengths.
        let long = |i: usize| {
            let parts = (0..60).map(|n| {
                if (n + i).is_multiple_of(7) {
                    "/a".into()
                } else {
                    format!("/{{v{n}}}")
                }
            });
            parts.collect::<String>()
        };
        let paths: Vec<String> = (0..1500).map(|i| format!("{}/x{i}", long(i))).collect();
        let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
        assert_eq!(found(&paths), vec![]);
        let paths: Vec<String> = (0..1500).map(long).collect();
        let parsed: Vec<PathTemplate> = paths
            .iter()
            .map(|p| PathTemplate::parse(p).unwrap())
            .collect();
        assert!(clashes(&parsed).len() <= MAX_SEGMENTS / (60 * 60));
        let paths: Vec<String> = (0..3000)
            .map(|i| format!("/{{a}}/x{i}/{{b}}/y{i}"))
            .collect();
        let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
        assert_eq!(found(&paths), vec![]);
    }
}
