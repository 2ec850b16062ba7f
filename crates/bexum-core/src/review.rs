//! Reviews: questions to the people who know, about who still needs what (spec-work section 12).
//!
//! Answers decide nothing until a review is closed, and closing it is a set of edits.

mod close;
mod facts;
mod likeness;

use crate::edit::{Edit, ListOf};
use crate::estate::Estate;
use crate::id::UserId;
use crate::origin::Origin;
use crate::principal::{Membership, Principal, Subject};
use crate::time::{Time, Window};

pub use close::{Closed, Opens, Skipped};
pub use facts::{Facts, Ground, Reviewing, Use};
pub use likeness::Likeness;

/// What is reviewed, by bare name or path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Of {
    /// Who is in a group.
    Group(String),
    /// Who holds a role or may take it up.
    Role(String),
    /// To whom a policy is attached, and where.
    Policy(String),
    /// What is attached and limited at a scope.
    Scope(String),
}

impl std::fmt::Display for Of {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Group(name) => write!(f, "group:{name}"),
            Self::Role(name) => write!(f, "role:{name}"),
            Self::Policy(name) => write!(f, "policy:{name}"),
            Self::Scope(path) => f.write_str(path),
        }
    }
}

/// Whom a review asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asks {
    /// The group's owners; where there are none, and of all else, the files' owner.
    Owners,
    /// The user's manager, else the owners.
    Managers,
    /// These users, as `user:ines`.
    Users(Vec<String>),
}

/// An answer, as written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Whom it is about.
    pub who: String,
    /// What of, as [`Of`] is written.
    pub of: String,
    /// Of a policy, where.
    pub at: Option<String>,
    /// Of a scope, which policy.
    pub policy: Option<String>,
    /// Of an element that is there for a time, when.
    pub window: Window,
    /// Whether it goes.
    pub remove: bool,
    /// Who says so.
    pub by: String,
    /// When.
    pub answered: Time,
    /// Why.
    pub why: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// A review.
#[derive(Debug)]
pub struct Review {
    /// Its name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// What it is about.
    pub of: Vec<Of>,
    /// Whom it asks.
    pub by: Asks,
    /// The first moment at which answers count.
    pub open: Time,
    /// The first at which they count no more.
    pub until: Time,
    /// Whether what nobody answered goes after its end.
    pub unanswered_goes: bool,
    /// How many questions it had when it was opened, and their [fingerprint].
    pub asked: Option<(i64, String)>,
    /// What was answered.
    pub answers: Vec<Answer>,
    /// Where it is declared.
    pub origin: Origin,
}

/// Whether one thing stays.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Question {
    /// What it is a question of.
    pub of: Of,
    /// Whom it is about: a principal, or `everyone`.
    pub who: String,
    /// Of a group or role, in which list they stand.
    pub list: Option<ListKind>,
    /// Of a policy, where it is attached.
    pub at: Option<String>,
    /// Of a scope, which policy.
    pub policy: Option<String>,
    /// Of a scope, whether it is a ceiling.
    pub is_ceiling: bool,
    /// While it is so.
    pub window: Window,
    /// Where that is written.
    pub origin: Origin,
}

/// A list of principals that a review asks about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ListKind {
    /// A group's `members`.
    Members,
    /// A role's `held-by`.
    HeldBy,
    /// A role's `taken-by`.
    TakenBy,
}

impl ListKind {
    /// As edits name it.
    #[must_use]
    pub fn list(self) -> ListOf {
        [ListOf::Members, ListOf::HeldBy, ListOf::TakenBy][self as usize]
    }
}

/// Who is asked a question.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Asked {
    /// These users, as `user:ines`; any of them answers.
    Users(Vec<String>),
    /// Whoever owns the files.
    FilesOwner,
}

/// Why an answer does not count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Discounted {
    /// There is no such question, or no longer.
    NoQuestion,
    /// Who answered was not asked.
    NotAsked,
    /// It is about who answered.
    AboutOneself,
    /// Before the review was opened.
    TooEarly,
    /// After its end.
    TooLate,
}

impl Question {
    /// What an answer has to name to be one to this.
    #[must_use]
    pub fn is_meant(&self, answer: &Answer) -> bool {
        // What is attached goes whenever it counts: an edit cannot tell windows apart there.
        let window = if self.list.is_some() { self.window } else { Window::ALWAYS };
        answer.who == self.who
            && answer.of == self.of.to_string()
            && answer.at == self.at
            && answer.policy == self.policy
            && answer.window == window
    }

    /// Eight letters for what it asks.
    fn mark(&self) -> String {
        let written = format!(
            "{}\0{}\0{:?}\0{:?}\0{:?}\0{}\0{:?}",
            self.of, self.who, self.list, self.at, self.policy, self.is_ceiling, self.window
        );
        // FNV-1a, of which forty bits are kept.
        let hash = written.bytes().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
            (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        });
        let letters = b"abcdefghijklmnopqrstuvwxyz234567";
        (0..8).map(|at| char::from(letters[(hash >> (24 + 5 * at)) as usize & 31])).collect()
    }

    /// The edit after which it is asked no more.
    #[must_use]
    pub fn removal(&self) -> Edit {
        match (&self.of, self.list) {
            (Of::Group(name) | Of::Role(name), list) => Edit::Remove {
                who: vec![self.who.clone()],
                list: list.map_or(ListOf::Members, ListKind::list),
                of: name.clone(),
            },
            (Of::Policy(name), _) => Edit::Detach {
                policies: vec![name.clone()],
                from: vec![self.who.clone()],
                at: self.at.clone().into_iter().collect(),
            },
            (Of::Scope(path), _) => {
                let policy = self.policy.clone().unwrap_or_default();
                match self.is_ceiling {
                    false => Edit::Detach {
                        policies: vec![policy],
                        from: vec![self.who.clone()],
                        at: vec![path.clone()],
                    },
                    true => Edit::Unlimit {
                        policy,
                        over: vec![path.clone()],
                        bound: match self.who.as_str() {
                            "everyone" => Vec::new(),
                            who => vec![who.to_owned()],
                        },
                    },
                }
            }
        }
    }
}

/// Eight letters for each question, in the order of letters: so it can be told later which of them were
/// there.
#[must_use]
pub fn fingerprint(questions: &[Question]) -> String {
    let mut marks: Vec<String> = questions.iter().map(Question::mark).collect();
    marks.sort();
    marks.concat()
}

/// Everything that is asked of some things, each once.
#[must_use]
pub fn questions(estate: &Estate, of: &[Of]) -> Vec<Question> {
    let mut found: Vec<Question> = Vec::new();
    for of in of {
        match of {
            Of::Group(name) => {
                let Some(id) = estate.find_group(name) else { continue };
                let members = estate.group(id).members.as_deref().unwrap_or_default();
                found.extend(elements(estate, of, ListKind::Members, members));
            }
            Of::Role(name) => {
                let Some(id) = estate.find_role(name) else { continue };
                let role = estate.role(id);
                found.extend(elements(estate, of, ListKind::HeldBy, &role.held_by));
                found.extend(elements(estate, of, ListKind::TakenBy, &role.taken_by));
            }
            Of::Policy(name) => {
                let Some(id) = estate.find_policy(name) else { continue };
                for one in &estate.attachments {
                    if !one.policies.iter().any(|policy| policy.value == id) {
                        continue;
                    }
                    for to in &one.to {
                        for at in &one.at {
                            let at = estate.scope(at.value).path.to_string();
                            let who = subject(estate, to.value);
                            let question = tie(of, who, Some(at), None, one.window, one.origin);
                            found.push(question);
                        }
                    }
                }
            }
            Of::Scope(path) => {
                let Some(id) = estate.scopes.find(path) else { continue };
                for one in
                    estate.attachments.iter().filter(|one| one.at.iter().any(|at| at.value == id))
                {
                    for policy in &one.policies {
                        let name = estate.policy(policy.value).name.to_string();
                        found.extend(one.to.iter().map(|to| {
                            let who = subject(estate, to.value);
                            tie(of, who, None, Some(name.clone()), one.window, one.origin)
                        }));
                    }
                }
                for one in estate
                    .ceilings
                    .iter()
                    .filter(|one| one.over.iter().flatten().any(|over| over.value == id))
                {
                    for policy in &one.policies {
                        let name = estate.policy(policy.value).name.to_string();
                        found.extend(one.bound.iter().map(|bound| {
                            let who = subject(estate, *bound);
                            let question =
                                tie(of, who, None, Some(name.clone()), one.window, one.origin);
                            Question { is_ceiling: true, ..question }
                        }));
                    }
                }
            }
        }
    }
    let mut known = std::collections::BTreeSet::new();
    // An edit takes away what is attached, whenever it counts: that is one question.
    found.retain(|one| {
        let window = if one.list.is_some() { one.window } else { Window::ALWAYS };
        let key = Question { window, origin: Origin::default(), ..one.clone() };
        known.insert(key)
    });
    found
}

fn elements<'e>(
    estate: &'e Estate,
    of: &'e Of,
    list: ListKind,
    all: &'e [Membership],
) -> impl Iterator<Item = Question> + 'e {
    all.iter().map(move |one| Question {
        of: of.clone(),
        who: estate.principal_id(one.who),
        list: Some(list),
        at: None,
        policy: None,
        is_ceiling: false,
        window: one.window,
        origin: one.origin,
    })
}

fn tie(
    of: &Of,
    who: String,
    at: Option<String>,
    policy: Option<String>,
    window: Window,
    origin: Origin,
) -> Question {
    Question { of: of.clone(), who, list: None, at, policy, is_ceiling: false, window, origin }
}

fn subject(estate: &Estate, subject: Subject) -> String {
    match subject {
        Subject::Everyone => "everyone".to_owned(),
        Subject::One(who) => estate.principal_id(who),
    }
}

impl Review {
    /// All that it says, as text that can be compared.
    pub(crate) fn says(&self) -> String {
        let answers =
            self.answers.iter().map(|one| Answer { origin: Origin::default(), ..one.clone() });
        let answers: Vec<Answer> = answers.collect();
        format!(
            "{:?}",
            (
                &self.about,
                &self.of,
                &self.by,
                (self.open, self.until, self.unanswered_goes),
                &self.asked,
                answers
            )
        )
    }

    /// Its questions, as the estate has them now.
    #[must_use]
    pub fn questions(&self, estate: &Estate) -> Vec<Question> {
        questions(estate, &self.of)
    }

    /// Whether a question was there when the review was opened, as far as that is written.
    #[must_use]
    pub fn was_asked(&self, question: &Question) -> bool {
        let Some((_, marks)) = &self.asked else { return true };
        let mark = question.mark();
        marks.as_bytes().chunks(8).any(|known| known == mark.as_bytes())
    }

    /// Who is to answer a question: nobody about themselves.
    #[must_use]
    pub fn asks(&self, estate: &Estate, question: &Question) -> Asked {
        let user = |id: UserId| estate.principal_id(Principal::User(id));
        let owners = || -> Vec<String> {
            let Of::Group(name) = &question.of else { return Vec::new() };
            let group = estate.find_group(name).map(|id| estate.group(id));
            let owners = group.and_then(|group| group.owners.as_deref()).unwrap_or_default();
            owners.iter().map(|id| user(*id)).collect()
        };
        let asked = match &self.by {
            Asks::Users(users) => users.clone(),
            Asks::Owners => owners(),
            Asks::Managers => {
                let manager = match estate.find_principal(&question.who) {
                    Some(Principal::User(id)) => estate.user(id).manager,
                    _ => None,
                };
                manager.map_or_else(owners, |id| vec![user(id)])
            }
        };
        let others: Vec<String> = asked.into_iter().filter(|user| *user != question.who).collect();
        if others.is_empty() { Asked::FilesOwner } else { Asked::Users(others) }
    }

    /// Why an answer does not count, if it does not.
    #[must_use]
    pub fn discounts(
        &self,
        estate: &Estate,
        questions: &[Question],
        answer: &Answer,
    ) -> Option<Discounted> {
        let Some(question) = questions.iter().find(|one| one.is_meant(answer)) else {
            return Some(Discounted::NoQuestion);
        };
        if answer.by == answer.who {
            return Some(Discounted::AboutOneself);
        }
        // Who owns the files is not written in them.
        if let Asked::Users(users) = self.asks(estate, question)
            && !users.contains(&answer.by)
        {
            return Some(Discounted::NotAsked);
        }
        if answer.answered < self.open {
            return Some(Discounted::TooEarly);
        }
        (answer.answered >= self.until).then_some(Discounted::TooLate)
    }

    /// The answers to a question that count; where they differ, those that say it goes.
    #[must_use]
    pub fn answers_to<'r>(
        &'r self,
        estate: &Estate,
        questions: &[Question],
        question: &Question,
    ) -> Vec<&'r Answer> {
        let counts = |one: &&Answer| {
            question.is_meant(one) && self.discounts(estate, questions, one).is_none()
        };
        let all: Vec<&Answer> = self.answers.iter().filter(counts).collect();
        match all.iter().any(|one| one.remove) {
            true => all.into_iter().filter(|one| one.remove).collect(),
            false => all,
        }
    }
}
