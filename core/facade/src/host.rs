//! Names and addresses of hosts (RFC 3986 §3.2.2; names by RFC 1123 §2.1).

use std::net::Ipv6Addr;

/// Why a text is no host that a request can name, if so. A host stands without its port.
pub(crate) fn no_host(text: &str) -> Option<&'static str> {
    if let Some(inner) = text.strip_prefix('[') {
        return match inner.strip_suffix(']').map(str::parse::<Ipv6Addr>) {
            Some(Ok(_)) => None,
            _ => Some("what stands in brackets is an IPv6 address, as in [2001:db8::7]"),
        };
    }
    if text.parse::<Ipv6Addr>().is_ok() {
        return Some("an IPv6 address stands in brackets, as in [2001:db8::7]");
    }
    if text.contains("://") || text.contains('/') {
        return Some("write the host alone, without scheme and path");
    }
    if text.contains(':') {
        return Some("write the host alone: requests to all ports are meant");
    }
    if text.contains('*') {
        return Some("each host is written out; no `hosts` at all means every host");
    }
    let fits = |label: &str| {
        (1..=63).contains(&label.len())
            && !label.starts_with('-')
            && !label.ends_with('-')
            && label
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b))
    };
    (text.len() > 253 || !text.split('.').all(fits)).then_some(
        "a host name has letters, digits and hyphens between its dots; others are written in their xn-- form",
    )
}

/// Why a text is no host with or without a port, if so.
pub(crate) fn no_authority(text: &str) -> Option<&'static str> {
    let end = text.find(']').map_or(0, |at| at + 1);
    let Some(colon) = text[end..].find(':').map(|at| end + at) else {
        return no_host(text);
    };
    match text[colon + 1..].parse::<u16>() {
        Ok(port) if port > 0 && !text[colon + 1..].starts_with('+') => no_host(&text[..colon]),
        _ => Some("a port is a number from 1 to 65535"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_that_requests_can_name_pass_and_others_say_why() {
        for good in [
            "porch.example",
            "PORCH.example",
            "localhost",
            "127.0.0.1",
            "[2001:db8::7]",
            "xn--mnchen-3ya.example",
            "pier_4.example",
        ] {
            assert_eq!(no_host(good), None, "{good}");
        }
        let long = "a".repeat(64);
        for (bad, why) in [
            ("https://porch.example", "without scheme and path"),
            ("porch.example/sailings", "without scheme and path"),
            ("porch.example:80", "all ports"),
            ("*.porch.example", "written out"),
            ("2001:db8::7", "in brackets"),
            ("[2001:db8::7]:80", "in brackets"),
            ("[porch]", "in brackets"),
            ("", "letters, digits"),
            ("porch..example", "letters, digits"),
            ("porch.example.", "letters, digits"),
            ("-porch.example", "letters, digits"),
            ("porch example", "letters, digits"),
            ("münchen.example", "xn--"),
            (long.as_str(), "letters, digits"),
        ] {
            let said = no_host(bad).unwrap_or("nothing");
            assert!(said.contains(why), "{bad}: {said}");
        }
    }

    #[test]
    fn ports_are_numbers_that_can_be_called() {
        for good in ["porch.example", "porch.example:8080", "[2001:db8::7]:443"] {
            assert_eq!(no_authority(good), None, "{good}");
        }
        for bad in [
            "porch.example:",
            "porch.example:0",
            "porch.example:+80",
            "porch.example:65536",
            "porch.example:http",
            "[2001:db8::7]:",
        ] {
            let said = no_authority(bad);
            assert_eq!(said, Some("a port is a number from 1 to 65535"), "{bad}");
        }
        for bad in [":80", "a b:80", "[::zz]:80", "2001:db8::7", "x]:80"] {
            assert!(no_authority(bad).is_some(), "{bad}");
        }
    }
}
