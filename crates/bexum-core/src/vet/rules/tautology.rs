//! Conditions, and parts of them, that come to the same whatever is asked.
//!
//! Each part is put into an allow by itself, with every attribute of `who` and `target` made one of an
//! item (which may have any value, or none), and two laws are decided about it: that it is always
//! true, and that it never is. Neither says anything of those who ask as a group or role alone, of
//! whom attributes are unknown.

use std::ops::Range;

use crate::catalogue::Level;
use crate::condition::ast::{Expression, Operand, Path, Root};
use crate::declaration::{
    Attachment, Declarations, Kind, Law, List, Named, Policy, Scope, Statement, User, WindowWritten,
};
use crate::diagnostic::Severity;
use crate::engine::Engine;
use crate::estate::Estate;
use crate::expectation::Claim;
use crate::origin::{Origin, Spanned};
use crate::policy::Effect;
use crate::prove::{Laws, Outcome};
use crate::scope::ScopeType;
use crate::vet::conditions::Written;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "tautology",
    severity: Severity::Warning,
    finds: "a condition, or a part of one, that is always true, or never",
    why: "It seems to narrow something and does not, or it narrows it to nothing.",
    example: r#"[policy.writer]
[[policy.writer.allow]]
do   = "store.write"
when = "given.count > 3 and given.count < 2"
"#,
    fine: r#"[policy.writer]
[[policy.writer.allow]]
do   = "store.write"
when = "given.count > 2 and given.count < 4 or who.team is not set"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// Parts of one condition that are looked at.
const MOST: usize = 100;

#[derive(Clone, Copy, PartialEq, Eq)]
enum Comes {
    Always,
    Never,
    Either,
    NotDecided,
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let conditions = vet.conditions();
    let told = vet.in_order(conditions.len(), |i| constants(vet, &conditions[i]));
    for (condition, (parts, not_decided)) in conditions.iter().zip(told) {
        found.not_decided += not_decided;
        for (part, is_always, is_whole) in parts {
            let comes = if is_always { "is always true" } else { "can never be true" };
            let text = part.to_string();
            let what = if is_whole { "this condition" } else { "this part of the condition" };
            let message = format!("{what} {comes}: `{text}`");
            let span = span(&part).unwrap_or(0..condition.text.len());
            let place = if is_whole { condition.origin.into() } else { condition.place(&span) };
            let finding = found.add(&condition.about, place, message);
            if is_always
                && is_whole
                && let Some(id) = condition.statement
            {
                finding.remedy = vet.restated(id, |statement| statement.when = None);
            }
        }
    }
}

/// The outermost parts of a condition that come to the same always: each with whether that is true,
/// and whether it is the whole; and of how many it could not be found out.
fn constants(vet: &Vet<'_>, condition: &Written) -> (Vec<(Expression, bool, bool)>, usize) {
    let mut parts: Vec<(&Expression, usize)> = Vec::new();
    subexpressions(&condition.expression, 0, &mut parts);
    parts.truncate(MOST);
    let comes_all = comes(vet, &parts.iter().map(|(part, _)| *part).collect::<Vec<_>>());
    let mut found = Vec::new();
    let mut not_decided = 0;
    let mut skipped: Option<usize> = None;
    for (i, ((part, depth), comes)) in parts.iter().zip(comes_all.iter().copied()).enumerate() {
        if skipped.is_some_and(|above| *depth > above) {
            continue;
        }
        skipped = None;
        match comes {
            // What makes the whole so is better told than the whole.
            Comes::Always | Comes::Never if is_by_a_part(&parts, &comes_all, i) => {}
            Comes::Always | Comes::Never => {
                found.push(((*part).clone(), comes == Comes::Always, i == 0));
                skipped = Some(*depth);
            }
            Comes::Either => {}
            Comes::NotDecided => not_decided += 1,
        }
    }
    (found, not_decided)
}

/// Whether a part of what is joined comes to the same, and so has the whole come to it.
fn is_by_a_part(parts: &[(&Expression, usize)], comes: &[Comes], at: usize) -> bool {
    let decisive = match parts[at].0 {
        Expression::And(_) => Comes::Never,
        Expression::Or(_) => Comes::Always,
        _ => return false,
    };
    let inner = parts[at + 1..].iter().take_while(|(_, depth)| *depth > parts[at].1);
    let inner = inner.zip(&comes[at + 1..]);
    comes[at] == decisive
        && inner
            .filter(|((_, depth), _)| *depth == parts[at].1 + 1)
            .any(|(_, comes)| *comes == decisive)
}

fn subexpressions<'e>(
    whole: &'e Expression,
    depth: usize,
    parts: &mut Vec<(&'e Expression, usize)>,
) {
    parts.push((whole, depth));
    match whole {
        Expression::And(inner) | Expression::Or(inner) => {
            inner.iter().for_each(|part| subexpressions(part, depth + 1, parts));
        }
        Expression::Not(inner) => subexpressions(inner, depth + 1, parts),
        _ => {}
    }
}

/// The bytes from its first operand to its last.
fn span(part: &Expression) -> Option<Range<usize>> {
    let mut found: Option<Range<usize>> = None;
    let mut add = |span: Range<usize>| {
        let known = found.take().unwrap_or(span.clone());
        found = Some(known.start.min(span.start)..known.end.max(span.end));
    };
    crate::vet::conditions::atoms(part, false, &mut |atom, _| {
        if let crate::vet::conditions::Atom::Compare(left, _, right) = atom {
            add(left.span());
            add(right.span());
        }
        atom.paths().into_iter().for_each(|path| add(path.span.clone()));
    });
    found
}

/// What each part comes to.
fn comes(vet: &Vet<'_>, parts: &[&Expression]) -> Vec<Comes> {
    let mut declared = Declarations { name: "supposed".to_owned(), ..Declarations::default() };
    let verb = |level, verb: &str| (level, plain(verb));
    declared.kinds = vec![
        named("store", Kind { items: vec![plain("item")], ..Kind::default() }),
        named("item", Kind { verbs: vec![verb(Level::Observe, "see")], ..Kind::default() }),
    ];
    let scope = |scope_type, kind: Option<&str>| Scope {
        scope_type,
        kind: kind.map(plain),
        sealed: false,
        attributes: Vec::new(),
    };
    declared.scopes = vec![
        named("a", scope(ScopeType::Account, None)),
        named("a/s", scope(ScopeType::Subscription, None)),
    ];
    declared.users = vec![named("u", User::default())];
    for (i, part) in parts.iter().enumerate() {
        let mut part = (*part).clone();
        free(&mut part);
        let (path, name) = (format!("a/s/r-{i}"), format!("p-{i}"));
        declared.scopes.push(named(&path, scope(ScopeType::Resource, Some("store"))));
        let statement = Statement {
            effect: Effect::Allow,
            name: None,
            about: None,
            actions: list("item.see"),
            on: None,
            when: Some(plain(&part.to_string())),
            origin: Origin::default(),
        };
        let body = Policy { statements: vec![statement], ..Policy::default() };
        declared.policies.push(named(&name, body));
        declared.attachments.push(Attachment {
            policy: list(&name),
            to: list("user:u"),
            at: list(&path),
            window: WindowWritten::default(),
            about: None,
            origin: Origin::default(),
        });
        for claim in [Claim::Always, Claim::Never] {
            declared.laws.push(Law {
                claim,
                name: None,
                who: list("user:u"),
                except: None,
                does: list("item.see"),
                on: list(&format!("/{path}/*")),
                when: None,
                about: None,
                origin: Origin::default(),
            });
        }
    }
    let Ok(estate) = Estate::build(&declared) else {
        return vec![Comes::NotDecided; parts.len()];
    };
    let engine = Engine::new(estate);
    let laws = Laws::new(&engine, &engine.estate().laws, vet.now);
    let judged = laws.judge_all();
    let outcome = |law: usize| laws.outcome(law, &judged[law]).0;
    let each = (0..parts.len()).map(|i| match (outcome(2 * i), outcome(2 * i + 1)) {
        (Outcome::Held, _) => Comes::Always,
        (_, Outcome::Held) => Comes::Never,
        (Outcome::Broken(_), Outcome::Broken(_)) => Comes::Either,
        _ => Comes::NotDecided,
    });
    each.collect()
}

/// Makes every attribute of who asks and of the target one of an item that may have any value.
fn free(expression: &mut Expression) {
    let path = |path: &mut Path| match path.root {
        Root::Given => {}
        Root::Who | Root::Target => {
            path.name = format!("vet-{}-{}", path.root, path.name);
            path.root = Root::Target;
        }
    };
    match expression {
        Expression::And(parts) | Expression::Or(parts) => parts.iter_mut().for_each(free),
        Expression::Not(part) => free(part),
        Expression::IsSet(one) | Expression::Bare(one) => path(one),
        Expression::Constant(_) => {}
        Expression::Compare(left, _, right) => {
            for operand in [left, right] {
                if let Operand::Path(one) = operand {
                    path(one);
                }
            }
        }
    }
}

fn plain(text: &str) -> Spanned<String> {
    Spanned::new(text.to_owned(), Origin::default())
}

fn list(text: &str) -> List {
    Spanned::new(vec![plain(text)], Origin::default())
}

fn named<T>(name: &str, body: T) -> Named<T> {
    Named { name: plain(name), about: None, body }
}
