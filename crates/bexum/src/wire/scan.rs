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

/// Reads lines one after the other; what it allocates for one serves the next.
#[derive(Debug, Default)]
pub(crate) struct Scanner {
    /// Where the quotes of the line at hand are.
    quotes: Vec<u32>,
}

impl Scanner {
    /// Reads a line into `brief`, whose lists are used again; `None` where it is no common one.
    pub(crate) fn scan<'a>(
        &mut self,
        line: &'a str,
        brief: &mut Brief<'a>,
    ) -> Option<RawId<'a>> {
        let line = line.strip_suffix('\r').unwrap_or(line);
        let bytes = line.as_bytes();
        find_quotes(bytes, &mut self.quotes)?;
        Reader { line, bytes, quotes: &self.quotes, at: 0 }.read(brief)
    }
}

/// Where all quotes are; `None` where anything is escaped, or a control character.
fn find_quotes(bytes: &[u8], quotes: &mut Vec<u32>) -> Option<()> {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const LOW: u64 = 0x7f7f_7f7f_7f7f_7f7f;
    let differ = |word: u64, letter: u8| word ^ (ONES * u64::from(letter));
    quotes.clear();
    let (words, rest) = bytes.as_chunks::<8>();
    for (i, word) in words.iter().enumerate() {
        let word = u64::from_le_bytes(*word);
        // The highest bits of bytes that are a backslash or below a space, and of some above them.
        let backslash = differ(word, b'\\').wrapping_sub(ONES) & !differ(word, b'\\');
        let control = word.wrapping_sub(ONES * 0x20) & !word;
        if (backslash | control) & !LOW != 0 {
            return None;
        }
        // The highest bits of bytes that are a quote, and no others.
        let other = differ(word, b'"');
        let mut marks = !((other & LOW) + LOW | other | LOW);
        while marks != 0 {
            quotes.push(i as u32 * 8 + marks.trailing_zeros() / 8);
            marks &= marks - 1;
        }
    }
    let start = bytes.len() - rest.len();
    for (i, byte) in rest.iter().enumerate() {
        match byte {
            b'"' => quotes.push((start + i) as u32),
            0..0x20 | b'\\' => return None,
            _ => {}
        }
    }
    Some(())
}

/// A line in which nothing is escaped, and its quotes from `at` onward.
struct Reader<'a, 'q> {
    line: &'a str,
    bytes: &'a [u8],
    quotes: &'q [u32],
    at: usize,
}

impl<'a> Reader<'a, '_> {
    fn read(mut self, brief: &mut Brief<'a>) -> Option<RawId<'a>> {
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
        self.expect(b'{')?;
        loop {
            let key = self.text()?;
            self.expect(b':')?;
            match key {
                "who" => {
                    see(1)?;
                    brief.who = self.text()?;
                }
                "does" => {
                    see(2)?;
                    brief.does = self.text()?;
                }
                "on" => {
                    see(4)?;
                    brief.on = self.text()?;
                }
                "as" => {
                    see(8)?;
                    brief.take_up = Some(self.text()?);
                }
                "id" => {
                    see(16)?;
                    id = match self.peek()? {
                        b'"' => RawId::Text(self.text()?),
                        _ => RawId::Number(self.integer()?),
                    };
                }
                "context" => {
                    see(32)?;
                    self.context(brief)?;
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

    /// The same, and past it.
    fn sign(&mut self) -> Option<u8> {
        let byte = self.peek()?;
        self.at += 1;
        Some(byte)
    }

    fn expect(&mut self, wanted: u8) -> Option<()> {
        (self.sign()? == wanted).then_some(())
    }

    fn text(&mut self) -> Option<&'a str> {
        self.peek()?;
        let [start, end, rest @ ..] = self.quotes else { return None };
        let (start, end) = (*start as usize, *end as usize);
        if start != self.at {
            return None;
        }
        (self.quotes, self.at) = (rest, end + 1);
        // Quotes are whole characters, so both ends are at one's border.
        self.line.get(start + 1..end)
    }

    /// An integer of at most eighteen digits; no other number.
    fn integer(&mut self) -> Option<i64> {
        let negative = self.peek()? == b'-';
        self.at += usize::from(negative);
        let start = self.at;
        let mut number = 0;
        while let Some(digit @ b'0'..=b'9') = self.bytes.get(self.at) {
            // Past eighteen digits it means nothing, and is thrown away below.
            number = 10_i64.wrapping_mul(number).wrapping_add(i64::from(digit - b'0'));
            self.at += 1;
        }
        let length = self.at - start;
        let leading_zero = self.bytes.get(start) == Some(&b'0') && length > 1;
        let goes_on = matches!(self.bytes.get(self.at), Some(b'.' | b'e' | b'E'));
        // `-0` is an integer too, but a rare one.
        if !(1..=18).contains(&length) || leading_zero || goes_on || negative && number == 0 {
            return None;
        }
        Some(if negative { -number } else { number })
    }

    fn word(&mut self, word: &str) -> Option<()> {
        self.bytes[self.at..].starts_with(word.as_bytes()).then(|| self.at += word.len())
    }

    /// Scalars under names without dots, each once.
    fn context(&mut self, brief: &mut Brief<'a>) -> Option<()> {
        self.expect(b'{')?;
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
    use bexum_core::engine::Brief;
    use proptest::prelude::*;

    use super::{RawId, Scanner};
    use crate::wire::request::{LineId, parse};

    /// What is read at a glance is what is read with care.
    fn agree(line: &str) -> Result<bool, TestCaseError> {
        let mut brief = Brief::default();
        let Some(id) = Scanner::default().scan(line, &mut brief) else { return Ok(false) };
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
            r#"{"who":"u","does":"d","on":"p","id":-922337203685477580}"#,
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
            "\r",
            "\\",
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
