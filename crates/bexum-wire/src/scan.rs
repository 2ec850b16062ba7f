//! The commonest lines of `replay`, read without a copy: known fields, plain strings, flat
//! circumstances. Whatever is not quite so is left to [`request::parse`](super::request::parse),
//! which must say the same of what is read here.
//!
//! The lines of a log look alike: what differs is within strings and numbers, and all around is the
//! same letter for letter. So a line that was read leaves its shape behind, and the next is first
//! held against the shapes known.

mod shapes;

use std::ops::Range;

use bexum_core::condition::fact::Scalar;
use bexum_core::engine::BorrowedRequest;
use bexum_core::{Time, Verdict};
use shapes::{Draft, Shapes, Value, integer, quote};

/// Circumstances beyond which a line is no common one.
const MOST_CIRCUMSTANCES: usize = 12;
/// After so many shapes in a row that fitted no other line, no more are looked for.
const MOST_IN_VAIN: usize = 64;

/// A line's `id`, as it is written there.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum RawId<'a> {
    /// There is none.
    #[default]
    None,
    /// A string, without its quotes; nothing in it is escaped.
    Text(&'a str),
    /// An integer.
    Number(i64),
}

/// Reads lines one after the other, and learns how they look.
#[derive(Debug, Default)]
pub struct Scanner {
    shapes: Shapes,
    in_vain: usize,
    is_plain: bool,
    /// What the line read last says was decided then.
    recorded: Option<Verdict>,
}

/// Whether nothing is escaped anywhere, and nothing a control character: then a string ends at the
/// next quote.
fn is_plain(text: &str) -> bool {
    let odd = |byte: &u8| u8::from(*byte < 0x20 && *byte != b'\n') | u8::from(*byte == b'\\');
    text.bytes().fold(0, |any, byte| any | odd(&byte)) == 0
}

impl Scanner {
    /// Looks at all lines that come next together: if all are plain, none is looked at for that.
    pub fn look_ahead(&mut self, lines: &str) {
        self.is_plain = is_plain(lines);
    }

    /// What was decided then, if the line says so that was read last.
    #[must_use]
    pub fn recorded(&self) -> Option<Verdict> {
        self.recorded
    }

    /// Reads a line into `brief`, whose lists are used again; `None` where it is no common one.
    pub fn scan<'a>(
        &mut self,
        line: &'a str,
        brief: &mut BorrowedRequest<'a>,
    ) -> Option<RawId<'a>> {
        let line = line.strip_suffix('\r').unwrap_or(line);
        if !self.is_plain && !is_plain(line) {
            return None;
        }
        brief.given.clear();
        (brief.take_up, brief.time) = (None, None);
        if let Some((id, recorded)) = self.shapes.read(line, brief) {
            self.in_vain = 0;
            self.recorded = recorded;
            return Some(id);
        }
        brief.given.clear();
        (brief.take_up, brief.time) = (None, None);
        let mut reader =
            Reader { line, bytes: line.as_bytes(), at: 0, recorded: None, shape: Draft::default() };
        let id = reader.read(brief)?;
        self.recorded = reader.recorded;
        if self.in_vain < MOST_IN_VAIN {
            self.in_vain += 1;
            self.shapes.learn(reader.shape.finish(line));
        }
        Some(id)
    }
}

/// The verdict of this word, in a log.
pub(crate) fn verdict(word: &str) -> Option<Verdict> {
    [Verdict::Allow, Verdict::Deny].into_iter().find(|verdict| verdict.word() == word)
}

/// A line in which nothing is escaped, from `at` onward.
struct Reader<'a> {
    line: &'a str,
    bytes: &'a [u8],
    at: usize,
    recorded: Option<Verdict>,
    shape: Draft,
}

impl<'a> Reader<'a> {
    fn read(&mut self, brief: &mut BorrowedRequest<'a>) -> Option<RawId<'a>> {
        brief.given.clear();
        (brief.take_up, brief.time) = (None, None);
        let mut id = RawId::None;
        // A bit for each field seen.
        let mut seen = 0_u8;
        let mut see = |bit: u8| {
            let again = seen & bit != 0;
            seen |= bit;
            (!again).then_some(())
        };
        self.expect(b'{')?;
        loop {
            let key = self.text()?;
            self.expect(b':')?;
            match &self.line[key] {
                "who" => {
                    see(1)?;
                    brief.who = self.value(Value::Who)?;
                }
                "does" => {
                    see(2)?;
                    brief.does = self.value(Value::Does)?;
                }
                "on" => {
                    see(4)?;
                    brief.on = self.value(Value::On)?;
                }
                "as" => {
                    see(8)?;
                    brief.take_up = Some(self.value(Value::As)?);
                }
                "id" => {
                    see(16)?;
                    id = match self.peek()? {
                        b'"' => RawId::Text(self.value(Value::IdText)?),
                        _ => RawId::Number(self.number(Value::IdNumber)?),
                    };
                }
                "given" => {
                    see(32)?;
                    self.given(brief)?;
                }
                "verdict" => {
                    see(64)?;
                    self.recorded = verdict(self.value(Value::Verdict)?);
                }
                "reason" => {
                    see(128)?;
                    self.value(Value::Reason)?;
                }
                _ => return None,
            }
            match self.sign()? {
                b',' => {}
                b'}' => break,
                _ => return None,
            }
        }
        (self.peek().is_none() && seen & 7 == 7).then_some(id)
    }

    /// The next byte that is no space.
    fn peek(&mut self) -> Option<u8> {
        while let Some(b' ') = self.bytes.get(self.at) {
            self.at += 1;
        }
        self.bytes.get(self.at).copied()
    }

    /// Reads the next byte that is no space.
    fn sign(&mut self) -> Option<u8> {
        let byte = self.peek()?;
        self.at += 1;
        Some(byte)
    }

    fn expect(&mut self, wanted: u8) -> Option<()> {
        (self.sign()? == wanted).then_some(())
    }

    /// Where a string is, between its quotes.
    fn text(&mut self) -> Option<Range<usize>> {
        self.expect(b'"')?;
        let place = self.at..quote(self.bytes, self.at)?;
        self.at = place.end + 1;
        Some(place)
    }

    /// A string that may be another in other lines.
    fn value(&mut self, value: Value) -> Option<&'a str> {
        let place = self.text()?;
        self.shape.values.push((place.clone(), value));
        Some(&self.line[place])
    }

    /// An integer that may be another in other lines.
    fn number(&mut self, value: Value) -> Option<i64> {
        self.peek()?;
        let (number, end) = integer(self.bytes, self.at)?;
        self.shape.values.push((self.at..end, value));
        self.at = end;
        Some(number)
    }

    fn word(&mut self, word: &str) -> Option<()> {
        self.bytes[self.at..].starts_with(word.as_bytes()).then(|| self.at += word.len())
    }

    /// Scalars under names without dots, each once.
    fn given(&mut self, brief: &mut BorrowedRequest<'a>) -> Option<()> {
        self.expect(b'{')?;
        if self.peek()? == b'}' {
            self.at += 1;
            return Some(());
        }
        loop {
            let place = self.text()?;
            let key = &self.line[place.clone()];
            if !bexum_core::name::Grammar::Attribute.accepts(key) {
                return None;
            }
            self.expect(b':')?;
            let first = self.peek()?;
            if key == "time" {
                if first != b'"' || brief.time.is_some() {
                    return None;
                }
                brief.time = Some(Time::parse(self.value(Value::Time)?)?);
            } else {
                let known = brief.given.iter().any(|(known, _)| *known == key);
                if known || brief.given.len() == MOST_CIRCUMSTANCES {
                    return None;
                }
                let (word, fixed) = match first {
                    b't' => ("true", Some(true)),
                    b'f' => ("false", Some(false)),
                    b'n' => ("null", None),
                    _ => ("", None),
                };
                let value = match first {
                    b'"' => Some(Scalar::Text(self.value(Value::Text(place))?)),
                    _ if word.is_empty() => {
                        Some(Scalar::Integer(self.number(Value::Integer(place))?))
                    }
                    _ => {
                        self.word(word)?;
                        self.shape.circumstances.push((place, fixed));
                        fixed.map(Scalar::Boolean)
                    }
                };
                brief.given.push((key, value));
            }
            match self.sign()? {
                b',' => {}
                b'}' => return Some(()),
                _ => return None,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use bexum_core::Time;
    use bexum_core::attribute::Value;
    use bexum_core::engine::BorrowedRequest;
    use proptest::prelude::*;

    use super::{RawId, Scanner};
    use crate::request::{LineId, parse_recorded};

    /// What is read at a glance is what is read with care.
    fn agree(line: &str) -> Result<bool, TestCaseError> {
        agree_after(&mut Scanner::default(), line)
    }

    /// Checks that both readers agree on a line that comes after others.
    fn agree_after(scanner: &mut Scanner, line: &str) -> Result<bool, TestCaseError> {
        let mut brief = BorrowedRequest::default();
        let Some(id) = scanner.scan(line, &mut brief) else { return Ok(false) };
        let parsed = parse_recorded(line, Time(7));
        prop_assert!(parsed.is_ok(), "{:?} of {line}", parsed.err());
        let Ok((careful_id, request, recorded)) = parsed else { return Ok(true) };
        prop_assert_eq!(scanner.recorded(), recorded);
        let id = match id {
            RawId::None => None,
            RawId::Text(text) => Some(LineId::Text(text.to_owned())),
            RawId::Number(n) => Some(LineId::Number(n)),
        };
        prop_assert_eq!(id, careful_id);
        prop_assert_eq!(brief.who, &*request.who);
        prop_assert_eq!(brief.does, &*request.does);
        prop_assert_eq!(brief.on, &*request.on);
        prop_assert_eq!(brief.take_up, request.take_up.as_deref());
        prop_assert_eq!(brief.time.unwrap_or(Time(7)), request.time);
        let given: Vec<(String, Option<Value>)> = brief
            .given
            .iter()
            .map(|(name, value)| ((*name).to_owned(), value.map(|value| value.to_value())))
            .collect();
        let careful: Vec<(String, Option<Value>)> =
            request.given.into_iter().map(|(name, value)| (name.into_owned(), value)).collect();
        prop_assert_eq!(given, careful);
        prop_assert!(request.also.is_empty() && request.under.is_empty() && request.item.is_none());
        Ok(true)
    }

    #[test]
    fn common_lines_are_read_at_a_glance() {
        for line in [
            r#"{"who":"user:a","does":"k.v","on":"p"}"#,
            r#" { "id" : -12 , "who":"user:a","does":"k.v","on":"é/p" , "as":"role:r" } "#,
            r#"{"given":{},"on":"p","does":"k.v","who":"u","id":"x"}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"mfa":true,"n":-3,"x":null,"s":"é","b":false,"time":"2026-01-01T00:00:00+01:00"}}"#,
            r#"{"who":"u","does":"d","on":"p","id":-922337203685477580}"#,
            r#"{"who":"u","does":"d","on":"p","verdict":"allow","reason":"granted"}"#,
            r#"{"who":"u","does":"d","on":"p","reason":"x","verdict":"perhaps"}"#,
            "{\"who\":\"u\",\"does\":\"d\",\"on\":\"p\"}\r",
        ] {
            assert!(agree(line).expect("they agree"), "{line}");
        }
        for line in [
            "",
            "{",
            "{}",
            "null",
            r#"{"who":"u","does":"d"}"#,
            r#"{"who":"u","does":"d","on":"p"}x"#,
            r#"{"who":"u","does":"d","on":"p",}"#,
            r#"{"who":"u","who":"u","does":"d","on":"p"}"#,
            r#"{"who":"u","does":"d","on":"p\n"}"#,
            r#"{"who":"u","does":"d","on":"p","id":01}"#,
            r#"{"who":"u","does":"d","on":"p","id":1.0}"#,
            r#"{"who":"u","does":"d","on":"p","id":-}"#,
            r#"{"who":"u","does":"d","on":"p","id":9223372036854775807}"#,
            r#"{"who":"u","does":"d","on":"p","id":1e3}"#,
            r#"{"who":"u","does":"d","on":"p","id":9223372036854775808}"#,
            r#"{"who":"u","does":"d","on":"p","id":null}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"a":1,"a":1}}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"a.b":1}}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"a":tru}}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"time":null}}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"time":"noon"}}"#,
            r#"{"who":"u","does":"d","on":"p","given":{"a":{}}}"#,
            r#"{"who":"u","does":"d","on":"p","also":[]}"#,
            r#"{"who":"u","does":"d","on":"p","verdict":true}"#,
            r#"{"who":"u","does":"d","on":"p","verdict":"deny","verdict":"deny"}"#,
            "{\"who\":\"u\",\"does\":\"d\",\"on\":\"p\u{1}\"}",
        ] {
            assert!(!agree(line).expect("they agree"), "{line}");
        }
    }

    /// Pieces of which lines that are nearly common can be made.
    fn piece() -> impl Strategy<Value = String> {
        let pieces = [
            "{",
            "}",
            ",",
            ":",
            "\"who\"",
            "\r",
            "\\",
            "\"does\"",
            "\"on\"",
            "\"as\"",
            "\"id\"",
            "\"given\"",
            "\"verdict\":\"deny\"",
            "\"reason\":\"denied\"",
            "\"time\"",
            "\"u\"",
            "\"2026-01-01T00:00:00Z\"",
            "true",
            "null",
            "0",
            "-7",
            "01",
            "1.5",
            "-0",
            " ",
            "\"a\":1",
            "\"\\u0041\"",
            "[1]",
            "\"who\":\"u\",",
            "\"does\":\"d\",\"on\":\"p\"",
            "\"given\":{",
            "\"é\"",
        ];
        proptest::sample::select(pieces.to_vec()).prop_map(str::to_owned)
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]

        #[test]
        fn what_is_read_at_a_glance_is_what_is_read_with_care(
            pieces in proptest::collection::vec(piece(), 0..14),
            noise in "\\PC{0,12}",
            numbers in any::<i64>(),
        ) {
            let pieces = pieces.concat();
            let least = "\"who\":\"u\",\"does\":\"d\",\"on\":\"p\"";
            for line in [
                pieces.clone(),
                format!("{{{pieces}}}"),
                format!("{{{least},{pieces}}}"),
                format!("{{\"who\":\"{noise}\",\"does\":\"d\",\"on\":\"p\",\"id\":{numbers}}}"),
                format!("{{{least},\"given\":{{{pieces}}}}}"),
            ] {
                agree(&line)?;
            }
        }

        #[test]
        fn what_looks_like_lines_before_is_read_with_the_same_care(
            lines in proptest::collection::vec((0..SHAPES.len(), value(), value(), value()), 1..30),
        ) {
            let mut scanner = Scanner::default();
            for (shape, a, b, c) in lines {
                let line = SHAPES[shape].replace("A", &a).replace("B", &b).replace("C", &c);
                let apart = agree(&line)?;
                prop_assert_eq!(agree_after(&mut scanner, &line)?, apart, "{}", line);
            }
        }
    }

    /// Lines with gaps to be filled.
    const SHAPES: [&str; 10] = [
        r#"{"id":A,"who":"B","does":"k.v","on":"C"}"#,
        r#"{"id":"A","who":"B","does":"k.v","on":"C"}"#,
        r#"{"id":A,"who":"B","does":"k.v","on":"C","given":{"mfa":true,"n":A,"ip":"C"}}"#,
        r#"{"id":A,"who":"B","does":"k.v","on":"C","given":{"mfa":false,"n":A,"ip":"C"}}"#,
        r#"{"id":A,"who":"B","does":"k.v","on":"p","as":"C","given":{"x":null,"time":"A"}}"#,
        r#"{ "who":"A" , "does": "B","on":"C"}"#,
        r#"{"who":"A","does":"k.v","on":"p","given":{"B":"C","n":true}}"#,
        r#"{"who":"A","does":"k.v","on":"p","given":{"n":B}}"#,
        r#"{"on":"B","does":"k.v","who":"C","id":A}  "#,
        r#"{"who":"A","does":"k.v","on":"B","verdict":"deny","reason":"C"}"#,
    ];

    fn value() -> impl Strategy<Value = String> {
        prop_oneof![
            "[a-z:/]{0,20}",
            "-?[0-9]{1,20}",
            Just("2026-01-01T00:00:00Z".to_owned()),
            Just("n".to_owned()),
            Just("true".to_owned()),
            Just("\",\"as\":\"role:x".to_owned()),
            "[a-z\"\\\\, é.}\t]{0,9}",
        ]
    }
}
