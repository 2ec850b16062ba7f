//! Rows whose whole subtree says the same as they do stand for it.

use bexum_core::Estate;
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::reach::{Row, SpotSort};

/// A row that is shown, and how many below it are not.
pub(crate) struct Folded {
    pub(crate) row: usize,
    pub(crate) same_below: usize,
    /// How many identities at the same place say the same and are not shown.
    pub(crate) alike: usize,
    /// The rows that are not shown.
    pub(crate) rows: Vec<usize>,
}

/// How much of a level somebody has at one spot.
#[derive(Clone, Debug, PartialEq)]
enum Share {
    Nothing,
    All,
    Some(Vec<usize>),
}

/// For each viewpoint and level, what is allowed and what depends; `None` where no action applies.
type Shares = Vec<Option<(Share, Share)>>;

/// Folds rows in the order of the tree. Counts compare, not names: a store and a dish of which all
/// can be observed are the same in that. Where only some actions are `wanted`, names compare.
pub(crate) fn fold(estate: &Estate, rows: &[Row], wanted: Option<&ActionSet>) -> Vec<Folded> {
    let shares: Vec<Shares> = rows.iter().map(|row| shares_of(estate, row, wanted)).collect();
    let depths: Vec<usize> = rows.iter().map(|row| row.spot.depth(estate)).collect();
    let mut folded: Vec<Folded> = Vec::new();
    let mut i = 0;
    while i < rows.len() {
        if rows[i].spot.sort == SpotSort::Identity {
            let like = folded.iter_mut().rev().take_while(|shown| {
                let other = &rows[shown.row].spot;
                other.sort == SpotSort::Identity && other.scope() == rows[i].spot.scope()
            });
            let mut like = like.filter(|shown| shares[shown.row] == shares[i]);
            match like.next() {
                Some(shown) => {
                    shown.alike += 1;
                    shown.rows.push(i);
                }
                None => {
                    folded.push(Folded { row: i, same_below: 0, alike: 0, rows: Vec::new() });
                }
            }
            i += 1;
            continue;
        }
        let below = i + 1..end_of_subtree(estate, rows, &depths, i);
        // Items that were singled out are there to be seen, and so is every difference between
        // viewpoints.
        let same = |j: usize| {
            let row = &rows[j];
            let differs = row.cells.windows(2).any(|pair| pair[0] != pair[1]);
            row.spot.sort != SpotSort::Pattern && !differs && agree(&shares[i], &shares[j])
        };
        let same_below = if below.clone().all(same) { below.len() } else { 0 };
        let rows = (i + 1..=i + same_below).collect();
        folded.push(Folded { row: i, same_below, alike: 0, rows });
        i += 1 + same_below;
    }
    folded
}

/// One past the last row below row `i`.
fn end_of_subtree(estate: &Estate, rows: &[Row], depths: &[usize], i: usize) -> usize {
    if rows[i].spot.sort != SpotSort::Scope {
        return i + 1;
    }
    let subtree = estate.scopes.subtree(rows[i].spot.scope());
    let inside =
        |j: &usize| depths[*j] > depths[i] && subtree.contains(&rows[*j].spot.scope().index());
    (i + 1..rows.len()).find(|j| !inside(j)).unwrap_or(rows.len())
}

/// Whether what is below says the same, where it says anything.
fn agree(above: &Shares, below: &Shares) -> bool {
    let nothing = (Share::Nothing, Share::Nothing);
    above.iter().zip(below).all(|(above, below)| match below {
        None => true,
        Some(below) => above.as_ref().unwrap_or(&nothing) == below,
    })
}

fn shares_of(estate: &Estate, row: &Row, wanted: Option<&ActionSet>) -> Shares {
    let mut applicable = row.spot.applicable(estate).clone();
    if let Some(wanted) = wanted {
        applicable.intersect_with(wanted);
    }
    let mut shares = Vec::with_capacity(row.cells.len() * 4);
    for cells in &row.cells {
        for level in Level::ALL {
            let of_level = |set: &ActionSet| -> Vec<usize> {
                set.ones().filter(|i| estate.catalogue.actions[*i].level == level).collect()
            };
            let whole = of_level(&applicable);
            let share = |set: &ActionSet| match of_level(set) {
                some if some.is_empty() => Share::Nothing,
                some if wanted.is_none() && some.len() == whole.len() => Share::All,
                some => Share::Some(some),
            };
            let known = !whole.is_empty();
            shares.push(known.then(|| (share(&cells.allow), share(&cells.depends))));
        }
    }
    shares
}
