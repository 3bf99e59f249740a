//! Masks: secrets do not stand in what is kept or shown, in whatever way they are written there.

use std::borrow::Cow;

/// What stands in the place of a secret.
pub const MASK: &str = "••••";
/// An empty text is no secret.
const SHORTEST: usize = 1;

/// All spellings of some secrets: as they are, and as XML, JSON, URIs and forms write them.
#[derive(Clone, Default)]
pub struct Mask {
    /// The longest first, so that no part of one is left over by another.
    spellings: Vec<String>,
}

impl std::fmt::Debug for Mask {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Mask({})", self.spellings.len())
    }
}

impl Mask {
    /// A mask for these secrets.
    pub fn of<'s>(secrets: impl IntoIterator<Item = &'s str>) -> Self {
        let mut spellings = Vec::new();
        for secret in secrets.into_iter().filter(|s| s.len() >= SHORTEST) {
            spellings.extend(spellings_of(secret));
        }
        Self::in_order(spellings)
    }

    fn in_order(mut spellings: Vec<String>) -> Self {
        spellings.sort_by(|a, b| b.len().cmp(&a.len()).then_with(|| a.cmp(b)));
        spellings.dedup();
        Self { spellings }
    }

    /// A mask for the secrets of both.
    pub fn with(&self, other: &Self) -> Self {
        let both = self.spellings.iter().chain(&other.spellings);
        Self::in_order(both.cloned().collect())
    }

    /// The text without secrets.
    pub fn text(&self, text: &mut String) {
        for spelling in &self.spellings {
            if text.contains(spelling.as_str()) {
                *text = text.replace(spelling.as_str(), MASK);
            }
        }
    }

    /// The beginning of a text that was cut off: a secret that the cut goes through does not show its first part either.
    pub fn cut_text(&self, text: &mut String) {
        self.text(text);
        let longest = self
            .spellings
            .iter()
            .flat_map(|s| s.char_indices().skip(1).map(move |(i, _)| &s[..i]))
            .filter(|beginning| text.ends_with(beginning))
            .map(str::len)
            .max();
        if let Some(longest) = longest {
            text.truncate(text.len() - longest);
            text.push_str(MASK);
        }
    }

    /// The bytes without secrets.
    pub fn bytes<'b>(&self, bytes: &'b [u8]) -> Cow<'b, [u8]> {
        let mut found = Cow::Borrowed(bytes);
        for spelling in &self.spellings {
            if let Some(without) = replaced(&found, spelling.as_bytes()) {
                found = Cow::Owned(without);
            }
        }
        found
    }

    /// Whether there is nothing to mask.
    pub fn is_empty(&self) -> bool {
        self.spellings.is_empty()
    }
}

fn replaced(bytes: &[u8], what: &[u8]) -> Option<Vec<u8>> {
    let mut out: Option<Vec<u8>> = None;
    let (mut from, mut at) = (0, 0);
    while let Some(first) = bytes.get(at..)?.iter().position(|b| *b == what[0]) {
        at += first;
        if bytes[at..].starts_with(what) {
            let out = out.get_or_insert_with(|| Vec::with_capacity(bytes.len()));
            out.extend_from_slice(&bytes[from..at]);
            out.extend_from_slice(MASK.as_bytes());
            at += what.len();
            from = at;
        } else {
            at += 1;
        }
    }
    out.map(|mut out| {
        out.extend_from_slice(&bytes[from..]);
        out
    })
}

fn spellings_of(secret: &str) -> Vec<String> {
    let mut xml = Vec::new();
    let _ = porch_soap::xml::escape_text(&mut xml, secret);
    let xml = String::from_utf8_lossy(&xml).into_owned();
    let json = serde_json::Value::from(secret).to_string();
    let json = json.trim_matches('"').to_owned();
    let percent = |space: &str, lower: bool| -> String {
        let mut out = String::new();
        for byte in secret.bytes() {
            match byte {
                b' ' => out.push_str(space),
                b if b.is_ascii_alphanumeric() || b"-._~".contains(&b) => out.push(b as char),
                b if lower => out.push_str(&format!("%{b:02x}")),
                b => out.push_str(&format!("%{b:02X}")),
            }
        }
        out
    };
    vec![
        xml.replace('"', "&quot;"),
        xml.replace('\'', "&apos;"),
        xml,
        json.replace('/', "\\/"),
        json,
        percent("%20", false),
        percent("%20", true),
        percent("+", false),
        porch_soap::to_base64(secret.as_bytes()),
        secret.to_owned(),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_masked_in_every_spelling() {
        let mask = Mask::of(["tide & \"tackle\"/7"]);
        for written in [
            "tide & \"tackle\"/7",
            "tide &amp; \"tackle\"/7",
            "tide &amp; &quot;tackle&quot;/7",
            "tide & \\\"tackle\\\"/7",
            "tide & \\\"tackle\\\"\\/7",
            "tide%20%26%20%22tackle%22%2F7",
            "tide%20%26%20%22tackle%22%2f7",
            "tide+%26+%22tackle%22%2F7",
            "dGlkZSAmICJ0YWNrbGUiLzc=",
        ] {
            let mut text = format!("<a>{written}</a>{written}");
            mask.text(&mut text);
            assert_eq!(text, "<a>••••</a>••••", "{written}");
            let bytes = [b"\xff", written.as_bytes(), written.as_bytes(), b"\xff"].concat();
            let masked = [b"\xff", "••••••••".as_bytes(), b"\xff"].concat();
            assert_eq!(mask.bytes(&bytes), masked, "{written}");
        }
        assert_eq!(mask.bytes(b"tide"), b"tide".as_slice());
    }

    #[test]
    fn a_secret_within_another_leaves_nothing_over() {
        let mut text = "harbour-master harbour".to_owned();
        Mask::of(["harbour", "harbour-master"]).text(&mut text);
        assert_eq!(text, "•••• ••••");
    }

    #[test]
    fn a_cut_secret_does_not_show_its_beginning() {
        let mut text = "name: tide &amp; ta".to_owned();
        Mask::of(["tide & tackle"]).cut_text(&mut text);
        assert_eq!(text, "name: ••••");
    }
}
