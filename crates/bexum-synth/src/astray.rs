//! Somebody who is in a group by mistake, for whoever looks for such.

use crate::model::{Group, Model, Whom};

/// Who is in a group by mistake: nobody else of their team is, and they never do anything through it.
#[derive(Debug, Default)]
pub(crate) struct Astray {
    pub(crate) user: usize,
    pub(crate) group: usize,
    /// The scopes at which something is attached to the group, to one around it, or to their roles.
    pub(crate) places: Vec<usize>,
}

impl Model {
    /// The names of who is in a group by mistake, and of that group.
    #[must_use]
    pub fn astray(&self) -> (&str, &str) {
        (&self.users[self.astray.user].name, &self.groups[self.astray.group].name)
    }

    /// Puts somebody who is enabled into the group that has the fewest things, of those of some size
    /// whose members are all of another team.
    pub(crate) fn lead_astray(&mut self) {
        let mut found: Option<Astray> = None;
        let is_some_size = |group: &Group| (6..40).contains(&group.users.len());
        let fitting = self.groups.iter().enumerate().filter(|(_, group)| is_some_size(group));
        for (i, group) in fitting.take(100) {
            let places = self.places_of(i);
            if places.is_empty()
                || found.as_ref().is_some_and(|one| one.places.len() <= places.len())
            {
                continue;
            }
            let is_apart = |user: &usize| {
                let mut all = group.users.iter().chain(&group.guests);
                let team = self.users[*user].team;
                self.users[*user].enabled && all.all(|other| self.users[*other].team != team)
            };
            if let Some(user) = (self.users.len() / 2..self.users.len()).find(is_apart) {
                found = Some(Astray { user, group: i, places });
            }
        }
        if let Some(found) = found {
            self.groups[found.group].users.push(found.user);
            self.astray = found;
        }
    }

    /// The scopes at which something is attached to a group, to those around it, or to their roles.
    fn places_of(&self, group: usize) -> Vec<usize> {
        let mut around = vec![group];
        let mut next = 0;
        while let Some(inner) = around.get(next).copied() {
            next += 1;
            let holds = |outer: &usize| {
                self.groups[*outer].groups.contains(&inner) && !around.contains(outer)
            };
            let more: Vec<usize> = (0..self.groups.len()).filter(holds).collect();
            around.extend(more);
        }
        let is_theirs = |role: usize| {
            let role = &self.roles[role];
            role.held_by.iter().chain(&role.taken_by).any(|group| around.contains(group))
        };
        let is_to_them = |to: Whom| match to {
            Whom::Group(group) => around.contains(&group),
            Whom::Role(role) => is_theirs(role),
            Whom::Everyone | Whom::User(_) => false,
        };
        let attached = self.attachments.iter().filter(|one| is_to_them(one.to));
        attached.map(|one| one.at).collect()
    }
}
