//! One value in all the ways in which a text may write it.

use std::net::{Ipv4Addr, Ipv6Addr};

use crate::time::Time;

/// An address of a family (0: IPv4, 1: IPv6) in several of the ways in which it can be written; none
/// for an IPv6 address in IPv4-mapped form, which counts as the IPv4 address.
pub(super) fn of_address(family: usize, bits: u128) -> Vec<String> {
    match u32::try_from(bits) {
        Ok(bits) if family == 0 => {
            let v4 = Ipv4Addr::from_bits(bits);
            let mapped = v4.to_ipv6_mapped().to_string();
            let zeros = (1..5).map(|n| format!("{}{mapped}", vec!["0"; n].join(":")));
            [v4.to_string(), mapped.clone()].into_iter().chain(zeros).collect()
        }
        _ => {
            let v6 = Ipv6Addr::from_bits(bits);
            if v6.to_ipv4_mapped().is_some() {
                return Vec::new();
            }
            let with = |digits: usize| {
                let parts = v6.segments();
                let parts: Vec<String> =
                    parts.iter().map(|part| format!("{part:0digits$x}")).collect();
                parts.join(":")
            };
            let mut all = vec![v6.to_string()];
            all.extend((1..5).rev().map(with).filter(|text| *text != v6.to_string()));
            all.dedup();
            all
        }
    }
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
