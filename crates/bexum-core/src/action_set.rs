//! Sets of actions.

use std::fmt;

use fixedbitset::FixedBitSet;

/// A set of actions of one catalogue, one bit each: an action is named by its position there
/// ([`ActionId::index`](crate::id::ActionId::index)).
#[derive(Clone, Default, PartialEq, Eq, Hash)]
pub struct ActionSet(FixedBitSet);

impl ActionSet {
    /// No action, of a catalogue of so many.
    #[inline]
    #[must_use]
    pub fn with_capacity(actions: usize) -> Self {
        Self(FixedBitSet::with_capacity(actions))
    }

    /// Every action of a catalogue of so many.
    #[inline]
    #[must_use]
    pub fn all(actions: usize) -> Self {
        let mut all = Self::with_capacity(actions);
        all.0.insert_range(..);
        all
    }

    /// Adds an action.
    ///
    /// # Panics
    /// When the catalogue has no such position.
    #[inline]
    pub fn insert(&mut self, position: usize) {
        self.0.insert(position);
    }

    /// Whether an action is in it.
    #[inline]
    #[must_use]
    pub fn contains(&self, position: usize) -> bool {
        self.0.contains(position)
    }

    /// The positions of all its actions, in order.
    #[inline]
    pub fn ones(&self) -> impl Iterator<Item = usize> + '_ {
        self.0.ones()
    }

    /// The first of its actions.
    #[inline]
    #[must_use]
    pub fn minimum(&self) -> Option<usize> {
        self.0.minimum()
    }

    /// How many actions are in it.
    #[inline]
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.count_ones(..)
    }

    /// Whether none is.
    #[inline]
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_clear()
    }

    /// Whether no action is in both.
    #[inline]
    #[must_use]
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.0.is_disjoint(&other.0)
    }

    /// Whether all its actions are in the other, too.
    #[inline]
    #[must_use]
    pub fn is_subset(&self, other: &Self) -> bool {
        self.0.is_subset(&other.0)
    }

    /// The positions of the actions in both.
    #[inline]
    pub fn intersection<'s>(&'s self, other: &'s Self) -> impl Iterator<Item = usize> + 's {
        self.0.intersection(&other.0)
    }

    /// Adds all actions of another.
    #[inline]
    pub fn union_with(&mut self, other: &Self) {
        self.0.union_with(&other.0);
    }

    /// Adds the actions that are in both of two others.
    #[inline]
    pub(crate) fn add_common(&mut self, one: &Self, other: &Self) {
        let common = one.0.as_slice().iter().zip(other.0.as_slice());
        for (block, (one, other)) in self.0.as_mut_slice().iter_mut().zip(common) {
            *block |= one & other;
        }
    }

    /// Whether it has all actions that are in both of two others.
    #[inline]
    pub(crate) fn has_common(&self, one: &Self, other: &Self) -> bool {
        let common = one.0.as_slice().iter().zip(other.0.as_slice());
        self.0.as_slice().iter().zip(common).all(|(block, (one, other))| one & other & !block == 0)
    }

    /// Leaves only those that are in the other, too.
    #[inline]
    pub fn intersect_with(&mut self, other: &Self) {
        self.0.intersect_with(&other.0);
    }

    /// Takes out those that are in the other.
    #[inline]
    pub fn difference_with(&mut self, other: &Self) {
        self.0.difference_with(&other.0);
    }

    /// Keeps and adds what is in one of both sets alone.
    pub(crate) fn symmetric_difference_with(&mut self, other: &Self) {
        self.0.symmetric_difference_with(&other.0);
    }
}

impl fmt::Debug for ActionSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.ones()).finish()
    }
}

impl Extend<usize> for ActionSet {
    fn extend<T: IntoIterator<Item = usize>>(&mut self, positions: T) {
        self.0.extend(positions);
    }
}
