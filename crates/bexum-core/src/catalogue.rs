//! The catalogue: services, kinds, verbs with their levels, and which actions apply where.

pub use crate::action_set::ActionSet;
use std::fmt;
use std::sync::{Mutex, PoisonError};

use rustc_hash::FxHashMap;

use crate::declaration::{self, Named};
use crate::id::{ActionId, KindId, ScopeId, ServiceId};
use crate::origin::Origin;
use crate::pattern::action::ActionPattern;
use crate::principal::Principal;
use crate::request::TargetPlace;
use crate::scope::ScopeType;

/// How far a verb reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Level {
    /// See.
    Observe,
    /// Run, without lasting change.
    Operate,
    /// Create, change, delete.
    Alter,
    /// Change who can do what.
    Govern,
}

impl Level {
    /// All four, from the mildest.
    pub const ALL: [Self; 4] = [Self::Observe, Self::Operate, Self::Alter, Self::Govern];

    /// The word for it in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["observe", "operate", "alter", "govern"][self as usize]
    }

    /// The level of a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|level| level.word() == word)
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// A heading for kinds.
#[derive(Debug)]
pub struct Service {
    /// Its name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it is declared.
    pub origin: Origin,
}

/// A kind of thing.
#[derive(Debug)]
pub struct Kind {
    /// Its name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// The service it stands under.
    pub service: Option<ServiceId>,
    /// Its actions, in order of verbs.
    pub actions: std::ops::Range<usize>,
    /// Kinds of the undeclared things below one of these.
    pub items: Box<[KindId]>,
    /// Kinds of declared things that may be made in one of these.
    pub holds: Box<[KindId]>,
    /// Where it is declared.
    pub origin: Origin,
}

/// What an action addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Addresses {
    /// The thing itself.
    Itself,
    /// The whole account.
    Account,
    /// The scope that will hold the new thing.
    Parent,
}

/// What can be done to a kind of thing.
#[derive(Debug)]
pub struct Action {
    /// `KIND.VERB`
    pub name: Box<str>,
    /// Its kind.
    pub kind: KindId,
    /// How far it reaches.
    pub level: Level,
    /// What it addresses.
    pub addresses: Addresses,
}

impl Action {
    /// The part after the dot.
    #[must_use]
    pub fn verb(&self) -> &str {
        self.name.split_once('.').map_or("", |(_, verb)| verb)
    }
}

/// What a target is, as far as the catalogue cares (spec section 5, "Which actions apply").
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum TargetClass {
    /// An account.
    Account,
    /// A subscription.
    Subscription,
    /// A resource or namespace of this kind; `None`: a namespace whose kind is not catalogued.
    Declared(Option<KindId>),
    /// An item below a resource or namespace of this kind.
    Item(Option<KindId>),
    /// A user with a place.
    User,
    /// A group with a place.
    Group,
    /// A role with a place.
    Role,
    /// A policy with a place.
    Policy,
}

impl TargetClass {
    /// A declared scope's.
    pub(crate) fn of_scope(scope_type: ScopeType, kind: Option<KindId>) -> Self {
        match scope_type {
            ScopeType::Account => Self::Account,
            ScopeType::Subscription => Self::Subscription,
            ScopeType::Resource | ScopeType::Namespace => Self::Declared(kind),
        }
    }

    /// A user's, group's or role's that has a place; no resource is a target in this way.
    fn of_identity(who: Principal) -> Self {
        match who {
            Principal::User(_) => Self::User,
            Principal::Group(_) => Self::Group,
            Principal::Role(_) | Principal::Workload(_) => Self::Role,
        }
    }

    /// The class of the target in a place; `scope` gives the type and kind of a scope.
    pub(crate) fn of_place(
        place: TargetPlace,
        scope: impl Fn(ScopeId) -> (ScopeType, Option<KindId>),
    ) -> Self {
        match place {
            TargetPlace::Scope(id) => {
                let (scope_type, kind) = scope(id);
                Self::of_scope(scope_type, kind)
            }
            TargetPlace::Item(id) => Self::Item(scope(id).1),
            TargetPlace::Identity(who, _) => Self::of_identity(who),
            TargetPlace::Policy(..) => Self::Policy,
        }
    }
}

/// Services, kinds and actions of an estate, each sorted by name.
#[derive(Debug)]
pub struct Catalogue {
    /// Services by id.
    pub services: Vec<Service>,
    /// Kinds by id.
    pub kinds: Vec<Kind>,
    /// Actions by id: sorted by kind, then verb.
    pub actions: Vec<Action>,
    kind_ids: FxHashMap<Box<str>, KindId>,
    action_ids: FxHashMap<Box<str>, ActionId>,
    account: ActionSet,
    subscription: ActionSet,
    identities: [ActionSet; 4],
    declared: Vec<ActionSet>,
    items: Vec<ActionSet>,
    nothing: ActionSet,
    /// What it was made of.
    written: Written,
    /// What patterns of actions name, as far as that was worked out: many estates are built with the
    /// same catalogue and the same patterns.
    spelled: Mutex<FxHashMap<Box<str>, ActionSet>>,
}

/// Services and kinds as they are declared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Written {
    pub(crate) services: Vec<Named<()>>,
    pub(crate) kinds: Vec<Named<declaration::Kind>>,
}

/// Kinds that may be catalogued to give verbs to things of the spec's own, but are no kind for a
/// resource, a namespace or an item (spec section 2, spec-work section 7.2).
pub const RESERVED_KINDS: [&str; 6] =
    ["account", "subscription", "user", "group", "role", "policy"];

impl Catalogue {
    /// Indexes what the builder resolved; lists are sorted by name already.
    pub(crate) fn new(
        services: Vec<Service>,
        kinds: Vec<Kind>,
        actions: Vec<Action>,
        written: Written,
    ) -> Self {
        let kind_ids: FxHashMap<Box<str>, KindId> =
            kinds.iter().enumerate().map(|(i, kind)| (kind.name.clone(), KindId::new(i))).collect();
        let action_ids = actions
            .iter()
            .enumerate()
            .map(|(i, action)| (action.name.clone(), ActionId::new(i)))
            .collect();
        let pick = |wanted: &dyn Fn(&Action) -> bool| -> ActionSet {
            let mut set = ActionSet::with_capacity(actions.len());
            set.extend(actions.iter().enumerate().filter(|(_, a)| wanted(a)).map(|(i, _)| i));
            set
        };
        let itself = |name: &str| -> ActionSet {
            let kind = kind_ids.get(name).copied();
            pick(&|a| Some(a.kind) == kind && a.addresses == Addresses::Itself)
        };
        let on_any_parent = pick(&|a| a.addresses == Addresses::Parent);
        let mut subscription = itself("subscription");
        subscription.union_with(&on_any_parent);
        let mut account = itself("account");
        account.union_with(&on_any_parent);
        account.union_with(&pick(&|a| a.addresses == Addresses::Account));
        let ids = 0..kinds.len();
        let declared = ids
            .clone()
            .map(|i| {
                let (kind, id) = (&kinds[i], KindId::new(i));
                pick(&|a| match a.addresses {
                    Addresses::Itself => a.kind == id,
                    Addresses::Parent => {
                        kind.holds.contains(&a.kind) || kind.items.contains(&a.kind)
                    }
                    Addresses::Account => false,
                })
            })
            .collect();
        let items = ids
            .map(|i| {
                let kind = &kinds[i];
                pick(&|a| a.addresses == Addresses::Itself && kind.items.contains(&a.kind))
            })
            .collect();
        let identities = ["user", "group", "role", "policy"].map(itself);
        let nothing = ActionSet::with_capacity(actions.len());
        Self {
            account,
            subscription,
            identities,
            declared,
            items,
            nothing,
            kind_ids,
            action_ids,
            services,
            kinds,
            actions,
            written,
            spelled: Mutex::default(),
        }
    }

    /// Whether it was made of these.
    pub(crate) fn is_written_as(
        &self,
        services: &[Named<()>],
        kinds: &[Named<declaration::Kind>],
    ) -> bool {
        self.written.services == services && self.written.kinds == kinds
    }

    /// The actions that a pattern names, whether or not it excludes them.
    pub(crate) fn named_by(&self, pattern: &ActionPattern<'_>, text: &str) -> ActionSet {
        let locked = || self.spelled.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = locked().get(text) {
            return known.clone();
        }
        let mut set = ActionSet::with_capacity(self.actions.len());
        let named = self.actions.iter().enumerate().filter(|(_, action)| pattern.names(action));
        set.extend(named.map(|(i, _)| i));
        locked().insert(text.into(), set.clone());
        set
    }

    /// The kind of a name.
    #[must_use]
    pub fn find_kind(&self, name: &str) -> Option<KindId> {
        self.kind_ids.get(name).copied()
    }

    /// The action of `KIND.VERB`.
    #[must_use]
    pub fn find_action(&self, name: &str) -> Option<ActionId> {
        self.action_ids.get(name).copied()
    }

    /// A kind.
    #[must_use]
    pub fn kind(&self, id: KindId) -> &Kind {
        &self.kinds[id.index()]
    }

    /// An action.
    #[must_use]
    pub fn action(&self, id: ActionId) -> &Action {
        &self.actions[id.index()]
    }

    /// The ids of all actions.
    pub fn action_ids(&self) -> impl Iterator<Item = ActionId> + use<> {
        (0..self.actions.len()).map(ActionId::new)
    }

    /// The id of an action's position in [`Catalogue::actions`].
    ///
    /// # Panics
    /// When there is no such position.
    #[must_use]
    pub fn action_at(&self, position: usize) -> ActionId {
        assert!(position < self.actions.len(), "position {position} is no action's");
        ActionId::new(position)
    }

    /// The actions that apply to a target of this class (spec section 5).
    #[must_use]
    pub fn applicable(&self, class: TargetClass) -> &ActionSet {
        match class {
            TargetClass::Account => &self.account,
            TargetClass::Subscription => &self.subscription,
            TargetClass::Declared(kind) => {
                kind.map_or(&self.nothing, |k| &self.declared[k.index()])
            }
            TargetClass::Item(kind) => kind.map_or(&self.nothing, |k| &self.items[k.index()]),
            TargetClass::User => &self.identities[0],
            TargetClass::Group => &self.identities[1],
            TargetClass::Role => &self.identities[2],
            TargetClass::Policy => &self.identities[3],
        }
    }
}
