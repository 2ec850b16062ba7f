//! Addresses and ranges that stand for all there are.

use std::collections::BTreeSet;
use std::net::IpAddr;

use super::representatives::ValueDomain;
use super::spellings;
use crate::attribute::Value;
use crate::condition::range_ends;

impl ValueDomain {
    /// Addresses for every cell into which all ranges and single addresses cut each of the two
    /// families: each in as many spellings as attributes share the domain, none of them named
    /// elsewhere as a text; and as many addresses, where ranges that nobody gave could tell them apart.
    pub(super) fn all_addresses(&self) -> Vec<String> {
        if !self.reads_addresses {
            return Vec::new();
        }
        let mut cuts = [BTreeSet::from([0u128]), BTreeSet::from([0u128])];
        // A text that is compared with may be a range too, where ranges are what nobody gave.
        let blocks = self.ranges.iter().chain(&self.texts).filter_map(|range| range_ends(range));
        for (first, last) in blocks {
            let (family, first, last, end) = match (first, last) {
                (IpAddr::V4(first), IpAddr::V4(last)) => {
                    (0, first.to_bits().into(), last.to_bits().into(), u32::MAX.into())
                }
                (IpAddr::V6(first), IpAddr::V6(last)) => {
                    (1, first.to_bits(), last.to_bits(), u128::MAX)
                }
                _ => continue,
            };
            cuts[family].insert(first);
            cuts[family].extend((last < end).then(|| last + 1));
        }
        let apart = if self.open_ranges { self.shared_by } else { 1 };
        let mut all = Vec::new();
        for (family, cuts) in cuts.iter().enumerate() {
            let last = if family == 0 { u32::MAX.into() } else { u128::MAX };
            let ends = cuts.iter().skip(1).map(|next| next - 1).chain([last]);
            for (first, last) in cuts.iter().zip(ends) {
                let addresses = (*first..=last).take(4 * (self.shared_by + self.texts.len()) + 4);
                let spelled = addresses.map(|bits| self.spellings(family, bits, self.shared_by));
                let free = spelled.filter(|spelled| !spelled.is_empty());
                free.take(apart).for_each(|spelled| all.extend(spelled));
            }
        }
        all
    }

    /// An address in so many spellings that no text names, as far as there are.
    fn spellings(&self, family: usize, bits: u128, most: usize) -> Vec<String> {
        let mut all: Vec<String> = Vec::new();
        for text in spellings::of_address(family, bits).filter(|text| !self.texts.contains(text)) {
            if all.len() == most {
                break;
            }
            if !all.contains(&text) {
                all.push(text);
            }
        }
        all
    }

    /// For every address in play the ranges that hold it alone, in one spelling more than there are
    /// attributes that could be the same text; and whether there are so many.
    ///
    /// A list of ranges is as good as one that has, for each comparison that is true of it, the
    /// address of which it is true: nothing else is asked about what a range holds.
    pub(super) fn single_ranges(&self) -> (Vec<String>, bool) {
        let (texts, _) = self.all_texts();
        let addresses: BTreeSet<IpAddr> = texts
            .iter()
            .filter_map(|text| text.parse::<IpAddr>().ok().map(|address| address.to_canonical()))
            .collect();
        let wanted = self.shared_by + 1;
        let mut whole = true;
        let mut all = Vec::new();
        for address in addresses {
            let (family, bits, length) = match address {
                IpAddr::V4(v4) => (0, v4.to_bits().into(), 32),
                IpAddr::V6(v6) => (1, v6.to_bits(), 128),
            };
            let mut spelled = self.spellings(family, bits, wanted);
            let range = format!("{address}/{length}");
            if spelled.len() < wanted && !self.texts.contains(&range) {
                spelled.push(range);
            }
            whole &= spelled.len() == wanted;
            all.extend(spelled);
        }
        all.retain(|text| !texts.contains(text));
        (all, whole)
    }
}

/// Whether it can be read as an address or a range.
pub(super) fn is_range(value: &Value) -> bool {
    matches!(value, Value::Text(text) if range_ends(text).is_some())
}
