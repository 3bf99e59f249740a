//! The languages that a caller likes (RFC 9110 §12.5.4).

use http::{HeaderMap, header};

/// At most so many ranges of a request are looked at.
const MOST: usize = 32;

/// The language ranges of a request, the best first, without those that are not wanted.
pub(crate) fn ranges(headers: &HeaderMap) -> Vec<&str> {
    let fields = headers.get_all(header::ACCEPT_LANGUAGE).into_iter();
    let all = fields.filter_map(|v| v.to_str().ok());
    let all = all.flat_map(|v| v.split(',')).take(MOST);
    let mut ranges: Vec<(&str, f32)> = all
        .filter_map(|range| {
            let (tag, rest) = range.split_once(';').unwrap_or((range, ""));
            let quality = rest.trim().strip_prefix("q=");
            let quality = quality.map_or(Some(1.0), |q| q.parse().ok())?;
            (quality > 0.0 && !tag.trim().is_empty()).then_some((tag.trim(), quality))
        })
        .collect();
    ranges.sort_by(|a, b| b.1.total_cmp(&a.1));
    ranges.into_iter().map(|(tag, _)| tag).collect()
}

/// The first of some languages that a range means: by lookup (RFC 4647 §3.4: `nn-NO` finds `nn`), else by what begins so
/// (§3.3.1: `nn` finds `nn-NO`).
pub(crate) fn choose<'l, T>(
    ranges: &[&str],
    all: &'l [T],
    tag: impl Fn(&'l T) -> &'l str,
) -> Option<&'l T> {
    let begins = |language: &str, range: &str| {
        language
            .get(..range.len())
            .is_some_and(|l| l.eq_ignore_ascii_case(range))
            && language
                .as_bytes()
                .get(range.len())
                .is_none_or(|b| *b == b'-')
    };
    let by_range = |range: &str| {
        let mut shorter = Some(range);
        while let Some(now) = shorter {
            if let Some(found) = all.iter().find(|l| tag(l).eq_ignore_ascii_case(now)) {
                return Some(found);
            }
            shorter = now.rsplit_once('-').map(|(before, _)| before);
        }
        all.iter().find(|l| begins(tag(l), range))
    };
    ranges.iter().find_map(|range| by_range(range))
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::HeaderValue;

    #[test]
    fn the_best_language_that_is_there_is_found() {
        let all = ["en-GB", "nn", "fo"];
        for (asked, found) in [
            ("nn", Some("nn")),
            ("nn-NO-x-skerry", Some("nn")),
            ("en", Some("en-GB")),
            ("en-US", None),
            ("e", None),
            ("fo;q=0.5, NN;q=0.8", Some("nn")),
            ("nn;q=0, fo;q=0.1", Some("fo")),
            ("de, fo;q=nonsense, en-gb;q=0.2", Some("en-GB")),
            ("*, ,;q=1", None),
            ("", None),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(
                header::ACCEPT_LANGUAGE,
                HeaderValue::from_str(asked).unwrap(),
            );
            let ranges = ranges(&headers);
            let chosen = choose(&ranges, &all, |l| l).copied();
            assert_eq!(chosen, found, "{asked}");
        }
    }

    #[test]
    fn endless_lists_are_cut_short() {
        let mut headers = HeaderMap::new();
        let long = vec!["a-b-c-d"; 10_000].join(",");
        headers.insert(
            header::ACCEPT_LANGUAGE,
            HeaderValue::from_str(&long).unwrap(),
        );
        assert_eq!(ranges(&headers).len(), MOST);
    }
}
