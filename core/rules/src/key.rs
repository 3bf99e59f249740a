//! Keys: secrets that consumers show.
//!
//! A key is drawn from 160 random bits, so a plain BLAKE3 hash is enough to keep it by: there is nothing to guess from.

/// Hash of a whole key.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct KeyHash(pub(crate) [u8; 32]);

const ALPHABET: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
const PREFIX: usize = 8;

impl KeyHash {
    /// The hash of a key as the caller sent it.
    pub fn of(key: &str) -> Self {
        Self(*blake3::hash(key.as_bytes()).as_bytes())
    }

    /// What a name is found by that something else must prove. No key has this hash: it is derived in another context.
    pub fn of_name(kind: &str, name: &str) -> Self {
        let mut hasher = blake3::Hasher::new_derive_key("elm-porch names that are proven 1");
        hasher.update(kind.as_bytes());
        hasher.update(&[0]);
        hasher.update(name.as_bytes());
        Self(*hasher.finalize().as_bytes())
    }

    /// The hash from its hexadecimal spelling.
    pub fn from_hex(text: &str) -> Option<Self> {
        let mut out = [0; 32];
        if text.len() != 64 || !text.is_ascii() {
            return None;
        }
        for (i, byte) in out.iter_mut().enumerate() {
            *byte = u8::from_str_radix(&text[i * 2..i * 2 + 2], 16).ok()?;
        }
        Some(Self(out))
    }

    /// The hash in hexadecimal.
    pub fn to_hex(self) -> String {
        self.0.iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl std::fmt::Debug for KeyHash {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("KeyHash(…)")
    }
}

/// A new key from random bytes: eight characters to know it by, a dash, the secret, and four characters that follow from all
/// of these, so that a key can be told from what only looks like one wherever it stands.
///
/// ```
/// let key = porch_rules::key::new_key(&[7; 25]);
/// assert_eq!(porch_rules::key::prefix(&key), Some(&key[..8]));
/// assert_eq!(porch_rules::key::keys_in(&format!("curl -H 'API-Key: {key}'")), [&*key]);
/// ```
pub fn new_key(random: &[u8; 25]) -> String {
    let bits: Vec<u8> = random
        .iter()
        .flat_map(|b| (0..8).rev().map(move |i| b >> i & 1))
        .collect();
    let mut key: String = bits
        .chunks(5)
        .map(|c| ALPHABET[c.iter().fold(0, |n, b| n << 1 | *b) as usize] as char)
        .collect();
    key.insert(PREFIX, '-');
    let check = check_of(&key);
    key.push_str(&check);
    key
}

/// The characters that follow from what stands before them.
fn check_of(key: &str) -> String {
    let hash = blake3::hash(key.as_bytes());
    let of = |b: &u8| ALPHABET[usize::from(b & 31)] as char;
    hash.as_bytes()[..CHECK].iter().map(of).collect()
}

/// Every whole key in a text: what has the form of one, and its check is right. At most so many are looked for as a text
/// that somebody looks through has.
pub fn keys_in(text: &str) -> Vec<&str> {
    let whole = PREFIX + 1 + SECRET + CHECK;
    let parts = spans(text.as_bytes()).into_iter().take(MOST_KEYS);
    let texts =
        parts.filter_map(|(start, _)| text.get(start - PREFIX - 1..start - PREFIX - 1 + whole));
    texts
        .filter(|key| check_of(&key[..whole - CHECK]) == key[whole - CHECK..])
        .collect()
}

/// The part of a key that it is known by afterwards; `None` for what cannot be a key.
pub fn prefix(key: &str) -> Option<&str> {
    // Keys that were made before had no check.
    let long = PREFIX + 1 + SECRET;
    let fits = key.len() == long || key.len() == long + CHECK;
    (fits && key.is_ascii() && key.as_bytes()[PREFIX] == b'-').then(|| &key[..PREFIX])
}

/// Length of the secret part.
const SECRET: usize = 32;
/// Length of what follows from it.
const CHECK: usize = 4;
/// So many keys are looked for in one text.
const MOST_KEYS: usize = 1000;

/// Takes the secret part out of everything in a text that has the form of a key, wherever it stands: whoever was not to be
/// shown a key may have been sent it in a path, a query, a field of any name or a body. What a cut left of one is taken too.
///
/// ```
/// let mut text = format!("/fares?key={}&n=1", porch_rules::key::new_key(&[7; 25]));
/// assert!(porch_rules::key::hide_keys(&mut text, "…"));
/// assert_eq!(text, "/fares?key=a6dsqb2h-…&n=1");
/// ```
pub fn hide_keys(text: &mut String, mask: &str) -> bool {
    let found = spans(text.as_bytes());
    for (start, end) in found.iter().rev() {
        text.replace_range(start..end, mask);
    }
    !found.is_empty()
}

/// Where the secret parts of what has the form of a key begin and end.
fn spans(bytes: &[u8]) -> Vec<(usize, usize)> {
    let is_part = |b: &u8| ALPHABET.contains(b);
    let mut found = Vec::new();
    let mut from = PREFIX;
    while let Some(i) = bytes
        .get(from..)
        .and_then(|b| b.iter().position(|b| *b == b'-'))
    {
        let dash = from + i;
        from = dash + 1;
        let known_by = &bytes[dash - PREFIX..dash];
        let secret = bytes[dash + 1..].iter().take_while(|b| is_part(b)).count();
        let whole = secret >= SECRET || (secret > 0 && dash + 1 + secret == bytes.len());
        if known_by.iter().all(is_part) && whole {
            let end = dash + 1 + secret;
            found.push((dash + 1, end));
            from = end;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_taken_out_of_texts_wherever_they_stand() {
        let (one, two) = (new_key(&[0xa7; 25]), new_key(&[0x31; 25]));
        let (p, q) = (&one[..8], &two[..8]);
        for (text, wanted) in [
            (one.clone(), format!("{p}-*")),
            (format!("/x/{one}/y"), format!("/x/{p}-*/y")),
            (format!("?a={one}&b={two}"), format!("?a={p}-*&b={q}-*")),
            (format!("Key {one}, {one}"), format!("Key {p}-*, {p}-*")),
            (
                format!("{{\"k\":\"{one}\"}}"),
                format!("{{\"k\":\"{p}-*\"}}"),
            ),
            (format!("\u{e4}{one}\u{e4}"), format!("\u{e4}{p}-*\u{e4}")),
            // More than a key is a key with something behind it.
            (format!("{one}abc"), format!("{p}-*")),
            // A cut goes through it.
            (format!("body {}", &one[..20]), format!("body {p}-*")),
        ] {
            let mut hidden = text.clone();
            assert!(hide_keys(&mut hidden, "*"), "{text}");
            assert_eq!(hidden, wanted, "{text}");
        }
    }

    #[test]
    fn what_only_looks_a_little_like_a_key_stays() {
        for text in [
            "",
            "-",
            "--------",
            "FAR-MAR",
            "sailings-2027",
            "4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7 ",
            "abcdefgh-",
            "abcdefgh-abc def",
            "ABCDEFGH-abcdefghijkmnpqrstuvwxyz23456789",
            "abcdefg-abcdefghijkmnpqrstuvwxyz23456789",
        ] {
            let mut same = text.to_owned();
            assert!(!hide_keys(&mut same, "*"), "{text}");
            assert_eq!(same, text);
        }
    }

    #[test]
    fn whole_keys_are_found_in_texts_and_nothing_else_is() {
        let (one, two) = (new_key(&[0xa7; 25]), new_key(&[0x31; 25]));
        let text = format!("{one}\nexport KEY={two};{} {one}", &one[..40]);
        assert_eq!(keys_in(&text), [&*one, &*two, &*one]);
        let mut wrong = one.clone();
        let last = if wrong.ends_with('a') { "b" } else { "a" };
        wrong.replace_range(44.., last);
        for none in [wrong.as_str(), &one[..44], &one[1..], "", "é-é"] {
            assert!(keys_in(none).is_empty(), "{none}");
        }
    }

    #[test]
    fn a_key_has_a_prefix_and_a_hash_that_survives_spelling() {
        let key = new_key(&[0xa7; 25]);
        assert_eq!((key.len(), prefix(&key).unwrap().len()), (45, 8));
        assert_eq!(prefix(&key[..41]), Some(&key[..8]));
        assert_eq!(prefix("short"), None);
        let hash = KeyHash::of(&key);
        assert_eq!(KeyHash::from_hex(&hash.to_hex()), Some(hash));
        assert_eq!(KeyHash::from_hex(&"é".repeat(32)), None);
        assert_ne!(KeyHash::of(&format!("{key} ")), hash);
    }
}
