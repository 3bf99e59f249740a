//! Formats (JSON Schema 2020-12 validation §7.3, and OpenAPI's registry of them).

use std::net::{Ipv4Addr, Ipv6Addr};

/// Whether a text has a format. One that is not known says nothing.
pub(crate) type Check = fn(&str) -> bool;

/// The check of a format of texts.
pub(crate) fn check(name: &str) -> Option<Check> {
    Some(match name {
        "date" => date,
        "time" => time,
        "date-time" => date_time,
        "duration" => duration,
        "email" => |t| email(t, true),
        "idn-email" => |t| email(t, false),
        "hostname" => |t| t.is_ascii() && hostname(t),
        "idn-hostname" => hostname,
        "ipv4" => |t| t.parse::<Ipv4Addr>().is_ok(),
        "ipv6" => |t| t.parse::<Ipv6Addr>().is_ok(),
        "uuid" => uuid,
        "uri" => |t| t.is_ascii() && uri(t),
        "iri" => uri,
        "uri-reference" => |t| t.is_ascii() && reference(t),
        "iri-reference" => reference,
        "uri-template" => template,
        "json-pointer" => pointer,
        "relative-json-pointer" => relative_pointer,
        "regex" => |t| {
            regex::RegexBuilder::new(t)
                .size_limit(1 << 20)
                .build()
                .is_ok()
        },
        _ => return None,
    })
}

fn digits(text: &str, count: usize) -> Option<u32> {
    let fits = text.len() == count && text.bytes().all(|b| b.is_ascii_digit());
    if fits { text.parse().ok() } else { None }
}

/// RFC 3339 §5.6, `full-date`.
fn date(text: &str) -> bool {
    let mut parts = text.splitn(3, '-');
    let mut next = |count| digits(parts.next()?, count);
    let (Some(year), Some(month), Some(day)) = (next(4), next(2), next(2)) else {
        return false;
    };
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let days = match month {
        1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        4 | 6 | 9 | 11 => 30,
        2 if leap => 29,
        2 => 28,
        _ => return false,
    };
    (1..=days).contains(&day)
}

/// RFC 3339 §5.6, `full-time`. A leap second is at the end of a day of UTC.
fn time(text: &str) -> bool {
    let Some((clock, rest)) = text.split_at_checked(8) else {
        return false;
    };
    let mut parts = clock.splitn(3, ':');
    let mut next = || digits(parts.next()?, 2);
    let (Some(hour), Some(minute), Some(second)) = (next(), next(), next()) else {
        return false;
    };
    let rest = match rest.strip_prefix('.') {
        Some(part) => {
            let after = part.trim_start_matches(|c: char| c.is_ascii_digit());
            if after.len() == part.len() {
                return false;
            }
            after
        }
        None => rest,
    };
    let Some(offset) = offset(rest) else {
        return false;
    };
    let of_day = i64::from(hour) * 60 + i64::from(minute) - offset;
    let leap = second == 60 && of_day.rem_euclid(1440) == 1439;
    hour < 24 && minute < 60 && (second < 60 || leap)
}

/// Minutes before UTC.
fn offset(text: &str) -> Option<i64> {
    if text.eq_ignore_ascii_case("z") {
        return Some(0);
    }
    let sign = match text.chars().next()? {
        '+' => 1,
        '-' => -1,
        _ => return None,
    };
    let (hour, minute) = text[1..].split_once(':')?;
    let (hour, minute) = (digits(hour, 2)?, digits(minute, 2)?);
    (hour < 24 && minute < 60).then(|| sign * i64::from(hour * 60 + minute))
}

fn date_time(text: &str) -> bool {
    let Some((day, rest)) = text.split_at_checked(10) else {
        return false;
    };
    date(day) && rest.starts_with(['T', 't']) && time(&rest[1..])
}

/// RFC 3339 appendix A.
fn duration(text: &str) -> bool {
    let Some(rest) = text.strip_prefix('P') else {
        return false;
    };
    if let Some(weeks) = rest.strip_suffix('W') {
        return !weeks.is_empty() && weeks.bytes().all(|b| b.is_ascii_digit());
    }
    let (days, clock) = match rest.split_once('T') {
        Some((days, clock)) => (days, Some(clock)),
        None => (rest, None),
    };
    // Units follow each other without a gap.
    let row = |text: &str, units: &str| {
        let (mut text, mut at) = (text, None::<usize>);
        while !text.is_empty() {
            let after = text.trim_start_matches(|c: char| c.is_ascii_digit());
            let unit = after.chars().next();
            let unit = unit.filter(|_| after.len() < text.len())?;
            let found = units.find(unit)?;
            if at.is_some_and(|at| found != at + 1) {
                return None;
            }
            at = Some(found);
            text = &after[1..];
        }
        Some(at.is_some())
    };
    match (row(days, "YMD"), clock.map(|c| row(c, "HMS"))) {
        (Some(some), None) => some,
        (Some(_), Some(Some(some))) => some,
        _ => false,
    }
}

/// RFC 5321 §4.1.2, as far as addresses are used.
fn email(text: &str, ascii: bool) -> bool {
    let Some((local, domain)) = text.rsplit_once('@') else {
        return false;
    };
    let quoted = local.len() > 2 && local.starts_with('"') && local.ends_with('"');
    let atoms = |c: char| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c);
    let dots = !local.starts_with('.') && !local.ends_with('.') && !local.contains("..");
    let literal = domain.strip_prefix('[').and_then(|d| d.strip_suffix(']'));
    let domain = match literal {
        Some(ip) => match ip.strip_prefix("IPv6:") {
            Some(v6) => v6.parse::<Ipv6Addr>().is_ok(),
            None => ip.parse::<Ipv4Addr>().is_ok(),
        },
        None => hostname(domain),
    };
    let local = quoted || (!local.is_empty() && dots && local.chars().all(atoms));
    domain && local && (!ascii || text.is_ascii())
}

/// RFC 1123 §2.1.
fn hostname(text: &str) -> bool {
    let label = |label: &str| {
        let inner = |c: char| c.is_alphanumeric() || c == '-';
        let ends = !label.starts_with('-') && !label.ends_with('-');
        (1..=63).contains(&label.len()) && ends && label.chars().all(inner)
    };
    text.len() <= 253 && text.split('.').all(label)
}

fn uuid(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() == 36
        && bytes.iter().enumerate().all(|(at, b)| match at {
            8 | 13 | 18 | 23 => *b == b'-',
            _ => b.is_ascii_hexdigit(),
        })
}

/// RFC 3986 §4.3 with a fragment; RFC 3987 for others than ASCII.
fn uri(text: &str) -> bool {
    let Some((scheme, _)) = text.split_once(':') else {
        return false;
    };
    let begins = scheme.starts_with(|c: char| c.is_ascii_alphabetic());
    let inner = |c: char| c.is_ascii_alphanumeric() || "+-.".contains(c);
    begins && scheme.chars().all(inner) && characters(text)
}

fn reference(text: &str) -> bool {
    let first = text.split(['/', '?', '#']).next().unwrap_or_default();
    characters(text) && (!first.contains(':') || uri(text))
}

fn characters(text: &str) -> bool {
    let bytes = text.as_bytes();
    let hex = |at: usize| bytes.get(at).is_some_and(u8::is_ascii_hexdigit);
    let authority = text.split_once("//").map_or("", |(_, rest)| rest);
    let authority = authority.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit('@').next().unwrap_or_default();
    let bracket = |b: u8| matches!(b, b'[' | b']');
    let ip = host.starts_with('[');
    let port = host.rsplit(']').next().unwrap_or_default().rsplit_once(':');
    port.is_none_or(|(_, port)| port.bytes().all(|b| b.is_ascii_digit()))
        && text.matches('#').count() <= 1
        && !authority
            .split_once('@')
            .is_some_and(|(user, _)| user.bytes().any(bracket))
        && bytes.iter().enumerate().all(|(at, b)| match b {
            b'%' => hex(at + 1) && hex(at + 2),
            b'[' | b']' => ip,
            b => *b >= 0x80 || b.is_ascii_alphanumeric() || b"-._~:/?#@!$&'()*+,;=".contains(b),
        })
}

/// RFC 6570 §2.
fn template(text: &str) -> bool {
    let mut rest = text;
    while let Some(at) = rest.find(['{', '}']) {
        let Some((inner, after)) = rest[at..].strip_prefix('{').and_then(|r| r.split_once('}'))
        else {
            return false;
        };
        if inner.is_empty() || inner.contains('{') {
            return false;
        }
        rest = after;
    }
    !text.contains(|c: char| c.is_whitespace() || "\"<>\\^`|".contains(c))
}

/// RFC 6901 §3.
fn pointer(text: &str) -> bool {
    let escapes = text
        .split('~')
        .skip(1)
        .all(|after| after.starts_with(['0', '1']));
    (text.is_empty() || text.starts_with('/')) && escapes
}

fn relative_pointer(text: &str) -> bool {
    let rest = text.trim_start_matches(|c: char| c.is_ascii_digit());
    let number = &text[..text.len() - rest.len()];
    let sound = number == "0" || (!number.is_empty() && !number.starts_with('0'));
    sound && (rest == "#" || pointer(rest))
}
