//! What has been worked out, kept for the next who asks: as much as memory should bear, no more.

use std::hash::Hash;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::closure::{Closure, RoleClosure};
use crate::time::{Time, Window};

/// How many windows of one principal are kept; a log that jumps in time asks for more.
const WINDOWS_KEPT: usize = 8;
/// How many principals are kept; then all are forgotten, so that memory stays flat.
const MOST_KEPT: usize = 16_384;

/// Something that stays as it is during a window.
pub(super) trait Steady {
    fn steady(&self) -> &Window;
}

impl Steady for Closure<'_> {
    fn steady(&self) -> &Window {
        &self.steady
    }
}

impl Steady for RoleClosure<'_> {
    fn steady(&self) -> &Window {
        &self.steady
    }
}

/// Things by key and window.
#[derive(Debug)]
pub(super) struct Kept<K, T> {
    /// The one last made first.
    by_key: FxHashMap<K, (Rc<T>, Vec<Rc<T>>)>,
}

impl<K, T> Default for Kept<K, T> {
    fn default() -> Self {
        Self { by_key: FxHashMap::default() }
    }
}

impl<K: Copy + Eq + Hash, T: Steady> Kept<K, T> {
    /// What is kept for this key at this moment, made if need be.
    pub(super) fn get(&mut self, key: K, at: Time, make: impl FnOnce() -> T) -> Rc<T> {
        if let Some((latest, others)) = self.by_key.get_mut(&key) {
            if latest.steady().holds(at) {
                return Rc::clone(latest);
            }
            if let Some(found) = others.iter().find(|kept| kept.steady().holds(at)) {
                return Rc::clone(found);
            }
            if others.len() + 1 == WINDOWS_KEPT {
                others.remove(0);
            }
            others.push(std::mem::replace(latest, Rc::new(make())));
            return Rc::clone(latest);
        }
        if self.by_key.len() == MOST_KEPT {
            self.by_key.clear();
        }
        let made = Rc::new(make());
        self.by_key.insert(key, (Rc::clone(&made), Vec::new()));
        made
    }
}
