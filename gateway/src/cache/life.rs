//! Whether a reply may be kept, and how long it is fresh (RFC 9111 §3, §4.2).

use std::time::Duration;

use http::{HeaderMap, StatusCode, header};
use porch_facade::Keeping;

use super::directives::Directives;

/// What a reply that may be kept says of its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Life {
    /// How long it is fresh from when it was made.
    pub(crate) fresh: Duration,
    /// How old it was when it came.
    pub(crate) age: Duration,
    /// How long it is given behind that while another one is asked for.
    pub(crate) while_revalidate: Duration,
    /// How long it is given behind that where no other one can be had.
    pub(crate) if_error: Duration,
    /// Whether it is asked about each time.
    pub(crate) no_cache: bool,
    /// Whether it is never given when it is stale, whatever callers say.
    pub(crate) must_revalidate: bool,
}

/// What of a request decides whether its reply may be kept.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Asked {
    /// Whether it shows credentials that are not the porch's own (RFC 9111 §3.5).
    pub(crate) credentials: bool,
    /// Seconds since 1970 when it was sent on.
    pub(crate) at: i64,
    /// How long the reply took.
    pub(crate) took: Duration,
}

/// Statuses that may be kept where nothing is said of them (RFC 9110 §15.1).
const HEURISTIC: [u16; 11] = [200, 203, 204, 300, 301, 308, 404, 405, 410, 414, 501];
/// Statuses whose meaning for caches is known here (RFC 9111 §5.2.2.3).
const UNDERSTOOD: std::ops::Range<u16> = 200..600;
/// A tenth of the time since the last change is a usual guess (RFC 9111 §4.2.2), up to a day.
const GUESSED: u32 = 10;
const LONGEST_GUESS: Duration = Duration::from_secs(24 * 3600);

impl Life {
    /// The life of a reply; why it is not kept, where it is not.
    pub(crate) fn of(
        status: StatusCode,
        headers: &HeaderMap,
        keeping: &Keeping,
        asked: Asked,
    ) -> Result<Self, &'static str> {
        if is_stream(headers) {
            return Err("it is a stream of events");
        }
        let said = Directives::of(headers);
        let code = status.as_u16();
        if matches!(code, 206 | 304) || !UNDERSTOOD.contains(&code) {
            return Err("it is no whole reply");
        }
        if said.no_store && !said.must_understand {
            return Err("it says no-store");
        }
        if said.private && !keeping.apart.callers() {
            return Err("it says that it is private");
        }
        let shared = said.public || said.s_maxage.is_some() || said.must_revalidate;
        if asked.credentials && !shared {
            return Err("the request shows credentials, and it does not say that it may be shared");
        }
        if headers.contains_key(header::SET_COOKIE) && !said.public {
            return Err("it sets a cookie, and does not say that it may be shared");
        }
        if any_varies(headers) {
            return Err("it varies with everything");
        }
        let explicit = explicit(headers, &said, asked.at);
        let by_rule = by_rule(code, keeping);
        let fresh = match explicit.or(by_rule) {
            Some(fresh) => fresh,
            None if !HEURISTIC.contains(&code) && !said.public => {
                return Err("its status is none that is kept unless it says so");
            }
            None => guessed(headers, asked.at),
        };
        let span = |said: Option<u64>, rule: Option<Duration>| {
            said.map(Duration::from_secs).or(rule).unwrap_or_default()
        };
        let strict = said.must_revalidate || said.no_cache;
        let (while_revalidate, if_error) = match strict {
            true => Default::default(),
            false => (
                span(said.while_revalidate, keeping.while_revalidate),
                span(said.if_error, keeping.if_error),
            ),
        };
        let validated =
            headers.contains_key(header::ETAG) || headers.contains_key(header::LAST_MODIFIED);
        if fresh.is_zero() && !validated && while_revalidate.is_zero() && if_error.is_zero() {
            return Err("it is never fresh, and has nothing to be asked about by");
        }
        Ok(Self {
            fresh,
            age: age(headers, asked),
            while_revalidate,
            if_error,
            no_cache: said.no_cache,
            // What is shared for a time is not given behind it (RFC 9111 §5.2.2.10).
            must_revalidate: strict || said.s_maxage.is_some(),
        })
    }
}

/// Whether a reply goes on for as long as there is something to tell.
fn is_stream(headers: &HeaderMap) -> bool {
    let kind = headers.get(header::CONTENT_TYPE);
    let kind = kind.and_then(|v| v.to_str().ok()).unwrap_or_default();
    let essence = kind.split(';').next().unwrap_or_default().trim();
    essence.eq_ignore_ascii_case("text/event-stream")
}

/// What the document says of replies that say nothing.
fn by_rule(code: u16, keeping: &Keeping) -> Option<Duration> {
    match code {
        200..300 => keeping.fresh,
        404 | 410 => keeping.absent,
        _ => None,
    }
}

/// How long a reply says that it is fresh: for shared caches, for all, by its end (RFC 9111 §4.2.1).
fn explicit(headers: &HeaderMap, said: &Directives, now: i64) -> Option<Duration> {
    if let Some(seconds) = said.s_maxage.or(said.max_age) {
        return Some(Duration::from_secs(seconds));
    }
    let expires = headers.get(header::EXPIRES)?;
    // What is no date is over (RFC 9111 §5.3).
    let Some(expires) = expires.to_str().ok().and_then(date) else {
        return Some(Duration::ZERO);
    };
    let from = date_of(headers).unwrap_or(now);
    Some(Duration::from_secs(
        u64::try_from(expires - from).unwrap_or(0),
    ))
}

fn guessed(headers: &HeaderMap, now: i64) -> Duration {
    let changed = headers.get(header::LAST_MODIFIED);
    let changed = changed.and_then(|v| v.to_str().ok()).and_then(date);
    let since = changed.map_or(0, |changed| date_of(headers).unwrap_or(now) - changed);
    let since = Duration::from_secs(u64::try_from(since).unwrap_or(0));
    (since / GUESSED).min(LONGEST_GUESS)
}

/// How old a reply is when it comes (RFC 9111 §4.2.3).
fn age(headers: &HeaderMap, asked: Asked) -> Duration {
    let now = asked.at + asked.took.as_secs() as i64;
    let apparent = date_of(headers).map_or(0, |date| now - date);
    let apparent = Duration::from_secs(u64::try_from(apparent).unwrap_or(0));
    let told = headers.get(header::AGE).and_then(|v| v.to_str().ok());
    let told = told.and_then(|t| t.split(',').next()?.trim().parse().ok());
    let told = Duration::from_secs(told.unwrap_or(0u32).into());
    apparent.max(told + asked.took)
}

fn date_of(headers: &HeaderMap) -> Option<i64> {
    date(headers.get(header::DATE)?.to_str().ok()?)
}

/// A date of HTTP in one of its three forms (RFC 9110 §5.6.7), in seconds since 1970.
pub(crate) fn date(text: &str) -> Option<i64> {
    let at = httpdate::parse_http_date(text.trim()).ok()?;
    let since = at.duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

fn any_varies(headers: &HeaderMap) -> bool {
    let all = headers.get_all(header::VARY).iter();
    let mut names = all.flat_map(|v| v.to_str().unwrap_or("*").split(','));
    // What is no name of a field cannot be looked for.
    let is_any = |name: &str| name == "*" || name.parse::<http::HeaderName>().is_err();
    names.any(|name| !name.trim().is_empty() && is_any(name.trim()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use porch_facade::Apart;

    fn keeping(fresh: Option<u64>) -> Keeping {
        Keeping {
            fresh: fresh.map(Duration::from_secs),
            absent: None,
            while_revalidate: None,
            if_error: None,
            apart: Apart::default(),
            tags: Vec::new(),
            heeds_callers: true,
            most: 1 << 20,
        }
    }

    const NOON: &str = "Fri, 14 May 2027 12:00:00 GMT";

    fn asked() -> Asked {
        Asked {
            at: date(NOON).unwrap(),
            ..Asked::default()
        }
    }

    fn headers(lines: &str) -> HeaderMap {
        let mut headers = HeaderMap::new();
        for line in lines.lines().filter(|l| !l.is_empty()) {
            let (name, value) = line.split_once(": ").unwrap();
            headers.append(
                name.parse::<http::HeaderName>().unwrap(),
                value.parse().unwrap(),
            );
        }
        headers
    }

    fn fresh(status: u16, lines: &str, rule: Option<u64>) -> Result<u64, &'static str> {
        let status = StatusCode::from_u16(status).unwrap();
        let life = Life::of(status, &headers(lines), &keeping(rule), asked())?;
        Ok(life.fresh.as_secs())
    }

    #[test]
    fn what_a_reply_says_comes_before_the_rule_and_the_guess() {
        let tag = "ETag: \"a\"\n";
        for (status, lines, rule, expected) in [
            (200, "Cache-Control: max-age=60", Some(5), 60),
            (200, "Cache-Control: max-age=60, s-maxage=7", None, 7),
            (200, &format!("Cache-Control: max-age=0\n{tag}"), Some(5), 0),
            (
                200,
                &format!("Date: {NOON}\nExpires: Fri, 14 May 2027 12:01:30 GMT"),
                Some(5),
                90,
            ),
            (200, "Expires: Friday, 14-May-27 12:00:09 GMT", None, 9),
            (200, &format!("Expires: 0\n{tag}"), Some(5), 0),
            (
                200,
                &format!("Expires: Fri, 14 May 2027 11:00:00 GMT\n{tag}"),
                Some(5),
                0,
            ),
            (200, "Expires: 0\nCache-Control: max-age=4", None, 4),
            (200, "", Some(5), 5),
            (204, "", Some(5), 5),
            (404, "Cache-Control: max-age=8", Some(5), 8),
            (404, "ETag: \"a\"", Some(5), 0),
            // A tenth of ten hours, and never more than a day.
            (
                200,
                &format!("Date: {NOON}\nLast-Modified: Fri, 14 May 2027 02:00:00 GMT"),
                None,
                3600,
            ),
            (
                200,
                "Last-Modified: Thu, 14 May 2020 02:00:00 GMT",
                None,
                86400,
            ),
            (500, "Cache-Control: max-age=3", Some(5), 3),
            (201, "Cache-Control: max-age=3", None, 3),
            (299, "Cache-Control: max-age=3", None, 3),
        ] {
            assert_eq!(fresh(status, lines, rule), Ok(expected), "{status} {lines}");
        }
    }

    #[test]
    fn what_may_not_be_kept_is_not() {
        for (status, lines) in [
            (200, "Cache-Control: no-store, max-age=60"),
            (200, "Cache-Control: private, max-age=60"),
            (200, "Cache-Control: max-age=60\nVary: *"),
            (
                200,
                "Cache-Control: max-age=60\nContent-Type: text/event-stream; charset=utf-8",
            ),
            (200, "Cache-Control: max-age=60\nVary: a, *"),
            (200, "Cache-Control: max-age=60\nVary: Accept Language"),
            (200, "Cache-Control: max-age=60\nSet-Cookie: a=b"),
            (206, "Cache-Control: max-age=60"),
            (304, "Cache-Control: max-age=60"),
            (500, ""),
            (302, ""),
            (200, "Cache-Control: max-age=0"),
        ] {
            let rule = (status != 200).then_some(5);
            assert!(fresh(status, lines, rule).is_err(), "{status} {lines}");
        }
        assert!(
            fresh(
                200,
                "Cache-Control: public, max-age=60\nSet-Cookie: a=b",
                None
            )
            .is_ok()
        );
        assert!(
            fresh(
                200,
                "Cache-Control: no-store, must-understand, max-age=60",
                None
            )
            .is_ok()
        );
    }

    #[test]
    fn what_was_shown_credentials_is_shared_only_where_it_says_so() {
        let asked = Asked {
            credentials: true,
            ..asked()
        };
        for (said, shared) in [
            ("max-age=60", false),
            ("public, max-age=60", true),
            ("s-maxage=60", true),
            ("must-revalidate, max-age=60", true),
        ] {
            let headers = headers(&format!("Cache-Control: {said}"));
            let life = Life::of(StatusCode::OK, &headers, &keeping(Some(5)), asked);
            assert_eq!(life.is_ok(), shared, "{said}");
        }
        let mut own = keeping(None);
        own.apart.consumer = true;
        let private = headers("Cache-Control: private, max-age=60");
        assert!(Life::of(StatusCode::OK, &private, &own, self::asked()).is_ok());
    }

    #[test]
    fn age_is_the_greater_of_what_is_told_and_what_is_seen() {
        let of = |lines: &str, took: u64| {
            let asked = Asked {
                took: Duration::from_secs(took),
                ..asked()
            };
            let headers = headers(&format!("Cache-Control: max-age=600\n{lines}"));
            Life::of(StatusCode::OK, &headers, &keeping(None), asked)
                .unwrap()
                .age
                .as_secs()
        };
        assert_eq!(of("", 0), 0);
        assert_eq!(of("Age: 30", 2), 32);
        assert_eq!(of("Age: 30, 40", 0), 30);
        assert_eq!(of("Age: -3", 0), 0);
        assert_eq!(of("Date: Fri, 14 May 2027 11:59:00 GMT", 0), 60);
        assert_eq!(of("Date: Fri, 14 May 2027 11:59:00 GMT\nAge: 90", 1), 91);
        assert_eq!(of("Date: Fri, 14 May 2027 12:59:00 GMT", 0), 0);
    }

    #[test]
    fn what_is_given_behind_its_time_says_so_itself_or_by_the_rule() {
        let mut rule = keeping(Some(5));
        rule.while_revalidate = Some(Duration::from_secs(3));
        rule.if_error = Some(Duration::from_secs(4));
        let of = |said: &str| {
            let headers = headers(&format!("Cache-Control: {said}"));
            let life = Life::of(StatusCode::OK, &headers, &rule, asked()).unwrap();
            (
                life.while_revalidate.as_secs(),
                life.if_error.as_secs(),
                life.must_revalidate,
            )
        };
        assert_eq!(of("max-age=1"), (3, 4, false));
        assert_eq!(
            of("max-age=1, stale-while-revalidate=9, stale-if-error=8"),
            (9, 8, false)
        );
        assert_eq!(
            of("max-age=1, must-revalidate, stale-if-error=8"),
            (0, 0, true)
        );
        assert_eq!(of("s-maxage=1, stale-if-error=8"), (3, 8, true));
    }
}
