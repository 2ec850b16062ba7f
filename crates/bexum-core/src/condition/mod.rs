//! The condition language (spec section 4).
//!
//! Text goes through [`parse`](parser::parse) into an [`ast`], which knows names only as written;
//! [`check`] judges names and literals and yields a [`Condition`], laid flat, the only thing that
//! [`eval`] takes. Evaluation is three-valued and reads the world through [`Facts`](eval::Facts).

pub mod ast;
pub mod check;
pub mod eval;
pub mod fact;
mod operators;
pub mod parser;
pub mod print;
mod program;
#[cfg(test)]
mod tests;
mod token;
mod typed;

pub use check::{Condition, Reference};
#[cfg(feature = "naive")]
pub(crate) use operators::compare as compare_values;
pub(crate) use operators::fits as is_fitting;
pub(crate) use operators::{Takes, is_address, range_ends};
pub(crate) use program::{ConditionStep, Precomputed, Program, Term};
pub(crate) use token::text_literals;
pub(crate) use typed::Typed;

use crate::name::{nearest, new_word};
use ast::{Operator, Root};

/// A fault in a condition, with its byte range in the text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Located {
    /// What is wrong.
    pub fault: ConditionFault,
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

/// What is wrong with a condition.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ConditionFault {
    /// Something else should stand here.
    #[error("expected {expected}, found {found}")]
    Expected {
        /// What would have fitted.
        expected: &'static str,
        /// What stands there.
        found: String,
    },
    /// A character that begins no token.
    #[error("`{0}` has no meaning in a condition")]
    Character(char),
    /// A sign from some other language.
    #[error("`{found}` has no meaning in a condition: write `{write}`")]
    OtherSpelling {
        /// As written.
        found: &'static str,
        /// As it is written here.
        write: &'static str,
    },
    /// A string without its end.
    #[error("this string has no closing quote")]
    OpenString,
    /// A backslash before something else than `\\ ' " n t`.
    #[error("there is no escape `\\{0}` in a string: only `\\\\`, `\\'`, `\\\"`, `\\n` and `\\t`")]
    Escape(char),
    /// A number with a leading zero, a point, or letters in it.
    #[error("`{0}` is no integer")]
    Number(String),
    /// Beyond 64 bits.
    #[error("`{0}` is beyond 64 bits")]
    NumberRange(String),
    /// A word that is neither keyword nor path.
    #[error(
        "`{0}` is neither a keyword nor a path: a path starts with `who.`, `target.` or `given.`"
    )]
    Word(String),
    /// A path with an impossible name in it.
    #[error("`{0}` is no attribute name")]
    AttributeName(String),
    /// A string, number or list without an operator.
    #[error("{0} cannot stand alone: compare it with something")]
    LoneOperand(&'static str),
    /// A second operator after a comparison.
    #[error("comparisons do not chain: join two of them with `and`")]
    Chained,
    /// A list of several types.
    #[error("a list holds one type: this one has {0} and {1}")]
    MixedList(&'static str, &'static str),
    /// A built-in name of the other root.
    #[error("`{name}` is built in under `{right}.`, not under `{wrong}.`")]
    WrongRoot {
        /// The name.
        name: String,
        /// Where it stands.
        wrong: Root,
        /// Where it would be known.
        right: Root,
    },
    /// A literal that can only leave its comparison undecided.
    #[error("`{operator}` can never be decided with {literal} on its {side}")]
    Never {
        /// The operator.
        operator: Operator,
        /// The literal, in words.
        literal: String,
        /// `left` or `right`.
        side: &'static str,
    },
    /// Two literals whose types do not meet.
    #[error("`{0}` can never be decided between these two literals")]
    NeverBoth(Operator),
    /// `fits` with something else than a literal string on its right.
    #[error("`fits` needs a literal string on its right")]
    FitsPattern,
    /// `within` a literal that is no address or range.
    #[error("`{0}` is neither an IP address nor a range")]
    Range(String),
    /// Parentheses and `not` nested too deep.
    #[error("this condition nests deeper than 200 levels")]
    TooDeep,
    /// Too many bytes.
    #[error("a condition is at most 65536 bytes long")]
    TooLong,
    /// A path that is not declared, under a root where others are (spec-work section 7.1).
    #[error("`{path}` is not declared")]
    Undeclared {
        /// As written.
        path: String,
        /// The nearest declared one.
        nearest: Option<String>,
    },
    /// Operands whose declared types never meet.
    #[error("`{operator}` between {left} and {right} can never be decided")]
    NeverTyped {
        /// The operator.
        operator: Operator,
        /// What may stand on the left, in words.
        left: String,
        /// What may stand on the right, in words.
        right: String,
    },
    /// A literal that a declared attribute never is.
    #[error("`{path}` is never `{value}`: it is {rule}")]
    NeverSuch {
        /// The attribute.
        path: String,
        /// The literal.
        value: String,
        /// What is declared.
        rule: String,
        /// The nearest of `one-of`.
        nearest: Option<String>,
    },
    /// A pattern that fits no value of `one-of`.
    #[error("`{pattern}` fits no value of `{path}`: it is {rule}")]
    FitsNone {
        /// The attribute.
        path: String,
        /// The pattern.
        pattern: String,
        /// What is declared.
        rule: String,
    },
    /// `members-when` looks at something else than a user's own attributes.
    #[error(
        "`members-when` may look only at `who.` attributes, and not at `who.groups` or `who.roles`"
    )]
    OnlyWho,
}

impl ConditionFault {
    /// What to do about it, where the message does not say so itself.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        Some(match self {
            Self::Word(word) => {
                if word == "has" {
                    return Some("write `PATH is set`, with the path before it".to_owned());
                }
                let operators = ast::Operator::ALL.into_iter().map(ast::Operator::sign);
                let keywords = token::Keyword::ALL.into_iter().map(|(text, _)| text);
                let keywords = keywords.chain(operators);
                let root = word.split_once('.').and_then(|(root, rest)| {
                    let roots = ["who", "target", "given"];
                    let near = new_word(root).or_else(|| nearest(root, roots))?;
                    Some(format!("{near}.{rest}"))
                });
                let keyword = new_word(word).or_else(|| nearest(word, keywords));
                match root.or_else(|| keyword.map(str::to_owned)) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("a string stands in quotes: `'{word}'`"),
                }
            }
            // A list on the left of `in` is not mended by one on its right.
            Self::Never { operator: Operator::In, side: "left", .. } => return None,
            Self::Never { operator, .. } => operator.row().hint?.to_owned(),
            Self::Range(_) => {
                "written like `10.20.0.0/16` (host bits zero), `10.20.0.7` or `2001:db8::/32`"
                    .to_owned()
            }
            Self::Undeclared { nearest: Some(near), .. } => format!("did you mean `{near}`?"),
            Self::Undeclared { path, .. } => {
                let root = path.split('.').next().unwrap_or_default();
                format!("declare it in `[attributes.{root}]`, or take it out")
            }
            Self::NeverSuch { nearest: Some(near), .. } => format!("did you mean `{near}`?"),
            _ => return None,
        })
    }
}
