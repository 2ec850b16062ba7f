//! `bexum import` and `bexum export`, as typed.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};
use clap_complete::ArgValueCandidates;

use super::{Circumstances, Format};
use crate::command::complete;

/// Bring users and groups in line with where they come from: see what would change, then write it
///
/// The files are SCIM resources (User and Group of RFC 7643, one, a list, or a ListResponse) or tables
/// (CSV): one of users, one of groups, one of memberships. Together they are all that the source has.
/// What carries the source's name here is made to agree with them, and nothing else. Who is no longer
/// in them is disabled, and stays where they are.
#[derive(Debug, ClapArgs)]
#[command(after_help = IMPORT_EXAMPLES)]
pub(crate) struct Import {
    /// What the source has; `-` reads standard input
    #[arg(value_name = "FILE", required = true)]
    pub(crate) files: Vec<PathBuf>,
    /// The source's name: what is imported carries it
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::sources))]
    pub(crate) source: String,
    /// Take over users and groups of the same name that are of no source
    #[arg(long)]
    pub(crate) adopt: bool,
    /// A column, or an attribute there, and the key here that it fills: name, full-name, enabled,
    /// manager, source-id or attributes.NAME; repeatable. `[source.NAME]` keeps these in its `map`
    #[arg(long, value_name = "COLUMN=KEY")]
    pub(crate) map: Vec<String>,
    /// How many people of the source may be disabled or enabled again by it: a number, or a share of
    /// them
    #[arg(long, value_name = "N or N%", default_value = "10%")]
    pub(crate) at_most_gone: String,
    /// Write it into the files
    #[arg(long)]
    pub(crate) write: bool,
    /// Write it although an expectation breaks by it
    #[arg(long, value_name = "REASON")]
    pub(crate) despite: Option<String>,
    /// Only if this user or workload may make the change, by the estate's edit rights, now
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: Option<String>,
    /// The moment at which it is looked at, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// The file for new users and groups, from the estate's root; else the one where their like stand
    /// last
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Name everybody and every place
    #[arg(long)]
    pub(crate) full: bool,
    /// How to write it
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// Write what the estate says of people and access as tables, SCIM resources or JSON
///
/// Cells of tables that a spreadsheet would run as a formula have a `'` before them, and those that
/// begin with `'`, too; `bexum import` takes it off again.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXPORT_EXAMPLES)]
pub(crate) struct Export {
    /// What
    #[arg(value_enum, value_name = "WHAT")]
    pub(crate) what: What,
    /// How; SCIM is for users and groups
    #[arg(long, value_enum, default_value_t = ExportFormat::Csv)]
    pub(crate) format: ExportFormat,
    /// Of `reach`, only of these: their cells in these circumstances
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: Vec<String>,
    #[command(flatten)]
    pub(crate) circumstances: Circumstances,
}

/// What is exported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum What {
    /// Users, with their attributes
    Users,
    /// Groups
    Groups,
    /// Places in groups that count at the moment or later
    Memberships,
    /// Policies attached to somebody at a scope, each by itself
    Attachments,
    /// Statements of policies
    Policies,
    /// What everybody can do where, as `bexum reach` has it
    Reach,
    /// Who may sign in to which application, and the groups that it is told
    Applications,
}

/// How to write it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportFormat {
    /// A table
    Csv,
    /// A ListResponse of User or Group resources
    Scim,
    /// A list of objects
    Json,
}

const IMPORT_EXAMPLES: &str = "\
Examples:
  bexum import office/october.json --source office --adopt
  bexum import office/october.json --source office --adopt --write
  bexum import office/november.csv --source office --map department=attributes.team
  bexum import office/november.csv --source office --at-most-gone 25%

Exit codes: 0 done, 1 not written because something refuses it, 2 error";

const EXPORT_EXAMPLES: &str = "\
Examples:
  bexum export users > users.csv
  bexum export groups --format scim > groups.json
  bexum export memberships --format json
  bexum export reach --who user:ines --who group:imaging

Exit codes: 0 done, 2 error";
