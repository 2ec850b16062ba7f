//! Who may edit what, and who asked to be let in.

use rustc_hash::FxHashMap;

use super::Builder;
use crate::catalogue::Catalogue;
use crate::declaration::{self, Declarations};
use crate::edit_rights::EditRights;
use crate::fault::{Fault, LocatedFault};
use crate::id::{ActionId, UserId};
use crate::name::nearest;
use crate::origin::{Origin, Spanned};
use crate::principal::{Ask, Membership, Principal};

impl Builder<'_> {
    pub(super) fn build_edit_rights(
        &mut self,
        declared: &Declarations,
        catalogue: &Catalogue,
    ) -> EditRights {
        let Some(first) = declared.edit_rights.first() else { return EditRights::default() };
        for more in &declared.edit_rights[1..] {
            let fault = Fault::Duplicate { what: "table", name: "edit-rights".to_owned() };
            let located = LocatedFault::new(fault, more.origin);
            self.faults.push(located.and_see(first.origin, "first declared here"));
        }
        let mut actions = Vec::new();
        for written in &declared.edit_rights {
            for (key, list) in &written.actions {
                self.refuse_empty("edit-rights", list);
                let found = self.resolve_list(&list.value, |builder, written| {
                    builder.find_action(written, catalogue)
                });
                let found = found.iter().map(|found| found.value).collect();
                actions.push((key.value.as_str().into(), found));
            }
        }
        let no_more_than_own = first.no_more_than_own;
        EditRights { actions, no_more_than_own, origin: Some(first.origin) }
    }

    fn find_action(
        &mut self,
        written: &Spanned<String>,
        catalogue: &Catalogue,
    ) -> Option<ActionId> {
        let found = catalogue.find_action(&written.value);
        if found.is_none() {
            let known = catalogue.actions.iter().map(|action| &*action.name);
            let nearest = self.near.spend().then(|| nearest(&written.value, known)).flatten();
            let (name, nearest) = (written.value.clone(), nearest.map(str::to_owned));
            self.fault(Fault::Undeclared { what: "action", name, nearest }, written.origin);
        }
        found
    }

    /// Who asked: each once, and nobody who is a member for good (spec-work section 7.3).
    pub(super) fn build_asks(
        &mut self,
        asks: &[declaration::Ask],
        members: Option<&[Membership]>,
    ) -> Box<[Ask]> {
        let mut first: FxHashMap<UserId, Origin> = FxHashMap::default();
        let mut built = Vec::with_capacity(asks.len());
        for ask in asks {
            let Some(who) = self.find_user(&ask.who) else { continue };
            let endless = members
                .into_iter()
                .flatten()
                .find(|member| member.who == Principal::User(who) && member.window.until.is_none());
            let before = first.insert(who, ask.who.origin);
            let refused = match (before, endless) {
                (Some(before), _) => Some((before, "did so already", "first here")),
                (_, Some(member)) => Some((member.origin, "is a member already", "a member here")),
                _ => None,
            };
            if let Some((place, why, label)) = refused {
                let fault = Fault::NeedNotAsk { who: ask.who.value.clone(), why };
                self.faults.push(LocatedFault::new(fault, ask.who.origin).and_see(place, label));
                continue;
            }
            let why = ask.why.as_deref().map(Into::into);
            built.push(Ask { who, at: ask.at, why });
        }
        built.into()
    }
}
