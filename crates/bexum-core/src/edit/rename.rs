//! Another name for a thing, everywhere it is named.

use super::Target;
use super::apply::{Applied, EditFault, find, new_word, unknown};
use super::uses::{Sort, each_mention, names};
use crate::condition::text_literals;
use crate::declaration::{Declarations, List};
use crate::origin::Spanned;

pub(super) fn rename(
    declared: &mut Declarations,
    target: &Target,
    to: &str,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    let to = match Target::parse(to) {
        Target::Scope(_, path) => path,
        other if other.what() == target.what() => other.name().to_owned(),
        other => {
            let what = target.what();
            return Err(EditFault::Nothing(format!("a {what} cannot become a {}", other.what())));
        }
    };
    if let Target::Policy(name) = target {
        super::policies::refuse_locked(declared, name)?;
    }
    let places = move_to(declared, target, &to)?;
    each_mention(declared, &mut |mention| {
        let text = &mut mention.text.value;
        match (target, mention.sort) {
            (Target::Scope(_, old), Sort::Path) => replace_head(text, old, &to),
            (Target::Scope(_, old), Sort::Id) => {
                if let Some(path) = text.strip_prefix("resource:") {
                    let mut path = path.to_owned();
                    replace_head(&mut path, old, &to);
                    *text = format!("resource:{path}");
                }
            }
            // Where a check asks about the thing itself.
            (_, Sort::Path) => {
                for (old, new) in &places {
                    if text == old {
                        text.clone_from(new);
                    }
                }
            }
            (_, Sort::Condition) => {
                if let Some(new) = in_condition(text, target, &to) {
                    *text = new;
                }
            }
            (_, sort) if names(target, sort, text) => {
                *text = match sort {
                    Sort::Id => format!("{}:{to}", target.what()),
                    _ => to.clone(),
                };
            }
            _ => {}
        }
    });
    for (old, new) in &places {
        in_patterns(declared, old, new);
    }
    point_out(declared, target, applied);
    Ok(())
}

/// Points out what may mean the thing and was left alone: its old name as a word by itself in a
/// pattern or a condition.
fn point_out(declared: &mut Declarations, target: &Target, applied: &mut Applied) {
    let name = target.name();
    let name = name.rsplit('/').next().unwrap_or(name);
    each_mention(declared, &mut |mention| {
        let may_mean_it = matches!(mention.sort, Sort::Pattern | Sort::Condition);
        if may_mean_it && has_word(&mention.text.value, name) {
            let of = (mention.of)();
            let text = &mention.text.value;
            applied
                .note(format!("{of} still says `{name}`, which may mean something else: {text}"));
        }
    });
}

/// Whether a text holds a name that is no part of a longer one.
fn has_word(text: &str, name: &str) -> bool {
    let is_letter = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '@');
    text.match_indices(name).any(|(at, _)| {
        let (before, after) = (&text[..at], &text[at + name.len()..]);
        !before.ends_with(is_letter) && !after.starts_with(is_letter)
    })
}

/// Gives the thing its name, and says which paths change by that, each with the new one.
fn move_to(
    declared: &mut Declarations,
    target: &Target,
    to: &str,
) -> Result<Vec<(String, String)>, EditFault> {
    let name = target.name();
    let taken = || EditFault::Taken { what: target.what(), name: to.to_owned() };
    macro_rules! named {
        ($all:expr) => {{
            if $all.iter().any(|one| one.name.value == to) {
                return Err(taken());
            }
            let thing = find(&mut $all, target.what(), name)?;
            thing.name.value = to.to_owned();
            thing.body.place.as_ref().map(|place| place.value.clone())
        }};
    }
    let place = match target {
        Target::User(_) => named!(declared.users),
        Target::Group(_) => named!(declared.groups),
        Target::Role(_) => named!(declared.roles),
        Target::Policy(_) => named!(declared.policies),
        Target::Scope(scope_type, path) => {
            if declared.scopes.iter().any(|scope| scope.name.value == to) {
                return Err(taken());
            }
            let of_type = |is| scope_type.is_none_or(|said| said == is);
            let known = declared.scopes.iter();
            if !known
                .clone()
                .any(|scope| scope.name.value == *path && of_type(scope.body.scope_type))
            {
                let all = known.map(|scope| &*scope.name.value);
                return Err(unknown(target.what(), path, all));
            }
            for scope in &mut declared.scopes {
                replace_head(&mut scope.name.value, path, to);
            }
            return Ok(vec![(path.clone(), to.to_owned())]);
        }
    };
    let path = |place: &String, name: &str| format!("{place}/{name}");
    Ok(place.iter().map(|place| (path(place, name), path(place, to))).collect())
}

/// Replaces a path by another, at the head of one that lies at or below it.
fn replace_head(text: &mut String, old: &str, new: &str) {
    let Some(rest) = text.strip_prefix(old) else { return };
    if rest.is_empty() || rest.starts_with('/') {
        *text = format!("{new}{rest}");
    }
}

/// A condition with another name in it; `None` where it does not name the thing for certain.
fn in_condition(text: &str, target: &Target, to: &str) -> Option<String> {
    let id = format!("{}:{}", target.what(), target.name());
    let list = match target {
        Target::Group(_) => "who.groups",
        Target::Role(_) => "who.roles",
        _ => "",
    };
    let mut found = text.to_owned();
    let literals = text_literals(text);
    for literal in literals.iter().rev() {
        let new = if literal.text == id {
            format!("{}:{to}", target.what())
        } else if literal.text == target.name() && literal.beside.iter().any(|path| path == list) {
            to.to_owned()
        } else {
            continue;
        };
        let quote = &text[literal.range.start..literal.range.start + 1];
        found.replace_range(literal.range.clone(), &format!("{quote}{new}{quote}"));
    }
    (found != text).then_some(found)
}

/// Puts another path into the patterns that lead to one.
fn in_patterns(declared: &mut Declarations, old: &str, new: &str) {
    for law in &mut declared.laws {
        for pattern in &mut law.on.value {
            if let Some(other) = in_pattern(&pattern.value, "", old, new) {
                pattern.value = other;
            }
        }
    }
    let starts: Vec<Vec<String>> =
        declared.policies.iter().map(|policy| starts_of(declared, &policy.name.value)).collect();
    for (policy, starts) in declared.policies.iter_mut().zip(starts) {
        for on in policy.body.statements.iter_mut().filter_map(|statement| statement.on.as_mut()) {
            let mut more: Vec<Spanned<String>> = Vec::new();
            for pattern in &mut on.value {
                let text = pattern.value.trim_start_matches('!');
                if text.starts_with('/') {
                    if let Some(other) = in_pattern(&pattern.value, "", old, new) {
                        pattern.value = other;
                    }
                    continue;
                }
                let others = starts.iter().map(|start| in_pattern(&pattern.value, start, old, new));
                let others: Vec<Option<String>> = others.collect();
                let Some(first) = others.iter().flatten().next().cloned() else { continue };
                match others.iter().all(|other| other.as_ref() == Some(&first)) {
                    true => pattern.value = first,
                    // From elsewhere it leads to something else, which it still has to.
                    false => more.push(new_word(&first)),
                }
            }
            add_missing(on, more);
        }
    }
}

fn add_missing(on: &mut List, more: Vec<Spanned<String>>) {
    for pattern in more {
        if !on.value.iter().any(|known| known.value == pattern.value) {
            on.value.push(pattern);
        }
    }
}

/// Where the relative patterns of a policy start: the scopes at which it, or a policy that includes
/// it, is attached or is a ceiling; the root of all paths is the empty one.
fn starts_of(declared: &Declarations, policy: &str) -> Vec<String> {
    let mut all = vec![policy.to_owned()];
    let mut next = 0;
    while let Some(one) = all.get(next).cloned() {
        next += 1;
        for other in &declared.policies {
            let includes = other.body.include.iter().any(|name| name.value == one);
            if includes && !all.contains(&other.name.value) {
                all.push(other.name.value.clone());
            }
        }
    }
    let is_one = |list: &List| list.value.iter().any(|name| all.contains(&name.value));
    let mut found: Vec<String> = Vec::new();
    for table in declared.attachments.iter().filter(|table| is_one(&table.policy)) {
        found.extend(table.at.value.iter().map(|at| at.value.clone()));
    }
    for table in declared.ceilings.iter().filter(|table| is_one(&table.policy)) {
        match &table.over {
            Some(over) => found.extend(over.value.iter().map(|at| at.value.clone())),
            None => found.push(String::new()),
        }
    }
    let under = declared.checks.iter().flat_map(|check| &check.under);
    found.extend(under.filter(|name| all.contains(&name.value)).map(|_| String::new()));
    found.sort_unstable();
    found.dedup();
    found
}

/// A pattern that starts somewhere with another path in place of one; `None` where it does not
/// spell that out.
fn in_pattern(pattern: &str, start: &str, old: &str, new: &str) -> Option<String> {
    let (excludes, body) = match pattern.strip_prefix('!') {
        Some(body) => ("!", body),
        None => ("", pattern),
    };
    let (slash, body) = match body.strip_prefix('/') {
        Some(body) => ("/", body),
        None => ("", body),
    };
    let below = |path: &str| -> Option<String> {
        match start {
            "" => Some(path.to_owned()),
            start => path.strip_prefix(start)?.strip_prefix('/').map(str::to_owned),
        }
    };
    let (old, new) = (below(old)?, below(new)?);
    let rest = body.strip_prefix(&*old)?;
    (rest.is_empty() || rest.starts_with('/')).then(|| format!("{excludes}{slash}{new}{rest}"))
}

#[cfg(test)]
mod tests {
    use super::{Target, has_word, in_condition, in_pattern};

    #[test]
    fn patterns_that_lead_to_a_path() {
        for (pattern, start, found) in [
            ("/v/s/a/**", "", Some("/v/s/b/**")),
            ("!/v/s/a", "", Some("!/v/s/b")),
            ("/v/s/ab/**", "", None),
            ("a/**", "v/s", Some("b/**")),
            ("s/a", "v", Some("s/b")),
            ("a/**", "v/t", None),
            ("*/a", "v", None),
            ("**", "v/s/a", None),
        ] {
            let other = in_pattern(pattern, start, "v/s/a", "v/s/b");
            assert_eq!(other.as_deref(), found, "{pattern} from {start}");
        }
    }

    #[test]
    fn conditions_that_name_a_group() {
        let group = Target::Group("a".to_owned());
        for (text, found) in [
            (
                "'a' in who.groups and target.tier = 'a'",
                Some("'b' in who.groups and target.tier = 'a'"),
            ),
            ("who.id = \"group:a\"", Some("who.id = \"group:b\"")),
            ("who.groups overlaps ['x', 'a']", Some("who.groups overlaps ['x', 'b']")),
            ("target.team = 'a'", None),
        ] {
            assert_eq!(in_condition(text, &group, "b").as_deref(), found);
        }
        assert!(has_word("target.name = 'a'", "a"));
        assert!(!has_word("target.name = 'ab'", "a") && !has_word("x-a", "a"));
    }
}
