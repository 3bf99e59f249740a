//! Elements of plain text, taken in one step where all of them is here.

use super::{MAX_DEPTH, Scanner};
use crate::xml::names::{plain_end, skip_space};

/// A tag that was not taken yet.
pub struct Ahead<'a> {
    bytes: &'a [u8],
    /// Where its name begins, and the local part of it.
    from: usize,
    local: usize,
}

impl Ahead<'_> {
    /// Whether its local name is this, and it has no attributes.
    #[inline]
    pub fn is(&self, local: &str) -> bool {
        let end = self.local + local.len();
        self.bytes.get(end) == Some(&b'>') && self.bytes[self.local..end] == *local.as_bytes()
    }
}

/// Where an end tag of this name ends that begins with the `<` at a place, written without blanks.
#[inline]
fn tag_ends(bytes: &[u8], at: usize, name: &[u8]) -> Option<usize> {
    let end = at + 2 + name.len();
    (bytes.get(end) == Some(&b'>') && bytes[at + 1] == b'/' && bytes[at + 2..end] == *name)
        .then_some(end + 1)
}

impl Scanner {
    /// The text of the element just begun, where it is nothing but text that stands for itself and all of it is here, with
    /// its end tag; the element is closed then. Whatever else it is comes as tokens.
    #[inline]
    pub fn leaf<'a>(&mut self, text: &'a str) -> Option<&'a str> {
        if self.close_pending {
            return None;
        }
        let (bytes, from) = (text.as_bytes(), self.pos);
        let stop = plain_end(bytes, from)?;
        let end = self.ends_at(bytes, stop)?;
        self.pos = end;
        self.close();
        Some(&text[from..stop])
    }

    /// The tag that comes next, if it is all here and has this prefix, with nothing but white space before it; nothing is taken.
    #[inline]
    pub fn ahead<'a>(&self, text: &'a str, prefix: &[u8]) -> Option<Ahead<'a>> {
        if self.close_pending || self.inside.is_some() || self.starts.len() == MAX_DEPTH {
            return None;
        }
        let bytes = text.as_bytes();
        let from = skip_space(bytes, self.pos) + 1;
        let mut local = from;
        if bytes.get(from - 1) != Some(&b'<') || self.starts.is_empty() {
            return None;
        }
        if !prefix.is_empty() {
            local = from + prefix.len() + 1;
            if bytes.get(local - 1) != Some(&b':') || bytes[from..local - 1] != *prefix {
                return None;
            }
        }
        Some(Ahead { bytes, from, local })
    }

    /// Takes the element ahead, whose local name is this, if it holds nothing but text that stands for itself: the text.
    #[inline]
    pub fn take_leaf<'a>(
        &mut self,
        text: &'a str,
        ahead: &Ahead<'_>,
        local: &str,
    ) -> Option<&'a str> {
        let bytes = text.as_bytes();
        let begin = ahead.local + local.len() + 1;
        let name = &bytes[ahead.from..begin - 1];
        let stop = plain_end(bytes, begin)?;
        let end = tag_ends(bytes, stop, name)?;
        self.pos = end;
        Some(&text[begin..stop])
    }

    /// Where the end tag of the open element ends that begins at `at`, written without blanks.
    #[inline]
    pub(super) fn ends_at(&self, bytes: &[u8], at: usize) -> Option<usize> {
        let name = &self.names.as_bytes()[self.starts.last()?.0..];
        tag_ends(bytes, at, name)
    }
}
