//! `Cache-Control` (RFC 9111 §5.2), read as caches must: what is not understood restricts.

use http::{HeaderMap, header};

/// What a message says of being kept. Times are in seconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Directives {
    pub(crate) no_store: bool,
    /// Also where it names fields: they are not kept apart here.
    pub(crate) no_cache: bool,
    pub(crate) private: bool,
    pub(crate) public: bool,
    /// `must-revalidate` or `proxy-revalidate`.
    pub(crate) must_revalidate: bool,
    pub(crate) must_understand: bool,
    pub(crate) only_if_cached: bool,
    pub(crate) max_age: Option<u64>,
    pub(crate) s_maxage: Option<u64>,
    pub(crate) min_fresh: Option<u64>,
    /// Any age where no number stands.
    pub(crate) max_stale: Option<u64>,
    pub(crate) while_revalidate: Option<u64>,
    pub(crate) if_error: Option<u64>,
}

/// The greatest number of seconds (RFC 9111 §1.2.2).
const GREATEST: u64 = 1 << 31;
/// So many directives of a message are looked at; one that has more says that it must not be kept.
const MOST: usize = 64;

impl Directives {
    /// Those of a message; `Pragma: no-cache` stands for them where there are none (RFC 9111 §5.4).
    pub(crate) fn of(headers: &HeaderMap) -> Self {
        let mut all = Self::default();
        let mut number = 0;
        for value in headers.get_all(header::CACHE_CONTROL) {
            let Ok(text) = value.to_str() else {
                all.no_store = true;
                continue;
            };
            let mut rest = text;
            while !rest.is_empty() {
                let (directive, behind) = next(rest);
                rest = behind;
                number += 1;
                if number > MOST {
                    all.no_store = true;
                    return all;
                }
                all.take(directive);
            }
        }
        if number == 0 {
            let pragma = headers.get(header::PRAGMA).and_then(|v| v.to_str().ok());
            all.no_cache |= pragma.is_some_and(|p| p.to_ascii_lowercase().contains("no-cache"));
        }
        all
    }

    fn take(&mut self, directive: &str) {
        let (name, value) = match directive.split_once('=') {
            Some((name, value)) => (name.trim(), Some(value.trim().trim_matches('"'))),
            None => (directive.trim(), None),
        };
        let seconds = || seconds(value.unwrap_or_default());
        let least = |old: Option<u64>| Some(old.map_or(seconds(), |old| old.min(seconds())));
        match name.to_ascii_lowercase().as_str() {
            "no-store" => self.no_store = true,
            "no-cache" => self.no_cache = true,
            "private" => self.private = true,
            "public" => self.public = true,
            "must-revalidate" | "proxy-revalidate" => self.must_revalidate = true,
            "must-understand" => self.must_understand = true,
            "only-if-cached" => self.only_if_cached = true,
            "max-age" => self.max_age = least(self.max_age),
            "s-maxage" => self.s_maxage = least(self.s_maxage),
            "min-fresh" => self.min_fresh = Some(seconds()),
            "max-stale" => self.max_stale = Some(value.map_or(GREATEST, |_| seconds())),
            "stale-while-revalidate" => self.while_revalidate = least(self.while_revalidate),
            "stale-if-error" => self.if_error = least(self.if_error),
            _ => {}
        }
    }
}

/// One directive, and what is behind it: commas in quotes are no ends (RFC 9110 §5.6.4).
fn next(text: &str) -> (&str, &str) {
    let (mut quoted, mut escaped) = (false, false);
    for (i, b) in text.bytes().enumerate() {
        match b {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            b',' if !quoted => return (&text[..i], &text[i + 1..]),
            _ => {}
        }
    }
    (text, "")
}

/// A number of seconds; what is none is as if no time were left (RFC 9111 §4.2.1).
fn seconds(text: &str) -> u64 {
    if text.is_empty() || !text.bytes().all(|b| b.is_ascii_digit()) {
        return 0;
    }
    text.parse().unwrap_or(GREATEST).min(GREATEST)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(text: &str) -> Directives {
        let mut headers = HeaderMap::new();
        headers.insert(header::CACHE_CONTROL, text.parse().unwrap());
        Directives::of(&headers)
    }

    #[test]
    fn directives_are_read_as_caches_must() {
        let age = |text: &str| of(text).max_age;
        for (text, expected) in [
            ("max-age=60", Some(60)),
            ("MAX-AGE=60", Some(60)),
            ("max-age=\"60\"", Some(60)),
            (" max-age = 60 , public", Some(60)),
            ("max-age=60, max-age=5", Some(5)),
            ("max-age=99999999999999999999", Some(GREATEST)),
            ("max-age=-1", Some(0)),
            ("max-age=1.5", Some(0)),
            ("max-age", Some(0)),
            ("max-agent=60", None),
            ("ext=\"a, max-age=60, b\"", None),
            ("ext=\"a\\\", max-age=60\"", None),
            ("s-maxage=60", None),
            ("", None),
        ] {
            assert_eq!(age(text), expected, "{text}");
        }
        let all =
            of("private=\"set-cookie\", no-cache=\"x, y\", must-understand, proxy-revalidate");
        assert!(all.private && all.no_cache && all.must_understand && all.must_revalidate);
        assert!(!all.no_store && !all.public);
        let asked = of("max-stale, min-fresh=3, only-if-cached");
        assert_eq!(
            (asked.max_stale, asked.min_fresh),
            (Some(GREATEST), Some(3))
        );
        assert!(asked.only_if_cached);
        assert_eq!(of("max-stale=7").max_stale, Some(7));
    }

    #[test]
    fn what_has_too_much_to_say_is_not_kept() {
        assert!(of(&"a,".repeat(65)).no_store);
        assert!(!of(&"a,".repeat(60)).no_store);
        let mut headers = HeaderMap::new();
        headers.insert(header::PRAGMA, "No-Cache".parse().unwrap());
        assert!(Directives::of(&headers).no_cache);
        headers.insert(header::CACHE_CONTROL, "max-age=1".parse().unwrap());
        assert!(!Directives::of(&headers).no_cache);
    }
}
