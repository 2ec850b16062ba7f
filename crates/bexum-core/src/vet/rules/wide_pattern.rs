//! Patterns of actions that say less than they seem to.

use crate::catalogue::Level;
use crate::diagnostic::Severity;
use crate::estate::Estate;
use crate::id::StatementId;
use crate::pattern::action::ActionPattern;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "wide-pattern",
    severity: Severity::Note,
    finds: "a pattern with `*` that names one action alone, or all of a level; duplicates, and \
            exclusions of nothing",
    why: "Who reads the policy takes it for more than it is, and it becomes more when the catalogue \
          grows.",
    example: r#"[policy.writer]
[[policy.writer.allow]]
do = ["store.w*", "store.*", "!recording.read"]
"#,
    fine: r#"[policy.writer]
[[policy.writer.allow]]
do = ["store.*", "!store.write", "recording.@observe"]
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let declared = vet.statements();
    for id in (0..estate.statements.len()).map(StatementId::new) {
        let statement = estate.statement(id);
        let mut said: Vec<String> = Vec::new();
        let better = better(estate, &statement.do_written, &mut said);
        let Some(first) = said.first() else { continue };
        let place = vet.declared_statement(&declared, id).map(|one| one.actions.origin);
        let finding = found.add(vet.statement(id), place.unwrap_or(statement.origin), first);
        finding.details.extend(said.into_iter().skip(1));
        finding.remedy = vet.restated(id, |statement| {
            let origin = statement.actions.origin;
            let patterns = better.into_iter();
            statement.actions.value =
                patterns.map(|text| crate::origin::Spanned::new(text, origin)).collect();
        });
    }
}

/// The actions that a pattern names, by position.
fn names(estate: &Estate, text: &str) -> Vec<usize> {
    let Ok(pattern) = ActionPattern::parse(text) else { return Vec::new() };
    let all = estate.catalogue.actions.iter().enumerate();
    all.filter(|(_, action)| pattern.names(action)).map(|(i, _)| i).collect()
}

/// The patterns, each replaced by a narrower one where there is one; `said` gets a sentence about
/// every replacement.
fn better(estate: &Estate, written: &[Box<str>], said: &mut Vec<String>) -> Vec<String> {
    let mut patterns: Vec<String> = Vec::new();
    for text in written {
        let named = names(estate, text);
        if !text.contains('@') && **text != *"*" && text.contains('*') && named.len() == 1 {
            let plain = &estate.catalogue.actions[named[0]].name;
            let sign = if text.starts_with('!') { "!" } else { "" };
            said.push(format!("`{text}` names one action alone: `{sign}{plain}`"));
            patterns.push(format!("{sign}{plain}"));
        } else if let Some(level) = as_level(estate, text, &named) {
            said.push(format!("`{text}` names all of `{level}`, and nothing else"));
            patterns.push(level);
        } else {
            patterns.push(text.to_string());
        }
    }
    let is_plain = |text: &String| !text.starts_with('!');
    let all: Vec<usize> = patterns
        .iter()
        .filter(|text| is_plain(text))
        .flat_map(|text| names(estate, text))
        .collect();
    patterns.retain(|text| {
        let excludes_nothing =
            !is_plain(text) && names(estate, text).iter().all(|action| !all.contains(action));
        if excludes_nothing {
            said.push(format!("`{text}` takes away nothing that the others name"));
        }
        !excludes_nothing
    });
    // Of two that name the same the first stays; of two of which one names more, that one.
    let sets: Vec<(bool, Vec<usize>)> =
        patterns.iter().map(|text| (is_plain(text), names(estate, text))).collect();
    let within = |i: usize| {
        sets.iter().enumerate().position(|(j, (plain, set))| {
            let (own_plain, own) = &sets[i];
            let is_same = set.len() == own.len();
            j != i
                && plain == own_plain
                && own.iter().all(|action| set.contains(action))
                && (!is_same || j < i)
        })
    };
    let mut kept: Vec<String> = Vec::new();
    for (i, text) in patterns.iter().enumerate() {
        match within(i) {
            Some(other) => said.push(format!("`{text}` is within `{}` already", patterns[other])),
            None => kept.push(text.clone()),
        }
    }
    kept
}

/// A level that names exactly what a pattern with stars among its verbs does.
fn as_level(estate: &Estate, text: &str, named: &[usize]) -> Option<String> {
    let (kind, verb) = text.split_once('.')?;
    if named.is_empty() || verb == "*" || !verb.contains('*') {
        return None;
    }
    let levels = Level::ALL.map(|level| format!("{kind}.@{level}"));
    levels.into_iter().find(|level| names(estate, level) == named)
}
