//! Answers of several parts: `multipart/related` (RFC 2387), as MTOM/XOP and SOAP with attachments use it.

use std::collections::HashMap;

use memchr::memmem;

/// Why an answer of several parts cannot be taken apart.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RelatedError {
    /// RFC 2046 §5.1.1 demands the parameter.
    #[error("its media type names no boundary")]
    NoBoundary,
    /// The boundary never comes.
    #[error("it has no part: the boundary “{0}” does not occur")]
    NoPart(String),
    /// More than are read.
    #[error("it has more than {MAX_PARTS} parts")]
    TooMany,
    /// None is the one that `start` names, or there is none at all (RFC 2387 §3.2).
    #[error("none of its parts is the envelope")]
    NoRoot,
    /// No empty line behind a part's fields.
    #[error("a part has no end of its header")]
    EndlessHeader,
    /// No boundary behind a part.
    #[error("its last part is cut off")]
    CutOff,
    /// A transfer encoding that the content is not in (RFC 2045 §6.8).
    #[error("a part is no base64, which it says it is")]
    NoBase64,
}

/// More parts than any honest answer has.
const MAX_PARTS: usize = 1000;

/// The parts of an answer.
#[derive(Debug)]
pub struct Related {
    /// The envelope.
    pub root: Vec<u8>,
    /// Its media type.
    pub root_type: String,
    /// The other parts by content id.
    pub parts: HashMap<String, Vec<u8>>,
}

/// A parameter of a media type (RFC 9110 §5.6.6).
pub fn parameter(media_type: &str, name: &str) -> Option<String> {
    let mut rest = media_type.split_once(';')?.1;
    loop {
        rest = rest.trim_start_matches([' ', '\t', ';']);
        let (key, value) = rest.split_once('=')?;
        let (text, after) = match value.strip_prefix('"') {
            Some(quoted) => {
                let mut text = String::new();
                let mut chars = quoted.char_indices();
                let end = loop {
                    match chars.next()? {
                        (i, '"') => break i,
                        (_, '\\') => text.push(chars.next()?.1),
                        (_, c) => text.push(c),
                    }
                };
                (text, &quoted[end + 1..])
            }
            None => {
                let end = value.find(';').unwrap_or(value.len());
                (value[..end].trim().to_owned(), &value[end..])
            }
        };
        if key.trim().eq_ignore_ascii_case(name) {
            return Some(text);
        }
        rest = after;
    }
}

/// Takes an answer of several parts apart.
///
/// # Errors
/// What is wrong with it.
pub fn related(media_type: &str, body: &[u8]) -> Result<Related, RelatedError> {
    let boundary = parameter(media_type, "boundary")
        .filter(|b| !b.is_empty() && b.len() <= 200)
        .ok_or(RelatedError::NoBoundary)?;
    let start = parameter(media_type, "start").map(|s| s.trim_matches(['<', '>']).to_owned());
    // RFC 2046 §5.1.1: a delimiter begins a line.
    let delimiter = format!("\r\n--{boundary}");
    let first = format!("--{boundary}");
    let mut rest = match memmem::find(body, first.as_bytes()) {
        Some(i) => &body[i + first.len()..],
        None => return Err(RelatedError::NoPart(boundary)),
    };
    let mut root: Option<(Vec<u8>, String)> = None;
    let mut parts = HashMap::new();
    while !rest.starts_with(b"--") {
        let (part, behind) = part(rest, delimiter.as_bytes())?;
        let id = part
            .field("content-id")
            .map(|i| i.trim_matches(['<', '>']).to_owned());
        let is_root = match &start {
            Some(start) => id.as_ref() == Some(start),
            None => root.is_none(),
        };
        if is_root && root.is_none() {
            // RFC 2046 §5.1.2: a part without a type is text.
            let root_type = part.field("content-type").unwrap_or_default();
            root = Some((part.octets()?, root_type));
        } else if let Some(name) = id.or_else(|| part.field("content-location")) {
            parts.insert(name, part.octets()?);
        }
        rest = behind;
        if parts.len() > MAX_PARTS {
            return Err(RelatedError::TooMany);
        }
    }
    let (root, root_type) = root.ok_or(RelatedError::NoRoot)?;
    Ok(Related {
        root,
        root_type,
        parts,
    })
}

/// One part: its header, lines unfolded, and its content as it stands.
struct Part<'b> {
    head: String,
    content: &'b [u8],
}

/// The part that begins here, and what stands behind its delimiter.
fn part<'b>(rest: &'b [u8], delimiter: &[u8]) -> Result<(Part<'b>, &'b [u8]), RelatedError> {
    let head_end = memmem::find(rest, b"\r\n\r\n").ok_or(RelatedError::EndlessHeader)?;
    let head = String::from_utf8_lossy(&rest[..head_end]);
    // A field may go on in the next line.
    let head = head.replace("\r\n ", " ").replace("\r\n\t", " ");
    let content = &rest[head_end + 4..];
    let end = memmem::find(content, delimiter).ok_or(RelatedError::CutOff)?;
    let part = Part {
        head,
        content: &content[..end],
    };
    Ok((part, &content[end + delimiter.len()..]))
}

impl Part<'_> {
    fn field(&self, name: &str) -> Option<String> {
        self.head.lines().find_map(|line| {
            let (key, value) = line.split_once(':')?;
            let same = key.trim().eq_ignore_ascii_case(name);
            same.then(|| value.trim().to_owned())
        })
    }

    /// RFC 2045 §6.
    fn octets(&self) -> Result<Vec<u8>, RelatedError> {
        let encoding = self.field("content-transfer-encoding").unwrap_or_default();
        match encoding.to_ascii_lowercase().as_str() {
            "base64" => {
                let text = String::from_utf8_lossy(self.content);
                crate::simple::from_base64(&text).ok_or(RelatedError::NoBase64)
            }
            "quoted-printable" => Ok(quoted_printable(self.content)),
            _ => Ok(self.content.to_vec()),
        }
    }
}

/// RFC 2045 §6.7.
fn quoted_printable(bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        if bytes[i] != b'=' {
            out.push(bytes[i]);
            i += 1;
            continue;
        }
        if bytes[i + 1..].starts_with(b"\r\n") {
            i += 3;
            continue;
        }
        let code = bytes
            .get(i + 1..i + 3)
            .and_then(|h| std::str::from_utf8(h).ok())
            .and_then(|h| u8::from_str_radix(h, 16).ok());
        out.push(code.unwrap_or(b'='));
        i += if code.is_some() { 3 } else { 1 };
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_told_apart_by_boundary_and_content_id() {
        let kind =
            "multipart/related; type=\"application/xop+xml\"; start=\"<root@x>\"; boundary=\"b b\"";
        let body = b"preamble\r\n--b b\r\nContent-ID: <a@x>\r\nContent-Type: image/png\r\n\r\n\x00\xff\r\n-\r\n--b b\r\nContent-Type: application/xop+xml;\r\n charset=utf-8\r\nContent-ID: <root@x>\r\n\r\n<e/>\r\n--b b\r\nContent-Id: c\r\nContent-Transfer-Encoding: base64\r\n\r\nCv8=\r\n--b b--\r\n";
        let found = related(kind, body).unwrap();
        assert_eq!(found.root, b"<e/>");
        assert_eq!(
            parameter(&found.root_type, "charset").as_deref(),
            Some("utf-8")
        );
        assert_eq!(found.parts["a@x"], b"\x00\xff\r\n-");
        assert_eq!(found.parts["c"], [10, 255]);
        for (kind, body) in [
            ("multipart/related", &body[..]),
            (kind, b"nothing"),
            (kind, &body[..80]),
            (
                "multipart/related; boundary=\"b b\"; start=\"<lost>\"",
                &body[..],
            ),
        ] {
            assert!(related(kind, body).is_err(), "{kind}");
        }
        assert_eq!(quoted_printable(b"a=3D=\r\nb=E4="), b"a=b\xe4=");
    }
}
