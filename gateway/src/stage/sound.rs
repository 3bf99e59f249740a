//! What HTTP itself demands of a request before anything is looked for (RFC 9112 §3 and §6, RFC 9113 §8).

use http::request::Parts;
use http::{HeaderMap, HeaderValue, Method, Version, header};

use crate::fields::{MAX_FORWARDS, SESSION_COOKIES};
use crate::problem::{self, Problem};

/// A request that may be looked at.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Sound {
    /// The caller wants the answer of whoever is here, not of what lies behind (RFC 9110 §7.6.2).
    pub(crate) goes_no_further: bool,
}

/// So often a request may have come through a porch: more often it is led in a circle (RFC 9110 §7.6.3).
const MOST_HOPS: usize = 8;

/// How often a request says that it came through a porch.
fn hops(headers: &HeaderMap) -> usize {
    let all = headers.get_all(header::VIA).iter();
    let all = all
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(','));
    all.filter(|hop| hop.trim().ends_with(" elm-porch")).count()
}

/// Whether a request is one; its host then stands in `Host`, however it was written.
pub(crate) fn sound(parts: &mut Parts) -> Result<Sound, Box<Problem>> {
    let checked = host(parts);
    if checked.is_err() {
        // Nothing of it is told to anybody.
        parts.headers.remove(header::HOST);
    }
    checked?;
    if parts.headers.contains_key(header::TRANSFER_ENCODING) {
        transfer_coding(&parts.headers)?;
    }
    if parts.headers.contains_key(header::COOKIE) {
        cookies(&mut parts.headers);
    }
    if parts.headers.contains_key(header::VIA) && hops(&parts.headers) >= MOST_HOPS {
        return Err(problem::a_loop());
    }
    if matches!(parts.method, Method::OPTIONS | Method::TRACE) {
        return Ok(Sound {
            goes_no_further: counted_down(&mut parts.headers),
        });
    }
    Ok(Sound::default())
}

/// One valid `Host`; the target's authority stands before it (RFC 9112 §3.2.2, RFC 9113 §8.3.1).
fn host(parts: &mut Parts) -> Result<(), Box<Problem>> {
    let mut values = parts.headers.get_all(header::HOST).iter();
    let (first, second) = (values.next(), values.next());
    if second.is_some() {
        return Err(problem::bad_host("it stands more than once"));
    }
    if parts.uri.authority().is_none() {
        return match first {
            Some(value) if is_host(value.as_bytes()) => Ok(()),
            Some(_) => Err(problem::bad_host("its value is no host")),
            None if parts.version == Version::HTTP_10 => Ok(()),
            None => Err(problem::bad_host("there is none")),
        };
    }
    let scheme = parts.uri.scheme_str().unwrap_or("http");
    let authority = parts.uri.authority().map_or("", |a| a.as_str());
    if !matches!(scheme, "http" | "https") || !is_host(authority.as_bytes()) {
        return Err(problem::bad_host("the target names another kind of place"));
    }
    let authority = HeaderValue::from_str(authority)
        .map_err(|_| problem::bad_host("the target names no host"))?;
    parts.headers.insert(header::HOST, authority);
    Ok(())
}

/// Whether bytes are a host with or without a port (RFC 3986 §3.2.2): no user, no path, no blanks.
fn is_host(bytes: &[u8]) -> bool {
    let (name, port) = match bytes.first() {
        None => return false,
        Some(b'[') => match bytes.iter().position(|b| *b == b']') {
            Some(end) => (&bytes[1..end], &bytes[end + 1..]),
            None => return false,
        },
        Some(_) => {
            let end = bytes.iter().position(|b| *b == b':');
            bytes.split_at(end.unwrap_or(bytes.len()))
        }
    };
    let literal = bytes[0] == b'[';
    let in_name = |b: &u8| match b {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => true,
        b':' => literal,
        b'%' | b'!' | b'$' | b'&' | b'\'' | b'(' | b')' | b'*' | b'+' | b';' | b'=' => !literal,
        _ => false,
    };
    !name.is_empty()
        && name.iter().all(in_name)
        && match port {
            [] => true,
            [b':', digits @ ..] => digits.len() <= 5 && digits.iter().all(u8::is_ascii_digit),
            _ => false,
        }
}

/// A body is chunked and nothing else (RFC 9112 §6.1: what is not understood is 501).
fn transfer_coding(headers: &HeaderMap) -> Result<(), Box<Problem>> {
    let mut values = headers.get_all(header::TRANSFER_ENCODING).iter();
    let first = values.next().map(HeaderValue::as_bytes);
    let chunked = first.is_some_and(|v| v.trim_ascii().eq_ignore_ascii_case(b"chunked"));
    if chunked && values.next().is_none() {
        Ok(())
    } else {
        Err(problem::unknown_transfer_coding())
    }
}

/// Cookies in one field (RFC 9113 §8.2.3), without those of the console: they are for nobody behind the porch.
fn cookies(headers: &mut HeaderMap) {
    let all = headers.get_all(header::COOKIE);
    let pairs: Vec<&str> = all
        .iter()
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(';'))
        .map(str::trim)
        .filter(|pair| !pair.is_empty() && !is_session(pair))
        .collect();
    match HeaderValue::from_str(&pairs.join("; ")) {
        Ok(value) if !value.is_empty() => drop(headers.insert(header::COOKIE, value)),
        _ => drop(headers.remove(header::COOKIE)),
    }
}

/// Whether a cookie, or a `Set-Cookie` field, is the console's.
pub(crate) fn is_session(cookie: &str) -> bool {
    let name = cookie.split(['=', ';']).next().map_or("", str::trim);
    SESSION_COOKIES.contains(&name)
}

/// Counts `Max-Forwards` down; whether it had come to nothing before.
fn counted_down(headers: &mut HeaderMap) -> bool {
    let left = headers
        .get(MAX_FORWARDS)
        .and_then(|v| v.to_str().ok()?.parse::<u32>().ok());
    match left {
        Some(0) => true,
        Some(left) => {
            headers.insert(MAX_FORWARDS, HeaderValue::from(left - 1));
            false
        }
        None => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_and_what_is_none() {
        for good in [
            "x",
            "porch.example",
            "porch.example:80",
            "127.0.0.1:3821",
            "[::1]",
            "[2001:db8::7]:443",
            "a_b.example",
            "%C3%A4.example",
            "x:",
        ] {
            assert!(is_host(good.as_bytes()), "{good}");
        }
        for bad in [
            "",
            ":80",
            "a b",
            "a/b",
            "a?b",
            "a#b",
            "user@a",
            "a,b",
            "a:80:90",
            "a:x",
            "a:123456",
            "[::1",
            "[]",
            "[::1]x",
            "a\\b",
            "a\"b",
            "\u{e4}.example",
        ] {
            assert!(!is_host(bad.as_bytes()), "{bad}");
        }
    }

    #[test]
    fn the_console_s_cookies_go_nowhere_and_the_others_stand_together() {
        let mut headers = HeaderMap::new();
        for cookie in [
            "a=1; porch-session=secret",
            "__Host-porch-session=x",
            "b=2;c=3",
        ] {
            headers.append(header::COOKIE, cookie.parse().unwrap());
        }
        cookies(&mut headers);
        let all: Vec<_> = headers.get_all(header::COOKIE).iter().collect();
        assert_eq!(all, ["a=1; b=2; c=3"]);
        headers.insert(header::COOKIE, "porch-session=secret".parse().unwrap());
        cookies(&mut headers);
        assert!(!headers.contains_key(header::COOKIE));
    }
}
