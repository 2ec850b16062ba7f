//! The parser of conditions: recursive descent, bounded in depth.

use std::ops::Range;

use super::ast::{Expression, Operand, Operator, Path};
use super::token::{Keyword, Token, lex};
use super::{ConditionFault, Located};
use crate::attribute::Value;
use crate::limits::{CONDITION_BYTES, CONDITION_DEPTH};

/// Reads a condition.
///
/// # Errors
/// The first thing that does not parse, with its place in `text`.
pub fn parse(text: &str) -> Result<Expression, Located> {
    if text.len() > CONDITION_BYTES {
        return Err(Located { fault: ConditionFault::TooLong, start: 0, end: text.len() });
    }
    let mut parser = Parser { tokens: lex(text)?, at: 0, depth: 0, text };
    let expression = parser.parse_or()?;
    match parser.peek() {
        Token::End => Ok(expression),
        token if parser.operator_of(token).is_some() => Err(parser.fault(ConditionFault::Chained)),
        _ => Err(parser.expected("`and`, `or` or the end")),
    }
}

struct Parser<'t> {
    tokens: Vec<(Token, Range<usize>)>,
    at: usize,
    depth: usize,
    text: &'t str,
}

impl Parser<'_> {
    fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    fn span(&self) -> Range<usize> {
        self.tokens[self.at].1.clone()
    }

    /// The token here; the one at the end is never passed.
    fn next(&mut self) -> (Token, Range<usize>) {
        let token = self.tokens[self.at].clone();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    fn eat(&mut self, token: &Token) -> bool {
        let here = self.peek() == token;
        if here {
            self.next();
        }
        here
    }

    fn fault(&self, fault: ConditionFault) -> Located {
        let span = self.span();
        Located { fault, start: span.start, end: span.end }
    }

    fn expected(&self, expected: &'static str) -> Located {
        let found = match self.peek() {
            Token::End => "the end of the condition".to_owned(),
            _ => format!("`{}`", &self.text[self.span()]),
        };
        self.fault(ConditionFault::Expected { expected, found })
    }

    fn parse_or(&mut self) -> Result<Expression, Located> {
        self.parse_joined(Keyword::Or, Self::parse_and, Expression::Or)
    }

    fn parse_and(&mut self) -> Result<Expression, Located> {
        self.parse_joined(Keyword::And, Self::parse_unary, Expression::And)
    }

    fn parse_joined(
        &mut self,
        word: Keyword,
        parse_part: fn(&mut Self) -> Result<Expression, Located>,
        join: fn(Vec<Expression>) -> Expression,
    ) -> Result<Expression, Located> {
        let first = parse_part(self)?;
        if *self.peek() != Token::Word(word) {
            return Ok(first);
        }
        let mut parts = vec![first];
        while self.eat(&Token::Word(word)) {
            parts.push(parse_part(self)?);
        }
        Ok(join(parts))
    }

    fn parse_unary(&mut self) -> Result<Expression, Located> {
        if self.depth == CONDITION_DEPTH {
            return Err(self.fault(ConditionFault::TooDeep));
        }
        self.depth += 1;
        let parsed = self.parse_unary_here();
        self.depth -= 1;
        parsed
    }

    fn parse_unary_here(&mut self) -> Result<Expression, Located> {
        match self.peek() {
            Token::Word(Keyword::Not) => {
                self.next();
                Ok(Expression::Not(Box::new(self.parse_unary()?)))
            }
            Token::Sign("(") => {
                self.next();
                let inside = self.parse_or()?;
                if !self.eat(&Token::Sign(")")) {
                    return Err(self.expected("`)`"));
                }
                Ok(inside)
            }
            _ => self.parse_comparison(),
        }
    }

    fn parse_comparison(&mut self) -> Result<Expression, Located> {
        let left = self.parse_operand()?;
        let left = match left {
            Operand::Path(path) if self.eat(&Token::Word(Keyword::Is)) => {
                return self.parse_is_set(path);
            }
            other => other,
        };
        if let Some(operator) = self.operator_of(self.peek()) {
            self.next();
            return Ok(Expression::Compare(left, operator, self.parse_operand()?));
        }
        match left {
            Operand::Path(path) => Ok(Expression::Bare(path)),
            Operand::Literal(Value::Boolean(constant), _) => Ok(Expression::Constant(constant)),
            Operand::Literal(value, span) => {
                let article = match value.type_name() {
                    "integer" => "an integer",
                    "list" => "a list",
                    _ => "a string",
                };
                let fault = ConditionFault::LoneOperand(article);
                Err(Located { fault, start: span.start, end: span.end })
            }
        }
    }

    /// What follows `PATH is`; `PATH is not set` means `not (PATH is set)`.
    fn parse_is_set(&mut self, path: Path) -> Result<Expression, Located> {
        let negated = self.eat(&Token::Word(Keyword::Not));
        if !self.eat(&Token::Word(Keyword::Set)) {
            return Err(self.expected(if negated { "`set`" } else { "`set` or `not set`" }));
        }
        let is_set = Expression::IsSet(path);
        Ok(if negated { Expression::Not(Box::new(is_set)) } else { is_set })
    }

    fn operator_of(&self, token: &Token) -> Option<Operator> {
        match token {
            Token::Sign(sign) => Operator::of_sign(sign),
            _ => None,
        }
    }

    fn parse_operand(&mut self) -> Result<Operand, Located> {
        if let Some(value) = self.parse_literal() {
            let span = self.tokens[self.at - 1].1.clone();
            return Ok(Operand::Literal(value, span));
        }
        match self.peek().clone() {
            Token::Path(root, name) => {
                let span = self.span();
                self.next();
                Ok(Operand::Path(Path { root, name, span }))
            }
            Token::Sign("[") => self.parse_list(),
            _ => Err(self.expected("a path, a value, `not` or `(`")),
        }
    }

    /// A scalar literal, if one stands here.
    fn parse_literal(&mut self) -> Option<Value> {
        let value = match self.peek() {
            Token::Text(text) => Value::Text(text.as_str().into()),
            Token::Integer(n) => Value::Integer(*n),
            Token::Word(Keyword::True) => Value::Boolean(true),
            Token::Word(Keyword::False) => Value::Boolean(false),
            _ => return None,
        };
        self.next();
        Some(value)
    }

    fn parse_list(&mut self) -> Result<Operand, Located> {
        let start = self.span().start;
        self.next();
        let mut items: Vec<Value> = Vec::new();
        while !matches!(self.peek(), Token::Sign("]")) {
            if !items.is_empty() && !self.eat(&Token::Sign(",")) {
                return Err(self.expected("`,` or `]`"));
            }
            let span = self.span();
            let Some(item) = self.parse_literal() else {
                return Err(self.expected("a string, an integer, `true` or `false`"));
            };
            if let Some(first) = items.first().filter(|f| f.type_name() != item.type_name()) {
                let fault = ConditionFault::MixedList(first.type_name(), item.type_name());
                return Err(Located { fault, start: span.start, end: span.end });
            }
            items.push(item);
        }
        let (_, close) = self.next();
        Ok(Operand::Literal(Value::List(items.into()), start..close.end))
    }
}
