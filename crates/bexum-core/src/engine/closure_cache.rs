//! What has been worked out, kept for the next who asks: as much as memory should bear, no more.

use std::rc::Rc;

use super::closure::{Closure, RoleClosure};
use crate::time::{Time, Window};

/// How many windows of one principal are kept; a log that jumps in time asks for more.
const WINDOWS_KEPT: usize = 8;
/// How many principals are kept; then all are forgotten, so that memory stays flat.
const MOST_KEPT: usize = 16_384;

/// Something that stays as it is during a window.
pub(super) trait Steady {
    fn valid_during(&self) -> &Window;
}

impl Steady for Closure<'_> {
    fn valid_during(&self) -> &Window {
        &self.valid_during
    }
}

impl Steady for RoleClosure<'_> {
    fn valid_during(&self) -> &Window {
        &self.valid_during
    }
}

/// Things by number and window.
#[derive(Debug)]
pub(super) struct ClosureCache<T> {
    /// Where each number's are, from 1; 0 for nowhere. Empty until anything is kept.
    pub(super) at: Vec<u32>,
    kept: Vec<Windows<T>>,
}

/// The one last made, and others.
#[derive(Debug)]
struct Windows<T> {
    latest: Rc<T>,
    others: Vec<Rc<T>>,
}

impl<T> Default for ClosureCache<T> {
    fn default() -> Self {
        Self { at: Vec::new(), kept: Vec::new() }
    }
}

impl<T: Steady> ClosureCache<T> {
    /// What is kept under this number, of so many, at this moment; made if need be.
    pub(super) fn get(
        &mut self,
        (number, of): (usize, usize),
        at: Time,
        make: impl FnOnce() -> T,
    ) -> Rc<T> {
        if self.at.is_empty() {
            self.at = vec![0; of];
        }
        let place = self.at[number] as usize;
        if place > 0 {
            let Windows { latest, others } = &mut self.kept[place - 1];
            if latest.valid_during().holds(at) {
                return Rc::clone(latest);
            }
            if let Some(found) = others.iter().find(|kept| kept.valid_during().holds(at)) {
                return Rc::clone(found);
            }
            if others.len() + 1 == WINDOWS_KEPT {
                others.remove(0);
            }
            others.push(std::mem::replace(latest, Rc::new(make())));
            return Rc::clone(latest);
        }
        if self.kept.len() == MOST_KEPT {
            self.at.fill(0);
            self.kept.clear();
        }
        let made = Rc::new(make());
        self.kept.push(Windows { latest: Rc::clone(&made), others: Vec::new() });
        self.at[number] = self.kept.len() as u32;
        made
    }

    /// What was last made under this number, if anything was.
    pub(super) fn latest(&self, number: usize) -> Option<&T> {
        let place = *self.at.get(number)? as usize;
        Some(&self.kept[place.checked_sub(1)?].latest)
    }
}
