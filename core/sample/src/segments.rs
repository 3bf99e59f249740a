//! Paths of samples: which of their segments are values, and what these are called.

use indexmap::IndexMap;

/// A segment of a path.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Segment {
    /// The same in every request.
    Fixed(String),
    /// A variable by its name.
    Variable(String),
}

/// Segments that services have before what they offer.
const PREFIXES: [&str; 4] = ["api", "rest", "services", "service"];

/// Whether a segment only says where or in which version a service is.
pub(crate) fn is_prefix(segment: &str) -> bool {
    let lower = segment.to_ascii_lowercase();
    PREFIXES.contains(&lower.as_str()) || is_version(&lower)
}

fn is_version(text: &str) -> bool {
    let rest = text.strip_prefix('v').unwrap_or_default();
    !rest.is_empty() && rest.len() < 8 && rest.bytes().all(|b| b.is_ascii_digit() || b == b'.')
}

/// Whether a segment looks like a value: a number, an id, a date, a code in capitals.
pub(crate) fn is_value(text: &str) -> bool {
    let has = |is: fn(char) -> bool| text.chars().any(is);
    let digits = has(|c| c.is_ascii_digit());
    if text.is_empty() || is_version(&text.to_ascii_lowercase()) {
        return false;
    }
    let capitals = has(|c| c.is_ascii_uppercase()) && !has(|c| c.is_ascii_lowercase());
    let formats = ["uuid", "date", "date-time", "email"];
    let hex = text.len() >= 8 && digits && text.chars().all(|c| c.is_ascii_hexdigit());
    formats.iter().any(|f| porch_valid::is_of_format(f, text))
        || text.chars().all(|c| c.is_ascii_digit())
        || hex
        // `FAR-MAR`, `N7`: a code.
        || (capitals && text.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c)))
        || (digits && text.len() >= 6 && has(|c| c.is_ascii_alphabetic()) && !text.contains('.'))
}

/// A path with variables for the segments that look like values; one that is written `{name}` is one already.
pub(crate) fn template(segments: &[String]) -> Vec<Segment> {
    let mut taken: Vec<String> = Vec::new();
    let mut before: Option<&str> = None;
    let mut all = Vec::new();
    for segment in segments {
        let written = segment.strip_prefix('{').and_then(|s| s.strip_suffix('}'));
        let name = match written {
            Some(name) => Some(name.to_owned()),
            None => is_value(segment).then(|| named(before)),
        };
        all.push(match name {
            None => Segment::Fixed(segment.clone()),
            Some(name) => {
                let mut free = name.clone();
                let mut n = 1;
                while taken.contains(&free) {
                    n += 1;
                    free = format!("{name}{n}");
                }
                taken.push(free.clone());
                Segment::Variable(free)
            }
        });
        before = Some(segment);
    }
    all
}

/// What a variable is called: by the segment before it, where that means several of something.
fn named(before: Option<&str>) -> String {
    let id = || "id".to_owned();
    let Some(before) = before.filter(|b| !is_value(b) && !b.starts_with('{')) else {
        return id();
    };
    let word: String = before
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .collect();
    let one = match &word {
        w if w.ends_with("ies") => format!("{}y", &w[..w.len() - 3]),
        w if w.ends_with("sses") || w.ends_with("xes") || w.ends_with("ches") => {
            w[..w.len() - 2].to_owned()
        }
        w if w.ends_with('s') && !w.ends_with("ss") => w[..w.len() - 1].to_owned(),
        _ => return id(),
    };
    camel(&one)
}

/// Words with hyphens as one name: `seat-hold` becomes `seatHold`.
fn camel(text: &str) -> String {
    let mut out = String::new();
    for (i, word) in text.split('-').filter(|w| !w.is_empty()).enumerate() {
        let mut letters = word.chars();
        match letters.next() {
            Some(first) if i > 0 => out.extend(first.to_uppercase()),
            Some(first) => out.extend(first.to_lowercase()),
            None => {}
        }
        out.push_str(letters.as_str());
    }
    match out.starts_with(|c: char| c.is_ascii_alphabetic()) {
        true => out,
        false => "id".into(),
    }
}

/// Paths that differ in one segment alone, behind the same beginning, are one path with a variable there: whoever calls
/// `/ports/skerry` and `/ports/farholm` asks for two of a kind. The answers must be alike.
pub(crate) fn merge(
    paths: &mut IndexMap<(String, Vec<Segment>), Vec<usize>>,
    alike: &dyn Fn(usize, usize) -> bool,
) {
    loop {
        let found = pair(paths, alike);
        let Some((one, other, at)) = found else {
            return;
        };
        let Some((_, more)) = paths.shift_remove_index(other) else {
            return;
        };
        let Some(((method, mut segments), mut own)) = paths.shift_remove_index(one) else {
            return;
        };
        let before = match at.checked_sub(1).and_then(|b| segments.get(b)) {
            Some(Segment::Fixed(text)) => Some(text.as_str()),
            _ => None,
        };
        let name = named(before);
        let taken = |n: &str| segments.contains(&Segment::Variable(n.to_owned()));
        let free = std::iter::once(name.clone()).chain((2..).map(|n| format!("{name}{n}")));
        let free = free.into_iter().find(|n| !taken(n)).unwrap_or(name);
        segments[at] = Segment::Variable(free);
        own.extend(more);
        paths.entry((method, segments)).or_default().extend(own);
    }
}

/// Two paths that are one, and the segment in which they differ.
fn pair(
    paths: &IndexMap<(String, Vec<Segment>), Vec<usize>>,
    alike: &dyn Fn(usize, usize) -> bool,
) -> Option<(usize, usize, usize)> {
    for (i, ((method, a), of_a)) in paths.iter().enumerate() {
        for (j, ((other, b), of_b)) in paths.iter().enumerate().skip(i + 1) {
            if method != other || a.len() != b.len() {
                continue;
            }
            let mut differing = (0..a.len()).filter(|at| a[*at] != b[*at]);
            let (Some(at), None) = (differing.next(), differing.next()) else {
                continue;
            };
            // What stands first names what is offered.
            let fixed = matches!(at.checked_sub(1).map(|x| &a[x]), Some(Segment::Fixed(_)));
            let (Some(x), Some(y)) = (of_a.first(), of_b.first()) else {
                continue;
            };
            if fixed && alike(*x, *y) {
                return Some((i, j, at));
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(path: &str) -> String {
        let segments: Vec<String> = path.split('/').map(str::to_owned).collect();
        let shown = template(&segments).into_iter().map(|s| match s {
            Segment::Fixed(text) => text,
            Segment::Variable(name) => format!("{{{name}}}"),
        });
        shown.collect::<Vec<_>>().join("/")
    }

    #[test]
    fn segments_that_look_like_values_become_variables() {
        for (path, told) in [
            ("vessels/7", "vessels/{vessel}"),
            (
                "ferry-companies/5f0c3c1e-8a52-4d43-9f3a-2b6f0f2f7d11/x",
                "ferry-companies/{ferryCompany}/x",
            ),
            ("fares/FAR-MAR/cabin", "fares/{fare}/cabin"),
            ("2027-05-14/3/4", "{id}/{id2}/{id3}"),
            ("v2/berths/N7", "v2/berths/{berth}"),
            ("berths/{quay}/9", "berths/{quay}/{id}"),
            ("chart.svg", "chart.svg"),
            ("tides/next", "tides/next"),
        ] {
            assert_eq!(shown(path), told);
        }
    }
}
