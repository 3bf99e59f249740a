//! Length-prefixed messages (PROTOCOL-HTTP2 of gRPC, “Length-Prefixed-Message”).

use std::io::{Read, Write};

use bytes::{Buf, BufMut, Bytes, BytesMut};
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;

/// Why what arrives is no message.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FrameError {
    #[error("what comes are no messages of gRPC")]
    NoMessages,
    #[error("a message has {0} bytes, more than the {1} that are allowed")]
    Long(usize, usize),
    #[error("a message is compressed in a way that was not agreed on")]
    Compression,
    #[error("a message cannot be decompressed: {0}")]
    Decompression(std::io::Error),
    #[error("a message grows to more than the {0} bytes that are allowed")]
    Grows(usize),
}

/// Takes messages out of the pieces that arrive.
pub(crate) struct Frames {
    buffer: BytesMut,
    most: usize,
    /// Whether compressed messages are gzip.
    gzip: bool,
}

impl Frames {
    pub(crate) fn new(most: usize, gzip: bool) -> Self {
        Self {
            buffer: BytesMut::new(),
            most,
            gzip,
        }
    }

    pub(crate) fn push(&mut self, data: &Bytes) {
        self.buffer.extend_from_slice(data);
    }

    /// The next message, when all of it is there.
    pub(crate) fn next(&mut self) -> Result<Option<Bytes>, FrameError> {
        let Some(head) = self.buffer.first_chunk::<5>() else {
            return Ok(None);
        };
        let (flag, length) = (
            head[0],
            u32::from_be_bytes([head[1], head[2], head[3], head[4]]) as usize,
        );
        if flag > 1 {
            return Err(FrameError::NoMessages);
        }
        if length > self.most {
            return Err(FrameError::Long(length, self.most));
        }
        if self.buffer.len() < 5 + length {
            self.buffer.reserve(5 + length - self.buffer.len());
            return Ok(None);
        }
        self.buffer.advance(5);
        let message = self.buffer.split_to(length).freeze();
        if flag == 0 {
            return Ok(Some(message));
        }
        if !self.gzip {
            return Err(FrameError::Compression);
        }
        let mut out = Vec::new();
        // One byte more than allowed, so that a bomb is noticed.
        GzDecoder::new(message.as_ref())
            .take(self.most as u64 + 1)
            .read_to_end(&mut out)
            .map_err(FrameError::Decompression)?;
        if out.len() > self.most {
            return Err(FrameError::Grows(self.most));
        }
        Ok(Some(out.into()))
    }

    /// Whether the end came where a message ends.
    pub(crate) fn is_empty(&self) -> bool {
        self.buffer.is_empty()
    }
}

/// A message with its prefix.
pub(crate) fn frame(message: &[u8], compress: bool) -> Bytes {
    let mut out = BytesMut::with_capacity(message.len() + 5);
    if compress && message.len() > 64 {
        let mut encoder =
            GzEncoder::new(Vec::with_capacity(message.len() / 2), Compression::fast());
        if encoder.write_all(message).is_ok()
            && let Ok(packed) = encoder.finish()
            && packed.len() < message.len()
        {
            out.put_u8(1);
            out.put_u32(packed.len() as u32);
            out.extend_from_slice(&packed);
            return out.freeze();
        }
    }
    out.put_u8(0);
    out.put_u32(message.len() as u32);
    out.extend_from_slice(message);
    out.freeze()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_arrive_in_pieces_of_any_size_and_compressed() {
        let text = b"all the vessels of the line ".repeat(20);
        for compress in [false, true] {
            let sent = [
                frame(&text, compress),
                frame(b"", compress),
                frame(b"x", compress),
            ]
            .concat();
            for size in [1, 7, sent.len()] {
                let (mut frames, mut got) = (Frames::new(1000, true), Vec::new());
                for piece in sent.chunks(size) {
                    frames.push(&Bytes::copy_from_slice(piece));
                    while let Some(message) = frames.next().unwrap() {
                        got.push(message.to_vec());
                    }
                }
                assert_eq!(got, [text.clone(), Vec::new(), b"x".to_vec()]);
                assert!(frames.is_empty());
            }
        }
    }

    #[test]
    fn what_is_too_large_or_no_message_is_refused() {
        let next = |bytes: &[u8], most: usize, gzip: bool| {
            let mut frames = Frames::new(most, gzip);
            frames.push(&Bytes::copy_from_slice(bytes));
            frames.next().unwrap_err().to_string()
        };
        assert!(next(&frame(&[7; 20], false), 19, false).contains("more than the 19"));
        // 20 MB of zeros in 20 kB.
        assert!(
            next(&frame(&vec![0; 20 << 20], true), 1 << 20, true).contains("grows to more than")
        );
        assert!(next(&frame(&[0; 100], true), 100, false).contains("not agreed on"));
        assert!(next(b"\x01\0\0\0\x02ab", 100, true).contains("cannot be decompressed"));
        assert!(next(b"<html>", 100, true).contains("no messages"));
    }
}
