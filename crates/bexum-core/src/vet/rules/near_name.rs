//! Names that nothing has, a slip away from one that something has.

use std::collections::{BTreeMap, BTreeSet};

use crate::catalogue::TargetClass;
use crate::condition::ast::{Path, Root};
use crate::diagnostic::Severity;
use crate::id::{ScopeId, StatementId};
use crate::origin::SourceSpan;
use crate::pattern::path::{PathPattern, Segment};
use crate::vet::conditions::{Atom, Borne, Written, atoms, is_built_in, slip};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "near-name",
    severity: Severity::Warning,
    finds: "an attribute, a value or a path that nothing has, one slip away from one that something has",
    why: "A misspelt allow grants nothing, which is noticed; a misspelt deny refuses nothing, which is \
          not.",
    example: r#"[policy.quiet]
[[policy.quiet.deny]]
do   = "recording.read"
when = "target.teir = 'raw'"
"#,
    fine: r#"[policy.quiet]
[[policy.quiet.deny]]
do   = "recording.read"
when = "target.tier = 'raw' or target.sort = 'odd'"
on   = "/veyra/survey/**"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let conditions = vet.conditions();
    let borne = Root::ALL.map(|root| Borne::new(vet.estate(), root));
    let given = given_mentions(vet, &conditions);
    for condition in &conditions {
        let mut known: BTreeSet<(Root, &str)> = BTreeSet::new();
        atoms(&condition.expression, false, &mut |atom: Atom<'_>, _| {
            for path in atom.paths() {
                if !is_built_in(path) && known.insert((path.root, &path.name)) {
                    attribute(vet, condition, path, &borne, &given, found);
                }
            }
            values(vet, condition, atom, &borne, found);
        });
    }
    for id in (0..vet.estate().statements.len()).map(StatementId::new) {
        paths(vet, id, found);
    }
}

/// How often each name under `given` is mentioned; a check that gives one counts twice, for it was
/// tried.
fn given_mentions(vet: &Vet<'_>, conditions: &[Written]) -> BTreeMap<String, usize> {
    let mut mentions: BTreeMap<String, usize> = BTreeMap::new();
    for condition in conditions {
        atoms(&condition.expression, false, &mut |atom: Atom<'_>, _| {
            for path in atom.paths().into_iter().filter(|path| path.root == Root::Given) {
                *mentions.entry(path.name.clone()).or_default() += 1;
            }
        });
    }
    for check in &vet.declared.checks {
        let absent = check.absent.iter();
        for name in check.given.iter().map(|(name, _)| name).chain(absent) {
            *mentions.entry(name.value.clone()).or_default() += 2;
        }
    }
    mentions
}

fn attribute(
    vet: &Vet<'_>,
    condition: &Written,
    path: &Path,
    borne: &[Borne; 3],
    given: &BTreeMap<String, usize>,
    found: &mut Findings<'_>,
) {
    // Under a closed root the estate would not have loaded.
    if vet.estate().vocabulary.of(path.root).is_closed() {
        return;
    }
    let near = if path.root == Root::Given {
        if given.get(&path.name).copied().unwrap_or_default() > 1 {
            return;
        }
        let others = given.iter().filter(|(_, times)| **times > 1);
        slip(&path.name, others.map(|(name, _)| name.as_str()))
    } else {
        let borne = &borne[path.root as usize];
        if borne.has(&path.name) {
            return;
        }
        slip(&path.name, borne.values.keys().map(String::as_str))
    };
    let Some(near) = near else { return };
    let root = path.root;
    let message = match root {
        Root::Given => {
            format!("`given.{}` stands here alone; elsewhere it is `given.{near}`", path.name)
        }
        _ => format!("nothing in the estate has `{root}.{}`", path.name),
    };
    let finding = found.add(&condition.about, condition.place(&path.span), message);
    finding.hint = Some(format!("did you mean `{root}.{near}`?"));
    finding.remedy = vet.reworded(condition, &path.span, &format!("{root}.{near}"));
}

/// Strings that no value is, near one that is.
fn values(
    vet: &Vet<'_>,
    condition: &Written,
    atom: Atom<'_>,
    borne: &[Borne; 3],
    found: &mut Findings<'_>,
) {
    let estate = vet.estate();
    let Some((path, texts, span)) = atom.compared_with() else { return };
    let catalogue = &estate.catalogue;
    let kinds = || catalogue.kinds.iter().map(|kind| kind.name.to_string()).collect();
    let known: BTreeSet<String> = match (path.root, path.name.as_str()) {
        (Root::Given, _) => return,
        (Root::Target, "kind") => kinds(),
        (Root::Target, "account") => {
            let accounts = estate.scopes.iter().filter(|(_, scope)| scope.parent.is_none());
            accounts.map(|(_, scope)| scope.path.to_string()).collect()
        }
        (Root::Target, "path") => {
            estate.scopes.iter().map(|(_, scope)| scope.path.to_string()).collect()
        }
        // Names of people are told as awaited ones.
        _ if is_built_in(path) => return,
        _ => borne[path.root as usize].values.get(&path.name).cloned().unwrap_or_default(),
    };
    for text in texts.into_iter().filter(|text| !known.contains(*text)) {
        let Some(near) = slip(text, known.iter().map(String::as_str)) else { continue };
        let name = format!("{}.{}", path.root, path.name);
        let message = format!("nothing in the estate has `{name}` = `{text}`");
        let by = condition.text[span.clone()].replacen(text, near, 1);
        let finding = found.add(&condition.about, condition.place(&span), message);
        finding.hint = Some(format!("did you mean `{near}`?"));
        finding.remedy = vet.reworded(condition, &span, &by);
    }
}

/// Patterns that lead to where nothing is and nothing can be, next to something that is.
fn paths(vet: &Vet<'_>, id: StatementId, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let statement = estate.statement(id);
    let declared = vet.statements();
    for pattern in statement.on.plain.iter().chain(&statement.on.excluded) {
        let anchors: BTreeSet<Option<ScopeId>> = match pattern.absolute {
            true => [None].into(),
            false => vet.anchors(id),
        };
        if anchors.is_empty() {
            continue;
        }
        let nowhere: Option<Vec<(usize, String)>> =
            anchors.iter().map(|anchor| leads_nowhere(vet, pattern, *anchor)).collect();
        let Some((at, near)) = nowhere.and_then(|all| all.into_iter().next()) else { continue };
        let Segment::Literal(wrong) = &pattern.segments[at] else { continue };
        let written = vet.declared_statement(&declared, id);
        let place = written
            .into_iter()
            .flat_map(|one| one.on.iter().flat_map(|list| &list.value))
            .find(|text| *text.value == *pattern.text)
            .map_or(SourceSpan::from(statement.origin), |text| text.origin.into());
        let message = format!("`{}` leads nowhere: nothing can lie at `{wrong}`", pattern.text);
        let better = with_segment(pattern, at, &near);
        let finding = found.add(vet.statement(id), place, message);
        finding.hint = Some(format!("did you mean `{better}`?"));
        let text = pattern.text.to_string();
        finding.remedy = vet.restated(id, |statement| {
            let on = statement.on.iter_mut().flat_map(|list| &mut list.value);
            on.filter(|one| one.value == text).for_each(|one| one.value = better.clone());
        });
    }
}

/// The pattern's text with another literal in the place of one of its segments.
fn with_segment(pattern: &PathPattern, at: usize, by: &str) -> String {
    let skipped = usize::from(pattern.absolute);
    let excludes = if pattern.excludes { "!" } else { "" };
    let body = pattern.text.strip_prefix(excludes).unwrap_or(&pattern.text);
    let mut segments: Vec<&str> = body.split('/').collect();
    segments[at + skipped] = by;
    format!("{excludes}{}", segments.join("/"))
}

/// The segment of a pattern at which it leaves all that is or can be, and what stands near it;
/// `None` where it leads somewhere, or nothing stands near.
fn leads_nowhere(
    vet: &Vet<'_>,
    pattern: &PathPattern,
    anchor: Option<ScopeId>,
) -> Option<(usize, String)> {
    let estate = vet.estate();
    let mut path = anchor.map(|at| estate.scope(at).path.to_string());
    for (i, segment) in pattern.segments.iter().enumerate() {
        let Segment::Literal(name) = segment else { return None };
        let next = match &path {
            Some(path) => format!("{path}/{name}"),
            None => name.to_string(),
        };
        if estate.identity_at(&next).is_some() {
            return None;
        }
        if estate.scopes.find(&next).is_some() {
            path = Some(next);
            continue;
        }
        let parent = path.as_deref().and_then(|path| estate.scopes.find(path));
        // Items may lie there, whatever they are called.
        let has_items = parent.is_some_and(|id| {
            let scope = estate.scope(id);
            let class = TargetClass::Item(scope.kind);
            scope.holds_items() && !estate.catalogue.applicable(class).is_empty()
        });
        if has_items {
            return None;
        }
        let children = estate.scopes.iter().filter(|(_, scope)| scope.parent == parent);
        let near = slip(name, children.map(|(_, scope)| scope.name()))?;
        return Some((i, near.to_owned()));
    }
    None
}
