//! Content codings of answers.

use std::io::Write;

use bytes::Bytes;
use flate2::write::{GzDecoder, ZlibDecoder};
use http::{HeaderMap, header};

use crate::answer::MAX_ANSWER;
use crate::failure::Failure;

/// Why an answer's content coding cannot be undone.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CodingError {
    #[error("its content coding “{0}” was not asked for and is not understood")]
    Unknown(String),
    #[error("its content coding is broken: {0}")]
    Broken(#[from] std::io::Error),
    #[error("it grows to more than {MAX_ANSWER} bytes")]
    Grows,
}

impl From<CodingError> for Failure {
    fn from(wrong: CodingError) -> Self {
        Self::Answer(wrong.to_string())
    }
}

/// Undoes the content coding of an answer (RFC 9110 §8.4.1).
pub(crate) enum Coding {
    None,
    Gzip(Box<GzDecoder<Vec<u8>>>),
    Deflate(Box<ZlibDecoder<Vec<u8>>>),
}

/// A whole body without its content coding.
pub(crate) fn decoded(headers: &HeaderMap, body: Bytes) -> Result<Bytes, Failure> {
    let mut coding = Coding::of(headers)?;
    if let Coding::None = coding {
        return Ok(body);
    }
    let first = coding.decode(body)?;
    let last = coding.finish()?;
    Ok(if last.is_empty() {
        first
    } else {
        [first, last].concat().into()
    })
}

impl Coding {
    pub(crate) fn of(headers: &HeaderMap) -> Result<Self, CodingError> {
        let text = headers
            .get(header::CONTENT_ENCODING)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .trim()
            .to_ascii_lowercase();
        match text.as_str() {
            "" | "identity" => Ok(Self::None),
            "gzip" | "x-gzip" => Ok(Self::Gzip(Box::new(GzDecoder::new(Vec::new())))),
            "deflate" => Ok(Self::Deflate(Box::new(ZlibDecoder::new(Vec::new())))),
            other => Err(CodingError::Unknown(other.to_owned())),
        }
    }

    pub(crate) fn decode(&mut self, data: Bytes) -> Result<Bytes, CodingError> {
        // In small pieces, so that a bomb is noticed before it goes off.
        let into = |data: &[u8],
                    write: &mut dyn FnMut(&[u8]) -> std::io::Result<usize>|
         -> Result<(), CodingError> {
            for piece in data.chunks(1024) {
                let total = write(piece)?;
                if total > MAX_ANSWER {
                    return Err(CodingError::Grows);
                }
            }
            Ok(())
        };
        match self {
            Coding::None => Ok(data),
            Coding::Gzip(decoder) => {
                into(&data, &mut |p| {
                    let written = decoder.write_all(p).and_then(|()| decoder.flush());
                    written.map(|()| decoder.get_ref().len())
                })?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
            Coding::Deflate(decoder) => {
                into(&data, &mut |p| {
                    let written = decoder.write_all(p).and_then(|()| decoder.flush());
                    written.map(|()| decoder.get_ref().len())
                })?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
        }
    }

    /// What is left at the end of the body.
    pub(crate) fn finish(&mut self) -> Result<Bytes, CodingError> {
        match self {
            Coding::None => Ok(Bytes::new()),
            Coding::Gzip(decoder) => {
                decoder.try_finish()?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
            Coding::Deflate(decoder) => {
                decoder.try_finish()?;
                Ok(std::mem::take(decoder.get_mut()).into())
            }
        }
    }
}
