//! The lexer of conditions.

use std::ops::Range;

use super::ast::{Operator, Root};
use super::{ConditionFault, Located};
use crate::name::Grammar;

/// A token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Token {
    Word(Keyword),
    Path(Root, String),
    Text(String),
    Integer(i64),
    Sign(&'static str),
    End,
}

/// The words of the language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Keyword {
    And,
    Or,
    Not,
    Is,
    Set,
    True,
    False,
}

impl Keyword {
    pub(super) const ALL: [(&'static str, Self); 7] = [
        ("and", Self::And),
        ("or", Self::Or),
        ("not", Self::Not),
        ("is", Self::Is),
        ("set", Self::Set),
        ("true", Self::True),
        ("false", Self::False),
    ];
}

/// Splits `text` into tokens with their byte ranges; the last one is [`Token::End`].
pub(super) fn lex(text: &str) -> Result<Vec<(Token, Range<usize>)>, Located> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(first) = text[at..].chars().next() {
        let start = at;
        let token = match first {
            ' ' | '\t' | '\n' | '\r' => {
                at += 1;
                continue;
            }
            '\'' | '"' => {
                let (string, end) = lex_string(text, start, first)?;
                at = end;
                Token::Text(string)
            }
            'a'..='z' | 'A'..='Z' | '0'..='9' | '_' | '-' => {
                let run = text[at..]
                    .bytes()
                    .take_while(|b| b.is_ascii_alphanumeric() || b"_.-".contains(b))
                    .count();
                at += run;
                let word = &text[start..at];
                let read = if first.is_ascii_digit() || first == '-' {
                    lex_integer(word)
                } else {
                    lex_word(word)
                };
                read.map_err(|fault| Located { fault, start, end: at })?
            }
            _ => {
                let sign = lex_sign(&text[at..]).map_err(|(fault, length)| Located {
                    fault,
                    start,
                    end: start + length,
                })?;
                at += sign.len();
                Token::Sign(sign)
            }
        };
        tokens.push((token, start..at));
    }
    tokens.push((Token::End, text.len()..text.len()));
    Ok(tokens)
}

fn lex_sign(text: &str) -> Result<&'static str, (ConditionFault, usize)> {
    for (found, write) in [("==", "="), ("&&", "and"), ("||", "or"), ("<>", "!=")] {
        if text.starts_with(found) {
            return Err((ConditionFault::OtherSpelling { found, write }, found.len()));
        }
    }
    // Of two that fit, the longer one: `<=` and not `<`.
    let operators = Operator::ALL.into_iter().map(Operator::sign);
    let signs = operators.chain(["(", ")", "[", "]", ","]).filter(|sign| text.starts_with(sign));
    if let Some(sign) = signs.max_by_key(|sign| sign.len()) {
        return Ok(sign);
    }
    let first = text.chars().next().unwrap_or(' ');
    if first == '!' {
        return Err((ConditionFault::OtherSpelling { found: "!", write: "not" }, 1));
    }
    Err((ConditionFault::Character(first), first.len_utf8()))
}

fn lex_string(text: &str, start: usize, quote: char) -> Result<(String, usize), Located> {
    let mut string = String::new();
    let mut chars = text[start + 1..].char_indices();
    while let Some((offset, c)) = chars.next() {
        let at = start + 1 + offset;
        match c {
            '\\' => match chars.next() {
                Some((_, 'n')) => string.push('\n'),
                Some((_, 't')) => string.push('\t'),
                Some((_, c @ ('\\' | '\'' | '"'))) => string.push(c),
                Some((_, c)) => {
                    let end = at + 1 + c.len_utf8();
                    return Err(Located { fault: ConditionFault::Escape(c), start: at, end });
                }
                None => break,
            },
            c if c == quote => return Ok((string, at + 1)),
            c => string.push(c),
        }
    }
    Err(Located { fault: ConditionFault::OpenString, start, end: text.len() })
}

fn lex_integer(word: &str) -> Result<Token, ConditionFault> {
    let digits = word.strip_prefix('-').unwrap_or(word);
    let plain = !digits.is_empty()
        && digits.bytes().all(|b| b.is_ascii_digit())
        && (digits == "0" || !digits.starts_with('0'));
    if !plain {
        return Err(ConditionFault::Number(word.to_owned()));
    }
    word.parse().map(Token::Integer).map_err(|_| ConditionFault::NumberRange(word.to_owned()))
}

fn lex_word(word: &str) -> Result<Token, ConditionFault> {
    if let Some((_, keyword)) = Keyword::ALL.iter().find(|(text, _)| *text == word) {
        return Ok(Token::Word(*keyword));
    }
    if let Some(operator) = Operator::of_sign(word) {
        return Ok(Token::Sign(operator.sign()));
    }
    let Some((root, name)) = word.split_once('.') else {
        return Err(ConditionFault::Word(word.to_owned()));
    };
    let Some(root) = Root::ALL.into_iter().find(|known| known.to_string() == root) else {
        return Err(ConditionFault::Word(word.to_owned()));
    };
    match name.split('.').find(|part| !Grammar::Attribute.accepts(part)) {
        Some(part) => Err(ConditionFault::AttributeName(part.to_owned())),
        None => Ok(Token::Path(root, name.to_owned())),
    }
}

/// A string in a condition, and the paths that stand in the same comparison: `who.groups`.
pub(crate) struct TextLiteral {
    /// Its bytes, quotes and all.
    pub(crate) range: Range<usize>,
    /// What it stands for.
    pub(crate) text: String,
    pub(crate) beside: Vec<String>,
}

/// The strings of a condition; none where it cannot be read.
pub(crate) fn text_literals(text: &str) -> Vec<TextLiteral> {
    let Ok(tokens) = lex(text) else { return Vec::new() };
    let mut found: Vec<TextLiteral> = Vec::new();
    let ends = |token: &Token| {
        let joins = [Keyword::And, Keyword::Or, Keyword::Not];
        matches!(token, Token::Sign("(" | ")")) || joins.iter().any(|w| *token == Token::Word(*w))
    };
    for comparison in tokens.split(|(token, _)| ends(token)) {
        let path = |token: &Token| match token {
            Token::Path(root, name) => Some(format!("{root}.{name}")),
            _ => None,
        };
        let beside: Vec<String> = comparison.iter().filter_map(|(token, _)| path(token)).collect();
        for (token, range) in comparison {
            if let Token::Text(text) = token {
                let (range, text, beside) = (range.clone(), text.clone(), beside.clone());
                found.push(TextLiteral { range, text, beside });
            }
        }
    }
    found
}
