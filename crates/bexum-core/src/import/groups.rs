//! Groups: their members as the source has them, and what is gone.

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Import, Importing, Team, carries, is_of};
use crate::declaration::{Declarations, Element, Group, Imported, WindowWritten};
use crate::edit::same_files;
use crate::engine::Engine;
use crate::estate::Estate;
use crate::impact::opens_anything;
use crate::origin::{Origin, Spanned};
use crate::prove::Opened;
use crate::time::{Phase, Time, Window};

fn spanned<T>(value: T) -> Spanned<T> {
    Spanned::new(value, Origin::default())
}

fn window_of(written: &WindowWritten) -> Window {
    Window {
        from: written.from.as_ref().map(|at| at.value),
        until: written.until.as_ref().map(|at| at.value),
    }
}

impl Importing<'_> {
    pub(super) fn groups(&mut self) {
        let (people, source, declared) = (self.people, self.terms.source, self.declared);
        let lower: FxHashSet<String> =
            self.groups.keys().map(|name| name.to_ascii_lowercase()).collect();
        let mut in_files: FxHashSet<usize> = FxHashSet::default();
        let mut each: Vec<(&Team, usize)> = Vec::new();
        // All of them first, since they hold each other.
        for team in &people.groups {
            let known = self.groups.get(&*team.name).copied();
            if known.is_none() && lower.contains(&team.name.to_ascii_lowercase()) {
                let message = format!(
                    "a group is here already whose name differs from `{}` in case alone",
                    team.name
                );
                self.complain(&team.place, message, None);
                continue;
            }
            let at = match known {
                Some(at) => {
                    let imported = self.group(at).imported.clone();
                    let Some(is_adopted) = self.may_be("group", &team.name, &imported, &team.place)
                    else {
                        continue;
                    };
                    if is_adopted {
                        self.made.adopted.push(format!("group:{}", team.name));
                    }
                    at
                }
                None => {
                    let name = spanned(team.name.clone());
                    let groups = &mut self.made.people.groups;
                    let at = groups.add(&declared.groups, name, Group::default());
                    self.made.new.push(format!("group:{}", team.name));
                    self.groups.insert(&team.name, at);
                    at
                }
            };
            let imported = &self.group(at).imported;
            let id = team.id.as_ref().or(imported.source_id.as_ref());
            if !carries(imported, source) || imported.source_id.as_ref() != id {
                let (source, source_id) = (Some(source.to_owned()), id.cloned());
                self.made.people.groups.get_mut(&declared.groups, at).imported =
                    Imported { source, source_id };
            }
            in_files.insert(at);
            each.push((team, at));
        }
        if people.speaks_of.members {
            let persons: FxHashSet<String> =
                people.persons.iter().map(|one| format!("user:{}", one.name)).collect();
            for (team, at) in &each {
                self.members(team, *at, &persons);
            }
            self.refuse_loops(&each);
        }
        if people.speaks_of.groups {
            // Of those that are new, all are in the files.
            let carried = declared.groups.iter().enumerate();
            let gone = carried
                .filter(|(at, one)| !in_files.contains(at) && carries(&one.body.imported, source))
                .filter(|(_, one)| one.body.members.iter().flatten().any(|one| !is_workload(one)));
            self.made.gone_groups = gone.map(|(at, _)| at).collect();
        }
    }

    /// The members of a group: users and groups as the source says. What is not in the files stays where
    /// its time has not come, or where it is a person who is gone; what is over goes.
    fn members(&mut self, team: &Team, at: usize, persons: &FxHashSet<String>) {
        let mut wanted: Vec<(String, Window)> = Vec::new();
        let mut seen: FxHashSet<String> = FxHashSet::default();
        for reference in &team.members {
            match self.find(reference, &["user", "group"]) {
                Some((kind, name)) => {
                    let who = format!("{kind}:{name}");
                    if seen.insert(who.clone()) {
                        wanted.push((who, reference.window));
                    }
                }
                None => {
                    let message = format!(
                        "the member `{}` of `group:{}` is neither in the files nor here",
                        reference.to, team.name
                    );
                    self.not_taken(&reference.place, message);
                }
            }
        }
        let now = self.terms.now;
        let before = self.group(at).members.clone();
        let mut stays: FxHashSet<&str> = FxHashSet::default();
        let mut after: Vec<Element> = Vec::new();
        for element in before.iter().flatten() {
            let who = element.who.value.as_str();
            let stays_here = is_workload(element)
                || match window_of(&element.window).phase(now) {
                    Phase::Past => false,
                    Phase::Future => true,
                    Phase::Open => seen.contains(who) || self.is_gone(who, persons),
                };
            if stays_here {
                stays.insert(who);
                after.push(element.clone());
            } else {
                self.made.left += 1;
            }
        }
        for (who, window) in &wanted {
            if stays.contains(who.as_str()) || window.phase(now) == Phase::Past {
                continue;
            }
            let window =
                WindowWritten { from: window.from.map(spanned), until: window.until.map(spanned) };
            after.push(Element { who: spanned(who.clone()), window });
            self.made.joined += 1;
        }
        if before.as_ref().map_or(&[][..], |old| old) != after {
            let groups = &mut self.made.people.groups;
            groups.get_mut(&self.declared.groups, at).members = Some(after);
        }
    }

    /// Whether it is a user who carries the source and is not in files that speak of persons.
    fn is_gone(&self, who: &str, persons: &FxHashSet<String>) -> bool {
        let user = who.strip_prefix("user:").and_then(|name| self.users.get(name));
        let user = user.map(|at| &self.user(*at).imported);
        self.people.speaks_of.persons
            && !persons.contains(who)
            && user.is_some_and(|imported| carries(imported, self.terms.source))
    }

    /// Groups of the files that would hold each other in a ring.
    fn refuse_loops(&mut self, each: &[(&Team, usize)]) {
        let groups = &self.made.people.groups;
        let inner = |at: usize| {
            let held = groups.get(&self.declared.groups, at).members.iter().flatten();
            let names = held.filter_map(|one| one.who.value.strip_prefix("group:"));
            names.filter_map(|name| self.groups.get(name).copied()).collect::<Vec<usize>>()
        };
        let places: FxHashMap<usize, &str> =
            each.iter().map(|(team, at)| (*at, team.place.as_str())).collect();
        // Of each group: not looked at, under way, done.
        let mut state = vec![0_u8; groups.count(&self.declared.groups)];
        let mut found: Vec<(usize, Vec<usize>)> = Vec::new();
        for (_, start) in each {
            if state[*start] != 0 {
                continue;
            }
            let mut way: Vec<(usize, Vec<usize>)> = vec![(*start, inner(*start))];
            state[*start] = 1;
            while let Some((at, left)) = way.last_mut() {
                let Some(next) = left.pop() else {
                    state[*at] = 2;
                    way.pop();
                    continue;
                };
                match state[next] {
                    0 => {
                        state[next] = 1;
                        way.push((next, inner(next)));
                    }
                    1 => {
                        let ring = way.iter().map(|(at, _)| *at).skip_while(|at| *at != next);
                        found.push((next, ring.chain([next]).collect()));
                    }
                    _ => {}
                }
            }
        }
        for (at, ring) in found {
            let name = |at: &usize| self.made.people.groups.name(&self.declared.groups, *at);
            let names = ring.iter().take(9).map(|at| format!("group:{}", name(at)));
            let names: Vec<String> = names.collect();
            let known = ring.iter().find_map(|at| places.get(at)).or(places.get(&at));
            let place = known.copied().unwrap_or("the files").to_owned();
            self.complain(
                &place,
                format!("groups hold each other in a ring: {}", names.join(" > ")),
                None,
            );
        }
    }
}

/// Whether it is neither a user nor a group: no source speaks of those.
fn is_workload(element: &Element) -> bool {
    !is_of(&element.who.value, "user") && !is_of(&element.who.value, "group")
}

impl Import {
    /// Empties the groups that are gone, each where that opens nothing to anybody, now or later: those
    /// that were, and those that stay as they are because it would, or that could not be found out.
    ///
    /// `before` is the estate that the import is made to, which `declared` makes.
    pub fn empty_gone_groups(
        &mut self,
        declared: &Declarations,
        before: &Estate,
        now: Time,
    ) -> (Vec<String>, Vec<String>) {
        let (mut emptied, mut kept) = (Vec::new(), Vec::new());
        if self.gone_groups.is_empty() {
            return (emptied, kept);
        }
        let mut so_far = self.people.applied(declared);
        let mut engine: Option<Engine> = None;
        for at in std::mem::take(&mut self.gone_groups) {
            let mut changed = so_far.clone();
            let group = &mut changed.groups[at];
            let id = format!("group:{}", group.name.value);
            group.body.members.get_or_insert_default().retain(is_workload);
            let opens = (|| {
                if engine.is_none() {
                    let estate = Estate::build_beside(&so_far, before).ok()?;
                    engine = Some(Engine::new(estate));
                }
                let now_is = engine.as_ref()?;
                let after = Estate::build_beside(&changed, now_is.estate()).ok()?;
                let after = Engine::new(after);
                let same = same_files(&so_far, &changed);
                let everybody = after
                    .estate()
                    .principals()
                    .map(|who| after.estate().principal_id(who))
                    .collect();
                let opens = opens_anything([now_is, &after], &same, &everybody, now);
                Some((opens, after))
            })();
            match opens {
                Some((Opened::No, after)) => {
                    let body = changed.groups[at].body.clone();
                    self.people.groups.set(&declared.groups, at, body);
                    so_far = changed;
                    engine = Some(after);
                    emptied.push(id);
                }
                _ => kept.push(id),
            }
        }
        (emptied, kept)
    }
}
