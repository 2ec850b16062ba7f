//! `bexum trim`, as typed.

use std::path::PathBuf;

use clap::Args as ClapArgs;
use clap_complete::ArgValueCandidates;

use super::Format;
use crate::command::complete;

/// Take away what a log never used, as edits to look at
///
/// Unused memberships and attachments go, actions leave statements, paths become the scopes that were
/// used: as long as every request of the log that is allowed stays allowed, and nothing is opened to
/// anybody. Both are checked on the outcome before it is shown. With --draft: a new policy that allows
/// just what some people did.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Trim {
    /// What is trimmed: policy:NAME, group:NAME, role:NAME, user:NAME, resource:PATH; else everything
    #[arg(value_name = "THING", add = ArgValueCandidates::new(complete::things))]
    pub(crate) things: Vec<String>,
    /// What was asked for: logs as `bexum usage` reads them
    #[arg(long, value_name = "LOG", num_args = 1.., required_unless_present_any = ["draft"])]
    pub(crate) log: Vec<PathBuf>,
    /// Actions that stay wherever they are: patterns as in `do`
    #[arg(long, value_name = "PATTERN", num_args = 1.., conflicts_with = "draft", add = ArgValueCandidates::new(complete::actions))]
    pub(crate) keep: Vec<String>,
    /// Draft a new policy of this name instead: policy:NAME
    #[arg(long, value_name = "POLICY", requires = "for_whom", conflicts_with = "things")]
    pub(crate) draft: Option<String>,
    /// For whom it is: a group, a role, or a principal, whose requests count and to whom it is attached
    #[arg(long = "for", id = "for_whom", value_name = "WHO", num_args = 1.., requires = "draft", add = ArgValueCandidates::new(complete::who))]
    pub(crate) for_whom: Vec<String>,
    /// Requests that it is to allow, whoever asks and whether or not they are allowed now
    #[arg(long, value_name = "FILE", num_args = 1.., requires = "draft")]
    pub(crate) requests: Vec<PathBuf>,
    /// Actions that it is to allow, at the scopes of --at
    #[arg(long = "do", value_name = "ACTION", num_args = 1.., requires_all = ["draft", "at"], add = ArgValueCandidates::new(complete::actions))]
    pub(crate) actions: Vec<String>,
    /// Scopes at and below which it is to allow the actions of --do
    #[arg(long, value_name = "SCOPE", num_args = 1.., requires = "actions", add = ArgValueCandidates::new(complete::paths))]
    pub(crate) at: Vec<String>,
    /// Write it into the files
    #[arg(long)]
    pub(crate) write: bool,
    /// Write it although an expectation breaks by it
    #[arg(long, value_name = "REASON")]
    pub(crate) despite: Option<String>,
    /// The file for a drafted policy, from the estate's root
    #[arg(long, value_name = "FILE", requires = "draft")]
    pub(crate) file: Option<PathBuf>,
    /// Name each cell that is lost
    #[arg(long)]
    pub(crate) full: bool,
    /// The moment from which on nothing may be opened, and the time of requests that give none, instead
    /// of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// How to write it; JSON tells the edits without what they do
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

const EXAMPLES: &str = "\
Examples:
  bexum trim --log log.ndjson
  bexum trim group:imaging policy:job-operator --log log.ndjson
  bexum trim --log log.ndjson --keep '*.@observe'
  bexum trim --draft policy:imaging-daily --for group:imaging --log log.ndjson
  bexum trim --draft policy:map-maker --for user:sol --do recording.put store.list --at veyra/survey/maps

Exit codes: 0 done, 1 an expectation breaks by it, 2 error";
