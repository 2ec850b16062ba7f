//! `bexum review`: opened, answered, closed.

use std::collections::BTreeSet;
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::engine::Engine;
use bexum_core::name::nearest;
use bexum_core::review::{self, Asked, Asks, Discounted, Of, Opens, Question, Review, Reviewing};
use bexum_core::time::Window;
use bexum_core::{Declarations, Estate, Time, usage};
use bexum_files::quotes::{BadQuote, bad_quote};
use bexum_files::{Loaded, append_tables, new_review, written_answer};
use bexum_wire::review as wire;
use rayon::prelude::*;

use super::edit;
use super::edit_line::{length_of, moment as typed_moment};
use crate::args::edit::{Edit as Edits, Supposed};
use crate::args::review::{Answer, Close, Line, Logs, New, Review as Typed, ReviewFormat, Word};
use crate::exit::Exit;
use crate::render::review::{self as render, Shown};
use crate::terminal::{self, Helped};

/// The file for reviews where none stands anywhere yet.
const NEW_FILE: &str = "reviews.toml";
/// Words that stand for something else after `bexum review`.
const WORDS: [&str; 3] = ["new", "answer", "close"];

pub(super) fn run(at: Option<&Path>, typed: &Typed) -> anyhow::Result<Exit> {
    match &typed.line {
        Some(Line::New(line)) => open(at, line),
        Some(Line::Answer(line)) => answer(at, line),
        Some(Line::Close(line)) => close(at, line),
        None => {
            let now = super::moment(typed.log.at_time.as_deref())?;
            match &typed.name {
                Some(name) => show(at, name, typed, now),
                None => list(at, typed, now),
            }
        }
    }
}

fn load(at: Option<&Path>) -> anyhow::Result<(Loaded, ManuallyDrop<Declarations>)> {
    super::load_declared(at, &Supposed { suppose: Vec::new() })
}

fn find<'e>(estate: &'e Estate, name: &str) -> anyhow::Result<&'e Review> {
    if let Some(review) = estate.reviews.iter().find(|review| &*review.name == name) {
        return Ok(review);
    }
    let names = estate.reviews.iter().map(|review| &*review.name);
    let help = match nearest(name, names) {
        Some(near) => format!("did you mean `{near}`?"),
        None => "`bexum review` lists them, `bexum review new` opens one".to_owned(),
    };
    Err(Helped::error(format!("no review is called `{name}`"), Some(help)))
}

/// All reviews, each on a line.
fn list(at: Option<&Path>, typed: &Typed, now: Time) -> anyhow::Result<Exit> {
    let (loaded, _) = load(at)?;
    let estate = &loaded.estate;
    if typed.format != ReviewFormat::Text {
        bail!("name a review: only one at a time is written so");
    }
    let lines = estate.reviews.iter().map(|review| {
        let questions = review.questions(estate);
        let is_answered = |one: &&Question| !review.answers_to(estate, &questions, one).is_empty();
        let answered = questions.iter().filter(is_answered).count();
        (review, answered, questions.len())
    });
    let lines: Vec<_> = lines.collect();
    terminal::unless_gone(terminal::print(&render::list(&lines, now, terminal::width())))?;
    Ok(Exit::Done)
}

/// A review, with all that helps to answer it.
fn show(at: Option<&Path>, name: &str, typed: &Typed, now: Time) -> anyhow::Result<Exit> {
    let (loaded, declared) = load(at)?;
    let estate = &loaded.estate;
    let review = find(estate, name)?;
    if let Some(user) = &typed.mine
        && estate.find_principal(user).is_none()
    {
        let names = estate.users.iter().map(|user| format!("user:{}", user.identity.name));
        let names: Vec<String> = names.collect();
        let near = nearest(user, names.iter().map(String::as_str));
        return Err(Helped::error(
            format!("principal `{user}` is not declared"),
            near.map(|near| format!("did you mean `{near}`?")),
        ));
    }
    let all = review.questions(estate);
    let is_mine = |question: &&Question| match (&typed.mine, review.asks(estate, question)) {
        (None, _) => true,
        (Some(user), Asked::Users(users)) => users.contains(user),
        (Some(_), Asked::FilesOwner) => false,
    };
    let questions: Vec<&Question> = all.iter().filter(is_mine).collect();
    let shape = shape(&loaded, &declared, review, &all, &questions, &typed.log, now)?;
    let mine = typed.mine.as_deref();
    let shown = Shown { shape: &shape, review, mine, now, has_log: !typed.log.log.is_empty() };
    terminal::unless_gone(match typed.format {
        ReviewFormat::Text => terminal::print(&shown.text(terminal::width())),
        ReviewFormat::Json => terminal::print_json(&shape),
        ReviewFormat::Csv => terminal::print_exactly(&shown.csv()?),
        ReviewFormat::Html => terminal::print_exactly(shown.page()?.as_bytes()),
    })?;
    Ok(Exit::Done)
}

/// All that helps to answer some questions of a review.
fn shape(
    loaded: &Loaded,
    declared: &Declarations,
    review: &Review,
    all: &[Question],
    questions: &[&Question],
    logs: &Logs,
    now: Time,
) -> anyhow::Result<wire::Review> {
    let estate = &loaded.estate;
    let idle_since = Time((now.0 - length_of(&logs.idle)?).max(Time::EARLIEST.0));
    let engine = Engine::new(Arc::clone(estate));
    let usage: Option<usage::Usage> = match logs.log.is_empty() {
        true => None,
        false => {
            let (usage, errors) = super::usage::used(&engine, &logs.log, now)?;
            if errors > 0 {
                let text =
                    format!("note: {errors} lines of the log are no request of this estate\n");
                terminal::print_error(&text);
            }
            Some(usage)
        }
    };
    let reviewing = Reviewing::new(declared, &engine, usage.as_ref(), now);
    let bar = terminal::progress(questions.len() as u64, "questions");
    let told: Vec<wire::Question> = questions
        .par_iter()
        .map(|question| {
            let facts = reviewing.facts(question);
            let grounds = reviewing.grounds(question, &facts, idle_since);
            bar.inc(1);
            let written = loaded.sources.shown(question.origin);
            wire::Question::of(estate, review, all, question, (&facts, &grounds), written)
        })
        .collect();
    bar.finish_and_clear();
    let discounted = review.answers.iter().filter_map(|one| {
        let why = review.discounts(estate, all, one)?;
        Some(wire::Discounted {
            who: one.who.clone(),
            of: one.of.clone(),
            by: one.by.clone(),
            because: wire::because(why),
            written: loaded.sources.shown(one.origin),
        })
    });
    Ok(wire::Review {
        version: bexum_wire::VERSION,
        name: review.name.to_string(),
        open: review.open.to_string(),
        until: review.until.to_string(),
        count: told.len(),
        answered: told.iter().filter(|one| !one.answers.is_empty()).count(),
        questions: told,
        discounted: discounted.collect(),
    })
}

/// Opens a review: writes its table.
fn open(at: Option<&Path>, typed: &New) -> anyhow::Result<Exit> {
    let now = super::moment(typed.log.at_time.as_deref())?;
    let now = Time(now.0 - now.0.rem_euclid(1_000_000));
    let root = super::root(at)?;
    let (loaded, declared) = load(at)?;
    let estate = &loaded.estate;
    let name = &typed.name;
    if WORDS.contains(&name.as_str()) {
        bail!("a review cannot be called `{name}`: that word has a meaning after `bexum review`");
    }
    if let Some(known) = estate.reviews.iter().find(|review| *review.name == **name) {
        bail!("the review `{name}` is there already ({})", loaded.sources.shown(known.origin));
    }
    let until = typed_moment(&typed.until)?;
    let open = typed.since.as_deref().map(typed_moment).transpose()?.unwrap_or(now);
    if open >= until {
        bail!("it would end before it begins: {open} is not before {until}");
    }
    let of: Vec<Of> =
        typed.of.iter().map(|text| reviewed(estate, text)).collect::<Result<_, _>>()?;
    let by = match &typed.by[..] {
        [word] if word == "owners" => Asks::Owners,
        [word] if word == "managers" => Asks::Managers,
        users => Asks::Users(users.to_vec()),
    };
    let questions = review::questions(estate, &of);
    if questions.is_empty() {
        bail!("there is nothing to ask about {}", typed.of.join(", "));
    }
    let count = i64::try_from(questions.len()).unwrap_or(i64::MAX);
    let new = Review {
        name: name.as_str().into(),
        about: typed.about.as_deref().map(Into::into),
        of,
        by,
        open,
        until,
        unanswered_goes: typed.unanswered == Word::Remove,
        asked: Some((count, review::fingerprint(&questions))),
        answers: Vec::new(),
        origin: bexum_core::origin::Origin::default(),
    };
    let file: PathBuf = match (&typed.file, estate.reviews.last()) {
        (Some(file), _) => file.clone(),
        (None, Some(last)) => loaded.sources.get(last.origin.file).path.clone(),
        (None, None) => PathBuf::from(NEW_FILE),
    };
    let is_same = |loaded: &Loaded| {
        loaded.estate.reviews.iter().any(|one| {
            *one.name == **name && one.open == open && one.until == until && one.of == new.of
        })
    };
    let written = append_tables(&root, &file, &new_review(&new), is_same)
        .with_context(|| format!("the review `{name}` was not opened"))?;
    let all: Vec<&Question> = questions.iter().collect();
    let shape = shape(&loaded, &declared, &new, &questions, &all, &typed.log, now)?;
    let text = format!("the review `{name}` stands in {}\n\n", written.display());
    let has_log = !typed.log.log.is_empty();
    let shown = Shown { shape: &shape, review: &new, mine: None, now, has_log };
    terminal::unless_gone(terminal::print(&(text + &shown.text(terminal::width()))))?;
    Ok(Exit::Done)
}

/// Something that can be reviewed.
fn reviewed(estate: &Estate, text: &str) -> anyhow::Result<Of> {
    let split = text.split_once(':');
    let found = match split {
        Some(("group", name)) => estate.find_group(name).map(|_| Of::Group(name.to_owned())),
        Some(("role", name)) => estate.find_role(name).map(|_| Of::Role(name.to_owned())),
        Some(("policy", name)) => estate.find_policy(name).map(|_| Of::Policy(name.to_owned())),
        Some(_) => None,
        None => {
            let path = text.trim_end_matches('/');
            estate.scopes.find(path).map(|_| Of::Scope(path.to_owned()))
        }
    };
    found.ok_or_else(|| {
        let groups = estate.groups.iter().map(|one| format!("group:{}", one.identity.name));
        let roles = estate.roles.iter().map(|one| format!("role:{}", one.identity.name));
        let policies = estate.policies.iter().map(|one| format!("policy:{}", one.name));
        let scopes = estate.scopes.iter().map(|(_, scope)| scope.path.to_string());
        let names: Vec<String> = groups.chain(roles).chain(policies).chain(scopes).collect();
        let near = nearest(text, names.iter().map(String::as_str));
        Helped::error(
            format!("there is no `{text}` to be reviewed"),
            Some(near.map_or_else(
                || "name a group:, role:, policy:, or a scope's path".to_owned(),
                |near| format!("did you mean `{near}`?"),
            )),
        )
    })
}

/// Writes one answer, or those of a table.
fn answer(at: Option<&Path>, typed: &Answer) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let now = Time(now.0 - now.0.rem_euclid(1_000_000));
    let root = super::root(at)?;
    let (loaded, _) = load(at)?;
    let estate = &loaded.estate;
    let review = find(estate, &typed.name)?;
    if estate.find_principal(&typed.by).is_none() || !typed.by.starts_with("user:") {
        bail!("`{}` is no user of this estate", typed.by);
    }
    let questions = review.questions(estate);
    let answering = Answering { estate, review, questions: &questions, by: &typed.by, now };
    let answers: Vec<review::Answer> = match (&typed.from, &typed.who, &typed.of, typed.answer) {
        (Some(file), ..) => answering.table(file)?,
        (None, Some(who), Some(of), Some(word)) => {
            let time = |text: &Option<String>| text.as_deref().map(typed_moment).transpose();
            let named = Named {
                who,
                of,
                at: typed.at.as_deref(),
                policy: typed.policy.as_deref().map(|one| one.trim_start_matches("policy:")),
                from: time(&typed.since)?,
                until: time(&typed.until)?,
            };
            let why = typed.why.clone();
            vec![
                answering
                    .one(&named, word == Word::Remove, why)
                    .map_err(|fault| Helped::error(fault.message, fault.help))?,
            ]
        }
        _ => bail!("name whom and what it is about, and `keep` or `remove`"),
    };
    if answers.is_empty() {
        bail!("no row of the table has an answer: fill in the column `answer` with keep or remove");
    }
    let text: Vec<String> = answers.iter().map(|one| written_answer(&review.name, one)).collect();
    let file = loaded.sources.get(review.origin.file).path.clone();
    let is_same = |loaded: &Loaded| {
        let after = loaded.estate.reviews.iter().find(|one| one.name == review.name);
        let same = |one: &review::Answer| review::Answer {
            origin: bexum_core::origin::Origin::default(),
            ..one.clone()
        };
        after.is_some_and(|after| {
            let all: Vec<review::Answer> = after.answers.iter().map(same).collect();
            answers.iter().all(|one| all.contains(&same(one)))
        })
    };
    let written = append_tables(&root, &file, &text.join("\n"), is_same)
        .with_context(|| format!("the review `{}` was not answered", review.name))?;
    let (loaded, _) = load(at)?;
    let estate = &loaded.estate;
    let review = find(estate, &typed.name)?;
    let questions = review.questions(estate);
    let is_answered = |one: &&Question| !review.answers_to(estate, &questions, one).is_empty();
    let answered = questions.iter().filter(is_answered).count();
    let text = render::answered(&answers, &written, answered, questions.len(), review, now);
    terminal::unless_gone(terminal::print(&text))?;
    Ok(Exit::Done)
}

/// A question as somebody names it.
struct Named<'n> {
    who: &'n str,
    of: &'n str,
    at: Option<&'n str>,
    policy: Option<&'n str>,
    from: Option<Time>,
    until: Option<Time>,
}

/// Why an answer is not taken, and what to do.
struct Refused {
    message: String,
    help: Option<String>,
}

/// A review that somebody answers.
struct Answering<'a> {
    estate: &'a Estate,
    review: &'a Review,
    questions: &'a [Question],
    by: &'a str,
    now: Time,
}

impl Answering<'_> {
    /// The answer to a question, if there is one of these and it may be answered so.
    fn one(
        &self,
        named: &Named<'_>,
        remove: bool,
        why: Option<String>,
    ) -> Result<review::Answer, Refused> {
        let refuse = |message: String, help: Option<String>| Err(Refused { message, help });
        let of_these: Vec<&Question> = self
            .questions
            .iter()
            .filter(|one| {
                one.who == named.who
                    && one.of.to_string() == named.of.trim_end_matches('/')
                    && (named.at.is_none() || one.at.as_deref() == named.at)
                    && (named.policy.is_none() || one.policy.as_deref() == named.policy)
                    && (named.from.is_none() || one.window.from == named.from)
                    && (named.until.is_none() || one.window.until == named.until)
            })
            .collect();
        let keys: BTreeSet<(Option<&str>, Option<&str>, Window)> = of_these
            .iter()
            .map(|one| {
                let window = if one.list.is_some() { one.window } else { Window::ALWAYS };
                (one.at.as_deref(), one.policy.as_deref(), window)
            })
            .collect();
        let Some(question) = of_these.first() else {
            let message = format!("the review asks nothing about {} of {}", named.who, named.of);
            let of_it = self.questions.iter().filter(|one| one.of.to_string() == named.of);
            let near = nearest(named.who, of_it.map(|one| one.who.as_str()));
            return refuse(message, near.map(|near| format!("did you mean `{near}`?")));
        };
        if keys.len() > 1 {
            return refuse(
                format!("{} of {} is asked about {} times", named.who, named.of, keys.len()),
                Some("say which by --where, --policy, --since or --until".to_owned()),
            );
        }
        let answer = review::Answer {
            who: question.who.clone(),
            of: question.of.to_string(),
            at: question.at.clone(),
            policy: question.policy.clone(),
            window: if question.list.is_some() { question.window } else { Window::ALWAYS },
            remove,
            by: self.by.to_owned(),
            answered: self.now,
            why: why.filter(|why| !why.trim().is_empty()),
            origin: bexum_core::origin::Origin::default(),
        };
        match self.review.discounts(self.estate, self.questions, &answer) {
            None => Ok(answer),
            Some(Discounted::NotAsked) => {
                let asked = match self.review.asks(self.estate, question) {
                    Asked::Users(users) => users.join(", "),
                    Asked::FilesOwner => "whoever owns the files".to_owned(),
                };
                refuse(format!("{} is not asked this, but {asked}", self.by), None)
            }
            Some(why) => {
                let (open, until) = (self.review.open, self.review.until);
                let help = match why {
                    Discounted::TooEarly | Discounted::TooLate => {
                        Some(format!("it is open from {open} until {until}"))
                    }
                    _ => None,
                };
                refuse(wire::because(why).to_owned(), help)
            }
        }
    }

    /// The answers of a table; every row that is none is told.
    fn table(&self, file: &Path) -> anyhow::Result<Vec<review::Answer>> {
        let shown = file.display().to_string();
        let text = std::fs::read(file).with_context(|| format!("cannot read `{shown}`"))?;
        if let Some(BadQuote { line, why }) = bad_quote(&text) {
            bail!("{shown}:{line}: {why}");
        }
        let mut rows = csv::ReaderBuilder::new().flexible(true).from_reader(&text[..]);
        let head = rows.headers().with_context(|| format!("cannot read `{shown}`"))?.clone();
        let column = |name: &str| {
            head.iter().position(|one| one.trim_start_matches('\u{feff}').trim() == name)
        };
        for name in ["who", "of", "answer"] {
            if column(name).is_none() {
                bail!("{shown}:1: there is no column `{name}`");
            }
        }
        let (mut answers, mut faults) = (Vec::new(), Vec::new());
        for row in rows.records() {
            let row = match row {
                Ok(row) => row,
                Err(error) => {
                    faults.push(format!("{shown}: {error}"));
                    continue;
                }
            };
            let line = row.position().map_or(0, csv::Position::line);
            let field = |name: &str| {
                column(name).and_then(|at| row.get(at)).map(str::trim).unwrap_or_default()
            };
            let word = field("answer");
            if word.is_empty() {
                continue;
            }
            let optional = |name: &str| Some(field(name)).filter(|text| !text.is_empty());
            let time = |name: &str| optional(name).map(typed_moment).transpose();
            let read = || -> Result<review::Answer, String> {
                let remove = match word {
                    "keep" => false,
                    "remove" => true,
                    other => return Err(format!("`{other}` is no answer: write keep or remove")),
                };
                let named = Named {
                    who: field("who"),
                    of: field("of"),
                    at: optional("where"),
                    policy: optional("policy"),
                    from: time("from").map_err(|error| error.to_string())?,
                    until: time("until").map_err(|error| error.to_string())?,
                };
                let why = optional("why").map(|why| why.trim_start_matches('\'').to_owned());
                self.one(&named, remove, why).map_err(|refused| refused.message)
            };
            match read() {
                Ok(answer) => answers.push(answer),
                Err(why) => faults.push(format!("{shown}:{line}: {why}")),
            }
        }
        if faults.is_empty() {
            return Ok(answers);
        }
        let many = faults.len();
        bail!(
            "{} of the table cannot be taken, so nothing was written:\n  {}",
            if many == 1 { "a row".to_owned() } else { format!("{many} rows") },
            faults.join("\n  ")
        )
    }
}

/// Shows what follows from the answers, and writes it if that was typed.
fn close(at: Option<&Path>, typed: &Close) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let (loaded, declared) = load(at)?;
    let estate = &loaded.estate;
    let review = find(estate, &typed.name)?;
    let closed = review.close(estate, now);
    let questions = review.questions(estate);
    let opens = match closed.edits.is_empty() {
        true => Opens::Nothing,
        false => {
            let engine = Engine::new(Arc::clone(estate));
            closed.opens(&declared, &engine, now)
        }
    };
    let text = render::closing(review, estate, &questions, &closed, &opens, now);
    terminal::unless_gone(terminal::print(&text))?;
    if closed.edits.is_empty() {
        return Ok(Exit::Done);
    }
    if opens != Opens::Nothing && typed.write && typed.despite.is_none() {
        let text = "nothing was written: something is opened by it, or may be; `--despite REASON` writes it all the same\n";
        terminal::unless_gone(terminal::print(text))?;
        return Ok(Exit::Denied);
    }
    let edits = Edits {
        at_time: typed.at_time.clone(),
        full: typed.full,
        ..Edits::proposed(typed.write, typed.despite.clone())
    };
    edit::make_these(at, &edits, &closed.edits)
}
