//! Work on all cores, and a bar that says how far it is.

use indicatif::ProgressBar;
use rayon::prelude::*;

use crate::terminal;

/// Does something for each number below the first, whoever is free.
pub(super) fn on_all_cores(count: usize, one: &(dyn Fn(usize) + Sync)) {
    (0..count).into_par_iter().for_each(one);
}

/// Work with a bar on the terminal, which is gone when the work is done.
pub(super) struct Watched(ProgressBar);

impl Watched {
    /// `of_what`: what is counted, as in "3 of 12 compared".
    pub(super) fn new(of_what: &str) -> Self {
        Self(terminal::progress(0, of_what))
    }

    /// The bar starts anew, for so much work.
    pub(super) fn begin(&self, count: usize) {
        self.0.set_position(0);
        self.0.set_length(count as u64);
    }

    /// One more is done.
    pub(super) fn one_more(&self) {
        self.0.inc(1);
    }

    /// As [`on_all_cores`]; the bar starts anew for each time it is called.
    pub(super) fn on_all_cores(&self, count: usize, one: &(dyn Fn(usize) + Sync)) {
        self.begin(count);
        on_all_cores(count, &|i| {
            one(i);
            self.one_more();
        });
    }
}

impl Drop for Watched {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}
