//! Scopes at which some sessions can do the same, found without asking what that is: most scopes of
//! a large estate are like many others, and one of each kind is enough to be worked out.

mod bearing;
mod finder;

use self::finder::{Finder, Sight};
use super::{AccessTarget, TargetSort, Viewpoint};
use crate::engine::Index;
use crate::id::{ActionId, ScopeId};
use crate::request::{Query, Target, TargetPlace};

/// For each scope, its class for some sessions. Of two scopes of one class, each of the sessions
/// can do the same at both and at the items below both that the same patterns single out.
///
/// That is so because all that a decision there looks at is the same for both (spec section 6):
/// - they lie in one account and equally deep, and have one type and kind, so the same actions apply
///   at both, and to the items of both;
/// - of the statements that name one of these actions, the same are in play for the same of these
///   sessions, with the same anchors; the same ceilings bound them, and the lowest seal above both
///   stands equally deep;
/// - each name on the way is matched by the same segments of the patterns of these statements, so
///   every pattern still asks for the same below both;
/// - each comparison of these statements that asks for an attribute of the target comes to the same
///   for both, and both bear it or neither does; none of their conditions asks for a target's path or
///   name;
/// - for their items, nothing declared directly below either has a name that a segment of these
///   patterns matches, save `*` and `**`: a path that a pattern singles out begins with a name that
///   one of its segments matches, or with a fresh one, so what is declared takes none of them away.
#[derive(Debug)]
pub struct Classes {
    /// Of each scope, and whether its items are like those of others of the class too.
    of: Vec<Option<(u32, bool)>>,
    /// How many there are.
    count: u32,
}

impl Classes {
    /// The classes of all scopes, for these sessions.
    #[must_use]
    pub fn new(index: &Index, sessions: &[Viewpoint]) -> Self {
        let accounts = index.estate().scopes.iter().filter(|(_, scope)| scope.parent.is_none());
        Self::joined(accounts.map(|(id, _)| Self::of_account(index, sessions, id)))
    }

    /// The classes of all scopes, from those of every account in the order of the tree: accounts may be
    /// looked at in any order, and at the same time, as two of them share no class.
    #[must_use]
    pub fn joined(accounts: impl IntoIterator<Item = Self>) -> Self {
        let mut all = Self { of: Vec::new(), count: 0 };
        for Self { of, count } in accounts {
            let known = all.count;
            all.of.extend(of.into_iter().map(|one| one.map(|(class, like)| (known + class, like))));
            all.count += count;
        }
        all
    }

    /// The classes of one account and all scopes in it.
    #[must_use]
    pub fn of_account(index: &Index, sessions: &[Viewpoint], account: ScopeId) -> Self {
        let estate = index.estate();
        let mut finder = Finder::new(index, sessions);
        let ids = estate.scopes.subtree(account);
        let place = |id: ScopeId| id.index() - ids.start;
        let mut sights: Vec<Sight> = Vec::with_capacity(ids.len());
        let mut of: Vec<Option<(u32, bool)>> = Vec::with_capacity(ids.len());
        for id in ids.clone().map(ScopeId::new) {
            let above = estate.scope(id).parent.map(|parent| sights[place(parent)]);
            let sight = finder.sight(id, above);
            sights.push(sight);
            of.push(finder.class(sight, id).map(|class| (class, true)));
        }
        // What is declared directly below a scope takes its name from the items there.
        let scopes = ids.clone().map(|id| estate.scope(ScopeId::new(id)));
        let below = scopes.filter_map(|scope| Some((scope.parent?, scope.name())));
        let identities = estate
            .identities_at
            .iter()
            .filter(|(_, place)| ids.contains(&place.scope().index()))
            .filter_map(|(path, place)| Some((place.scope(), path.rsplit_once('/')?.1)));
        for (at, name) in below.chain(identities) {
            if let Some((_, has_like_items)) = &mut of[place(at)]
                && *has_like_items
            {
                *has_like_items = !finder.matters(sights[place(at)].in_play, at, name);
            }
        }
        Self { of, count: finder.classes.len() as u32 }
    }

    /// The class of a target; `None` where it may be like no other.
    #[must_use]
    pub fn of(&self, target: &AccessTarget) -> Option<u32> {
        let (class, has_like_items) = self.of[target.scope().index()]?;
        let is_like_others = match target.sort {
            TargetSort::Scope => true,
            TargetSort::Items | TargetSort::Pattern => has_like_items,
            TargetSort::Identity => false,
        };
        is_like_others.then_some(class)
    }
}

/// A session's circumstances, asked nowhere and for nothing.
pub(crate) fn nowhere(session: &Viewpoint) -> Query<'static> {
    Query {
        who: session.who,
        action: ActionId::new(0),
        target: Target {
            path: "",
            segments: Vec::new(),
            place: TargetPlace::Scope(ScopeId::new(0)),
            is_sample: false,
        },
        take_up: session.take_up,
        also: session.also.clone(),
        under: session.under.clone(),
        given: session.given.clone(),
        item: Vec::new(),
        item_is_open: true,
        time: session.time,
    }
}
