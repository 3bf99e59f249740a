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

/// Where a qualified name ends, and its first colon (Namespaces in XML §4).
#[inline]
pub(super) fn qualified_end(bytes: &[u8], from: usize) -> (usize, Option<usize>) {
    let mut colon = None;
    for (i, b) in bytes[from..].iter().enumerate() {
        if NAME[*b as usize] == 0 {
            return (from + i, colon);
        }
        if *b == b':' && colon.is_none() {
            colon = Some(from + i);
        }
    }
    (bytes.len(), colon)
}

/// What ends text that stands for itself.
const ENDS_PLAIN: [bool; 256] = {
    let mut table = [false; 256];
    table[b'<' as usize] = true;
    table[b'&' as usize] = true;
    table[b'\r' as usize] = true;
    table
};

/// Where text that stands for itself ends at a `<`; `None` when it does not, or something in it is to be replaced.
#[inline]
pub(super) fn plain_end(bytes: &[u8], from: usize) -> Option<usize> {
    const SHORT: usize = 24;
    let ends = |b: &u8| ENDS_PLAIN[usize::from(*b)];
    // Most values are short: asking for help takes longer than to look.
    let near = bytes.get(from..)?;
    let found = match near.iter().take(SHORT).position(ends) {
        Some(at) => from + at,
        None => {
            let far = bytes.get(from + SHORT..)?;
            from + SHORT + memchr::memchr3(b'<', b'&', b'\r', far)?
        }
    };
    (bytes[found] == b'<').then_some(found)
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
