//! A hash table from strings to what they stand for. The strings lie side by side in one buffer, so
//! that a lookup touches few cache lines, and hashing is apart from looking up, so that many lookups
//! can wait for memory at the same time.

/// Strings, and what each stands for: an open-addressing table that is never full. A filter of one
/// bit for every few hashes stands before it, and rejects most strings that are not there.
#[derive(Debug)]
pub(super) struct StringTable<T> {
    all: Vec<u8>,
    slots: Vec<Slot<T>>,
    /// By how much a hash is shifted to give a slot.
    shift: u32,
    /// Four bits for each slot.
    filter: Vec<u64>,
}

/// Where a string stands in the buffer, and what it stands for. Small, since most lookups wait for
/// its cache line.
#[derive(Clone, Copy, Debug)]
struct Slot<T> {
    start: u32,
    /// No text is empty: then the slot is.
    length: u16,
    tag: u16,
    meaning: T,
}

/// A running hash of eight bytes at a time, from which the hash of each prefix can be taken.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Hash(u64);

impl Hash {
    const K: u64 = 0xf135_7aea_2e62_a9c5;

    /// After eight more bytes.
    pub(super) fn and(self, eight: u64) -> Self {
        Self((self.0.rotate_left(23) ^ eight).wrapping_mul(Self::K))
    }

    /// The hash of all bytes so far and these last, fewer than eight and in the low bytes of `rest`;
    /// `length` counts all of them.
    pub(super) fn ended(self, rest: u64, length: usize) -> u64 {
        let hash = self.and(rest).and(length as u64).0;
        hash ^ (hash >> 32)
    }

    /// The hash of a whole text.
    pub(super) fn of(text: &[u8]) -> u64 {
        let (words, rest) = text.as_chunks::<8>();
        let whole =
            words.iter().fold(Self::default(), |hash, word| hash.and(u64::from_le_bytes(*word)));
        whole.ended(low_bytes(rest), text.len())
    }
}

/// Fewer than eight bytes, in the low bytes of a word.
pub(super) fn low_bytes(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}

impl<T: Copy> StringTable<T> {
    /// An empty table with room for so many texts; `blank` stands in its slots until something is added.
    pub(super) fn with_room(texts: usize, blank: T) -> Self {
        // At most three quarters full.
        let slots = (texts + texts / 3).next_power_of_two().max(16);
        let empty = Slot { start: 0, length: 0, tag: 0, meaning: blank };
        Self {
            all: Vec::new(),
            slots: vec![empty; slots],
            shift: u64::BITS - slots.trailing_zeros(),
            filter: vec![0; slots / 16],
        }
    }

    fn filter_bit(&self, hash: u64) -> (usize, u64) {
        let bit = (hash >> 16) as usize & (self.filter.len() * 64 - 1);
        (bit / 64, 1 << (bit % 64))
    }

    /// Adds a text that is not there yet; one that no request can name is left out.
    pub(super) fn add(&mut self, text: &str, meaning: T) {
        let Ok(length) = u16::try_from(text.len()) else { return };
        let start = u32::try_from(self.all.len()).expect("limits keep names within 4 GiB");
        self.all.extend_from_slice(text.as_bytes());
        let hash = Hash::of(text.as_bytes());
        let (word, bit) = self.filter_bit(hash);
        self.filter[word] |= bit;
        let mut at = (hash >> self.shift) as usize;
        while self.slots[at].length != 0 {
            at = (at + 1) % self.slots.len();
        }
        self.slots[at] = Slot { start, length, tag: hash as u16, meaning };
    }

    /// Whether a text of this hash may be there.
    pub(super) fn may_have(&self, hash: u64) -> bool {
        let (word, bit) = self.filter_bit(hash);
        self.filter[word] & bit != 0
    }

    /// Loads the slot of a hash into the cache.
    pub(super) fn prefetch_slot(&self, hash: u64) {
        std::hint::black_box(self.slots[(hash >> self.shift) as usize].start);
    }

    /// Loads the string that a slot loaded before leads to, and says what it stands for if it is the
    /// right one.
    pub(super) fn prefetch_text(&self, hash: u64) -> Option<T> {
        let slot = self.alike(hash).next()?;
        let (start, end) = (slot.start as usize, slot.start as usize + usize::from(slot.length));
        // A string may lie across two cache lines.
        std::hint::black_box((self.all[start], self.all[end - 1]));
        Some(slot.meaning)
    }

    /// The slots that may be the one of a hash, as far as their tags tell.
    fn alike(&self, hash: u64) -> impl Iterator<Item = &Slot<T>> {
        let mut at = (hash >> self.shift) as usize;
        std::iter::from_fn(move || {
            loop {
                let slot = &self.slots[at];
                if slot.length == 0 {
                    return None;
                }
                at = (at + 1) & (self.slots.len() - 1);
                if slot.tag == hash as u16 {
                    return Some(slot);
                }
            }
        })
    }

    pub(super) fn find(&self, hash: u64, text: &[u8]) -> Option<T> {
        let same = |slot: &&Slot<T>| {
            let start = slot.start as usize;
            &self.all[start..start + usize::from(slot.length)] == text
        };
        self.alike(hash).find(same).map(|slot| slot.meaning)
    }
}

#[cfg(test)]
mod tests {
    use super::{Hash, StringTable};

    #[test]
    fn every_text_is_found_and_no_other() {
        let text = |i: u32| format!("veyra-{}/survey/{i}", i % 7);
        for count in [0, 1, 12, 13, 5_000] {
            let mut texts = StringTable::with_room(count as usize, 0);
            (0..count).for_each(|i| texts.add(&text(i), i));
            for i in 0..count * 2 + 1 {
                let text = text(i);
                let hash = Hash::of(text.as_bytes());
                let found = texts.find(hash, text.as_bytes());
                assert_eq!(found, (i < count).then_some(i), "{text} of {count}");
                assert!(found.is_none() || texts.may_have(hash));
            }
        }
    }
}
