//! Edits, as typed: on the command line, or a line each.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand};
use clap_complete::ArgValueCandidates;

use super::Format;
use crate::command::complete;

/// Change the estate: say what, see what it does to everybody, then write it
///
/// Nothing is written without `--write`. What an edit does not concern stays as it is in the files,
/// to the byte. First comes what changes in the files, then what that does to everybody, as `impact`
/// tells it, then the checks and laws that break or mend.
#[derive(Debug, ClapArgs)]
#[command(after_help = EXAMPLES, subcommand_value_name = "EDIT", subcommand_help_heading = "Edits")]
pub(crate) struct Edit {
    #[command(subcommand)]
    pub(crate) edit: Option<Line>,
    /// Take the edits from a file, one a line, as on the command line; `#` starts a comment; `-` is
    /// standard input. All are done, or none
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// Write it into the files
    #[arg(long, global = true)]
    pub(crate) write: bool,
    /// Write it although an expectation breaks by it, or a new name changes what somebody can do
    #[arg(long, value_name = "REASON", global = true)]
    pub(crate) despite: Option<String>,
    /// Only if this user or workload may make the change, by the estate's edit rights, now
    #[arg(long, value_name = "WHO", global = true, add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: Option<String>,
    /// The role that they take up for it
    #[arg(long = "as", value_name = "ROLE", global = true, requires = "by")]
    pub(crate) take_up: Option<String>,
    /// An attribute of their circumstances
    #[arg(long, value_name = "KEY=VALUE", global = true, requires = "by")]
    pub(crate) given: Vec<String>,
    /// The moment at which what it does is looked at, instead of now
    #[arg(long, value_name = "TIME", global = true)]
    pub(crate) at_time: Option<String>,
    /// The file for new tables, from the estate's root; else the one where their like stand last
    #[arg(long, value_name = "FILE", global = true)]
    pub(crate) file: Option<PathBuf>,
    /// Name every place
    #[arg(long, global = true)]
    pub(crate) full: bool,
    /// How to write it
    #[arg(long, value_enum, default_value_t = Format::Text, global = true)]
    pub(crate) format: Format,
}

impl Edit {
    /// To show edits that something else proposes, or to write them.
    pub(crate) fn proposed(write: bool, despite: Option<String>) -> Self {
        Self {
            edit: None,
            from: None,
            write,
            despite,
            by: None,
            take_up: None,
            given: Vec::new(),
            at_time: None,
            file: None,
            full: false,
            format: Format::Text,
        }
    }
}

/// One edit, on a line by itself.
#[derive(Debug, Parser)]
#[command(name = "edit", no_binary_name = true, disable_help_flag = true)]
#[command(disable_help_subcommand = true)]
pub(crate) struct OneLine {
    #[command(subcommand)]
    pub(crate) edit: Line,
}

/// Edits that are made in memory alone.
#[derive(Clone, Debug, Default, ClapArgs)]
pub(crate) struct Supposed {
    /// As if this edit were made, as `bexum edit` takes it: 'add user:sol --to group:imaging';
    /// repeatable. Nothing is written
    #[arg(long, value_name = "EDIT")]
    pub(crate) suppose: Vec<String>,
}

/// When something is to count.
#[derive(Clone, Debug, Default, ClapArgs)]
pub(crate) struct Span {
    /// From this moment on: 2026-03-01T08:00:00Z, or a date alone for its midnight in UTC
    #[arg(long, value_name = "TIME")]
    pub(crate) since: Option<String>,
    /// Until this moment
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// For so long from its start, or from now: 90m, 8h, 30d, 2w
    #[arg(long, value_name = "LENGTH", conflicts_with = "until")]
    pub(crate) lasting: Option<String>,
}

/// An edit.
#[derive(Debug, Subcommand)]
pub(crate) enum Line {
    New(Box<New>),
    /// Make a policy like another, with actions taken out of its allows, or only some kept
    Copy {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        from: String,
        /// policy:NAME, the new one
        to: String,
        /// Take out what this pattern names, as in `do`; repeatable
        #[arg(long, value_name = "PATTERN")]
        drop: Vec<String>,
        /// Keep only what this pattern names; repeatable
        #[arg(long, value_name = "PATTERN")]
        keep: Vec<String>,
    },
    /// Add a statement to a policy that allows actions
    Allow(Statement),
    /// Add a statement to a policy that denies actions
    Deny(Statement),
    /// Take a statement out of a policy
    Strike {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        policy: String,
        /// Its name, or its place: 'allow 1'
        statement: String,
    },
    /// Take paths out of what a statement is about
    Spare {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        policy: String,
        /// Its name, or its place: 'deny 1'
        statement: String,
        /// Paths, or patterns of them, as in `on`: /veyra/survey/spectra/raw, '*/raw/**'
        #[arg(required = true, value_name = "PATTERN")]
        paths: Vec<String>,
    },
    /// Have a statement be about other actions or paths
    Restate {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        policy: String,
        /// Its name, or its place: 'allow 1'
        statement: String,
        /// Its action patterns from now on; else as they are
        #[arg(long = "do", value_name = "ACTION", num_args = 1.., required_unless_present = "on", add = ArgValueCandidates::new(complete::actions))]
        actions: Vec<String>,
        /// Its path patterns from now on; else as they are
        #[arg(long, value_name = "PATTERN", num_args = 1..)]
        on: Vec<String>,
    },
    /// Write keys of a thing
    Set {
        /// user:NAME, group:NAME, role:NAME, policy:NAME, or a scope's path
        #[arg(add = ArgValueCandidates::new(complete::things))]
        target: String,
        /// KEY=VALUE: full-name=…, attributes.team=imaging, join=approval, locked=true
        #[arg(required = true, value_name = "KEY=VALUE")]
        pairs: Vec<String>,
    },
    /// Take keys of a thing away
    Unset {
        /// user:NAME, group:NAME, role:NAME, policy:NAME, or a scope's path
        #[arg(add = ArgValueCandidates::new(complete::things))]
        target: String,
        /// manager, attributes.team, attributes
        #[arg(required = true)]
        keys: Vec<String>,
    },
    /// Put somebody into a group, make them owners of it, or have them hold a role
    Add {
        /// user:NAME, group:NAME, resource:PATH, role:NAME
        #[arg(required = true, add = ArgValueCandidates::new(complete::who))]
        who: Vec<String>,
        /// group:NAME or role:NAME
        #[arg(long, value_name = "GROUP|ROLE", add = ArgValueCandidates::new(complete::who))]
        to: String,
        /// As owners of the group
        #[arg(long)]
        owner: bool,
        /// So that they may take the role up, and not hold it always
        #[arg(long)]
        taken: bool,
        #[command(flatten)]
        span: Span,
    },
    /// Take somebody out of a group or a role
    Remove {
        /// user:NAME, group:NAME, resource:PATH, role:NAME
        #[arg(required = true, add = ArgValueCandidates::new(complete::who))]
        who: Vec<String>,
        /// group:NAME or role:NAME
        #[arg(long, value_name = "GROUP|ROLE")]
        from: String,
        /// From its owners
        #[arg(long)]
        owner: bool,
        /// From those who may take the role up
        #[arg(long)]
        taken: bool,
    },
    /// Attach policies to people at scopes
    Attach {
        /// policy:NAME
        #[arg(required = true, add = ArgValueCandidates::new(complete::named_policies))]
        policies: Vec<String>,
        /// user:NAME, group:NAME, role:NAME, resource:PATH or everyone
        #[arg(long, value_name = "WHO", required = true, num_args = 1.., add = ArgValueCandidates::new(complete::who))]
        to: Vec<String>,
        /// Scopes
        #[arg(long, value_name = "SCOPE", required = true, num_args = 1.., add = ArgValueCandidates::new(complete::paths))]
        at: Vec<String>,
        #[command(flatten)]
        span: Span,
    },
    /// Take attachments away
    Detach {
        /// policy:NAME
        #[arg(required = true, add = ArgValueCandidates::new(complete::named_policies))]
        policies: Vec<String>,
        /// From whom; else from all
        #[arg(long, value_name = "WHO", num_args = 1..)]
        from: Vec<String>,
        /// At which scopes; else at all
        #[arg(long, value_name = "SCOPE", num_args = 1.., add = ArgValueCandidates::new(complete::paths))]
        at: Vec<String>,
    },
    /// Make a policy a ceiling: it grants nothing, and bounds what may be granted
    Limit {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        policy: String,
        /// Over which scopes; else everywhere
        #[arg(long, value_name = "SCOPE", num_args = 1.., add = ArgValueCandidates::new(complete::paths))]
        over: Vec<String>,
        /// For whom; else for everyone
        #[arg(long = "for", value_name = "WHO", num_args = 1.., add = ArgValueCandidates::new(complete::who))]
        bound: Vec<String>,
        #[command(flatten)]
        span: Span,
    },
    /// Take ceilings away
    Unlimit {
        /// policy:NAME
        #[arg(add = ArgValueCandidates::new(complete::named_policies))]
        policy: String,
        /// Over which scopes; else over all
        #[arg(long, value_name = "SCOPE", num_args = 1.., add = ArgValueCandidates::new(complete::paths))]
        over: Vec<String>,
        /// For whom; else for all
        #[arg(long = "for", value_name = "WHO", num_args = 1.., add = ArgValueCandidates::new(complete::who))]
        bound: Vec<String>,
    },
    /// Disable a user, who may do nothing any more
    Disable {
        /// user:NAME
        #[arg(add = ArgValueCandidates::new(complete::who))]
        user: String,
    },
    /// Enable a user
    Enable {
        /// user:NAME
        #[arg(add = ArgValueCandidates::new(complete::who))]
        user: String,
    },
    /// Seal a scope: allows attached above it stay out
    Seal {
        /// A scope's path
        #[arg(add = ArgValueCandidates::new(complete::paths))]
        path: String,
    },
    /// Take the seal off a scope
    Unseal {
        /// A scope's path
        #[arg(add = ArgValueCandidates::new(complete::paths))]
        path: String,
    },
    /// Note that a user asks to be let into a group
    AskIn {
        /// user:NAME
        #[arg(add = ArgValueCandidates::new(complete::who))]
        user: String,
        /// group:NAME
        #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::who))]
        to: String,
        /// Why, in their words
        #[arg(long, value_name = "TEXT")]
        why: Option<String>,
    },
    /// Let a user in who asked
    Approve {
        /// user:NAME
        #[arg(add = ArgValueCandidates::new(complete::who))]
        user: String,
        /// group:NAME
        #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::who))]
        to: String,
        #[command(flatten)]
        span: Span,
    },
    /// Do not let a user in who asked
    Decline {
        /// user:NAME
        #[arg(add = ArgValueCandidates::new(complete::who))]
        user: String,
        /// group:NAME
        #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::who))]
        to: String,
    },
    /// Give a thing another name, everywhere it is named
    Rename {
        /// user:NAME, group:NAME, role:NAME, policy:NAME, or a scope's path
        #[arg(add = ArgValueCandidates::new(complete::things))]
        old: String,
        /// The new name, or path
        new: String,
    },
    /// Take a thing out of the estate
    Delete {
        /// user:NAME, group:NAME, role:NAME, policy:NAME, or a scope's path
        #[arg(add = ArgValueCandidates::new(complete::things))]
        target: String,
        /// Who takes over what a user owns and manages
        #[arg(long, value_name = "USER", add = ArgValueCandidates::new(complete::who))]
        hand_over: Option<String>,
        /// With all that names it
        #[arg(long)]
        with_uses: bool,
    },
}

/// Make a user, group, role, policy or scope
#[derive(Debug, ClapArgs)]
pub(crate) struct New {
    /// user:NAME, group:NAME, role:NAME, policy:NAME, account:NAME, subscription:PATH, resource:PATH
    /// or namespace:PATH
    pub(crate) target: String,
    /// A user's name to show
    #[arg(long, value_name = "TEXT")]
    pub(crate) full_name: Option<String>,
    /// The scope that holds it as a target
    #[arg(long, value_name = "SCOPE")]
    pub(crate) place: Option<String>,
    /// A user's manager
    #[arg(long, value_name = "USER")]
    pub(crate) manager: Option<String>,
    /// What a resource or namespace is
    #[arg(long, value_name = "KIND")]
    pub(crate) kind: Option<String>,
    /// An owner of a group; repeatable
    #[arg(long, value_name = "USER")]
    pub(crate) owner: Vec<String>,
    /// How people come into a group: open, approval or closed
    #[arg(long, value_name = "HOW")]
    pub(crate) join: Option<String>,
    /// What there is to say about it
    #[arg(long, value_name = "TEXT")]
    pub(crate) about: Option<String>,
    /// A member of a group; repeatable
    #[arg(long, value_name = "WHO")]
    pub(crate) member: Vec<String>,
    /// A condition on users that makes them members of a group
    #[arg(long, value_name = "CONDITION")]
    pub(crate) members_when: Option<String>,
    /// Who holds a role always; repeatable
    #[arg(long, value_name = "WHO")]
    pub(crate) held_by: Vec<String>,
    /// Who may take a role up; repeatable
    #[arg(long, value_name = "WHO")]
    pub(crate) taken_by: Vec<String>,
    /// A policy that a policy includes; repeatable
    #[arg(long, value_name = "POLICY")]
    pub(crate) include: Vec<String>,
    /// The `[preset.NAME]` whose keys a group has, where nothing else is said
    #[arg(long, value_name = "NAME")]
    pub(crate) preset: Option<String>,
    /// An attribute; repeatable
    #[arg(long, value_name = "KEY=VALUE")]
    pub(crate) attribute: Vec<String>,
}

/// A statement.
#[derive(Debug, ClapArgs)]
pub(crate) struct Statement {
    /// policy:NAME
    #[arg(add = ArgValueCandidates::new(complete::named_policies))]
    pub(crate) policy: String,
    /// Actions, or patterns of them: store.list, 'recording.*', '!recording.erase'
    #[arg(required = true, value_name = "ACTION")]
    pub(crate) actions: Vec<String>,
    /// On which paths, as in `on`; else on everything below where the policy is attached
    #[arg(long, value_name = "PATTERN", num_args = 1..)]
    pub(crate) on: Vec<String>,
    /// In which circumstances only
    #[arg(long, value_name = "CONDITION")]
    pub(crate) when: Option<String>,
    /// What the statement is called
    #[arg(long, value_name = "TEXT")]
    pub(crate) name: Option<String>,
}

const EXAMPLES: &str = "\
Examples:
  bexum edit add user:sol --to group:imaging --lasting 30d
  bexum edit new group:lensing --place veyra/people --owner user:tomas --join approval
  bexum edit copy policy:team-curator policy:team-keeper --drop recording.put
  bexum edit attach policy:archive-reader --to group:visitors --at veyra/survey/maps --until 2027-01-01
  bexum edit disable user:sol --write
  bexum edit --from changes.txt --by user:tomas --write";
