//! Rows whose whole subtree says the same as they do stand for it.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use bexum_core::Estate;
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::engine::Cells;
use bexum_core::id::RoleId;
use bexum_core::reach::{Classes, Row, TargetSort};

use rayon::prelude::*;

use super::grid::GridRow;

/// A row that is shown, and how many below it are not.
pub(crate) struct Folded {
    pub(crate) row: usize,
    pub(crate) same_below: usize,
    /// How many identities at the same place say the same and are not shown.
    pub(crate) alike: usize,
    /// The rows that are not shown.
    pub(crate) rows: Vec<usize>,
}

impl Folded {
    /// The rows drawn for the one that is shown; the last of them tells what is not.
    /// `with_paths` keeps the paths of these, for a search.
    pub(crate) fn rows_drawn(
        &self,
        rows: &[Row],
        mut drawn: Vec<GridRow>,
        with_paths: bool,
    ) -> Vec<GridRow> {
        if let Some(last) = drawn.last_mut() {
            last.same_below = self.same_below;
            last.alike = self.alike;
            if with_paths {
                last.folded = self.rows.iter().map(|row| rows[*row].target.shown.clone()).collect();
            }
        }
        drawn
    }
}

/// How much of a level somebody has at one target.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Share {
    Nothing,
    All,
    Some(Vec<usize>),
}

/// For each viewpoint and level, what is allowed and what depends; `None` where no action applies.
type Levels = Vec<Option<(Share, Share)>>;

/// What a row says: of everybody by themselves, and of what each role adds.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Shares {
    own: Levels,
    by_role: BTreeMap<RoleId, Levels>,
}

/// What rows of one class have in common: rows of which it is the same say the same of other places.
pub(crate) type Likeness<'r> = (u32, TargetSort, &'r str);

/// The class of a row's scope, and what the row stands for below it; `None` where it may be like no
/// other.
pub(crate) fn likeness<'r>(
    estate: &Estate,
    classes: &Classes,
    row: &'r Row,
) -> Option<Likeness<'r>> {
    let below = row.target.shown.get(estate.scope(row.target.scope()).path.len()..)?;
    Some((classes.of(&row.target)?, row.target.sort, below))
}

/// Rows that one thread looks at together: many, as those that are alike are worked out once.
const ROWS_TOGETHER: usize = 8_192;

/// Folds rows in the order of the tree. Counts compare, not names: a store and a dish of which all
/// can be observed are the same in that. Where only some actions are `wanted`, names compare.
pub(crate) fn fold(
    estate: &Estate,
    classes: Option<&Classes>,
    rows: &[Row],
    wanted: Option<&ActionSet>,
) -> Vec<Folded> {
    let together = |rows: &[Row]| {
        let mut known: HashMap<Likeness<'_>, Arc<Shares>> = HashMap::new();
        let shares = rows.iter().map(|row| {
            let new = || Arc::new(shares_of(estate, row, wanted));
            match classes.and_then(|classes| likeness(estate, classes, row)) {
                Some(like) => Arc::clone(known.entry(like).or_insert_with(new)),
                None => new(),
            }
        });
        shares.collect::<Vec<_>>()
    };
    let shares: Vec<Arc<Shares>> = rows.par_chunks(ROWS_TOGETHER).flat_map_iter(together).collect();
    let depths: Vec<usize> = rows.iter().map(|row| row.target.depth(estate)).collect();
    let mut folded: Vec<Folded> = Vec::new();
    let mut i = 0;
    while i < rows.len() {
        if rows[i].target.sort == TargetSort::Identity {
            let like = folded.iter_mut().rev().take_while(|shown| {
                let other = &rows[shown.row].target;
                other.sort == TargetSort::Identity && other.scope() == rows[i].target.scope()
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
            let differs = row.access.windows(2).any(|pair| pair[0] != pair[1]);
            row.target.sort != TargetSort::Pattern && !differs && agree(&shares[i], &shares[j])
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
    if rows[i].target.sort != TargetSort::Scope {
        return i + 1;
    }
    let subtree = estate.scopes.subtree(rows[i].target.scope());
    let inside =
        |j: &usize| depths[*j] > depths[i] && subtree.contains(&rows[*j].target.scope().index());
    (i + 1..rows.len()).find(|j| !inside(j)).unwrap_or(rows.len())
}

/// Whether what is below says the same, where it says anything.
fn agree(above: &Shares, below: &Shares) -> bool {
    let same = |above: &Levels, below: &Levels| {
        above.iter().zip(below).all(|(above, below)| match below {
            None => true,
            Some(below) => above.as_ref().unwrap_or(&NOTHING) == below,
        })
    };
    let roles = above.by_role.keys().chain(below.by_role.keys());
    same(&above.own, &below.own)
        && roles.into_iter().all(|role| same(&above.adds(*role), &below.adds(*role)))
}

const NOTHING: (Share, Share) = (Share::Nothing, Share::Nothing);

impl Shares {
    fn adds(&self, role: RoleId) -> Levels {
        self.by_role
            .get(&role)
            .cloned()
            .unwrap_or_else(|| self.own.iter().map(|own| own.as_ref().map(|_| NOTHING)).collect())
    }
}

fn shares_of(estate: &Estate, row: &Row, wanted: Option<&ActionSet>) -> Shares {
    let mut applicable = row.target.applicable(estate).clone();
    if let Some(wanted) = wanted {
        applicable.intersect_with(wanted);
    }
    let nothing = Cells::nothing(estate.catalogue.actions.len());
    let levels = |all: &[Option<&Cells>]| -> Levels {
        let each = all.iter().map(|cells| cells.unwrap_or(&nothing));
        let each = each.flat_map(|cells| Level::ALL.map(|level| (cells, level)));
        each.map(|(cells, level)| {
            let is_of_level = |i: &usize| estate.catalogue.actions[*i].level == level;
            let whole = applicable.ones().filter(is_of_level).count();
            let share = |set: &ActionSet| match set.ones().filter(is_of_level).count() {
                0 => Share::Nothing,
                some if wanted.is_none() && some == whole => Share::All,
                _ => Share::Some(set.ones().filter(is_of_level).collect()),
            };
            (whole > 0).then(|| (share(&cells.allow), share(&cells.depends)))
        })
        .collect()
    };
    let own: Vec<Option<&Cells>> = row.access.iter().map(|access| Some(&access.own)).collect();
    let by_role = row.by_role();
    Shares {
        own: levels(&own),
        by_role: by_role.iter().map(|(role, all)| (*role, levels(all))).collect(),
    }
}
