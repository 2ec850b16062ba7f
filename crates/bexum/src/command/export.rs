//! `bexum export`: people and access as tables, SCIM resources or JSON.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write as _};
use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use bexum_core::application::Signing;
use bexum_core::attribute::Value as Attribute;
use bexum_core::catalogue::ActionSet;
use bexum_core::engine::Engine;
use bexum_core::principal::{Imported, Membership, Principal};
use bexum_core::time::{Phase, Window};
use bexum_core::{Estate, Request, RequestFault, Time};
use bexum_wire::claims::SignIn;
use bexum_wire::common::value_json;
use serde_json::{Map, Value, json};

use super::{circumstances, reach};
use crate::args::import::{Export, ExportFormat, What};
use crate::exit::Exit;
use crate::render::phrases;
use crate::render::reach_csv::Asked;
use crate::render::rows::Rows;
use crate::terminal;

const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
const LIST: &str = "urn:ietf:params:scim:api:messages:2.0:ListResponse";

pub(super) fn run(at: Option<&Path>, typed: &Export) -> anyhow::Result<Exit> {
    if typed.format == ExportFormat::Scim && !matches!(typed.what, What::Users | What::Groups) {
        bail!("SCIM knows users and groups alone: take `--format csv` or `json`");
    }
    if !typed.who.is_empty() && typed.what != What::Reach {
        bail!("`--who` goes with `reach`");
    }
    let loaded = super::load(at)?;
    let engine = Engine::new(Arc::clone(&loaded.estate));
    let (request, _) = circumstances::request(&typed.circumstances)?;
    if typed.what == What::Reach {
        return reach_rows(&engine, typed, request);
    }
    let exporting = Exporting { engine: &engine, at: request.time, format: typed.format };
    terminal::unless_gone(match typed.what {
        What::Users => exporting.users(),
        What::Groups => exporting.groups(),
        What::Memberships => exporting.memberships(),
        What::Attachments => exporting.attachments(),
        What::Policies => exporting.policies(),
        What::Applications | What::Reach => exporting.applications(),
    })?;
    Ok(Exit::Done)
}

/// What everybody can do, or some.
fn reach_rows(engine: &Engine, typed: &Export, request: Request<'static>) -> anyhow::Result<Exit> {
    let estate = engine.estate();
    for who in &typed.who {
        match estate.find_principal(who) {
            Some(Principal::Group(_)) => bail!(
                "`{who}` can do nothing by itself: name its members, or ask `bexum reach {who}`"
            ),
            Some(_) => {}
            None => {
                return Err(super::with_hint(&RequestFault::Principal(who.clone()), estate));
            }
        }
    }
    let anybody = reach::bounded(estate, request)?;
    let asked = Asked {
        engine,
        wanted: ActionSet::all(estate.catalogue.actions.len()),
        below: None,
        with_roles: true,
        sources: false,
    };
    let as_json = typed.format == ExportFormat::Json;
    let mut rows = Rows::begin(as_json, &["who", "as", "where", "action", "outcome"])?;
    let exit = asked.rows(&anybody, &typed.who, |cells| {
        rows.row(&cells.iter().map(|cell| json!(cell)).collect::<Vec<_>>())
    })?;
    rows.end()?;
    Ok(exit)
}

struct Exporting<'e> {
    engine: &'e Engine,
    at: Time,
    format: ExportFormat,
}

impl<'e> Exporting<'e> {
    fn estate(&self) -> &'e Estate {
        self.engine.estate()
    }

    fn rows(&self, head: &[&str]) -> anyhow::Result<Rows> {
        Rows::begin(self.format == ExportFormat::Json, head)
    }

    fn id(&self, who: Principal) -> String {
        self.estate().principal_id(who)
    }

    fn users(&self) -> anyhow::Result<()> {
        let estate = self.estate();
        if self.format == ExportFormat::Scim {
            let ids = Ids::new(estate);
            return list(
                estate.users.len(),
                estate.each_user().map(|id| {
                    let user = estate.user(id);
                    let mut all = resource(USER, "User", ids.of(Principal::User(id)));
                    all.insert("userName".to_owned(), json!(user.identity.name));
                    if let Some(name) = &user.full_name {
                        all.insert("displayName".to_owned(), json!(name));
                    }
                    all.insert("active".to_owned(), json!(user.enabled));
                    if let Some(manager) = user.manager {
                        let manager =
                            json!({ "manager": { "value": ids.of(Principal::User(manager)) } });
                        all.insert("schemas".to_owned(), json!([USER, ENTERPRISE]));
                        all.insert(ENTERPRISE.to_owned(), manager);
                    }
                    all
                }),
            );
        }
        // A list does not fit into a cell in a way that it could be read back from.
        let (mut names, mut lists) = (BTreeSet::new(), BTreeSet::new());
        for user in &estate.users {
            for (name, value) in user.identity.attributes.iter() {
                let name = estate.attribute_names.name(name);
                names.insert(name);
                if matches!(value, Attribute::List(_)) {
                    lists.insert(name);
                }
            }
        }
        if self.format == ExportFormat::Csv {
            names.retain(|name| !lists.contains(name));
            for name in &lists {
                terminal::print_error(&format!(
                    "attributes.{name} holds lists: no column has it\n"
                ));
            }
        }
        let columns: Vec<String> = names.iter().map(|name| format!("attributes.{name}")).collect();
        let mut head =
            vec!["user", "full-name", "enabled", "manager", "place", "source", "source-id"];
        head.extend(columns.iter().map(String::as_str));
        let mut rows = self.rows(&head)?;
        for id in estate.each_user() {
            let user = estate.user(id);
            let mut row = vec![
                json!(self.id(Principal::User(id))),
                json!(user.full_name),
                json!(user.enabled),
                json!(user.manager.map(|manager| self.id(Principal::User(manager)))),
                json!(user.identity.place.map(|place| &estate.scope(place).path)),
            ];
            row.extend(source(&user.imported));
            let has: BTreeMap<&str, Value> = user
                .identity
                .attributes
                .iter()
                .map(|(name, value)| (estate.attribute_names.name(name), value_json(value)))
                .collect();
            row.extend(names.iter().map(|name| has.get(name).cloned().unwrap_or_default()));
            rows.row(&row)?;
        }
        rows.end()
    }

    /// The members of a group as written that are not over: all, or those who count now.
    fn members(&self, group: &'e bexum_core::principal::Group, now: bool) -> Vec<&'e Membership> {
        let all = group.members.iter().flatten();
        let counts = |one: &&Membership| match one.window.phase(self.at) {
            Phase::Open => true,
            Phase::Future => !now,
            Phase::Past => false,
        };
        all.filter(counts).collect()
    }

    fn groups(&self) -> anyhow::Result<()> {
        let estate = self.estate();
        let each = || {
            estate.principals().filter_map(|who| match who {
                Principal::Group(id) => Some((who, estate.group(id))),
                _ => None,
            })
        };
        if self.format == ExportFormat::Scim {
            let ids = Ids::new(estate);
            return list(
                estate.groups.len(),
                each().map(|(who, group)| {
                    let mut all = resource(GROUP, "Group", ids.of(who));
                    all.insert("displayName".to_owned(), json!(group.identity.name));
                    let mut seen = BTreeSet::new();
                    let members = self.members(group, true).into_iter().filter_map(|one| {
                        let sort = match one.who {
                            Principal::User(_) => "User",
                            Principal::Group(_) => "Group",
                            Principal::Role(_) | Principal::Workload(_) => return None,
                        };
                        let name = estate.principal_name(one.who);
                        let member =
                            json!({ "value": ids.of(one.who), "type": sort, "display": name });
                        seen.insert(one.who).then_some(member)
                    });
                    all.insert("members".to_owned(), members.collect());
                    all
                }),
            );
        }
        let head =
            ["group", "owners", "join", "members-when", "place", "source", "source-id", "about"];
        let mut rows = self.rows(&head)?;
        for (who, group) in each() {
            let owners = group.owners.iter().flatten().map(|id| self.id(Principal::User(*id)));
            let mut row = vec![
                json!(self.id(who)),
                json!(owners.collect::<Vec<_>>()),
                json!(group.join.word()),
                json!(group.members_when.as_ref().map(|when| &when.text)),
                json!(group.identity.place.map(|place| &estate.scope(place).path)),
            ];
            row.extend(source(&group.imported));
            row.push(json!(group.identity.about));
            rows.row(&row)?;
        }
        rows.end()
    }

    fn memberships(&self) -> anyhow::Result<()> {
        let mut rows = self.rows(&["group", "member", "from", "until"])?;
        for who in self.estate().principals() {
            let Principal::Group(id) = who else { continue };
            for one in self.members(self.estate().group(id), false) {
                let [from, until] = window(one.window);
                rows.row(&[json!(self.id(who)), json!(self.id(one.who)), from, until])?;
            }
        }
        rows.end()
    }

    fn attachments(&self) -> anyhow::Result<()> {
        let estate = self.estate();
        let mut rows = self.rows(&["policy", "to", "at", "from", "until", "about"])?;
        for one in &estate.attachments {
            for policy in &one.policies {
                for to in &one.to {
                    for at in &one.at {
                        let [from, until] = window(one.window);
                        rows.row(&[
                            json!(estate.policy(policy.value).name),
                            json!(phrases::subject(estate, to.value)),
                            json!(estate.scope(at.value).path),
                            from,
                            until,
                            json!(one.about),
                        ])?;
                    }
                }
            }
        }
        rows.end()
    }

    fn policies(&self) -> anyhow::Result<()> {
        let estate = self.estate();
        let mut rows = self.rows(&["policy", "effect", "name", "do", "on", "when", "about"])?;
        for statement in &estate.statements {
            let on: Vec<&str> = statement.on.texts().collect();
            rows.row(&[
                json!(estate.policy(statement.policy).name),
                json!(statement.effect.word()),
                json!(statement.name),
                json!(statement.do_written),
                json!(on),
                json!(statement.when.as_ref().map(|when| &when.text)),
                json!(statement.about),
            ])?;
        }
        rows.end()
    }

    fn applications(&self) -> anyhow::Result<()> {
        let estate = self.estate();
        let mut rows = self.rows(&["application", "user", "may", "why", "groups"])?;
        for application in &estate.applications {
            let signing = Signing::new(self.engine, application, Vec::new(), self.at);
            for user in estate.each_user() {
                let entry = signing.may_sign_in(user);
                let told = signing.claims(user).ok().and_then(|claims| claims.groups);
                let sign_in = SignIn::new(estate, &entry);
                rows.row(&[
                    json!(application.name),
                    json!(self.id(Principal::User(user))),
                    json!(sign_in.may),
                    json!(sign_in.why),
                    json!(told.unwrap_or_default()),
                ])?;
            }
        }
        rows.end()
    }
}

fn window(window: Window) -> [Value; 2] {
    [window.from, window.until].map(|at| json!(at.map(|at| at.to_string())))
}

fn source(imported: &Imported) -> [Value; 2] {
    [json!(imported.source), json!(imported.source_id)]
}

/// The ids of users and groups in SCIM: the source's own where nothing else has the same.
struct Ids<'e> {
    estate: &'e Estate,
    twice: BTreeSet<&'e str>,
}

impl<'e> Ids<'e> {
    fn new(estate: &'e Estate) -> Self {
        let users = estate.users.iter().map(|one| &one.imported);
        let all = users.chain(estate.groups.iter().map(|one| &one.imported));
        let (mut seen, mut twice) = (BTreeSet::new(), BTreeSet::new());
        for id in all.filter_map(|one| one.source_id.as_deref()) {
            if !seen.insert(id) {
                twice.insert(id);
            }
        }
        Self { estate, twice }
    }

    fn of(&self, who: Principal) -> String {
        let imported = match who {
            Principal::User(id) => &self.estate.user(id).imported,
            Principal::Group(id) => &self.estate.group(id).imported,
            Principal::Role(_) | Principal::Workload(_) => return self.estate.principal_id(who),
        };
        let own = imported.source_id.as_deref().filter(|id| !self.twice.contains(id));
        own.map_or_else(|| self.estate.principal_id(who), str::to_owned)
    }
}

fn resource(schema: &str, sort: &str, id: String) -> Map<String, Value> {
    let mut all = Map::new();
    all.insert("schemas".to_owned(), json!([schema]));
    all.insert("id".to_owned(), json!(id));
    all.insert("meta".to_owned(), json!({ "resourceType": sort }));
    all
}

/// A ListResponse (RFC 7644 section 3.4.2), written as it comes.
fn list(count: usize, all: impl Iterator<Item = Map<String, Value>>) -> anyhow::Result<()> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    write!(out, "{{\"schemas\":[\"{LIST}\"],\"totalResults\":{count},\"Resources\":[")?;
    for (i, one) in all.enumerate() {
        out.write_all(if i == 0 { b"\n" } else { b",\n" })?;
        serde_json::to_writer(&mut out, &one)?;
    }
    out.write_all(b"\n]}\n")?;
    Ok(out.flush()?)
}
