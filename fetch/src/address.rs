//! What addresses are: the host's own, of its link, set apart, or everybody's.

use std::net::IpAddr;

/// Whether an address is the host's own, of its link, or unspecified (RFC 6890); those of machines' metadata are among them.
pub(crate) fn is_local(ip: IpAddr) -> bool {
    is_of_link(ip) || is_of_interface(ip)
}

/// Whether one of the host's interfaces has an address: only then can a socket be bound to it.
pub(crate) fn is_of_interface(ip: IpAddr) -> bool {
    std::net::UdpSocket::bind((ip.to_canonical(), 0)).is_ok()
}

pub(crate) fn is_of_link(ip: IpAddr) -> bool {
    match ip.to_canonical() {
        IpAddr::V4(v4) => {
            v4.is_loopback()
                || v4.is_link_local()
                || v4.is_unspecified()
                || v4.is_broadcast()
                || v4.octets() == [100, 100, 100, 200]
        }
        IpAddr::V6(v6) => {
            v6.is_loopback()
                || v6.is_unspecified()
                || v6.is_unicast_link_local()
                || v6.segments()[..3] == [0xfd00, 0xec2, 0]
        }
    }
}

/// Whether everybody can reach an address: none of those that are set apart for something else (RFC 6890, and those by which
/// an IPv6 address holds another one: RFC 6052, RFC 3056, RFC 4380).
pub(crate) fn is_public(ip: IpAddr) -> bool {
    match ip.to_canonical() {
        IpAddr::V4(v4) => {
            let [a, b, c, _] = v4.octets();
            let set_apart = match (a, b) {
                (0 | 10 | 127 | 240..=255, _) | (172, 16..=31) | (192, 168) | (169, 254) => true,
                (100, 64..=127) | (198, 18 | 19) => true,
                (192, 0) => matches!(c, 0 | 2),
                (192, 88) => c == 99,
                (198, 51) => c == 100,
                (203, 0) => c == 113,
                _ => v4.is_multicast(),
            };
            !set_apart && !is_of_link(ip)
        }
        IpAddr::V6(v6) => {
            let [first, second, ..] = v6.segments();
            let global = first & 0xe000 == 0x2000;
            let set_apart = (first == 0x2001 && (second < 0x200 || second == 0xdb8))
                || first == 0x2002
                || (first == 0x3fff && second < 0x1000);
            global && !set_apart
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_stranger_names_is_called_only_where_everybody_can_reach_it() {
        for reached in [
            "8.9.10.11",
            "172.32.0.1",
            "100.128.0.1",
            "2a01:db9::1",
            "2606:4700::1",
        ] {
            assert!(is_public(reached.parse().unwrap()), "{reached}");
        }
        for not in [
            "0.0.0.0",
            "10.1.2.3",
            "127.0.0.1",
            "172.16.0.1",
            "192.168.3.4",
            "169.254.169.254",
            "100.64.0.1",
            "100.100.100.200",
            "192.0.2.9",
            "198.18.0.1",
            "203.0.113.5",
            "224.0.0.1",
            "255.255.255.255",
            "::",
            "::1",
            "::ffff:10.0.0.1",
            "fe80::1",
            "fd00:ec2::254",
            "fc00::1",
            "ff02::1",
            "64:ff9b::a00:1",
            "2002:a00:1::",
            "2001::1",
            "2001:db8::1",
        ] {
            assert!(!is_public(not.parse().unwrap()), "{not}");
        }
    }

    /// The addresses of this host's interfaces, as the system tells them (`fib_trie`): each stands before a line that says so.
    fn of_interfaces() -> Vec<IpAddr> {
        let told = std::fs::read_to_string("/proc/net/fib_trie").unwrap();
        let lines: Vec<&str> = told.lines().map(str::trim).collect();
        let own = lines.windows(2).filter(|l| l[1] == "/32 host LOCAL");
        own.filter_map(|l| l[0].strip_prefix("|-- ")?.parse().ok())
            .collect()
    }

    #[test]
    fn what_an_interface_has_is_the_host_s_own() {
        let own = of_interfaces();
        assert!(own.contains(&"127.0.0.1".parse().unwrap()), "{own:?}");
        for ip in own {
            assert!(is_local(ip), "{ip}");
        }
        for ip in [
            "169.254.169.254",
            "::1",
            "fe80::1",
            "::ffff:127.0.0.1",
            "0.0.0.0",
        ] {
            assert!(is_local(ip.parse().unwrap()), "{ip}");
        }
        // Networks for documentation (RFC 5737, RFC 3849): nobody has them.
        for ip in ["192.0.2.7", "198.51.100.1", "2001:db8::1"] {
            assert!(!is_local(ip.parse().unwrap()), "{ip}");
        }
    }
}
