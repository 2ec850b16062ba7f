//! `bexum claims`, as typed.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};
use clap_complete::ArgValueCandidates;

use super::edit;
use crate::command::complete;

/// Tell what an application learns of somebody who signs in: the claims of a token, and every group
/// that it does not get to see, with why
///
/// The token itself is made and signed elsewhere, by whoever signs people in; this says what it has
/// to say.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Claims {
    /// Who signs in, user:NAME, and to which application; with `--all`, the application alone
    #[arg(value_name = "WHO APP", num_args = 1..=2, required = true,
        add = ArgValueCandidates::new(complete::signing_in))]
    pub(crate) names: Vec<String>,
    /// Everybody: who may sign in, how many groups the application is told, who is over its limit
    #[arg(long, conflicts_with_all = ["group", "also"])]
    pub(crate) all: bool,
    /// Only whether the application gets to see this group of theirs
    #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::groups))]
    pub(crate) group: Option<String>,
    /// Suppose that the user is in this group too
    #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::groups))]
    pub(crate) also: Vec<String>,
    /// Name everybody, however many there are
    #[arg(long, requires = "all")]
    pub(crate) full: bool,
    /// The moment at which the token is made, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    #[command(flatten)]
    pub(crate) supposed: edit::Supposed,
    /// Write the claims alone, as JSON, into a file: for `--claims` of `bexum ask`
    #[arg(long, value_name = "FILE", conflicts_with_all = ["all", "group"])]
    pub(crate) save: Option<PathBuf>,
    /// How to write it
    #[arg(long, value_enum, default_value_t = ClaimsFormat::Text)]
    pub(crate) format: ClaimsFormat,
}

/// How to write claims.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ClaimsFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A row for each group, or with `--all` for each person
    Csv,
}

const EXAMPLES: &str = "\
Examples:
  bexum claims user:ines gallery
  bexum claims user:eun gallery --group group:survey-staff
  bexum claims user:theo gallery --also group:imaging
  bexum claims --all gallery
  bexum claims user:ines gallery --save token.json

Exit codes: 0 may sign in (with --group: it is seen), 1 may not (it is not), 2 error";
