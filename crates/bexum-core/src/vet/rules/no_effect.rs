//! What could be taken away without anybody noticing.

use std::collections::BTreeSet;

use crate::diagnostic::Severity;
use crate::edit::{Edit, ListOf};
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::origin::Origin;
use crate::part::Places;
use crate::policy::Effect;
use crate::principal::{Membership, Principal, Subject};
use crate::vet::changes::Can;
use crate::vet::supposed::Ever;
use crate::vet::witnesses::{Entry, Tie};
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "no-effect",
    severity: Severity::Note,
    finds: "an attachment, membership, holding, ceiling or statement whose removal changes no decision \
            for anybody, whatever the circumstances, now or later",
    why: "It is read, kept and reviewed for nothing, and takes effect one day when something else goes.",
    example: r#"[policy.lister]
[[policy.lister.allow]]
do = "store.list"
[[attach]]
policy = "reader"
to     = "group:imaging"
at     = "veyra/survey"
[[attach]]
policy = "lister"
to     = "user:lin"
at     = "veyra/survey/raw"
"#,
    fine: r#"[policy.writer]
[[policy.writer.allow]]
do = "store.write"
[[attach]]
policy = "reader"
to     = "group:imaging"
at     = "veyra/survey"
[[attach]]
policy = "writer"
to     = "user:lin"
at     = "veyra/survey/raw"
"#,
    asks_whom: false,
    mends_one_at_a_time: true,
    find,
};

/// So many actions a row has about.
const ACTIONS: usize = 16;

/// Something that may have no effect.
struct Unit {
    about: String,
    what: &'static str,
    origin: Origin,
    removal: Edit,
    can: Can,
    whom: Whom,
    of: Of,
}

/// Whom it concerns, and where.
enum Whom {
    Subjects(Vec<Subject>, Places),
    Entry(Entry),
}

/// What it is.
enum Of {
    Attachment(PolicyId, ScopeId),
    Ceiling(PolicyId),
    Entry,
    Statement(StatementId),
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let units = units(vet);
    let costs = vet.in_order(units.len(), |i| {
        if let Of::Attachment(policy, at) = units[i].of
            && !vet.applies_below(policy, at)
        {
            return 0;
        }
        let (people, places) = concerned(vet, &units[i]);
        people.len().saturating_mul(vet.rows(&places)).saturating_mul(actions(vet, &units[i]))
    });
    let ever = vet.cheapest_first(&costs, |i| ever(vet, &units[i]));
    // A statement of which every attachment is told already is not told again.
    let is_told = |id: StatementId| {
        let carriers = vet.carriers(vet.estate().statement(id).policy);
        let (mut told, mut others) = (0, 0);
        for (unit, ever) in units.iter().zip(&ever) {
            if let Of::Attachment(policy, _) | Of::Ceiling(policy) = unit.of
                && carriers.contains(&policy)
            {
                match ever {
                    Ever::Never => told += 1,
                    _ => others += 1,
                }
            }
        }
        told > 0 && others == 0 && !vet.has_witnessed_tie(carriers)
    };
    for (unit, ever) in units.iter().zip(&ever) {
        match ever {
            Ever::Never => {}
            Ever::NotDecided => {
                found.not_decided += 1;
                continue;
            }
            Ever::Yes | Ever::Nobody => continue,
        }
        if let Of::Statement(id) = unit.of
            && is_told(id)
        {
            continue;
        }
        let message =
            format!("{} changes no decision for anybody", unit.what.replace("{}", &unit.about));
        let finding = found.add(&unit.about, unit.origin, message);
        match vet.leaves_a_hole(&unit.removal) {
            None => finding.remedy = vet.with_what_is_left(&unit.removal),
            Some(hint) => finding.hint = Some(hint),
        }
    }
}

/// Whether taking it away changes anything.
fn ever(vet: &Vet<'_>, unit: &Unit) -> Ever {
    if let Of::Attachment(policy, at) = unit.of
        && !vet.applies_below(policy, at)
    {
        return Ever::Never;
    }
    let (people, places) = concerned(vet, unit);
    // Nobody ever comes to it, or what it brings is tied nowhere.
    if people.is_empty() || vet.rows(&places) == 0 {
        return Ever::Never;
    }
    let into = match &unit.whom {
        Whom::Subjects(..) => None,
        Whom::Entry(entry) => Some(entry.into),
    };
    let actions = actions(vet, unit);
    vet.changes_anything((&unit.removal, unit.can), (&people, into), &places, actions)
}

/// How many actions of a row it may concern, as far as that is seen without a look at rows.
fn actions(vet: &Vet<'_>, unit: &Unit) -> usize {
    let estate = vet.estate();
    match unit.of {
        Of::Attachment(policy, _) => {
            let policy = estate.policy(policy);
            policy.allowed_actions.len() + policy.denied_actions.len()
        }
        Of::Statement(id) => estate.statement(id).actions.len(),
        Of::Entry | Of::Ceiling(_) => ACTIONS,
    }
}

/// Whom it may concern that something is taken away, and where.
fn concerned(vet: &Vet<'_>, unit: &Unit) -> (Vec<Principal>, Places) {
    match &unit.whom {
        Whom::Subjects(subjects, places) => (vet.people_of(subjects), places.clone()),
        Whom::Entry(entry) => {
            let places = vet.whole().places_of(&[entry.who], entry.into);
            match vet.whole().read_at(entry.into) {
                None => (vet.people_of(&[Subject::One(entry.who)]), places),
                Some(at) => (vet.people_of(&[Subject::Everyone]), places.and(at)),
            }
        }
    }
}

/// All that is there, save what a request was found to speak for, and what other rules tell: windows
/// that are over, disabled people, statements that never match, policies that are tied nowhere.
fn units(vet: &Vet<'_>) -> Vec<Unit> {
    let mut units = attachments(vet);
    units.extend(entries(vet));
    units.extend(ceilings(vet));
    units.extend(statements(vet));
    units
}

fn attachments(vet: &Vet<'_>) -> Vec<Unit> {
    let estate = vet.estate();
    let mut known: BTreeSet<Tie> = BTreeSet::new();
    let mut units = Vec::new();
    for one in estate.attachments.iter().filter(|one| !vet.is_over(one.window)) {
        for policy in &one.policies {
            for to in &one.to {
                for at in &one.at {
                    let tie = (policy.value, to.value, at.value);
                    if vet.witnesses().ties.contains(&tie) || !known.insert(tie) {
                        continue;
                    }
                    let (name, path) =
                        (&estate.policy(policy.value).name, &estate.scope(at.value).path);
                    let subject = vet.subject(to.value);
                    units.push(Unit {
                        about: format!("policy:{name} to {subject} at {path}"),
                        what: "the attachment `{}`",
                        origin: one.origin,
                        removal: Edit::Detach {
                            policies: vec![name.to_string()],
                            from: vec![subject],
                            at: vec![path.to_string()],
                        },
                        can: vet.can_do_detached(policy.value),
                        whom: Whom::Subjects(vec![to.value], Places::Below(vec![at.value])),
                        of: Of::Attachment(policy.value, at.value),
                    });
                }
            }
        }
    }
    units
}

fn entries(vet: &Vet<'_>) -> Vec<Unit> {
    let estate = vet.estate();
    let mut units = Vec::new();
    let mut known: BTreeSet<Entry> = BTreeSet::new();
    let mut look = |all: &[Membership], list: ListOf, name: &str| {
        let id = match list {
            ListOf::Members => format!("group:{name}"),
            _ => format!("role:{name}"),
        };
        let Some(into) = estate.find_principal(&id) else { return };
        for one in all {
            let entry = Entry { who: one.who, into, is_taken: list == ListOf::TakenBy };
            let is_disabled = matches!(one.who, Principal::User(id) if !estate.user(id).enabled);
            let others = all.iter().filter(|other| other.who == one.who);
            let all_over = others.map(|other| other.window).all(|window| vet.is_over(window));
            let is_witnessed = vet.witnesses().entries.contains(&entry);
            if is_witnessed || all_over || is_disabled || !known.insert(entry) {
                continue;
            }
            let who = estate.principal_id(one.who);
            units.push(Unit {
                about: format!("{who} in {id}"),
                what: "the place of `{}`",
                origin: one.origin,
                removal: Edit::Remove { who: vec![who], list, of: name.to_owned() },
                can: Can::Both,
                whom: Whom::Entry(entry),
                of: Of::Entry,
            });
        }
    };
    for group in &estate.groups {
        let members = group.members.as_deref().unwrap_or_default();
        look(members, ListOf::Members, &group.identity.name);
    }
    for role in &estate.roles {
        look(&role.held_by, ListOf::HeldBy, &role.identity.name);
        look(&role.taken_by, ListOf::TakenBy, &role.identity.name);
    }
    units
}

fn ceilings(vet: &Vet<'_>) -> Vec<Unit> {
    let estate = vet.estate();
    let mut units = Vec::new();
    let mut known: BTreeSet<String> = BTreeSet::new();
    for one in estate.ceilings.iter().filter(|one| !vet.is_over(one.window)) {
        let over: Vec<Option<_>> = match &one.over {
            None => vec![None],
            Some(over) => over.iter().map(|at| Some(at.value)).collect(),
        };
        for policy in &one.policies {
            for at in &over {
                for bound in &one.bound {
                    let name = &estate.policy(policy.value).name;
                    let path = at.map(|at| estate.scope(at).path.to_string());
                    let subject = vet.subject(*bound);
                    let where_over = path.as_deref().unwrap_or("everything");
                    let about = format!("ceiling policy:{name} over {where_over} for {subject}");
                    if !known.insert(about.clone()) {
                        continue;
                    }
                    units.push(Unit {
                        about,
                        what: "the `{}`",
                        origin: one.origin,
                        removal: Edit::Unlimit {
                            policy: name.to_string(),
                            over: path.into_iter().collect(),
                            bound: match bound {
                                Subject::Everyone => Vec::new(),
                                Subject::One(_) => vec![subject],
                            },
                        },
                        can: Can::Open,
                        whom: Whom::Subjects(
                            vec![*bound],
                            at.map_or(Places::Everywhere, |at| Places::Below(vec![at])),
                        ),
                        of: Of::Ceiling(policy.value),
                    });
                }
            }
        }
    }
    units
}

fn statements(vet: &Vet<'_>) -> Vec<Unit> {
    let estate = vet.estate();
    let dead = vet.dead();
    let all = (0..estate.statements.len()).map(StatementId::new);
    let open = all.filter(|id| {
        let has_witness = vet.witnesses().statements.contains(id.index());
        !has_witness && dead.ever[id.index()] == Some(Ever::Yes)
    });
    open.map(|id| {
        let statement = estate.statement(id);
        let (subjects, places) = vet.reach_of(statement.policy);
        Unit {
            about: vet.statement(id),
            what: "the statement `{}`",
            origin: statement.origin,
            removal: Edit::Strike {
                policy: estate.policy(statement.policy).name.to_string(),
                statement: vet.called(id),
            },
            can: match (vet.is_ceiling(statement.policy), statement.effect) {
                // An allow of a ceiling refuses what it does not name.
                (true, _) => Can::Both,
                (false, Effect::Allow) => Can::Close,
                (false, Effect::Deny) => Can::Open,
            },
            whom: Whom::Subjects(subjects, places),
            of: Of::Statement(id),
        }
    })
    .collect()
}
