//! The commonest lines of `replay`, read in one pass: known fields, plain strings, flat
//! circumstances. Whatever is not quite so is left to [`request::parse`](super::request::parse),
//! which must say the same of what is read here.

use bexum_core::Time;
use bexum_core::condition::fact::Scalar;
use bexum_core::engine::Brief;

/// Circumstances beyond which a line is no common one.
const MOST_CIRCUMSTANCES: usize = 12;

/// A line's `id`, as it is written there.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) enum RawId<'a> {
    /// There is none.
    #[default]
    None,
    /// A string, without its quotes; nothing in it is escaped.
    Text(&'a str),
    Number(i64),
}

/// Reads a line into `brief`, whose lists are used again; `None` where it is no common one.
pub(crate) fn scan<'a>(line: &'a str, brief: &mut Brief<'a>) -> Option<RawId<'a>> {
    let mut scanner = Scanner { line, bytes: line.as_bytes(), at: 0 };
    brief.context.clear();
    (brief.take_up, brief.time) = (None, None);
    let mut id = RawId::None;
    // A bit for each field seen.
    let mut seen = 0_u8;
    let mut see = |bit: u8| {
        let again = seen & bit != 0;
        seen |= bit;
        (!again).then_some(())
    };
    scanner.expect(b'{')?;
    loop {
        scanner.space();
        let key = scanner.field()?;
        match key {
            Field::Who => {
                see(1)?;
                brief.who = scanner.text()?;
            }
            Field::Does => {
                see(2)?;
                brief.does = scanner.text()?;
            }
            Field::On => {
                see(4)?;
                brief.on = scanner.text()?;
            }
            Field::As => {
                see(8)?;
                brief.take_up = Some(scanner.text()?);
            }
            Field::Id => {
                see(16)?;
                scanner.space();
                id = match scanner.peek()? {
                    b'"' => RawId::Text(scanner.text()?),
                    _ => RawId::Number(scanner.integer()?),
                };
            }
            Field::Context => {
                see(32)?;
                scanner.context(brief)?;
            }
        }
        scanner.space();
        match scanner.next()? {
            b',' => {}
            b'}' => break,
            _ => return None,
        }
    }
    scanner.space();
    (scanner.at == scanner.bytes.len() && seen & 7 == 7).then_some(id)
}

/// A field that a common line may have.
#[derive(Clone, Copy)]
enum Field {
    Who,
    Does,
    On,
    As,
    Id,
    Context,
}

struct Scanner<'a> {
    line: &'a str,
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Scanner<'a> {
    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn next(&mut self) -> Option<u8> {
        let byte = self.peek()?;
        self.at += 1;
        Some(byte)
    }

    fn space(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\t' | b'\r' | b'\n')) {
            self.at += 1;
        }
    }

    fn expect(&mut self, wanted: u8) -> Option<()> {
        self.space();
        (self.next()? == wanted).then_some(())
    }

    /// A field's name, and the colon after it.
    fn field(&mut self) -> Option<Field> {
        const FIELDS: [(&[u8], Field); 6] = [
            (b"\"id\"", Field::Id),
            (b"\"who\"", Field::Who),
            (b"\"does\"", Field::Does),
            (b"\"on\"", Field::On),
            (b"\"as\"", Field::As),
            (b"\"context\"", Field::Context),
        ];
        let rest = &self.bytes[self.at..];
        let (name, field) = FIELDS.iter().find(|(name, _)| rest.starts_with(name))?;
        self.at += name.len();
        self.expect(b':')?;
        Some(*field)
    }

    /// A string in which nothing is escaped.
    fn text(&mut self) -> Option<&'a str> {
        self.expect(b'"')?;
        let start = self.at;
        // Eight letters at a time, up to the first that means something.
        while let Some(word) = self.bytes.get(self.at..self.at + 8) {
            let special = special(u64::from_le_bytes(word.try_into().ok()?));
            if special != 0 {
                self.at += special.trailing_zeros() as usize / 8;
                break;
            }
            self.at += 8;
        }
        loop {
            match self.next()? {
                b'"' => break,
                b'\\' | 0..0x20 => return None,
                _ => {}
            }
        }
        // Quotes are whole characters, so both ends are at one's border.
        Some(&self.line[start..self.at - 1])
    }

    /// An integer within 64 bits; no other number.
    fn integer(&mut self) -> Option<i64> {
        let start = self.at;
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        let digits = self.at;
        while matches!(self.peek(), Some(b'0'..=b'9')) {
            self.at += 1;
        }
        let written = &self.line[start..self.at];
        let length = self.at - digits;
        let leading_zero = self.bytes.get(digits) == Some(&b'0') && length > 1;
        let goes_on = matches!(self.peek(), Some(b'.' | b'e' | b'E'));
        // `-0` is an integer too, but a rare one.
        if length == 0 || leading_zero || goes_on || written == "-0" {
            return None;
        }
        written.parse().ok()
    }

    fn word(&mut self, word: &str) -> Option<()> {
        self.bytes[self.at..].starts_with(word.as_bytes()).then(|| self.at += word.len())
    }

    /// Scalars under names without dots, each once.
    fn context(&mut self, brief: &mut Brief<'a>) -> Option<()> {
        self.expect(b'{')?;
        self.space();
        if self.peek()? == b'}' {
            self.at += 1;
            return Some(());
        }
        loop {
            let key = self.text()?;
            if !bexum_core::name::Grammar::Attribute.accepts(key) {
                return None;
            }
            self.expect(b':')?;
            self.space();
            let value = match self.peek()? {
                b'"' => Some(Scalar::Text(self.text()?)),
                b't' => {
                    self.word("true")?;
                    Some(Scalar::Boolean(true))
                }
                b'f' => {
                    self.word("false")?;
                    Some(Scalar::Boolean(false))
                }
                b'n' => {
                    self.word("null")?;
                    None
                }
                _ => Some(Scalar::Integer(self.integer()?)),
            };
            if key == "time" {
                let (Some(Scalar::Text(written)), None) = (value, brief.time) else { return None };
                brief.time = Some(Time::parse(written)?);
            } else {
                let known = brief.context.iter().any(|(known, _)| *known == key);
                if known || brief.context.len() == MOST_CIRCUMSTANCES {
                    return None;
                }
                brief.context.push((key, value));
            }
            self.space();
            match self.next()? {
                b',' => {}
                b'}' => return Some(()),
                _ => return None,
            }
        }
    }
}

/// The highest bit of the first byte that is a quote, a backslash or a control character; later
/// bytes may be marked wrongly.
fn special(word: u64) -> u64 {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let zero = |word: u64| word.wrapping_sub(ONES) & !word & HIGH;
    let quote = zero(word ^ (ONES * u64::from(b'"')));
    let backslash = zero(word ^ (ONES * u64::from(b'\\')));
    let control = word.wrapping_sub(ONES * 0x20) & !word & HIGH;
    quote | backslash | control
}

#[cfg(test)]
mod tests {
    use bexum_core::Time;
    use bexum_core::attribute::Value;
    use bexum_core::engine::Brief;
    use proptest::prelude::*;

    use super::{RawId, scan};
    use crate::wire::request::{LineId, parse};

    /// What is read at a glance is what is read with care.
    fn agree(line: &str) -> Result<bool, TestCaseError> {
        let mut brief = Brief::default();
        let Some(id) = scan(line, &mut brief) else { return Ok(false) };
        let parsed = parse(line, Time(7));
        prop_assert!(parsed.is_ok(), "{:?} of {line}", parsed.err());
        let Ok((careful_id, request)) = parsed else { return Ok(true) };
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
        let context: Vec<(String, Option<Value>)> = brief
            .context
            .iter()
            .map(|(name, value)| ((*name).to_owned(), value.map(|value| value.to_value())))
            .collect();
        let careful: Vec<(String, Option<Value>)> =
            request.context.into_iter().map(|(name, value)| (name.into_owned(), value)).collect();
        prop_assert_eq!(context, careful);
        prop_assert!(request.also.is_empty() && request.under.is_empty() && request.item.is_none());
        Ok(true)
    }

    #[test]
    fn common_lines_are_read_at_a_glance() {
        for line in [
            r#"{"who":"user:a","does":"k.v","on":"p"}"#,
            r#" { "id" : -12 , "who":"user:a","does":"k.v","on":"é/p" , "as":"role:r" } "#,
            r#"{"context":{},"on":"p","does":"k.v","who":"u","id":"x"}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"mfa":true,"n":-3,"x":null,"s":"é","b":false,"time":"2026-01-01T00:00:00+01:00"}}"#,
            r#"{"who":"u","does":"d","on":"p","id":9223372036854775807}"#,
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
            r#"{"who":"u","does":"d","on":"p","id":1e3}"#,
            r#"{"who":"u","does":"d","on":"p","id":9223372036854775808}"#,
            r#"{"who":"u","does":"d","on":"p","id":null}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"a":1,"a":1}}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"a.b":1}}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"a":tru}}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"time":null}}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"time":"noon"}}"#,
            r#"{"who":"u","does":"d","on":"p","context":{"a":{}}}"#,
            r#"{"who":"u","does":"d","on":"p","also":[]}"#,
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
            "\"does\"",
            "\"on\"",
            "\"as\"",
            "\"id\"",
            "\"context\"",
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
            "\"context\":{",
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
            agree(&pieces.concat())?;
            agree(&format!("{{{}}}", pieces.concat()))?;
            agree(&format!("{{\"who\":\"u\",\"does\":\"d\",\"on\":\"p\",{}}}", pieces.concat()))?;
            agree(&format!("{{\"who\":\"{noise}\",\"does\":\"d\",\"on\":\"p\",\"id\":{numbers}}}"))?;
            agree(&format!("{{\"who\":\"u\",\"does\":\"d\",\"on\":\"p\",\"context\":{{{}}}}}", pieces.concat()))?;
        }
    }
}
