//! What could be taken away without anybody noticing.

use std::collections::BTreeSet;

use crate::diagnostic::Severity;
use crate::edit::{Edit, ListOf};
use crate::id::StatementId;
use crate::origin::Origin;
use crate::part::Places;
use crate::principal::{Membership, Principal, Subject};
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

/// Something that may have no effect.
struct Unit {
    about: String,
    what: &'static str,
    origin: Origin,
    removal: Edit,
    whom: Whom,
    /// The policies whose attachment or ceiling it is, or whose statement.
    of: Of,
}

/// Whom it concerns, and where.
enum Whom {
    Subjects(Vec<Subject>, Places),
    Entry(Entry),
}

enum Of {
    Tie(usize),
    Entry,
    Statement(StatementId),
}

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let units = units(vet);
    let ever = vet.in_order(units.len(), |i| {
        let unit = &units[i];
        ever(vet, unit)
    });
    // A statement of which every attachment is told already is not told again.
    let is_told = |id: StatementId| {
        let carriers = vet.carriers(vet.estate().statement(id).policy);
        let (mut told, mut others) = (0, 0);
        for (unit, ever) in units.iter().zip(&ever) {
            if let Of::Tie(policy) = unit.of
                && carriers.iter().any(|carrier| carrier.index() == policy)
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
    if vet.has_spent_all() {
        return Ever::NotDecided;
    }
    match &unit.whom {
        Whom::Subjects(subjects, places) => {
            vet.changes_anything(&unit.removal, &vet.people_of(subjects), None, places)
        }
        Whom::Entry(entry) => {
            let people = vet.people_of(&[Subject::One(entry.who)]);
            let places = vet.whole().places_of(&[entry.who], entry.into);
            vet.changes_anything(&unit.removal, &people, Some(entry.into), &places)
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
                        whom: Whom::Subjects(vec![to.value], Places::Below(vec![at.value])),
                        of: Of::Tie(policy.value.index()),
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
                        whom: Whom::Subjects(
                            vec![*bound],
                            at.map_or(Places::Everywhere, |at| Places::Below(vec![at])),
                        ),
                        of: Of::Tie(policy.value.index()),
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
            whom: Whom::Subjects(subjects, places),
            of: Of::Statement(id),
        }
    })
    .collect()
}
