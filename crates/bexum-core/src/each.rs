//! Work shared out, without knowing among whom: whoever calls decides how many threads there are.

use std::sync::OnceLock;

/// Does something for each number below the first argument, in any order, perhaps several at once.
pub type Each<'v> = &'v (dyn Fn(usize, &(dyn Fn(usize) + Sync)) + Sync);

/// One after the other.
pub fn in_turn(count: usize, one: &(dyn Fn(usize) + Sync)) {
    (0..count).for_each(one);
}

/// What comes of each of a list, in its order; so many are looked at together.
pub(crate) fn in_parts<'t, T: Sync, R: Send + Sync>(
    all: &'t [T],
    together: usize,
    each: Each<'_>,
    work: &(dyn Fn(&'t [T]) -> Vec<R> + Sync),
) -> Vec<R> {
    let parts: Vec<&'t [T]> = all.chunks(together.max(1)).collect();
    let done: Vec<OnceLock<Vec<R>>> = parts.iter().map(|_| OnceLock::new()).collect();
    each(parts.len(), &|part| {
        done[part].get_or_init(|| work(parts[part]));
    });
    done.into_iter().filter_map(OnceLock::into_inner).flatten().collect()
}
