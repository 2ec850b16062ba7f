//! The scopes of two estates as one list, in the order of the tree.

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

use crate::estate::Estate;
use crate::id::ScopeId;

/// The declared scopes of either estate; those below one follow it.
pub(super) struct Places {
    pub(super) paths: Arc<[Box<str>]>,
    /// One past the last place below each.
    ends: Vec<u32>,
    /// What each place is in each estate.
    pub(super) scopes: Vec<[Option<ScopeId>; 2]>,
    /// The places of the scopes of each estate.
    of: [Vec<u32>; 2],
}

impl Places {
    pub(super) fn new(estates: [&Estate; 2]) -> Self {
        let mut scopes: Vec<[Option<ScopeId>; 2]> = Vec::new();
        let mut of = estates.map(|estate| Vec::with_capacity(estate.scopes.len()));
        let mut paths: Vec<Box<str>> = Vec::new();
        let mut next = [0, 0];
        let is_one_tree = Arc::ptr_eq(&estates[0].scopes, &estates[1].scopes);
        loop {
            let [one, other] = [0, 1].map(|i| {
                let is_left = next[i] < estates[i].scopes.len();
                is_left.then(|| &*estates[i].scope(ScopeId::new(next[i])).path)
            });
            let (path, has) = match (one, other) {
                (None, None) => break,
                (Some(one), None) => (one, [true, false]),
                (None, Some(other)) => (other, [false, true]),
                (Some(one), Some(_)) if is_one_tree => (one, [true, true]),
                (Some(one), Some(other)) => match in_order(one, other) {
                    Ordering::Less => (one, [true, false]),
                    Ordering::Equal => (one, [true, true]),
                    Ordering::Greater => (other, [false, true]),
                },
            };
            let place = paths.len() as u32;
            paths.push(path.into());
            scopes.push([0, 1].map(|i| {
                has[i].then(|| {
                    of[i].push(place);
                    next[i] += 1;
                    ScopeId::new(next[i] - 1)
                })
            }));
        }
        let ends = ends(&paths);
        Self { paths: paths.into(), ends, scopes, of }
    }

    /// The place of a scope of one of the estates.
    pub(super) fn of(&self, estate: usize, scope: ScopeId) -> u32 {
        self.of[estate][scope.index()]
    }

    /// A place and all below it.
    pub(super) fn below(&self, place: u32) -> Range<u32> {
        place..self.ends[place as usize]
    }

    /// How many names a place's path has.
    pub(super) fn depth(&self, place: u32) -> u32 {
        1 + self.paths[place as usize].matches('/').count() as u32
    }

    /// All of them.
    pub(super) fn all(&self) -> Range<u32> {
        0..self.paths.len() as u32
    }
}

/// The order of the tree: that of the segments.
fn in_order(one: &str, other: &str) -> Ordering {
    if one == other { Ordering::Equal } else { one.split('/').cmp(other.split('/')) }
}

/// For each path, one past the last that lies below it.
fn ends(paths: &[Box<str>]) -> Vec<u32> {
    let mut ends = vec![paths.len() as u32; paths.len()];
    let mut open: Vec<usize> = Vec::new();
    for (i, path) in paths.iter().enumerate() {
        while let Some(last) = open.last() {
            let below = path.strip_prefix(&*paths[*last]);
            if below.is_some_and(|rest| rest.starts_with('/')) {
                break;
            }
            ends[*last] = i as u32;
            open.pop();
        }
        open.push(i);
    }
    ends
}
