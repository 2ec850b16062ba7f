//! `bexum review`, as typed.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates;

use crate::command::complete;

/// Ask the people who know who still needs what, and carry out what they say
///
/// A review puts a question about every place in a group or role, or everything attached to or at
/// something, to owners, managers or named users. Each question comes with what helps to answer it and a
/// recommendation with its reasons. Answers decide nothing until the review is closed, as an edit that is
/// seen first.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES, args_conflicts_with_subcommands = true)]
pub(crate) struct Review {
    #[command(subcommand)]
    pub(crate) line: Option<Line>,
    /// The review; else all of them are listed
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Only what this reviewer is asked
    #[arg(long, value_name = "USER", requires = "name", add = ArgValueCandidates::new(complete::who))]
    pub(crate) mine: Option<String>,
    #[command(flatten)]
    pub(crate) log: Logs,
    /// How to write it
    #[arg(long, value_enum, default_value_t = ReviewFormat::Text)]
    pub(crate) format: ReviewFormat,
}

/// What was used, and from when to look.
#[derive(Clone, Debug, ClapArgs)]
pub(crate) struct Logs {
    /// Logs that say what was used, as `bexum usage` reads them
    #[arg(long, value_name = "LOG", num_args = 1..)]
    pub(crate) log: Vec<PathBuf>,
    /// What was not used for so long speaks for taking it away: 8h, 30d, 2w
    #[arg(long, value_name = "LENGTH", default_value = "90d")]
    pub(crate) idle: String,
    /// The moment to look from, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
}

/// What to do with a review.
#[derive(Debug, Subcommand)]
pub(crate) enum Line {
    New(Box<New>),
    Answer(Box<Answer>),
    Close(Box<Close>),
}

/// Open a review: its table is written into a file of the estate
#[derive(Debug, ClapArgs)]
pub(crate) struct New {
    /// Its name
    pub(crate) name: String,
    /// What is reviewed: group:NAME, role:NAME, policy:NAME, or a scope's path
    #[arg(long, value_name = "THING", required = true, num_args = 1.., add = ArgValueCandidates::new(complete::things))]
    pub(crate) of: Vec<String>,
    /// Who answers: owners, managers, or users
    #[arg(long, value_name = "WHO", required = true, num_args = 1.., add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: Vec<String>,
    /// Until when answers count: 2026-11-30, or a moment
    #[arg(long, value_name = "TIME")]
    pub(crate) until: String,
    /// From when on; else from now
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// What becomes of what nobody answers
    #[arg(long, value_enum, default_value_t = Word::Keep)]
    pub(crate) unanswered: Word,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    pub(crate) about: Option<String>,
    /// The file, from the estate's root; else the one that holds the last review, or a new
    /// `reviews.toml`
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) log: Logs,
}

/// Answer a question of a review, or all of a table
#[derive(Debug, ClapArgs)]
pub(crate) struct Answer {
    /// The review
    pub(crate) name: String,
    /// Whom the question is about
    #[arg(required_unless_present = "from", requires = "of", add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: Option<String>,
    /// Whether it stays
    #[arg(value_enum, required_unless_present = "from")]
    pub(crate) answer: Option<Word>,
    /// What of: group:NAME, role:NAME, policy:NAME, or a scope's path
    #[arg(long, value_name = "THING", conflicts_with = "from", add = ArgValueCandidates::new(complete::things))]
    pub(crate) of: Option<String>,
    /// Of a policy, the scope at which it is attached
    #[arg(long = "where", value_name = "SCOPE", requires = "of")]
    pub(crate) at: Option<String>,
    /// Of a scope, the policy
    #[arg(long, value_name = "POLICY", requires = "of")]
    pub(crate) policy: Option<String>,
    /// Where somebody stands there several times, the one that begins then
    #[arg(long, value_name = "TIME", requires = "of")]
    pub(crate) since: Option<String>,
    /// Likewise, the one that ends then
    #[arg(long, value_name = "TIME", requires = "of")]
    pub(crate) until: Option<String>,
    /// Who answers
    #[arg(long, value_name = "USER", add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: String,
    /// Why
    #[arg(long, value_name = "TEXT", conflicts_with = "from")]
    pub(crate) why: Option<String>,
    /// The answers of a table as `--format csv` writes it, with its columns `answer` and `why` filled in
    #[arg(long, value_name = "FILE.csv", conflicts_with_all = ["who", "answer"])]
    pub(crate) from: Option<PathBuf>,
    /// The moment of the answer, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
}

/// Show the edits that follow from the answers, or write them
#[derive(Debug, ClapArgs)]
pub(crate) struct Close {
    /// The review
    pub(crate) name: String,
    /// Write them into the files
    #[arg(long)]
    pub(crate) write: bool,
    /// Write them although something is opened or an expectation breaks by it
    #[arg(long, value_name = "REASON")]
    pub(crate) despite: Option<String>,
    /// Name every place
    #[arg(long)]
    pub(crate) full: bool,
    /// The moment, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
}

/// An answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Word {
    /// It stays
    Keep,
    /// It goes
    Remove,
}

/// How a review is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReviewFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A table to fill in, for `bexum review answer --from`
    Csv,
    /// A page to sign off and keep
    Html,
}

const EXAMPLES: &str = "\
Examples:
  bexum review new imaging-q4 --of group:imaging --by owners --until 2026-12-31
  bexum review imaging-q4 --log log.ndjson
  bexum review imaging-q4 --mine user:tomas --format csv > answers.csv
  bexum review answer imaging-q4 user:petra --of group:imaging remove --by user:tomas --why 'works at the dishes'
  bexum review answer imaging-q4 --from answers.csv --by user:tomas
  bexum review close imaging-q4

Exit codes: 0 done, 1 closing is refused, 2 error";
