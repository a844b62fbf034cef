//! Networks of addresses, as `10.4.0.0/16`.

use std::net::IpAddr;
use std::str::FromStr;

/// Addresses with the same first bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Network {
    base: IpAddr,
    bits: u8,
}

/// Why a text is no network.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no network; one is written as \"10.4.0.0/16\" or \"fd00:4::/32\"")]
pub struct NetworkError(String);

impl Network {
    /// Whether an address lies in it. One of IPv4 that came in the form of IPv6 counts as itself.
    pub fn holds(&self, address: IpAddr) -> bool {
        match (self.base, address.to_canonical()) {
            (IpAddr::V4(base), IpAddr::V4(address)) => same(
                u128::from(base.to_bits()) << 96,
                u128::from(address.to_bits()) << 96,
                self.bits,
            ),
            (IpAddr::V6(base), IpAddr::V6(address)) => {
                same(base.to_bits(), address.to_bits(), self.bits)
            }
            _ => false,
        }
    }
}

fn same(one: u128, other: u128, bits: u8) -> bool {
    let apart = (one ^ other).leading_zeros();
    apart >= u32::from(bits)
}

/// Networks that are no part of the public Internet, in both families (the registries of special-purpose addresses):
/// this host, private and shared ones, loopback, link-local, documentation, benchmarks, multicast, reserved.
const INNER: [(&str, u8); 26] = [
    ("0.0.0.0", 8),
    ("10.0.0.0", 8),
    ("100.64.0.0", 10),
    ("127.0.0.0", 8),
    ("169.254.0.0", 16),
    ("172.16.0.0", 12),
    ("192.0.0.0", 24),
    ("192.0.2.0", 24),
    ("192.88.99.0", 24),
    ("192.168.0.0", 16),
    ("198.18.0.0", 15),
    ("198.51.100.0", 24),
    ("203.0.113.0", 24),
    ("224.0.0.0", 4),
    ("240.0.0.0", 4),
    // The last of IPv4 in the old form of IPv6, with the unspecified address and loopback.
    ("::", 96),
    ("64:ff9b:1::", 48),
    ("100::", 64),
    ("2001::", 23),
    ("2001:db8::", 32),
    ("3fff::", 20),
    ("5f00::", 16),
    ("fc00::", 7),
    ("fe80::", 10),
    ("fec0::", 10),
    ("ff00::", 8),
];

/// Whether an address lies in an inner network, in whatever form it is written: mapped into IPv6, translated
/// (RFC 6052), or through a tunnel (RFC 3056).
#[allow(clippy::cast_possible_truncation)] // parts of 32 bits
pub fn is_inner(address: IpAddr) -> bool {
    let address = match address.to_canonical() {
        IpAddr::V6(six) => {
            let bits = six.to_bits();
            let [high, low] = [bits >> 96, bits & 0xffff_ffff].map(|part| part as u32);
            match high {
                0x0064_ff9b if (bits >> 32) as u64 == 0 => IpAddr::from(low.to_be_bytes()),
                // 2002:AABB:CCDD::/48 carries its address behind the prefix.
                _ if high >> 16 == 0x2002 => IpAddr::from(((bits >> 80) as u32).to_be_bytes()),
                _ => IpAddr::V6(six),
            }
        }
        four @ IpAddr::V4(_) => four,
    };
    INNER.iter().any(|(base, bits)| {
        base.parse().is_ok_and(|base| Network { base, bits: *bits }.holds(address))
    })
}

/// Proxies between a request and us that are looked at.
const HOPS: usize = 16;

/// Who sends a request that came from `peer`: behind proxies that are believed, the last address that they name and
/// that is none of theirs. `forwarded` are the values of the standard's field (RFC 7239), `usual` those of
/// `X-Forwarded-For`, each in their order. What is not from a believed proxy is what it is. None: both fields are there
/// and name different clients; a proxy writes one of them and hands on the other as its sender pleased.
pub fn true_client(
    peer: IpAddr,
    proxies: &[Network],
    forwarded: &[&str],
    usual: &[&str],
) -> Option<IpAddr> {
    let believed = |address: IpAddr| proxies.iter().any(|network| network.holds(address));
    if !believed(peer) {
        return Some(peer);
    }
    let last = |hops: &[&str], read: fn(&str) -> Option<IpAddr>| {
        let mut client = peer;
        for hop in hops.iter().rev().flat_map(|value| value.rsplit(',')).take(HOPS) {
            // What cannot be read ends the chain: those behind it may have written all before.
            let Some(address) = read(hop.trim()) else { break };
            client = address.to_canonical();
            if !believed(client) {
                break;
            }
        }
        client
    };
    let clients = [last(forwarded, forwarded_for), last(usual, node)];
    match (forwarded.is_empty(), usual.is_empty()) {
        (false, false) if clients[0] != clients[1] => None,
        (false, _) => Some(clients[0]),
        (true, _) => Some(clients[1]),
    }
}

/// The `for` of one element of `Forwarded`.
fn forwarded_for(element: &str) -> Option<IpAddr> {
    element.split(';').find_map(|pair| {
        let (name, value) = pair.trim().split_once('=')?;
        name.eq_ignore_ascii_case("for").then(|| node(value.trim().trim_matches('"')))?
    })
}

/// An address with or without a port. None: it is none, or hidden.
fn node(text: &str) -> Option<IpAddr> {
    if let Some(rest) = text.strip_prefix('[') {
        return rest.split(']').next()?.parse().ok();
    }
    text.parse().ok().or_else(|| text.rsplit_once(':')?.0.parse().ok())
}

impl FromStr for Network {
    type Err = NetworkError;

    fn from_str(text: &str) -> Result<Self, NetworkError> {
        let wrong = || NetworkError(text.chars().take(60).collect());
        let (base, bits) = match text.split_once('/') {
            Some((base, bits)) => (base, Some(bits.parse::<u8>().map_err(|_| wrong())?)),
            None => (text, None),
        };
        let base: IpAddr = base.parse().map_err(|_| wrong())?;
        let most = if base.is_ipv4() { 32 } else { 128 };
        let bits = bits.unwrap_or(most);
        if bits > most { Err(wrong()) } else { Ok(Self { base, bits }) }
    }
}

impl<'de> serde::Deserialize<'de> for Network {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_hold_their_addresses() {
        let holds = |network: &str, address: &str| {
            network.parse::<Network>().unwrap().holds(address.parse().unwrap())
        };
        assert!(holds("10.4.0.0/16", "10.4.255.1"));
        assert!(!holds("10.4.0.0/16", "10.5.0.1"));
        assert!(holds("10.4.0.7", "10.4.0.7") && !holds("10.4.0.7", "10.4.0.8"));
        assert!(holds("10.4.0.0/16", "::ffff:10.4.0.1"));
        assert!(holds("fd00:4::/32", "fd00:4:1::9") && !holds("fd00:4::/32", "fd00:5::9"));
        assert!(holds("0.0.0.0/0", "1.2.3.4") && !holds("0.0.0.0/0", "::1"));
        for wrong in ["", "10.4.0.0/33", "10.4/16", "a/8", "::/129"] {
            assert!(wrong.parse::<Network>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn inner_networks_are_known_in_every_form() {
        for inner in [
            "0.0.0.0",
            "0.1.2.3",
            "10.1.2.3",
            "100.64.0.1",
            "100.127.255.255",
            "127.0.0.1",
            "127.9.9.9",
            "169.254.169.254",
            "172.16.0.1",
            "172.31.255.255",
            "192.0.0.8",
            "192.168.1.1",
            "198.18.0.1",
            "198.19.255.255",
            "224.0.0.1",
            "240.0.0.1",
            "255.255.255.255",
            "::",
            "::1",
            "::7f00:1",
            "::10.0.0.1",
            "::ffff:10.0.0.1",
            "::ffff:127.0.0.1",
            "64:ff9b::10.0.0.1",
            "64:ff9b::7f00:1",
            "64:ff9b:1::1",
            "2002:a00:1::1",
            "2002:7f00:1::",
            "2001::1",
            "2001:db8::1",
            "fc00::1",
            "fd12::1",
            "fe80::1",
            "fec0::1",
            "ff02::1",
        ] {
            assert!(is_inner(inner.parse().unwrap()), "{inner}");
        }
        for outer in [
            "1.1.1.1",
            "9.255.255.255",
            "11.0.0.0",
            "100.63.255.255",
            "100.128.0.0",
            "126.255.255.255",
            "128.0.0.0",
            "172.15.255.255",
            "172.32.0.0",
            "192.1.0.0",
            "198.17.255.255",
            "198.20.0.0",
            "223.255.255.255",
            "::ffff:1.1.1.1",
            "64:ff9b::1.1.1.1",
            "2002:101:101::1",
            "2600::1",
            "2a00::1",
        ] {
            assert!(!is_inner(outer.parse().unwrap()), "{outer}");
        }
    }

    #[test]
    fn only_believed_proxies_name_the_client() {
        let proxies = ["10.4.0.0/16".parse().unwrap()];
        let [proxy, other, client]: [IpAddr; 3] =
            ["10.4.0.1", "10.9.0.1", "192.0.2.7"].map(|text| text.parse().unwrap());
        let of = |peer, forwarded: &[&str], usual: &[&str]| {
            true_client(peer, &proxies, forwarded, usual).unwrap()
        };
        assert_eq!(of(other, &["for=192.0.2.7"], &["192.0.2.7"]), other, "anybody can write that");
        assert_eq!(of(proxy, &[], &[]), proxy);
        assert_eq!(
            of(proxy, &[], &["1.1.1.1, 192.0.2.7"]),
            client,
            "what the client wrote itself counts for nothing"
        );
        assert_eq!(of(proxy, &[], &["192.0.2.7, 10.4.0.9"]), client, "a second proxy of ours");
        assert_eq!(of(proxy, &[], &["192.0.2.7:4711"]), client);
        assert_eq!(
            of(proxy, &["for=1.1.1.1", "proto=https;For=\"192.0.2.7:80\""], &["192.0.2.7"]),
            client
        );
        assert_eq!(true_client(proxy, &proxies, &["for=192.0.2.7"], &["2.2.2.2"]), None);
        assert_eq!(of(proxy, &[], &["::ffff:192.0.2.7"]), client);
        assert_eq!(
            of(proxy, &["for=\"[2001:db8::1]:80\""], &[]),
            "2001:db8::1".parse::<IpAddr>().unwrap()
        );
        for hidden in ["for=unknown", "for=_secret", "by=1.1.1.1", ""] {
            assert_eq!(of(proxy, &[hidden], &[]), proxy, "{hidden}");
        }
    }
}
