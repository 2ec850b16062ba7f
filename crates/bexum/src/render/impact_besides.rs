//! What a change does besides: to expectations, to requests of a log, later, in other circumstances.

use bexum_core::Verdict;
use bexum_core::impact::Changes;
use bexum_core::time::Time;
use bexum_wire::impact as wire;

use super::impact::{answer_of, counted};

/// What is otherwise from a later moment on, held against the one before.
pub(crate) struct Later {
    pub(crate) time: Time,
    /// The cells that differ then, and did not, or not so.
    pub(crate) changes: Changes,
    /// How many cells differ no more.
    pub(crate) over: usize,
}

impl Later {
    /// For machines.
    pub(crate) fn shape(&self) -> wire::Later {
        wire::Later::new(self.time, &self.changes, self.over)
    }
}

/// What the change does in other circumstances.
pub(crate) struct InOther {
    /// As they were typed.
    pub(crate) options: String,
    pub(crate) changes: Changes,
}

impl InOther {
    /// For machines.
    pub(crate) fn shape(&self) -> wire::Beside {
        wire::Beside::new(&self.options, &self.changes)
    }

    /// The circumstances, and the answer in these.
    pub(super) fn answer(&self) -> String {
        match self.changes.is_empty() {
            true => format!("with {}: nothing that is listed changes at this moment", self.options),
            false => format!("with {}: {}", self.options, answer_of(&self.changes)),
        }
    }
}

/// Requests of a log that are decided otherwise.
#[derive(Default)]
pub(crate) struct InLog {
    pub(crate) requests: usize,
    /// Lines that are no request in either estate.
    pub(crate) errors: usize,
    pub(crate) otherwise: usize,
    /// Those that share verdicts, action and place, most first.
    pub(crate) groups: Vec<LogGroup>,
}

/// Requests of a log that are told together.
pub(crate) struct LogGroup {
    pub(crate) before: Verdict,
    pub(crate) after: Verdict,
    pub(crate) action: String,
    /// The nearest scope.
    pub(crate) place: String,
    pub(crate) count: usize,
    /// Where the first of them stands, and the command that asks it.
    pub(crate) file: String,
    pub(crate) line: u64,
    pub(crate) command: Option<String>,
}

impl InLog {
    /// For machines.
    pub(crate) fn shape(&self) -> wire::Log {
        let groups = self.groups.iter().map(|group| wire::LogGroup {
            before: group.before.to_string(),
            after: group.after.to_string(),
            action: group.action.clone(),
            at: group.place.clone(),
            count: group.count,
            file: group.file.clone(),
            line: group.line,
            command: group.command.clone(),
        });
        let (requests, errors, otherwise) = (self.requests, self.errors, self.otherwise);
        wire::Log { requests, errors, otherwise, groups: groups.collect() }
    }

    /// How many of how many.
    pub(super) fn sum(&self) -> String {
        let errors = match self.errors {
            0 => String::new(),
            n => format!("; {n} of them {} no request", if n == 1 { "is" } else { "are" }),
        };
        format!(
            "{} of {} decided otherwise{errors}",
            self.otherwise,
            counted(self.requests, ("request is", "requests are"))
        )
    }
}

impl LogGroup {
    /// `deny → allow: secret.open at veyra/core, 3 times, first in log.ndjson:12`.
    pub(super) fn told(&self) -> String {
        let times = counted(self.count, ("time", "times"));
        let first = if self.count == 1 { "in" } else { "first in" };
        format!(
            "{} → {}: {} at {}, {times}, {first} {}:{}",
            self.before, self.after, self.action, self.place, self.file, self.line
        )
    }
}

/// An expectation that comes to something else.
pub(crate) struct Turned {
    /// `never 'no keys for guests'`.
    pub(crate) what: String,
    pub(crate) name: String,
    /// `held`, `broken` or `not decided`; `None` where it is new.
    pub(crate) was: Option<&'static str>,
    /// Likewise in the estate after; `None` where it is gone.
    pub(crate) is: Option<&'static str>,
    /// Whether it breaks by the change: it held, or is new, and does not hold.
    pub(crate) is_broken: bool,
    /// Where it stands.
    pub(crate) at: String,
}

impl Turned {
    /// For machines.
    pub(crate) fn shape(&self) -> wire::Expectation {
        wire::Expectation {
            what: self.what.clone(),
            before: self.was.map(str::to_owned),
            after: self.is.map(str::to_owned),
            is_broken: self.is_broken,
            written: self.at.clone(),
        }
    }

    /// `held → broken`.
    pub(super) fn change(&self) -> String {
        format!("{} → {}", self.was.unwrap_or("new"), self.is.unwrap_or("gone"))
    }
}
