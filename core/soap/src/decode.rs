//! Character encodings of XML documents (XML 1.0 §4.3.3 and appendix F): UTF-8, UTF-16, ISO-8859-1 and their kin.

use std::borrow::Cow;

use encoding_rs::{CoderResult, Encoding, UTF_8, UTF_16BE, UTF_16LE};

/// Bytes that are not in the encoding that the document has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("it is not {0}")]
pub struct NotEncoded(
    /// The name of the encoding.
    pub &'static str,
);

/// What most documents are in.
const NO_UTF_8: NotEncoded = NotEncoded("UTF-8");

/// Turns the pieces of a document into text.
pub(crate) struct Decoder {
    /// The encoding, once it is known; with a converter unless it is UTF-8.
    state: State,
    waiting: Vec<u8>,
    named: Option<&'static Encoding>,
}

enum State {
    Unknown,
    Utf8,
    Other(Box<encoding_rs::Decoder>, &'static Encoding),
}

/// The encoding of a document whose first bytes are these; `None` while they are too few.
fn detect(start: &[u8], last: bool, named: Option<&'static Encoding>) -> Option<&'static Encoding> {
    if let Some((encoding, _)) = Encoding::for_bom(start) {
        return Some(encoding);
    }
    match start {
        [b'<', 0, ..] => return Some(UTF_16LE),
        [0, b'<', ..] => return Some(UTF_16BE),
        [] | [_] | [_, _] if !last => return None,
        _ => {}
    }
    if named.is_some() {
        return named;
    }
    if !start.starts_with(b"<?xml") {
        return (last || !b"<?xml".starts_with(start)).then_some(UTF_8);
    }
    let Some(end) = start.windows(2).position(|w| w == b"?>") else {
        return (last || start.len() > 512).then_some(UTF_8);
    };
    let declaration = String::from_utf8_lossy(&start[..end]);
    let label = declaration.split_once("encoding").and_then(|(_, rest)| {
        let rest = rest.trim_start().strip_prefix('=')?.trim_start();
        let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
        rest[1..].split(quote).next().map(str::to_owned)
    });
    // A document that could be read so far cannot be of sixteen bits, whatever it says.
    label
        .and_then(|l| Encoding::for_label(l.as_bytes()))
        .filter(|e| *e != UTF_16LE && *e != UTF_16BE)
        .or(Some(UTF_8))
}

impl Decoder {
    /// A decoder; `charset` is what the media type says.
    pub(crate) fn new(charset: Option<&str>) -> Self {
        let named = charset.and_then(|c| match c {
            "utf-8" | "UTF-8" => Some(UTF_8),
            other => Encoding::for_label(other.trim_matches('"').as_bytes()),
        });
        Self {
            state: State::Unknown,
            waiting: Vec::new(),
            named,
        }
    }

    /// The text of the next piece; the beginning of a character is kept for the next one.
    ///
    /// # Errors
    /// When the bytes are not in their encoding.
    pub(crate) fn decode<'b>(
        &mut self,
        bytes: &'b [u8],
        last: bool,
    ) -> Result<Cow<'b, str>, NotEncoded> {
        if matches!(self.state, State::Unknown) {
            if self.waiting.is_empty()
                && bytes.starts_with(b"<")
                && !bytes.starts_with(b"<?xml")
                && bytes.len() > 8
                && bytes[1] != 0
                && self.named.is_none_or(|n| n == UTF_8)
            {
                self.state = State::Utf8;
            } else {
                self.waiting.extend_from_slice(bytes);
                let Some(encoding) = detect(&self.waiting, last, self.named) else {
                    return Ok(Cow::Borrowed(""));
                };
                self.state = if encoding == UTF_8 {
                    State::Utf8
                } else {
                    State::Other(Box::new(encoding.new_decoder_with_bom_removal()), encoding)
                };
                let all = std::mem::take(&mut self.waiting);
                return self.known(&all, last).map(|t| Cow::Owned(t.into_owned()));
            }
        }
        self.known(bytes, last)
    }

    fn known<'b>(&mut self, bytes: &'b [u8], last: bool) -> Result<Cow<'b, str>, NotEncoded> {
        match &mut self.state {
            State::Other(decoder, encoding) => {
                let mut text = String::with_capacity(
                    decoder
                        .max_utf8_buffer_length(bytes.len())
                        .unwrap_or(bytes.len() * 3),
                );
                let (result, _, wrong) = decoder.decode_to_string(bytes, &mut text, last);
                if wrong || result == CoderResult::OutputFull {
                    return Err(NotEncoded(encoding.name()));
                }
                Ok(Cow::Owned(text))
            }
            _ => {
                let all = if self.waiting.is_empty() {
                    Cow::Borrowed(bytes)
                } else {
                    let mut all = std::mem::take(&mut self.waiting);
                    all.extend_from_slice(bytes);
                    Cow::Owned(all)
                };
                let valid = match std::str::from_utf8(&all) {
                    Ok(_) => all.len(),
                    Err(e) if e.error_len().is_none() && !last => e.valid_up_to(),
                    Err(_) => return Err(NO_UTF_8),
                };
                self.waiting = all[valid..].to_vec();
                match all {
                    Cow::Borrowed(bytes) => std::str::from_utf8(&bytes[..valid]).map(Cow::Borrowed),
                    Cow::Owned(mut bytes) => {
                        bytes.truncate(valid);
                        return String::from_utf8(bytes)
                            .map(Cow::Owned)
                            .map_err(|_| NO_UTF_8);
                    }
                }
                .map_err(|_| NO_UTF_8)
            }
        }
    }
}

/// The text of a whole document, its encoding found as XML 1.0 appendix F says.
///
/// # Errors
/// When the bytes are not in their encoding.
pub fn decode_document(bytes: &[u8], charset: Option<&str>) -> Result<String, NotEncoded> {
    let text = Decoder::new(charset)
        .decode(bytes, true)
        .map(Cow::into_owned)?;
    Ok(text
        .strip_prefix('\u{feff}')
        .map(str::to_owned)
        .unwrap_or(text))
}
