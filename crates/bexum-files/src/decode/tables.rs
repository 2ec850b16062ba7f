//! Every table of the spec's section 2, key by key.

use bexum_core::catalogue::Level;
use bexum_core::declaration::{
    Attachment, Ceiling, EditRights, Group, Imported, Kind, Named, Policy, Role, Scope, Statement,
    User,
};
use bexum_core::edit_rights::EDIT_KEYS;
use bexum_core::expectation::Claim;
use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::name::nearest;
use bexum_core::origin::{FileId, Spanned};
use bexum_core::policy::Effect;
use bexum_core::principal::Join;
use bexum_core::scope::ScopeType;
use toml::de::{DeString, DeTable, DeValue};

use super::reader::{Reader, Value};
use super::value;
use super::{Decoded, applications, attributes, expectations, reviews, vet};

/// The top of one file.
pub(super) struct Tables<'d> {
    pub(super) file: FileId,
    pub(super) is_root: bool,
    pub(super) decoded: &'d mut Decoded,
}

impl Tables<'_> {
    pub(super) fn read(&mut self, document: &DeTable<'_>) {
        for (key, entry) in document.iter() {
            let name = key.get_ref().as_ref();
            match name {
                "estate" => self.read_estate(entry),
                "edit-rights" => self.read_edit_rights(key, entry),
                "vet" => match entry.get_ref().as_table() {
                    Some(rules) => vet::settings(self.file, key, rules, self.decoded),
                    None => self.wrong("vet", "a table", entry),
                },
                "vet-accept" => {
                    self.each_in_array("vet-accept", "an acceptance", entry, |reader, all| {
                        all.declared.accepted.extend(vet::accepted(reader));
                    });
                }
                "attributes" => match entry.get_ref().as_table() {
                    Some(roots) => attributes::read(self.file, roots, self.decoded),
                    None => self.wrong("attributes", "a table of tables", entry),
                },
                "attach" => self.each_in_array("attach", "an attachment", entry, |reader, all| {
                    all.declared.attachments.extend(attachment(reader));
                }),
                "ceiling" => self.each_in_array("ceiling", "a ceiling", entry, |reader, all| {
                    all.declared.ceilings.extend(ceiling(reader));
                }),
                "check" => self.each_in_array("check", "a check", entry, |reader, all| {
                    all.declared.checks.extend(expectations::check(reader));
                }),
                "never" => self.each_in_array("never", "a law", entry, |reader, all| {
                    all.declared.laws.extend(expectations::law(reader, Claim::Never));
                }),
                "always" => self.each_in_array("always", "a law", entry, |reader, all| {
                    all.declared.laws.extend(expectations::law(reader, Claim::Always));
                }),
                "apart" => self.each_in_array("apart", "a separation", entry, |reader, all| {
                    all.declared.separations.extend(expectations::separation(reader));
                }),
                "service" => self.each_named(name, "a service", entry, |reader, name, all| {
                    reader.only(&[]);
                    let about = reader.about();
                    all.declared.services.push(Named { name, about, body: () });
                }),
                "kind" => self.each_named(name, "a kind", entry, |reader, name, all| {
                    let body = kind(reader);
                    all.declared.kinds.push(Named { name, about: reader.about(), body });
                }),
                "account" => self.each_scope(ScopeType::Account, "an account", entry),
                "subscription" => self.each_scope(ScopeType::Subscription, "a subscription", entry),
                "resource" => self.each_scope(ScopeType::Resource, "a resource", entry),
                "namespace" => self.each_scope(ScopeType::Namespace, "a namespace", entry),
                "user" => self.each_named(name, "a user", entry, |reader, name, all| {
                    let body = user(reader);
                    all.declared.users.push(Named { name, about: reader.about(), body });
                }),
                "group" => self.each_named(name, "a group", entry, |reader, name, all| {
                    let body = group(reader);
                    all.declared.groups.push(Named { name, about: reader.about(), body });
                }),
                "role" => self.each_named(name, "a role", entry, |reader, name, all| {
                    let body = role(reader);
                    all.declared.roles.push(Named { name, about: reader.about(), body });
                }),
                "preset" => self.each_named(name, "a preset", entry, |reader, name, all| {
                    let body = group(reader);
                    all.declared.presets.push(Named { name, about: reader.about(), body });
                }),
                "review" => self.each_named(name, "a review", entry, |reader, name, all| {
                    let body = reviews::review(reader);
                    let about = reader.about();
                    all.declared.reviews.extend(body.map(|body| Named { name, about, body }));
                }),
                "source" => self.each_named(name, "a source", entry, |reader, name, all| {
                    let (body, about) = (applications::source(reader), reader.about());
                    all.declared.sources.push(Named { name, about, body });
                }),
                "application" => {
                    self.each_named(name, "an application", entry, |reader, name, all| {
                        let (body, about) = (applications::application(reader), reader.about());
                        all.declared.applications.push(Named { name, about, body });
                    });
                }
                "policy" => self.each_named(name, "a policy", entry, |reader, name, all| {
                    let body = policy(reader);
                    all.declared.policies.push(Named { name, about: reader.about(), body });
                }),
                "about" if entry.get_ref().is_str() => {}
                _ => {
                    let fault = Fault::UnknownTable {
                        name: name.to_owned(),
                        nearest: nearest(name, bexum_core::TABLES),
                    };
                    let origin = value::origin(self.file, key.span());
                    self.decoded.faults.push(LocatedFault::new(fault, origin));
                }
            }
        }
    }

    fn wrong(&mut self, key: &str, expected: &'static str, value: &Value<'_>) {
        let found = value::type_in_words(value.get_ref());
        let fault = Fault::WrongType { key: key.to_owned(), expected, found };
        let origin = value::origin(self.file, value.span());
        self.decoded.faults.push(LocatedFault::new(fault, origin));
    }

    fn read_estate(&mut self, entry: &Value<'_>) {
        let origin = value::origin(self.file, entry.span());
        if !self.is_root {
            self.decoded.faults.push(LocatedFault::new(Fault::EstateElsewhere, origin));
            return;
        }
        self.decoded.estate = Some(String::new());
        let Some(table) = entry.get_ref().as_table() else {
            return self.wrong("estate", "a table", entry);
        };
        let faults = &mut self.decoded.faults;
        let mut reader = Reader { file: self.file, faults, what: "`[estate]`", table, origin };
        reader.only(&["name", "format"]);
        reader.about();
        reader.expect_all(&["name", "format"]);
        let name = reader.text("name");
        if let Some(written) = reader.get("format") {
            match written.get_ref() {
                DeValue::Integer(number) => {
                    let number = value::integer(number).unwrap_or(i64::MAX);
                    if number != 1 {
                        let origin = reader.origin_of(written);
                        reader.faults.push(LocatedFault::new(Fault::Format(number), origin));
                    }
                }
                _ => reader.wrong("format", "the integer 1", written),
            }
        }
        self.decoded.estate = Some(name.map(|written| written.value).unwrap_or_default());
    }

    fn read_edit_rights(&mut self, key: &toml::Spanned<DeString<'_>>, entry: &Value<'_>) {
        let origin = value::origin(self.file, key.span());
        let Some(table) = entry.get_ref().as_table() else {
            return self.wrong("edit-rights", "a table", entry);
        };
        const KNOWN: &[&str] = &{
            let mut known = ["no-more-than-own"; EDIT_KEYS.len() + 1];
            let mut i = 0;
            while i < EDIT_KEYS.len() {
                known[i] = EDIT_KEYS[i];
                i += 1;
            }
            known
        };
        let faults = &mut self.decoded.faults;
        let mut reader = Reader { file: self.file, faults, what: "`[edit-rights]`", table, origin };
        reader.only(KNOWN);
        reader.about();
        let mut actions = Vec::new();
        for key in EDIT_KEYS {
            let Some((written, _)) = table.get_key_value(key) else { continue };
            let at = value::origin(reader.file, written.span());
            actions.extend(reader.list(key).map(|list| (Spanned::new(key.to_owned(), at), list)));
        }
        let no_more_than_own = reader.boolean("no-more-than-own", false);
        let rights = EditRights { actions, no_more_than_own, origin };
        self.decoded.declared.edit_rights.push(rights);
    }

    /// Calls `read` for each `[KEY.NAME]`.
    fn each_named(
        &mut self,
        key: &str,
        what: &'static str,
        entry: &Value<'_>,
        mut read: impl FnMut(&mut Reader<'_, '_>, Spanned<String>, &mut Decoded),
    ) {
        let Some(things) = entry.get_ref().as_table() else {
            return self.wrong(key, "a table of named tables", entry);
        };
        for (name, thing) in things.iter() {
            let Some(table) = thing.get_ref().as_table() else {
                self.wrong(name.get_ref(), "a table", thing);
                continue;
            };
            let origin = value::origin(self.file, name.span());
            let mut faults = std::mem::take(&mut self.decoded.faults);
            let mut reader = Reader { file: self.file, faults: &mut faults, what, table, origin };
            let name = Spanned::new(name.get_ref().to_string(), origin);
            read(&mut reader, name, self.decoded);
            self.decoded.faults = faults;
        }
    }

    fn each_scope(&mut self, scope_type: ScopeType, what: &'static str, entry: &Value<'_>) {
        self.each_named(scope_type.word(), what, entry, |reader, name, all| {
            let has_kind = matches!(scope_type, ScopeType::Resource | ScopeType::Namespace);
            let known: &'static [&'static str] = if has_kind {
                &["kind", "sealed", "attributes"]
            } else {
                &["sealed", "attributes"]
            };
            reader.only(known);
            if scope_type == ScopeType::Resource && reader.get("kind").is_none() {
                reader.missing("kind");
            }
            let body = Scope {
                scope_type,
                kind: if has_kind { reader.text("kind") } else { None },
                sealed: reader.boolean("sealed", false),
                attributes: reader.attributes("attributes"),
            };
            all.declared.scopes.push(Named { name, about: reader.about(), body });
        });
    }

    /// Calls `read` for each `[[KEY]]`.
    fn each_in_array(
        &mut self,
        key: &str,
        what: &'static str,
        entry: &Value<'_>,
        mut read: impl FnMut(&mut Reader<'_, '_>, &mut Decoded),
    ) {
        const EXPECTED: &str = "an array of tables (two brackets: `[[…]]`)";
        let Some(array) = entry.get_ref().as_array() else {
            return self.wrong(key, EXPECTED, entry);
        };
        for element in array.iter() {
            let Some(table) = element.get_ref().as_table() else {
                self.wrong(key, EXPECTED, element);
                continue;
            };
            let origin = value::origin(self.file, element.span());
            let mut faults = std::mem::take(&mut self.decoded.faults);
            let mut reader = Reader { file: self.file, faults: &mut faults, what, table, origin };
            read(&mut reader, self.decoded);
            self.decoded.faults = faults;
        }
    }
}

fn kind(reader: &mut Reader<'_, '_>) -> Kind {
    reader.only(&[
        "service",
        "observe",
        "operate",
        "alter",
        "govern",
        "account-wide",
        "on-parent",
        "items",
        "holds",
    ]);
    let mut verbs = Vec::new();
    for level in Level::ALL {
        verbs.extend(reader.names(level.word()).into_iter().map(|verb| (level, verb)));
    }
    Kind {
        service: reader.text("service"),
        verbs,
        account_wide: reader.names("account-wide"),
        on_parent: reader.names("on-parent"),
        items: reader.names("items"),
        holds: reader.names("holds"),
    }
}

fn user(reader: &mut Reader<'_, '_>) -> User {
    reader.only(&["full-name", "enabled", "manager", "place", "attributes", "source", "source-id"]);
    User {
        full_name: reader.text("full-name").map(|written| written.value),
        enabled: reader.boolean("enabled", true),
        manager: reader.text("manager"),
        imported: imported(reader),
        place: reader.text("place"),
        attributes: reader.attributes("attributes"),
    }
}

fn group(reader: &mut Reader<'_, '_>) -> Group {
    reader.only(&[
        "members",
        "members-when",
        "owners",
        "join",
        "place",
        "attributes",
        "asks",
        "source",
        "source-id",
    ]);
    Group {
        members: reader.elements("members"),
        members_when: reader.text("members-when"),
        owners: reader.list("owners").map(|list| list.value),
        join: reader
            .word("join", &["open", "approval", "closed"], &Join::ALL)
            .map(|join| join.value),
        asks: reader.asks("asks"),
        imported: imported(reader),
        place: reader.text("place"),
        attributes: reader.attributes("attributes"),
    }
}

fn imported(reader: &mut Reader<'_, '_>) -> Imported {
    let mut text = |key| reader.text(key).map(|written| written.value);
    Imported { source: text("source"), source_id: text("source-id") }
}

fn role(reader: &mut Reader<'_, '_>) -> Role {
    reader.only(&["held-by", "taken-by", "place", "attributes"]);
    Role {
        held_by: reader.elements("held-by").unwrap_or_default(),
        taken_by: reader.elements("taken-by").unwrap_or_default(),
        place: reader.text("place"),
        attributes: reader.attributes("attributes"),
    }
}

fn policy(reader: &mut Reader<'_, '_>) -> Policy {
    reader.only(&["include", "allow", "deny", "place", "locked", "attachable"]);
    let mut statements = Vec::new();
    for (key, effect) in [("allow", Effect::Allow), ("deny", Effect::Deny)] {
        const EXPECTED: &str = "an array of tables (two brackets: `[[policy.NAME.allow]]`)";
        let Some(entry) = reader.get(key) else { continue };
        let Some(array) = entry.get_ref().as_array() else {
            reader.wrong(key, EXPECTED, entry);
            continue;
        };
        for element in array.iter() {
            let Some(table) = element.get_ref().as_table() else {
                reader.wrong(key, EXPECTED, element);
                continue;
            };
            let origin = reader.origin_of(element);
            let faults = &mut *reader.faults;
            let mut inner =
                Reader { file: reader.file, faults, what: "a statement", table, origin };
            statements.extend(statement(&mut inner, effect));
        }
    }
    Policy {
        include: reader.names("include"),
        place: reader.text("place"),
        locked: reader.boolean("locked", false),
        attachable: reader.list("attachable"),
        statements,
    }
}

fn statement(reader: &mut Reader<'_, '_>, effect: Effect) -> Option<Statement> {
    reader.only(&["name", "do", "on", "when"]);
    reader.expect_all(&["do"]);
    let (name, about) = (reader.text("name"), reader.about());
    let (on, when) = (reader.list("on"), reader.text("when"));
    let actions = reader.list("do")?;
    Some(Statement { effect, name, about, actions, on, when, origin: reader.origin })
}

fn attachment(reader: &mut Reader<'_, '_>) -> Option<Attachment> {
    reader.only(&["policy", "to", "at", "from", "until"]);
    reader.expect_all(&["policy", "to", "at"]);
    let (window, about) = (reader.window(), reader.about());
    let (policy, to, at) = (reader.list("policy"), reader.list("to"), reader.list("at"));
    Some(Attachment { policy: policy?, to: to?, at: at?, window, about, origin: reader.origin })
}

fn ceiling(reader: &mut Reader<'_, '_>) -> Option<Ceiling> {
    reader.only(&["policy", "over", "for", "from", "until"]);
    reader.expect_all(&["policy"]);
    let (window, about) = (reader.window(), reader.about());
    let (over, bound) = (reader.list("over"), reader.list("for"));
    let policy = reader.list("policy")?;
    Some(Ceiling { policy, over, bound, window, about, origin: reader.origin })
}
