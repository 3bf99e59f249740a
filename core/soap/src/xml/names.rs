//! Bytes of names.

/// What a byte can be in a name: 1 anywhere, 2 not at the front. Bytes of characters beyond ASCII are taken as such.
const NAME: [u8; 256] = {
    let mut table = [0; 256];
    let mut b = 0;
    while b < 256 {
        table[b] = match b as u8 {
            b'A'..=b'Z' | b'a'..=b'z' | b'_' | 0x80..=0xff => 1,
            b'0'..=b'9' | b'-' | b'.' | b':' => 2,
            _ => 0,
        };
        b += 1;
    }
    table
};

pub(super) fn name_end(bytes: &[u8], mut i: usize) -> usize {
    while let Some(b) = bytes.get(i) {
        if NAME[*b as usize] == 0 {
            break;
        }
        i += 1;
    }
    i
}

pub(super) fn skip_space(bytes: &[u8], mut i: usize) -> usize {
    while matches!(bytes.get(i), Some(b' ' | b'\t' | b'\r' | b'\n')) {
        i += 1;
    }
    i
}

/// Whether a text that is made of the bytes of names can be a qualified name.
pub(super) fn is_name(name: &str) -> bool {
    name.bytes().next().is_some_and(|b| NAME[b as usize] == 1)
}
