//! Conditions back as text: the shortest spelling that parses to the same.

use std::fmt;

use super::ast::{Expression, Operand, Path};
use crate::attribute::Value;

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::And(parts) => {
                print_joined(f, parts, " and ", |part| matches!(part, Self::Or(_) | Self::And(_)))
            }
            Self::Or(parts) => print_joined(f, parts, " or ", |part| matches!(part, Self::Or(_))),
            Self::Not(inner) => match &**inner {
                Self::IsSet(path) => write!(f, "{path} is not set"),
                inner => {
                    f.write_str("not ")?;
                    print_wrapped(f, inner, matches!(inner, Self::And(_) | Self::Or(_)))
                }
            },
            Self::IsSet(path) => write!(f, "{path} is set"),
            Self::Bare(path) => write!(f, "{path}"),
            Self::Constant(constant) => write!(f, "{constant}"),
            Self::Compare(left, operator, right) => write!(f, "{left} {operator} {right}"),
        }
    }
}

fn print_joined(
    f: &mut fmt::Formatter<'_>,
    parts: &[Expression],
    word: &str,
    wraps: fn(&Expression) -> bool,
) -> fmt::Result {
    for (i, part) in parts.iter().enumerate() {
        if i > 0 {
            f.write_str(word)?;
        }
        print_wrapped(f, part, wraps(part))?;
    }
    Ok(())
}

fn print_wrapped(f: &mut fmt::Formatter<'_>, part: &Expression, wrap: bool) -> fmt::Result {
    if wrap { write!(f, "({part})") } else { write!(f, "{part}") }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.root, self.name)
    }
}

impl fmt::Display for Operand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Path(path) => write!(f, "{path}"),
            Self::Literal(value, _) => write!(f, "{value}"),
        }
    }
}

impl fmt::Display for Value {
    /// As a literal of the language; a time as the string that stands for it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => print_string(f, text),
            Self::Integer(n) => write!(f, "{n}"),
            Self::Boolean(b) => write!(f, "{b}"),
            Self::Time(time) => write!(f, "'{time}'"),
            Self::List(items) => {
                f.write_str("[")?;
                for (i, item) in items.iter().enumerate() {
                    if i > 0 {
                        f.write_str(", ")?;
                    }
                    write!(f, "{item}")?;
                }
                f.write_str("]")
            }
        }
    }
}

/// In single quotes, or in double ones where that spares escapes.
fn print_string(f: &mut fmt::Formatter<'_>, text: &str) -> fmt::Result {
    let quote = if text.contains('\'') && !text.contains('"') { '"' } else { '\'' };
    write!(f, "{quote}")?;
    for c in text.chars() {
        match c {
            '\n' => f.write_str("\\n")?,
            '\t' => f.write_str("\\t")?,
            c if c == quote || c == '\\' => write!(f, "\\{c}")?,
            c => write!(f, "{c}")?,
        }
    }
    write!(f, "{quote}")
}
