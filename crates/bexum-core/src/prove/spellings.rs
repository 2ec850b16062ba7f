//! One value in all the ways in which a text may write it.

use std::net::{Ipv4Addr, Ipv6Addr};

use crate::time::Time;

/// An address of a family (0: IPv4, 1: IPv6) in several of the ways in which it can be written, made as
/// they are asked for; none for an IPv6 address in IPv4-mapped form, which counts as the IPv4 address.
pub(super) fn of_address(family: usize, bits: u128) -> impl Iterator<Item = String> {
    let v4 = u32::try_from(bits).ok().filter(|_| family == 0).map(Ipv4Addr::from_bits);
    let v6 = Ipv6Addr::from_bits(bits);
    let v6 = (v4.is_none() && v6.to_ipv4_mapped().is_none()).then_some(v6);
    (0..6).map_while(move |way| match (v4, v6) {
        (Some(v4), _) => Some(match way {
            0 => v4.to_string(),
            1 => v4.to_ipv6_mapped().to_string(),
            zeros => format!("{}{}", ["0"; 4][..zeros - 1].join(":"), v4.to_ipv6_mapped()),
        }),
        (None, Some(v6)) => match way {
            0 => Some(v6.to_string()),
            5 => None,
            // All digits, then fewer and fewer zeros before each part.
            way => {
                let digits = 5 - way;
                let parts = v6.segments().map(|part| format!("{part:0digits$x}"));
                Some(parts.join(":"))
            }
        },
        (None, None) => None,
    })
}

/// A moment in every way in which it can be written (spec section 4): with each offset, and zeros
/// after its fraction.
pub(super) fn of_time(at: Time) -> impl Iterator<Item = String> {
    const MINUTE: i64 = 60_000_000;
    let offsets = (0..24 * 60).flat_map(|minutes| [(1, minutes), (-1, minutes)]);
    let suffixes = offsets.map(|(sign, minutes)| {
        let mark = if sign > 0 { '+' } else { '-' };
        (sign * minutes, format!("{mark}{:02}:{:02}", minutes / 60, minutes % 60))
    });
    std::iter::once((0, "Z".to_owned())).chain(suffixes).flat_map(move |(offset, suffix)| {
        let local = Time(at.0.saturating_add(offset * MINUTE));
        let is_writable = (super::EARLIEST..=super::LATEST).contains(&local);
        let plain = if is_writable { local.to_string() } else { String::new() };
        let plain = plain.trim_end_matches('Z').to_owned();
        let digits = plain.split_once('.').map_or(0, |(_, fraction)| fraction.len());
        (0..=6 - digits).filter(move |_| is_writable).map(move |zeros| match (digits, zeros) {
            (_, 0) => format!("{plain}{suffix}"),
            (0, zeros) => format!("{plain}.{}{suffix}", "0".repeat(zeros)),
            (_, zeros) => format!("{plain}{}{suffix}", "0".repeat(zeros)),
        })
    })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::net::IpAddr;

    use super::of_address;

    #[test]
    fn every_spelling_is_the_address() {
        for text in
            ["0.0.0.0", "10.0.0.1", "255.255.255.255", "::", "::1", "2001:db8::ab", "fe80::1:2"]
        {
            let address: IpAddr = text.parse().expect("an address");
            let (family, bits) = match address {
                IpAddr::V4(v4) => (0, v4.to_bits().into()),
                IpAddr::V6(v6) => (1, v6.to_bits()),
            };
            let all: Vec<String> = of_address(family, bits).collect();
            for spelled in &all {
                let read: IpAddr = spelled.parse().unwrap_or_else(|e| panic!("{spelled}: {e}"));
                assert_eq!(read.to_canonical(), address, "{spelled}");
            }
            let different: BTreeSet<&String> = all.iter().collect();
            assert!(different.len() > 2, "{text}: {all:?}");
        }
        let mapped: IpAddr = "::ffff:10.0.0.1".parse().expect("an address");
        let IpAddr::V6(mapped) = mapped else { panic!("IPv6") };
        assert_eq!(of_address(1, mapped.to_bits()).count(), 0);
    }
}
