//! What a change touches, and where it is asked whether somebody may touch it (spec-work section
//! 7.4).

use crate::estate::Estate;
use crate::impact::{Difference, SameFiles, Thing, differences};
use crate::principal::Principal;
use crate::scope::ScopeType;

/// Something that a change touches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Touch {
    /// What differs, and where it stands in both estates.
    pub difference: Difference,
    /// What has to be asked for it.
    pub needs: Needs,
}

/// What has to be asked for a touch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Needs {
    /// Only the files' owner makes it: why.
    FilesOwner(&'static str),
    /// One of the actions that are named for this key.
    Right {
        /// A key of [`EDIT_KEYS`](super::EDIT_KEYS).
        key: &'static str,
        /// The path that it is asked on; `None` where the thing has no place.
        on: Option<String>,
        /// Whether that is new, so that it is asked of an estate that has it, bare.
        is_new: bool,
        /// Of a new scope its kind: only this kind's own actions count.
        of_kind: Option<String>,
    },
}

/// The keys of one sort of thing: new, gone, attributes, and all others.
struct Keys {
    new: &'static str,
    delete: &'static str,
    attributes: &'static str,
    settings: &'static str,
}

const USER: Keys = Keys {
    new: "user.new",
    delete: "user.delete",
    attributes: "user.attributes",
    settings: "user.settings",
};
const GROUP: Keys = Keys {
    new: "group.new",
    delete: "group.delete",
    attributes: "group.attributes",
    settings: "group.settings",
};
const ROLE: Keys = Keys {
    new: "role.new",
    delete: "role.delete",
    attributes: "role.attributes",
    settings: "role.settings",
};
const POLICY: Keys = Keys {
    new: "policy.new",
    delete: "policy.delete",
    // A policy has none.
    attributes: "policy.settings",
    settings: "policy.settings",
};

const LOCKED: &str = "the policy is locked";

/// Everything that a change touches, thing by thing.
#[must_use]
pub fn touches(before: &Estate, after: &Estate, same: &SameFiles) -> Vec<Touch> {
    let mut found = Vec::new();
    for difference in differences(before, after, same) {
        let needs = Changed { before, after, difference: &difference }.needs();
        found
            .extend(needs.into_iter().map(|needs| Touch { difference: difference.clone(), needs }));
    }
    if before.name != after.name {
        let difference = Difference {
            thing: Thing::Name,
            keys: vec!["name"],
            before: None,
            after: None,
            says: String::new(),
        };
        found.push(Touch { difference, needs: Needs::FilesOwner("the estate itself") });
    }
    found
}

/// One thing that differs.
struct Changed<'d> {
    before: &'d Estate,
    after: &'d Estate,
    difference: &'d Difference,
}

impl Changed<'_> {
    fn needs(&self) -> Vec<Needs> {
        match &self.difference.thing {
            Thing::User(name) => self.of_identity(&USER, &format!("user:{name}"), name),
            Thing::Group(name) => self.of_identity(&GROUP, &format!("group:{name}"), name),
            Thing::Role(name) => self.of_identity(&ROLE, &format!("role:{name}"), name),
            Thing::Policy(name) => self.of_policy(name),
            Thing::Scope(path) => self.of_scope(path),
            Thing::Attachment { policy, at, .. } => {
                let (is_locked, has_deny) = self.policy(policy);
                match (is_locked, has_deny) {
                    (true, true) => vec![Needs::FilesOwner(LOCKED)],
                    (_, true) => vec![self.on_scope("scope.limit", at)],
                    (_, false) => vec![self.on_scope("scope.attach", at)],
                }
            }
            Thing::Ceiling { policy, over, .. } => {
                if self.policy(policy).0 {
                    return vec![Needs::FilesOwner(LOCKED)];
                }
                match over {
                    Some(over) => vec![self.on_scope("scope.limit", over)],
                    None => self.accounts().map(|at| self.on_scope("scope.limit", &at)).collect(),
                }
            }
            Thing::Kind(_) | Thing::Service(_) => vec![Needs::FilesOwner("the catalogue")],
            Thing::Preset(_) => vec![Needs::FilesOwner("presets")],
            Thing::Review(_) => vec![Needs::FilesOwner("reviews")],
            Thing::Application(_) => vec![Needs::FilesOwner("applications")],
            Thing::Source(_) => vec![Needs::FilesOwner("sources of people")],
            Thing::Attribute(_) => vec![Needs::FilesOwner("declared attributes")],
            Thing::Expectation(_) => vec![Needs::FilesOwner("expectations")],
            Thing::Vet | Thing::Accepted(..) => vec![Needs::FilesOwner("what vet is told")],
            Thing::EditRights => vec![Needs::FilesOwner("the edit rights themselves")],
            Thing::Name => vec![Needs::FilesOwner("the estate itself")],
        }
    }

    fn is_new(&self) -> bool {
        self.difference.before.is_none()
    }

    fn is_gone(&self) -> bool {
        self.difference.after.is_none()
    }

    fn differs(&self, keys: &[&str]) -> bool {
        self.difference.keys.iter().any(|key| keys.contains(key))
    }

    /// A right at a scope of either estate.
    fn on_scope(&self, key: &'static str, path: &str) -> Needs {
        let is_new = self.before.scopes.find(path).is_none();
        Needs::Right { key, on: Some(path.to_owned()), is_new, of_kind: None }
    }

    /// Whether one of both estates says that a policy is locked, and whether it has a deny in one.
    fn policy(&self, name: &str) -> (bool, bool) {
        let in_both = [self.before, self.after]
            .into_iter()
            .filter_map(|estate| Some((estate, estate.find_policy(name)?)));
        in_both.fold((false, false), |(is_locked, has_deny), (estate, id)| {
            let is_one_locked = estate.is_locked(id);
            (is_locked || is_one_locked, has_deny || !estate.policy(id).denies.is_empty())
        })
    }

    /// The paths of the accounts of both estates.
    fn accounts(&self) -> impl Iterator<Item = String> {
        let of = |estate: &Estate| -> Vec<String> {
            let accounts = estate.scopes.iter().filter(|(_, scope)| scope.parent.is_none());
            accounts.map(|(_, scope)| scope.path.to_string()).collect()
        };
        let mut all = [of(self.before), of(self.after)].concat();
        all.sort_unstable();
        all.dedup();
        all.into_iter()
    }

    fn of_identity(&self, keys: &Keys, id: &str, name: &str) -> Vec<Needs> {
        let place = |estate: &Estate| {
            let place = estate.identity(estate.find_principal(id)?)?.place?;
            Some(estate.scope(place).path.to_string())
        };
        let places = [place(self.before), place(self.after)];
        let has = |estate: &Estate| {
            let Some(who) = estate.find_principal(id) else { return false };
            let has_own = estate.identity(who).is_some_and(|it| it.attributes.iter().count() > 0);
            has_own || matches!(who, Principal::User(id) if estate.user(id).manager.is_some())
        };
        let is_user = keys.new == USER.new;
        let mut found = self.of_thing(keys, &places, name);
        let came_with = self.is_new() && has(self.after)
            || self.differs(&["place"]) && (has(self.before) || has(self.after));
        let mut touched: Vec<&'static str> = Vec::new();
        let by_key: [(&[&str], &'static str); 5] = [
            (&["enabled"], "user.state"),
            (&["attributes", "manager"], keys.attributes),
            (&["members", "members-when", "join", "asks"], "group.members"),
            (&["owners"], "group.owners"),
            (&["held-by", "taken-by"], "role.holders"),
        ];
        touched.extend(by_key.iter().filter(|(of, _)| self.differs(of)).map(|(_, key)| *key));
        if is_user && came_with && !touched.contains(&keys.attributes) {
            touched.push(keys.attributes);
        }
        touched.extend(self.differs(&["full-name", "about"]).then_some(keys.settings));
        found.extend(touched.into_iter().map(|key| self.on_thing(key, &places, name)));
        found
    }

    fn of_policy(&self, name: &str) -> Vec<Needs> {
        let place = |estate: &Estate| {
            let place = estate.policy(estate.find_policy(name)?).place?;
            Some(estate.scope(place).path.to_string())
        };
        let is_locked =
            self.before.find_policy(name).is_some_and(|policy| self.before.is_locked(policy));
        if is_locked {
            return vec![Needs::FilesOwner(LOCKED)];
        }
        let places = [place(self.before), place(self.after)];
        let mut found = self.of_thing(&POLICY, &places, name);
        if self.differs(&["include", "allow", "deny", "attachable"]) {
            found.push(self.on_thing("policy.statements", &places, name));
        }
        if self.differs(&["about"]) {
            found.push(self.on_thing("policy.settings", &places, name));
        }
        found
    }

    /// That it is new, gone or moved; and keys that are only the files' owner's.
    fn of_thing(&self, keys: &Keys, places: &[Option<String>; 2], name: &str) -> Vec<Needs> {
        let moved = self.differs(&["place"]);
        let mut found = Vec::new();
        if self.is_gone() || moved {
            found.push(self.on_thing(keys.delete, places, name));
        }
        if self.is_new() || moved {
            found.push(match &places[1] {
                Some(place) => self.on_scope(keys.new, place),
                None => Needs::Right { key: keys.new, on: None, is_new: true, of_kind: None },
            });
        }
        let of_nobody =
            [("locked", "whether a policy is locked"), ("source", "where it came from")];
        let of_nobody = of_nobody.iter().filter(|(key, _)| self.differs(&[key]));
        found.extend(of_nobody.map(|(_, why)| Needs::FilesOwner(why)));
        found
    }

    /// A right on the thing itself, where it stood before, or, if it is new, where it stands.
    fn on_thing(&self, key: &'static str, places: &[Option<String>; 2], name: &str) -> Needs {
        let place = if self.is_new() { &places[1] } else { &places[0] };
        let on = place.as_ref().map(|place| format!("{place}/{name}"));
        Needs::Right { key, on, is_new: self.is_new(), of_kind: None }
    }

    fn of_scope(&self, path: &str) -> Vec<Needs> {
        let find = |estate: &'_ Estate| estate.scopes.find(path);
        let has = |of: fn(&crate::scope::Scope) -> bool| {
            [self.before, self.after]
                .into_iter()
                .any(|estate| find(estate).is_some_and(|id| of(estate.scope(id))))
        };
        let replaced = self.differs(&["kind"]);
        let comes_or_goes = self.is_new() || self.is_gone() || replaced;
        let mut found = Vec::new();
        if self.is_gone() || replaced {
            found.push(self.on_scope("scope.delete", path));
        }
        if self.is_new() || replaced {
            found.push(self.new_scope(path));
        }
        if self.differs(&["sealed"]) || comes_or_goes && has(|scope| scope.sealed) {
            found.push(self.on_scope("scope.seal", path));
        }
        let has_attributes = has(|scope| scope.attributes.iter().count() > 0);
        if self.differs(&["attributes"]) || comes_or_goes && has_attributes {
            found.push(self.on_scope("scope.attributes", path));
        }
        if self.differs(&["about"]) {
            found.push(self.on_scope("scope.settings", path));
        }
        found
    }

    fn new_scope(&self, path: &str) -> Needs {
        let (Some(id), Some((parent, _))) = (self.after.scopes.find(path), path.rsplit_once('/'))
        else {
            return Needs::FilesOwner("a new account");
        };
        let scope = self.after.scope(id);
        let kind = scope.kind.map(|kind| self.after.catalogue.kind(kind).name.to_string());
        let word = |scope_type: ScopeType| scope_type.word().to_owned();
        let of_kind = Some(kind.unwrap_or_else(|| word(scope.scope_type)));
        let is_new = self.before.scopes.find(parent).is_none();
        Needs::Right { key: "scope.new", on: Some(parent.to_owned()), is_new, of_kind }
    }
}
