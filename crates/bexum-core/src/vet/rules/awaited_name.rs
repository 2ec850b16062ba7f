//! Names of groups, roles and users that something waits for.

use crate::condition::Reference;
use crate::condition::ast::{Path, Root};
use crate::condition::check::WhoAttribute;
use crate::diagnostic::Severity;
use crate::estate::Estate;
use crate::id::{ScopeId, StatementId};
use crate::pattern::path::{Segment, SegmentPart};
use crate::vet::conditions::{Atom, atoms, slip};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "awaited-name",
    severity: Severity::Warning,
    finds: "a condition or a brace that waits for the name of a group, role or user that does not exist",
    why: "Whoever may make or rename one takes the name, and steps in.",
    example: r#"[policy.writer]
[[policy.writer.allow]]
do   = "store.write"
when = "'curators' in who.groups"
"#,
    fine: r#"[policy.writer]
[[policy.writer.allow]]
do   = "store.write"
when = "'imaging' in who.groups and who.id != 'user:tomas'"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// What a text under a path names: its sort, and the bare name.
fn named<'t>(path: &Path, text: &'t str) -> Option<(&'static str, &'t str)> {
    let bare = |sort: &'static str| text.strip_prefix(sort)?.strip_prefix(':');
    match (path.root, path.name.as_str()) {
        (Root::Who, "groups") => Some(("group", text)),
        (Root::Who, "roles") => Some(("role", text)),
        (Root::Who, "id") => {
            ["user", "group", "role"].into_iter().find_map(|sort| Some((sort, bare(sort)?)))
        }
        (Root::Who | Root::Target, "manager") | (Root::Target, "owners" | "members") => {
            Some(("user", bare("user")?))
        }
        _ => None,
    }
}

fn exists(estate: &Estate, sort: &str, name: &str) -> bool {
    estate.find_principal(&format!("{sort}:{name}")).is_some()
}

fn nearest<'e>(estate: &'e Estate, sort: &str, name: &str) -> Option<&'e str> {
    let users = estate.users.iter().map(|user| &*user.identity.name);
    let groups = estate.groups.iter().map(|group| &*group.identity.name);
    let roles = estate.roles.iter().map(|role| &*role.identity.name);
    match sort {
        "user" => slip(name, users),
        "group" => slip(name, groups),
        _ => slip(name, roles),
    }
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for condition in vet.conditions() {
        atoms(&condition.expression, false, &mut |atom: Atom<'_>, _| {
            let Some((path, texts, span)) = atom.compared_with() else { return };
            for text in texts {
                let missing = match (path.root, path.name.as_str()) {
                    // A name alone may be that of anything that asks.
                    (Root::Who, "name") => {
                        let sorts = ["user", "group", "role"];
                        let is_there = sorts.into_iter().any(|sort| exists(estate, sort, text))
                            || estate.scopes.iter().any(|(_, scope)| &*scope.path == text);
                        (!is_there).then_some(("user", text))
                    }
                    _ => named(path, text).filter(|(sort, name)| !exists(estate, sort, name)),
                };
                let Some((sort, name)) = missing else { continue };
                let message =
                    format!("no {sort} is called `{name}`: whoever makes one is meant by this");
                let finding = found.add(&condition.about, condition.place(&span), message);
                match nearest(estate, sort, name) {
                    Some(near) => {
                        let by = condition.text[span.clone()].replacen(name, near, 1);
                        finding.hint = Some(format!("did you mean `{near}`?"));
                        finding.remedy = vet.reworded(&condition, &span, &by);
                    }
                    None => finding.hint = Some(format!("make `{sort}:{name}`, or take it out")),
                }
            }
        });
    }
    for id in (0..estate.statements.len()).map(StatementId::new) {
        braces(vet, id, found);
    }
}

/// Scopes that a brace waits for: declared ones whose name stands where the brace does.
fn braces(vet: &Vet<'_>, id: StatementId, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let statement = estate.statement(id);
    for pattern in &statement.on.plain {
        let at = pattern.segments.iter().position(|one| !matches!(one, Segment::Literal(_)));
        let Some(Segment::Mixed(parts)) = at.map(|at| &pattern.segments[at]) else { continue };
        let sort = parts.iter().find_map(|part| match part {
            SegmentPart::Brace(brace) => match brace.attribute {
                Reference::Who(WhoAttribute::Name) => Some("user"),
                Reference::Who(WhoAttribute::Groups) => Some("group"),
                Reference::Who(WhoAttribute::Roles) => Some("role"),
                _ => None,
            },
            _ => None,
        });
        let Some(sort) = sort else { continue };
        let (before, after) = match &parts[..] {
            [SegmentPart::Brace(_)] => ("", ""),
            [SegmentPart::Text(before), SegmentPart::Brace(_)] => (&**before, ""),
            [SegmentPart::Brace(_), SegmentPart::Text(after)] => ("", &**after),
            [SegmentPart::Text(before), SegmentPart::Brace(_), SegmentPart::Text(after)] => {
                (&**before, &**after)
            }
            _ => continue,
        };
        let literals: Vec<&str> = pattern.segments[..at.unwrap_or_default()]
            .iter()
            .filter_map(|segment| match segment {
                Segment::Literal(text) => Some(&**text),
                _ => None,
            })
            .collect();
        let anchors: Vec<Option<ScopeId>> = match pattern.absolute {
            true => vec![None],
            false => vet.anchors(id).into_iter().collect(),
        };
        for anchor in anchors {
            let above = anchor.map(|at| &*estate.scope(at).path);
            let parent = above.into_iter().chain(literals.iter().copied());
            let parent = parent.collect::<Vec<_>>().join("/");
            let Some(parent) = estate.scopes.find(&parent) else { continue };
            let children = estate.scopes.subtree(parent).map(ScopeId::new);
            for child in children.filter(|child| estate.scope(*child).parent == Some(parent)) {
                let name = estate.scope(child).name();
                let name = name.strip_prefix(before).and_then(|rest| rest.strip_suffix(after));
                let Some(name) = name.filter(|name| !name.is_empty()) else { continue };
                if exists(estate, sort, name) {
                    continue;
                }
                let path = &estate.scope(child).path;
                let message = format!(
                    "`{}` waits at `{path}` for a {sort} called `{name}`, which there is none of",
                    pattern.text
                );
                let finding = found.add(vet.statement(id), statement.origin, message);
                finding.hint = Some(format!("make `{sort}:{name}`, or delete `{path}`"));
            }
        }
    }
}
