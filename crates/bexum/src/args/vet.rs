//! `bexum vet`, as typed.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};
use clap_complete::ArgValueCandidates;

use super::edit::Supposed;
use crate::command::complete;

/// Look for what is not right, unasked: too much, dead, contradictory, dangerous
///
/// The gravest first, each with its place, why it matters, and where there is one the edit that mends
/// it. What is known and fine is accepted in the files (`[[vet-accept]]`), with a reason; `[vet]` turns
/// rules off or says how much they matter.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Vet {
    /// These rules alone; `*` stands for any letters
    #[arg(value_name = "RULE", add = ArgValueCandidates::new(complete::rules))]
    pub(crate) rules: Vec<String>,
    /// List the rules, with how much each matters
    #[arg(long = "rules")]
    pub(crate) list: bool,
    /// Say one rule, with an example
    #[arg(long, value_name = "RULE", add = ArgValueCandidates::new(complete::rules))]
    pub(crate) explain: Option<String>,
    /// Show what the remedies of a rule change, all together, as `edit` does
    #[arg(long, value_name = "RULE", add = ArgValueCandidates::new(complete::rules), conflicts_with_all = ["rules", "list", "explain"])]
    pub(crate) fix: Option<String>,
    /// Write it into the files
    #[arg(long, requires = "fix")]
    pub(crate) write: bool,
    /// Write it although an expectation breaks by it
    #[arg(long, value_name = "REASON", requires = "fix")]
    pub(crate) despite: Option<String>,
    /// Logs that say what was used, for `unused-access`
    #[arg(long, value_name = "LOG", num_args = 1..)]
    pub(crate) log: Vec<PathBuf>,
    /// What was not used for so long is unused: 8h, 30d, 2w
    #[arg(long, value_name = "LENGTH", default_value = "90d", requires = "log")]
    pub(crate) idle: String,
    #[command(flatten)]
    pub(crate) supposed: Supposed,
    /// End with 1 if a finding is as grave as this
    #[arg(long, value_enum, default_value_t = FailOn::Error, value_name = "SEVERITY")]
    pub(crate) fail_on: FailOn,
    /// The moment to look at instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// How to write it
    #[arg(long, value_enum, default_value_t = VetFormat::Text)]
    pub(crate) format: VetFormat,
}

/// From which severity on a finding fails the run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FailOn {
    /// Errors alone
    Error,
    /// Warnings, too
    Warning,
    /// Any finding
    Note,
}

/// How findings are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum VetFormat {
    /// For people
    Text,
    /// For programs
    Json,
    /// SARIF 2.1.0, for code hosts and editors
    Sarif,
}

const EXAMPLES: &str = "\
Examples:
  bexum vet
  bexum vet climb retag lockout
  bexum vet --explain doubtful-deny
  bexum vet --fix wide-pattern
  bexum vet unused-access --log log.ndjson
  bexum vet --fail-on warning --format sarif > findings.sarif

Exit codes: 0 no finding as grave as `--fail-on` says, 1 there is one, 2 error; with --fix those of
`bexum edit`";
