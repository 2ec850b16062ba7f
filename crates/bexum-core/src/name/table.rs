//! Names found by hash. The table holds numbers alone: the names stand with the things that bear them.

use std::hash::BuildHasher as _;

use hashbrown::HashTable;
use rustc_hash::FxBuildHasher;

/// The numbers of names.
#[derive(Clone, Debug, Default)]
pub(crate) struct NameTable {
    numbers: HashTable<u32>,
}

impl NameTable {
    /// Names that are numbered as they stand here, each of which stands here once.
    pub(crate) fn new(names: &[&str]) -> Self {
        let mut numbers = HashTable::with_capacity(names.len());
        for (name, number) in names.iter().zip(0..) {
            numbers.insert_unique(hash(name), number, |number| hash(names[*number as usize]));
        }
        Self { numbers }
    }

    /// The number of a name, where `named` gives the name of a number.
    pub(crate) fn find<'n>(&self, name: &str, named: impl Fn(usize) -> &'n str) -> Option<usize> {
        let found = self.numbers.find(hash(name), |number| named(*number as usize) == name);
        found.map(|number| *number as usize)
    }
}

fn hash(name: &str) -> u64 {
    FxBuildHasher.hash_one(name)
}
