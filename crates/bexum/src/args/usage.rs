//! `bexum usage`, as typed.

use std::path::PathBuf;

use bexum_core::usage;
use clap::{Args as ClapArgs, ValueEnum};
use clap_complete::ArgValueCandidates;

use crate::command::complete;

/// Tell from logs what was used, how often and when last, and what never
///
/// Each request is decided by the estate as it is, at its own time. One that is allowed uses every
/// allow statement that matched, its attachment, and each membership on a shortest way to it. A log
/// is NDJSON as `replay` reads it, plain or packed by gzip or zstd; `verdict` says what was decided
/// then.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Usage {
    /// Logs, and summaries that `--save` wrote; `-` reads standard input
    #[arg(value_name = "LOG", required = true)]
    pub(crate) logs: Vec<PathBuf>,
    /// Tell one sort of things, each by itself; else how many of each are in use
    #[arg(long, value_enum, value_name = "SORT")]
    pub(crate) by: Option<By>,
    /// What was not used for so long is idle: 90m, 8h, 30d, 2w
    #[arg(long, value_name = "LENGTH", default_value = "90d")]
    pub(crate) idle: String,
    /// Only requests of these
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: Vec<String>,
    /// Only requests for these actions: patterns as in `do`
    #[arg(long = "do", value_name = "ACTION", add = ArgValueCandidates::new(complete::actions))]
    pub(crate) action: Vec<String>,
    /// Only requests at or below this path
    #[arg(long = "at", value_name = "PATH", add = ArgValueCandidates::new(complete::paths))]
    pub(crate) path: Option<String>,
    /// Write what was counted into a file, which later stands in the place of these logs
    #[arg(long, value_name = "FILE", conflicts_with_all = ["who", "action", "path"])]
    pub(crate) save: Option<PathBuf>,
    /// Name everything, however much it is
    #[arg(long)]
    pub(crate) full: bool,
    /// End with exit code 2 if any line was an error
    #[arg(long)]
    pub(crate) strict: bool,
    /// The moment to look from, and the time of requests that give none, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// How many threads count; else as many as there are cores
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(1..=64))]
    pub(crate) threads: Option<u8>,
    /// How to write it
    #[arg(long, value_enum, default_value_t = UsageFormat::Text)]
    pub(crate) format: UsageFormat,
}

/// By what use is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum By {
    /// Who asked
    Who,
    /// Groups through which something was granted
    Group,
    /// Roles, likewise
    Role,
    /// Policies
    Policy,
    /// Allow statements
    Statement,
    /// Policies attached to somebody at a scope
    Attachment,
    /// Places in `members`, `held-by`, `taken-by`
    Membership,
    /// Actions
    Action,
    /// Scopes
    Scope,
}

impl From<By> for usage::By {
    fn from(by: By) -> Self {
        Self::ALL[by as usize]
    }
}

/// How to write what was used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum UsageFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A row for each thing
    Csv,
    /// A page by itself, with bars over time
    Html,
}

const EXAMPLES: &str = "\
Examples:
  bexum usage requests.ndjson
  bexum usage requests.ndjson --by membership --idle 30d
  bexum usage requests.ndjson --who user:ines --by action
  bexum usage requests.ndjson --save october.json
  bexum usage october.json requests.ndjson --by policy --format csv

Exit codes: 0 done, 2 error";
