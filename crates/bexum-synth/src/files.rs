//! The platform as the files of an estate.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use anyhow::Context as _;

use crate::model::{Model, SITES, Sort, TEAMS, TIERS, Whom};
use crate::planted;

/// How the files are laid out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Layout {
    /// Everything in one file, instead of many of about 50 kB.
    pub one_file: bool,
    /// What lies below others is declared before them.
    pub children_first: bool,
    /// How many checks to add.
    pub checks: usize,
    /// How many laws to add.
    pub laws: usize,
    /// Whether things that are not right are planted, in an account of their own.
    pub planted: bool,
}

/// Bytes after which another file is begun.
const FILE_BYTES: usize = 50_000;

/// Writes the estate into an empty folder; the bytes written.
///
/// # Errors
/// What the system says.
pub fn write_estate(model: &Model, folder: &Path, layout: Layout) -> anyhow::Result<u64> {
    let mut out = Out { folder, layout, written: 0, one: String::new() };
    let root = "[estate]\nname = \"Veyra Array at large\"\nformat = 1\n".to_owned();
    out.file("bexum.toml", &root)?;
    out.tables("catalogue", catalogue(model))?;
    out.tables("scopes", scopes(model))?;
    out.tables("users", users(model))?;
    out.tables("groups", groups(model))?;
    out.tables("roles", roles(model))?;
    out.tables("policies", policies(model))?;
    out.tables("attachments", attachments(model))?;
    out.tables("ceilings", ceilings(model))?;
    out.tables("checks", checks(model, layout.checks))?;
    out.tables("laws", laws(model, layout.laws))?;
    if layout.planted {
        out.file("planted.toml", planted::TABLES)?;
    }
    if layout.one_file {
        let all = std::mem::take(&mut out.one);
        out.file("all.toml", &all)?;
    }
    Ok(out.written)
}

struct Out<'o> {
    folder: &'o Path,
    layout: Layout,
    written: u64,
    one: String,
}

impl Out<'_> {
    fn file(&mut self, name: &str, text: &str) -> anyhow::Result<()> {
        let path = self.folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)
                .with_context(|| format!("cannot make `{}`", parent.display()))?;
        }
        fs::write(&path, text).with_context(|| format!("cannot write `{}`", path.display()))?;
        self.written += text.len() as u64;
        Ok(())
    }

    /// Tables, each whole, in files of a size.
    fn tables(&mut self, what: &str, mut tables: Vec<String>) -> anyhow::Result<()> {
        if self.layout.children_first {
            tables.reverse();
        }
        if self.layout.one_file {
            self.one.extend(tables);
            return Ok(());
        }
        let mut text = String::new();
        let mut number = 0;
        for table in tables {
            text.push_str(&table);
            if text.len() >= FILE_BYTES {
                number += 1;
                self.file(&format!("{what}/{number:04}.toml"), &text)?;
                text.clear();
            }
        }
        if !text.is_empty() {
            self.file(&format!("{what}/{:04}.toml", number + 1), &text)?;
        }
        Ok(())
    }
}

fn list<'a>(items: impl IntoIterator<Item = &'a String>) -> String {
    let quoted: Vec<String> = items.into_iter().map(|item| format!("\"{item}\"")).collect();
    format!("[{}]", quoted.join(", "))
}

/// Writing into a string does not fail.
macro_rules! line {
    ($text:expr, $($part:tt)*) => {{
        let _ = writeln!($text, $($part)*);
    }};
}

fn catalogue(model: &Model) -> Vec<String> {
    let kind = |kind: &crate::model::Kind| {
        let mut text = String::new();
        line!(text, "[kind.{}]", kind.name);
        for (level, verbs) in ["observe", "operate", "alter", "govern"].iter().zip(&kind.verbs) {
            line!(text, "{level} = {}", list(verbs));
        }
        if !kind.on_parent.is_empty() {
            line!(text, "on-parent = {}", list(&kind.on_parent));
        }
        if let Some(item) = kind.item {
            line!(text, "items = [\"{}\"]", model.kinds[item].name);
        }
        line!(text, "");
        text
    };
    model.kinds.iter().map(kind).collect()
}

fn scopes(model: &Model) -> Vec<String> {
    let scope = |scope: &crate::model::Scope| {
        let mut text = String::new();
        let (word, has_kind) = match scope.sort {
            Sort::Account => ("account", false),
            Sort::Subscription => ("subscription", false),
            Sort::Resource => ("resource", true),
            Sort::Namespace => ("namespace", true),
        };
        line!(text, "[{word}.\"{}\"]", scope.path);
        if has_kind {
            line!(text, "kind = \"{}\"", model.kinds[scope.kind].name);
        }
        if scope.sealed && scope.sort != Sort::Account {
            line!(text, "sealed = true");
        }
        let (team, tier) = (TEAMS[scope.team], TIERS[scope.tier]);
        line!(text, "attributes = {{ team = \"{team}\", tier = \"{tier}\" }}\n");
        text
    };
    model.scopes.iter().map(scope).collect()
}

fn users(model: &Model) -> Vec<String> {
    let user = |(i, user): (usize, &crate::model::User)| {
        let mut text = String::new();
        line!(text, "[user.\"{}\"]", user.name);
        line!(text, "full-name = \"{} of {}\"", user.name, SITES[user.site]);
        if !user.enabled {
            line!(text, "enabled = false");
        }
        if i > 0 {
            line!(text, "manager = \"user:{}\"", model.users[i / 8].name);
        }
        if user.place {
            line!(text, "place = \"veyra\"");
        }
        let (team, site) = (TEAMS[user.team], SITES[user.site]);
        line!(
            text,
            "attributes = {{ team = \"{team}\", site = \"{site}\", clearance = {}, device = {{ managed = {} }} }}\n",
            user.clearance,
            user.managed
        );
        text
    };
    model.users.iter().enumerate().map(user).collect()
}

fn groups(model: &Model) -> Vec<String> {
    let group = |group: &crate::model::Group| {
        let mut text = String::new();
        line!(text, "[group.\"{}\"]", group.name);
        line!(text, "members = [");
        for user in &group.users {
            line!(text, "  \"user:{}\",", model.users[*user].name);
        }
        for inner in &group.groups {
            line!(text, "  \"group:{}\",", model.groups[*inner].name);
        }
        for workload in &group.workloads {
            line!(text, "  \"resource:{}\",", model.scopes[*workload].path);
        }
        for guest in &group.guests {
            let name = &model.users[*guest].name;
            line!(
                text,
                "  {{ who = \"user:{name}\", from = 2026-01-01T00:00:00Z, until = 2026-09-01T00:00:00Z }},"
            );
        }
        line!(text, "]\n");
        text
    };
    model.groups.iter().map(group).collect()
}

fn roles(model: &Model) -> Vec<String> {
    let names = |list: &[usize]| -> Vec<String> {
        list.iter().map(|group| format!("group:{}", model.groups[*group].name)).collect()
    };
    let role = |role: &crate::model::Role| {
        let mut text = String::new();
        line!(text, "[role.\"{}\"]", role.name);
        line!(text, "held-by = {}", list(&names(&role.held_by)));
        line!(text, "taken-by = {}\n", list(&names(&role.taken_by)));
        text
    };
    model.roles.iter().map(role).collect()
}

fn policies(model: &Model) -> Vec<String> {
    let policy = |policy: &crate::model::Policy| {
        let mut text = String::new();
        line!(text, "[policy.\"{}\"]", policy.name);
        if let Some(include) = policy.include {
            line!(text, "include = \"{}\"", model.policies[include].name);
        }
        for statement in &policy.statements {
            let effect = if statement.allows { "allow" } else { "deny" };
            line!(text, "[[policy.\"{}\".{effect}]]", policy.name);
            line!(text, "do = {}", list(&statement.actions));
            if !statement.on.is_empty() {
                line!(text, "on = {}", list(&statement.on));
            }
            if let Some(when) = &statement.when {
                line!(text, "when = \"{when}\"");
            }
        }
        line!(text, "");
        text
    };
    model.policies.iter().map(policy).collect()
}

fn whom(model: &Model, whom: Whom) -> String {
    match whom {
        Whom::Everyone => "everyone".to_owned(),
        Whom::User(user) => format!("user:{}", model.users[user].name),
        Whom::Group(group) => format!("group:{}", model.groups[group].name),
        Whom::Role(role) => format!("role:{}", model.roles[role].name),
    }
}

fn attachments(model: &Model) -> Vec<String> {
    let attachment = |attachment: &crate::model::Attachment| {
        let mut text = String::new();
        line!(text, "[[attach]]");
        line!(text, "policy = \"{}\"", model.policies[attachment.policy].name);
        line!(text, "to = \"{}\"", whom(model, attachment.to));
        line!(text, "at = \"{}\"", model.scopes[attachment.at].path);
        if attachment.season {
            line!(text, "from = 2026-01-01T00:00:00Z");
            line!(text, "until = 2027-01-01T00:00:00Z");
        }
        line!(text, "");
        text
    };
    model.attachments.iter().map(attachment).collect()
}

fn ceilings(model: &Model) -> Vec<String> {
    let ceiling = |ceiling: &crate::model::Ceiling| {
        let mut text = String::new();
        line!(text, "[[ceiling]]");
        line!(text, "policy = \"{}\"", model.policies[ceiling.policy].name);
        if let Some(over) = ceiling.over {
            line!(text, "over = \"{}\"", model.scopes[over].path);
        }
        line!(text, "for = \"{}\"\n", whom(model, ceiling.to));
        text
    };
    model.ceilings.iter().map(ceiling).collect()
}

/// Checks of single requests: what is expected is a guess, so some fail.
fn checks(model: &Model, count: usize) -> Vec<String> {
    let requests = crate::Requests::new(model, model.seed + 1).take(count);
    let check = |(i, request): (usize, crate::requests::Asked)| {
        let mut text = String::new();
        line!(text, "[[check]]\nname = \"check {i}\"");
        line!(
            text,
            "who = \"{}\"\ndoes = \"{}\"\non = \"{}\"",
            request.who,
            request.does,
            request.on
        );
        line!(
            text,
            "given = {{ mfa = true, ip = \"10.20.3.4\", time = \"2026-05-05T12:00:00Z\" }}"
        );
        line!(text, "expect = \"{}\"\n", if request.is_meant { "allow" } else { "deny" });
        text
    };
    requests.enumerate().map(check).collect()
}

/// Laws of several sorts, over a scope each.
fn laws(model: &Model, count: usize) -> Vec<String> {
    let scopes: Vec<&crate::model::Scope> =
        model.scopes.iter().filter(|scope| scope.sort != Sort::Account).collect();
    let law = |i: usize| {
        let mut text = String::new();
        let scope = scopes[i * 7919 % scopes.len()];
        let kind = &model.kinds[scope.kind].name;
        let group = &model.groups[i * 31 % model.groups.len()].name;
        line!(text, "{}\nname = \"law {i}\"", if i % 10 == 9 { "[[always]]" } else { "[[never]]" });
        match i % 10 {
            9 => line!(text, "who = \"group:{group}\"\ndoes = \"{kind}.@observe\""),
            n if n < 5 => {
                line!(text, "who = \"everyone\"\nexcept = \"group:{group}\"\ndoes = \"*.@govern\"")
            }
            n if n < 7 => {
                line!(text, "who = \"everyone\"\ndoes = \"*.@alter\"\nwhen = \"not given.mfa\"")
            }
            _ => line!(text, "who = \"group:{group}\"\ndoes = \"*\""),
        }
        line!(text, "on = \"/{}/**\"\n", scope.path);
        text
    };
    (0..count).map(law).collect()
}
