//! Denies that may refuse less, or more, than they seem to.

use rustc_hash::FxHashMap;

use crate::attribute::Attributes;
use crate::catalogue::TargetClass;
use crate::condition::ast::{Expression, Operator, Path, Root};
use crate::diagnostic::Severity;
use crate::estate::Estate;
use crate::id::{AttributeId, ScopeId, StatementId};
use crate::principal::{Principal, Subject};
use crate::truth::Truth;
use crate::vet::conditions::{Atom, Borne, Written, atoms, bounds, is_built_in, is_given_at};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "doubtful-deny",
    severity: Severity::Warning,
    finds: "a deny whose condition hangs on an attribute that nothing has; on one that may be absent, \
            under `not` or `!=`; or, as a note, on what a request may leave out",
    why: "A comparison with what is absent is false, and `not` turns that into true: such a deny \
          refuses nobody, or everybody whom nothing is said of.",
    example: r#"[policy.quiet]
[[policy.quiet.deny]]
do   = "recording.read"
when = "who.team != 'imaging'"
[[attach]]
policy = "quiet"
to     = "everyone"
at     = "veyra"
"#,
    fine: r#"[policy.quiet]
[[policy.quiet.deny]]
do   = "recording.read"
when = "target.tier != 'open'"
[[attach]]
policy = "quiet"
to     = "everyone"
at     = "veyra"
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

struct Look<'v> {
    vet: &'v Vet<'v>,
    borne: [Borne; 3],
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let look = Look { vet, borne: Root::ALL.map(|root| Borne::new(vet.estate(), root)) };
    for condition in vet.conditions() {
        let Some(id) = condition.statement.filter(|id| vet.is_deny(*id)) else { continue };
        // For each path the gravest that can be said of it: nothing has it, it may be absent, it may
        // be left out.
        let mut said: Vec<(&Path, u8, String)> = Vec::new();
        atoms(&condition.expression, false, &mut |atom: Atom<'_>, negated| {
            for path in atom.paths().into_iter().filter(|path| !is_built_in(path)) {
                let doubt = look.at((id, &condition.expression), path, atom, negated);
                let Some((gravity, text)) = doubt else { continue };
                match said.iter_mut().find(|(known, ..)| *known == path) {
                    Some(known) if known.1 <= gravity => {}
                    Some(known) => *known = (path, gravity, text),
                    None => said.push((path, gravity, text)),
                }
            }
        });
        for (path, gravity, text) in said {
            tell(&condition, path, gravity, text, found);
        }
    }
}

fn tell(condition: &Written, path: &Path, gravity: u8, text: String, found: &mut Findings<'_>) {
    let name = format!("{}.{}", path.root, path.name);
    let finding = found.add(&condition.about, condition.place(&path.span), text);
    finding.hint = Some(match gravity {
        NOTHING_HAS => format!("give `{name}` to what is meant, or ask about what something has"),
        MAY_BE_ABSENT => format!("add `{name} is set and …`, or give it to whatever is meant"),
        _ => format!("have every request give `{name}`, as `null` where there is none"),
    });
    if gravity == MAY_BE_LEFT_OUT {
        found.matters(Severity::Note);
    }
}

const NOTHING_HAS: u8 = 0;
const MAY_BE_ABSENT: u8 = 1;
const MAY_BE_LEFT_OUT: u8 = 2;

/// The least and the most that a condition comes to for whom or what an attribute is lacking: one of
/// `given` is unknown then, others are absent (spec section 4).
fn if_lacking(whole: &Expression, path: &Path) -> (Truth, Truth) {
    use Truth::{False, True, Undecided};
    bounds(whole, &|atom| {
        let is_it = |one: &&Path| (one.root, &one.name) == (path.root, &path.name);
        if !atom.paths().iter().any(is_it) {
            return (False, True);
        }
        match (atom, path.root) {
            // The request may say something of a name below it.
            (Atom::IsSet(_), Root::Given) => (Undecided, True),
            (Atom::Bare(_), Root::Given) => (Undecided, Undecided),
            // What it is compared with may be absent, or a list without anything in it.
            (Atom::Compare(..), Root::Given) => match atom.compares_with_one_value() {
                true => (Undecided, Undecided),
                false => (False, Undecided),
            },
            (Atom::Compare(_, Operator::NotEqual, _), _) => (Undecided, Undecided),
            _ => (False, False),
        }
    })
}

impl Look<'_> {
    /// What is doubtful about a path in a deny.
    fn at(
        &self,
        (id, whole): (StatementId, &Expression),
        path: &Path,
        atom: Atom<'_>,
        negated: bool,
    ) -> Option<(u8, String)> {
        let name = format!("{}.{}", path.root, path.name);
        let unless = match if_lacking(whole, path) {
            // Where it is lacking, the deny refuses nothing.
            (_, Truth::False) => None,
            (Truth::False, _) => Some(", unless the rest of the condition is false"),
            _ => Some(""),
        };
        if path.root == Root::Given {
            let unless = unless?;
            let when = if unless.is_empty() { "whenever" } else { "where" };
            let text = format!("refuses {when} a request does not say `{name}`{unless}");
            return Some((MAY_BE_LEFT_OUT, text));
        }
        let is_asked = matches!(atom, Atom::IsSet(_));
        if !self.borne[path.root as usize].has(&path.name) {
            let but = match path.root {
                Root::Target => "; only a request could say it of an item",
                _ => "",
            };
            return Some((NOTHING_HAS, format!("nothing in the estate has `{name}`{but}")));
        }
        let differs = matches!(atom, Atom::Compare(_, Operator::NotEqual, _));
        if is_asked || !(negated || differs) {
            return None;
        }
        let unless = unless?;
        let attribute = self.vet.estate().attribute_names.get(&path.name)?;
        let lacking = match path.root {
            Root::Who => self.user_without(id, attribute),
            _ => self.place_without(id, attribute),
        }?;
        let how = if differs { "!=" } else { "not" };
        let text =
            format!("`{lacking}` has no `{name}`, and so is refused by this `{how}`{unless}");
        Some((MAY_BE_ABSENT, text))
    }

    /// A user whom the deny is for and who lacks an attribute.
    fn user_without(&self, id: StatementId, attribute: AttributeId) -> Option<String> {
        let estate = self.vet.estate();
        let lacks = |attributes: &Attributes| !attributes.has(attribute);
        let carriers = self.vet.carriers(estate.statement(id).policy);
        let attached = estate.attachments.iter().filter(|one| !self.vet.is_over(one.window));
        let attached = attached
            .filter(|one| one.policies.iter().any(|policy| carriers.contains(&policy.value)))
            .flat_map(|one| one.to.iter().map(|to| to.value));
        let bound = estate.ceilings.iter().filter(|one| !self.vet.is_over(one.window));
        let bound = bound
            .filter(|one| one.policies.iter().any(|policy| carriers.contains(&policy.value)))
            .flat_map(|one| one.bound.iter().copied());
        let mut subjects: Vec<Subject> = attached.chain(bound).collect();
        subjects.sort_unstable();
        subjects.dedup();
        let whole = self.vet.whole();
        let users: Vec<Principal> = match subjects.contains(&Subject::Everyone) {
            true => estate.principals().collect(),
            false => {
                let seeds: Vec<Principal> = subjects
                    .into_iter()
                    .filter_map(|subject| match subject {
                        Subject::One(who) => Some(who),
                        Subject::Everyone => None,
                    })
                    .collect();
                let mut below: Vec<Principal> = whole.below(&seeds).into_iter().collect();
                below.sort_unstable();
                below
            }
        };
        users.into_iter().find_map(|who| match who {
            Principal::User(id) => {
                let user = estate.user(id);
                let is_one = user.enabled && lacks(&user.identity.attributes);
                is_one.then(|| estate.principal_id(who))
            }
            _ => None,
        })
    }

    /// A place below one where the deny counts, at which one of its actions applies and nothing
    /// gives an attribute.
    fn place_without(&self, id: StatementId, attribute: AttributeId) -> Option<String> {
        let estate = self.vet.estate();
        let statement = estate.statement(id);
        let applies = |class| !estate.catalogue.applicable(class).is_disjoint(&statement.actions);
        let mut known: FxHashMap<ScopeId, bool> = FxHashMap::default();
        for anchor in self.vet.anchors(id) {
            let range = anchor.map_or(0..estate.scopes.len(), |at| estate.scopes.subtree(at));
            for at in range.map(ScopeId::new) {
                let scope = estate.scope(at);
                let above = scope.parent.and_then(|parent| known.get(&parent).copied());
                let is_given = match above {
                    Some(given) => given || scope.attributes.has(attribute),
                    None => is_given_at(estate, at, attribute),
                };
                known.insert(at, is_given);
                if is_given {
                    continue;
                }
                if applies(scope.class()) && self.is_meant(estate, id, anchor, &scope.path) {
                    return Some(scope.path.to_string());
                }
                let items = scope.holds_items() && applies(TargetClass::Item(scope.kind));
                let below = format!("{}/x", scope.path);
                if items && self.is_meant(estate, id, anchor, &below) {
                    return Some(format!("{}/**", scope.path));
                }
            }
        }
        None
    }

    /// Whether a statement's patterns may match a path.
    fn is_meant(
        &self,
        estate: &Estate,
        id: StatementId,
        anchor: Option<ScopeId>,
        path: &str,
    ) -> bool {
        let segments: Vec<&str> = path.split('/').collect();
        let depth = anchor.map_or(0, |at| estate.scope(at).depth as usize);
        let on = &estate.statement(id).on;
        on.matches(&segments, depth, &super::cannot_narrow::Anything) != crate::truth::Truth::False
    }
}
