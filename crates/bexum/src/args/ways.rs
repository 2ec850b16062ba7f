//! `bexum ways`, as typed.

use clap::{Args as ClapArgs, ValueEnum};
use clap_complete::ArgValueCandidates;

use super::edit::Supposed;
use super::{Format, Question};
use crate::command::complete;

/// Find the smallest change after which a request is allowed, or denied
///
/// Each way is tried before it is told: a circumstance that was not given, a role taken up, a group,
/// an attachment, a policy of its own; against a deny or a ceiling, what takes it away for this
/// alone. Best is what changes least for everybody. Where no single step does, pairs are tried.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Ways {
    #[command(flatten)]
    pub(crate) question: Question,
    #[command(flatten)]
    pub(crate) supposed: Supposed,
    /// What the request is to come to
    #[arg(long, value_enum, default_value_t = To::Allow, value_name = "VERDICT")]
    pub(crate) to: To,
    /// List all of them, and not the best ten alone
    #[arg(long)]
    pub(crate) all: bool,
    /// Mark what this user or workload may not do by the estate's edit rights; with `--apply`, only
    /// if they may
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: Option<String>,
    /// Show what this way changes, by its number, as `edit` does
    #[arg(long, value_name = "NUMBER")]
    pub(crate) apply: Option<usize>,
    /// Write it into the files
    #[arg(long, requires = "apply")]
    pub(crate) write: bool,
    /// Write it although an expectation breaks by it
    #[arg(long, value_name = "REASON", requires = "apply")]
    pub(crate) despite: Option<String>,
    /// How to write the answer
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// What a request may come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum To {
    /// Allowed
    Allow,
    /// Denied
    Deny,
}

const EXAMPLES: &str = "\
Examples:
  bexum ways user:lin job.submit veyra/survey/reduction/nightly/x
  bexum ways user:tomas recording.erase veyra/survey/spectra/raw/run-1.fits --all
  bexum ways user:ines recording.read veyra/survey/spectra/run-0412.fits --to deny
  bexum ways user:lin job.submit veyra/survey/reduction/nightly/x --apply 1

Exit codes: 0 there is a way, 1 there is none, 2 error; with --apply those of `bexum edit`";
