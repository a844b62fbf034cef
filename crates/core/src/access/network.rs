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
}
