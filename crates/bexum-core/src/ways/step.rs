//! What can be done, and what comes of it.

use super::Extent;
use crate::attribute::Value;
use crate::catalogue::Level;
use crate::edit::{Edit, of_attribute};
use crate::estate::Estate;
use crate::impact::Cell;
use crate::request::Request;

/// Something to say when asking.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Choice {
    /// A circumstance, by its full dotted name.
    Given(String, Value),
    /// The bare name of the role to take up; `None`: none.
    Role(Option<String>),
}

impl Choice {
    /// The words of the option.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        match self {
            Self::Given(name, value) => {
                vec!["--given".to_owned(), format!("{name}={}", of_attribute(value))]
            }
            Self::Role(Some(role)) => vec!["--as".to_owned(), format!("role:{role}")],
            Self::Role(None) => vec!["without".to_owned(), "--as".to_owned()],
        }
    }
}

/// What to do: edits to make, and what to say when asking then.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Step {
    /// The edits, in their order.
    pub edits: Vec<Edit>,
    /// The options.
    pub options: Vec<Choice>,
}

impl Step {
    /// Its text: a line each. Steps that do as much are told in the order of their texts.
    #[must_use]
    pub fn text(&self) -> String {
        let edits = self.edits.iter().map(ToString::to_string);
        let options = self.options.iter().map(|option| option.words().join(" "));
        edits.chain(options).collect::<Vec<_>>().join("\n")
    }

    /// The request as it is asked then.
    #[must_use]
    pub fn asked<'r>(&self, request: &Request<'r>) -> Request<'r> {
        let mut asked = request.clone();
        for option in &self.options {
            match option {
                Choice::Given(name, value) => {
                    asked.given.push((name.clone().into(), Some(value.clone())));
                }
                Choice::Role(role) => {
                    asked.take_up = role.as_ref().map(|role| format!("role:{role}").into());
                }
            }
        }
        asked
    }

    pub(super) fn of(edit: Edit) -> Self {
        Self { edits: vec![edit], options: Vec::new() }
    }

    /// This step, and then another.
    pub(super) fn and(&self, other: &Self) -> Self {
        Self {
            edits: [&self.edits[..], &other.edits].concat(),
            options: [&self.options[..], &other.options].concat(),
        }
    }
}

/// How much a step does beside what was asked for, at the request's moment.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Effect {
    /// Cells that are allowed then and were not.
    pub opens: usize,
    /// Cells that were allowed and are not then.
    pub closes: usize,
    /// How many people there are in the one and in the other.
    pub people: [usize; 2],
    /// How many workloads.
    pub workloads: [usize; 2],
    /// The levels of what is opened and of what is closed, from the mildest.
    pub levels: [Vec<Level>; 2],
    /// Of what is opened, and of what is closed, the gravest: of the highest level the first.
    pub gravest: [Option<Cell>; 2],
    /// Whether rows were left out, because patterns single out more than are told apart.
    pub is_limited: bool,
    /// Whether it does more than that: it was not counted to the end.
    pub is_partial: bool,
}

impl Effect {
    /// That of a step of which it is known that it does more than is counted.
    pub(super) fn partial() -> Self {
        Self { is_partial: true, ..Self::default() }
    }

    /// All cells that come to something else.
    #[must_use]
    pub fn size(&self) -> usize {
        self.opens + self.closes
    }
}

/// A step that works.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// What to do.
    pub step: Step,
    /// What it does.
    pub effect: Effect,
    pub(super) extent: Extent,
}

impl Effect {
    /// Adds what somebody gains and loses.
    pub(super) fn add_cells(&mut self, who: &str, estate: &Estate, cells: &[Cell]) {
        self.add(0, who, estate, cells.iter().filter(|cell| cell.is_opened()));
        self.add(1, who, estate, cells.iter().filter(|cell| cell.is_shut()));
    }

    /// Puts the levels in their order, each once.
    pub(super) fn sort_levels(&mut self) {
        for levels in &mut self.levels {
            levels.sort_unstable();
            levels.dedup();
        }
    }

    /// Adds what somebody gains or loses.
    pub(crate) fn add<'c>(
        &mut self,
        side: usize,
        who: &str,
        estate: &Estate,
        cells: impl Iterator<Item = &'c Cell>,
    ) {
        let mut count = 0;
        for cell in cells {
            count += 1;
            let Some(action) = estate.catalogue.find_action(&cell.action) else { continue };
            let level = estate.catalogue.action(action).level;
            let highest = self.levels[side].iter().max();
            if highest.is_none_or(|highest| level > *highest) {
                self.gravest[side] = Some(cell.clone());
            }
            if !self.levels[side].contains(&level) {
                self.levels[side].push(level);
            }
        }
        match side {
            0 => self.opens += count,
            _ => self.closes += count,
        }
        if count > 0 {
            self.people[side] += usize::from(who.starts_with("user:"));
            self.workloads[side] += usize::from(who.starts_with("resource:"));
        }
    }
}
