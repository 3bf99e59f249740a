//! Segments that hold several things: `{name}-{version}.zip`.

/// A part of such a segment.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Piece {
    /// Fixed text.
    Text(String),
    /// A variable; it takes at least one character.
    Variable(String),
}

/// Variables and fixed text within one segment.
///
/// OpenAPI does not say how a path is divided among them where it can be in several ways. Here, from left to right, each
/// variable takes as much as it can; two with nothing between them part before the last full stop of what they share, and
/// before its last character (a run of percent-encoded bytes is one) where it has none.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Mixed(Vec<Piece>);

/// One segment has at most so many pieces.
const MAX_PIECES: usize = 32;

impl Mixed {
    /// Reads a segment; `None` where a brace stands alone or a variable has no name.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (mut pieces, mut rest) = (Vec::new(), text);
        while !rest.is_empty() {
            let (fixed, after) = match rest.find(['{', '}']) {
                None => (rest, ""),
                Some(at) => rest.split_at(at),
            };
            if !fixed.is_empty() {
                pieces.push(Piece::Text(fixed.to_owned()));
            }
            rest = after;
            if rest.is_empty() {
                break;
            }
            let (name, after) = rest.strip_prefix('{')?.split_once('}')?;
            if name.is_empty() || name.contains('{') || name.ends_with('*') {
                return None;
            }
            pieces.push(Piece::Variable(name.to_owned()));
            rest = after;
        }
        (pieces.len() <= MAX_PIECES).then_some(Self(pieces))
    }

    /// What it is made of.
    pub fn pieces(&self) -> &[Piece] {
        &self.0
    }

    /// The names of its variables.
    pub fn variables(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|p| match p {
            Piece::Variable(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// Its fixed texts.
    pub(super) fn texts(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|p| match p {
            Piece::Text(text) => Some(text.as_str()),
            Piece::Variable(_) => None,
        })
    }

    /// The same with its texts written otherwise.
    #[must_use]
    pub fn with_texts(&self, of: impl Fn(&str) -> String) -> Self {
        let pieces = self.0.iter().map(|p| match p {
            Piece::Text(text) => Piece::Text(of(text)),
            Piece::Variable(_) => p.clone(),
        });
        Self(pieces.collect())
    }

    /// Whether two are the same but for the names of their variables.
    pub fn is_like(&self, other: &Self) -> bool {
        let same = |(a, b): (&Piece, &Piece)| match (a, b) {
            (Piece::Text(a), Piece::Text(b)) => a == b,
            (Piece::Variable(_), Piece::Variable(_)) => true,
            _ => false,
        };
        self.0.len() == other.0.len() && self.0.iter().zip(&other.0).all(same)
    }

    /// How much of it is fixed, in bytes: what has more is more specific.
    pub fn fixed(&self) -> usize {
        self.texts().map(str::len).sum()
    }

    /// Whether some segment may fit both, as far as their beginnings and ends tell.
    pub fn may_meet(&self, other: &Self) -> bool {
        let ends = |a: Option<&Piece>, b: Option<&Piece>, fit: fn(&str, &str) -> bool| match (a, b)
        {
            (Some(Piece::Text(a)), Some(Piece::Text(b))) => fit(a, b) || fit(b, a),
            _ => true,
        };
        ends(self.0.first(), other.0.first(), |a, b| a.starts_with(b))
            && ends(self.0.last(), other.0.last(), |a, b| a.ends_with(b))
    }

    /// Divides a segment among the variables, from left to right; `None` where it does not fit.
    pub fn divide<'s>(&self, segment: &'s str, mut give: impl FnMut(&'s str)) -> bool {
        let mut found: [&str; MAX_PIECES] = [""; MAX_PIECES];
        let mut count = 0;
        // From the right: the later variables take as little as they can.
        let (mut rest, mut open) = (segment, 0usize);
        for piece in self.0.iter().rev() {
            let text = match piece {
                Piece::Variable(_) => {
                    open += 1;
                    continue;
                }
                Piece::Text(text) => text.as_str(),
            };
            // Each variable to the right has at least a character.
            let at = match open {
                0 if rest.ends_with(text) => rest.len() - text.len(),
                0 => return false,
                _ => match before_last(rest, open).and_then(|room| rest[..room].rfind(text)) {
                    Some(at) => at,
                    None => return false,
                },
            };
            if !shared(&rest[at + text.len()..], open, &mut found, &mut count) {
                return false;
            }
            (rest, open) = (&rest[..at], 0);
        }
        if (open == 0 && !rest.is_empty()) || !shared(rest, open, &mut found, &mut count) {
            return false;
        }
        found[..count].iter().rev().for_each(|value| give(value));
        true
    }
}

/// Where the last so many characters of a text begin.
fn before_last(text: &str, characters: usize) -> Option<usize> {
    text.char_indices()
        .rev()
        .nth(characters - 1)
        .map(|(at, _)| at)
}

/// Where the last character of a text begins; characters that are percent-encoded are not taken apart.
fn last_of(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let mut at = bytes.len();
    while at >= 3 && bytes[at - 3] == b'%' {
        at -= 3;
    }
    if at == bytes.len() {
        return before_last(text, 1);
    }
    Some(at)
}

/// Divides a text among variables with nothing between them, the last first.
fn shared<'s>(text: &'s str, among: usize, into: &mut [&'s str], count: &mut usize) -> bool {
    let mut rest = text;
    for left in (0..among).rev() {
        let at = if left == 0 {
            0
        } else {
            // Room for those to the left.
            let Some((first, _)) = rest.char_indices().nth(left) else {
                return false;
            };
            let stop = rest.rfind('.').filter(|at| *at >= first);
            match stop.or_else(|| last_of(rest)) {
                Some(at) => at,
                None => return false,
            }
        };
        if rest[at..].is_empty() {
            return false;
        }
        into[*count] = &rest[at..];
        *count += 1;
        rest = &rest[..at];
    }
    true
}

impl std::fmt::Display for Mixed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for piece in &self.0 {
            match piece {
                Piece::Text(text) => f.write_str(text)?,
                Piece::Variable(name) => write!(f, "{{{name}}}")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn divided(template: &str, segment: &str) -> Option<String> {
        let mut found = Vec::new();
        let mixed = Mixed::parse(template).unwrap();
        mixed
            .divide(segment, |value| found.push(value))
            .then(|| found.join("|"))
    }

    #[test]
    fn a_segment_is_divided_in_the_one_way_that_is_told() {
        for (template, segment, wanted) in [
            (
                "{name}-{version}.zip",
                "old-button-1.2.zip",
                Some("old-button|1.2"),
            ),
            ("{name}-{version}.zip", "a-b.zip", Some("a|b")),
            ("{name}-{version}.zip", "-b.zip", None),
            ("{name}-{version}.zip", "a-.zip", None),
            ("{name}-{version}.zip", "a-b.tar", None),
            ("{page}{extension}", "map.small.png", Some("map.small|.png")),
            ("{page}{extension}", "map", Some("ma|p")),
            ("{page}{extension}", ".m", Some(".|m")),
            ("{page}{extension}", "m", None),
            ("x{a}", "x", None),
            ("x{a}", "xy", Some("y")),
            ("{a}x", "xxx", Some("xx")),
            ("{a}.{b}.{c}", "1.2.3.4", Some("1.2|3|4")),
            ("{a}{b}{c}", "äöü", Some("ä|ö|ü")),
            ("{a}{b}", "x%C3%A4", Some("x|%C3%A4")),
            ("{a}{b}", "%C3%A4", None),
            ("{a}{b}{c}", "a.b.c", Some("a|.b|.c")),
            ("({a},{b})", "(1,2)", Some("1|2")),
            ("({a},{b})", "(1,2", None),
        ] {
            assert_eq!(
                divided(template, segment).as_deref(),
                wanted,
                "{template} {segment}"
            );
        }
    }

    #[test]
    fn long_segments_take_no_longer_than_they_are() {
        let template = "{a}-".repeat(15) + "{z}";
        let long = "-".repeat(100_000);
        assert!(divided(&template, &long).is_some());
        let none = "x".repeat(100_000);
        assert_eq!(divided(&template, &none), None);
    }
}
