//! Paths of samples, and what services are called.

use indexmap::IndexMap;

use super::Sample;
use crate::segments::{self, Segment};
use crate::shape::{Keeping, Shape};

/// What a service may be called: by its host, where that has a name, else by the first thing that it offers.
pub(super) fn named(
    origin: &str,
    paths: &IndexMap<(String, Vec<Segment>), Vec<usize>>,
) -> Option<String> {
    let host = origin.split("://").nth(1).unwrap_or_default();
    let host = host.split([':', '.']).next().unwrap_or_default();
    if host != "localhost" && host.starts_with(|c: char| c.is_ascii_alphabetic()) {
        return Some(host.to_owned());
    }
    let mut segments = paths.keys().flat_map(|(_, segments)| segments);
    segments.find_map(|s| match s {
        Segment::Fixed(text) => Some(text.clone()),
        Segment::Variable(_) => None,
    })
}

/// The segments that all paths begin with and that only say where the service is.
pub(super) fn common_prefix<'s>(samples: impl Iterator<Item = &'s Sample<'s>>) -> Vec<String> {
    let mut prefix: Option<Vec<String>> = None;
    for sample in samples {
        let own = &sample.address.segments;
        // Something must be left that is offered.
        let most = own.len().saturating_sub(1);
        let own: Vec<String> = own[..most]
            .iter()
            .take_while(|s| segments::is_prefix(s))
            .cloned()
            .collect();
        prefix = Some(match prefix {
            None => own,
            Some(known) => {
                let same = known.into_iter().zip(own).take_while(|(a, b)| a == b);
                same.map(|(a, _)| a).collect()
            }
        });
    }
    prefix.unwrap_or_default()
}

/// A path as OpenAPI writes it.
pub(super) fn shown(segments: &[Segment]) -> String {
    let all = segments.iter().map(|s| match s {
        Segment::Fixed(text) => format!("/{text}"),
        Segment::Variable(name) => format!("/{{{name}}}"),
    });
    let path: String = all.collect();
    if path.is_empty() { "/".into() } else { path }
}

/// Whether two samples were answered alike: with objects that have most of their members in common.
pub(super) fn alike(a: &Sample<'_>, b: &Sample<'_>) -> bool {
    let names = |s: &Sample<'_>| {
        let (mut shape, mut parts) = (Shape::default(), 2000);
        let mut keeping = Keeping {
            secrets: &[],
            parts: &mut parts,
        };
        if let Some(value) = &s.answer {
            shape.add(value, &mut keeping);
        }
        shape
            .names()
            .into_iter()
            .map(str::to_owned)
            .collect::<Vec<String>>()
    };
    let (a, b) = (names(a), names(b));
    let common = a.iter().filter(|n| b.contains(n)).count();
    common > 0 && 2 * common >= a.len().max(b.len())
}

/// What a status says (RFC 9110 §15).
pub(super) fn described(status: u16) -> String {
    match status {
        200..300 => "What was answered.".into(),
        status => format!("What was answered with {status}."),
    }
}
