//! Every exit code, in one table.

use std::process::ExitCode;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// 0: done; of `ask`, allowed.
    Done,
    /// 1: of `ask`, denied; of `prove`, not everything holds; of `impact`, a change that is not to be;
    /// of `edit`, one that was not written; of `vet`, a finding as grave as `--fail-on` says.
    Denied,
    /// 2: the estate, the request or the command line is wrong, or a file cannot be used.
    Failed,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(match exit {
            Exit::Done => 0,
            Exit::Denied => 1,
            Exit::Failed => 2,
        })
    }
}

/// The table for help texts.
pub(crate) const HELP: &str = "\
Exit codes:
  0  done; of `ask`: allowed; of `prove`: everything holds
  1  of `ask`: denied; of `prove`: not everything holds; of `impact`: a change that
     `--fail-on` names, or one that `--by` may not make; of `edit`: refused;
     of `vet`: a finding as grave as `--fail-on` says
  2  the estate, the request or the command line is wrong, or a file cannot be used";
