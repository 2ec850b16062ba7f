//! Reviews, and what was answered.

use bexum_core::declaration::{Answer, Asked, Review};
use toml::de::DeValue;

use super::reader::Reader;
use super::value;

pub(super) fn review(reader: &mut Reader<'_, '_>) -> Option<Review> {
    reader.only(&["of", "by", "open", "until", "unanswered", "asked", "answer"]);
    reader.expect_all(&["of", "by", "open", "until"]);
    let (of, by) = (reader.list("of"), reader.list("by"));
    let (open, until) = (reader.time("open"), reader.time("until"));
    let unanswered_goes = reader.word("unanswered", &["keep", "remove"], &[false, true]);
    let asked = asked(reader);
    let answers = answers(reader);
    Some(Review {
        of: of?,
        by: by?,
        open: open?,
        until: until?,
        unanswered_goes: unanswered_goes.is_some_and(|word| word.value),
        asked,
        answers,
    })
}

fn asked(reader: &mut Reader<'_, '_>) -> Option<Asked> {
    let entry = reader.get("asked")?;
    let Some(table) = entry.get_ref().as_table() else {
        reader.wrong("asked", "a table", entry);
        return None;
    };
    let origin = reader.origin_of(entry);
    let mut inner = Reader {
        file: reader.file,
        faults: &mut *reader.faults,
        what: "what was asked",
        table,
        origin,
    };
    inner.only(&["count", "fingerprint"]);
    inner.expect_all(&["count", "fingerprint"]);
    let count = inner.get("count").and_then(|count| {
        let DeValue::Integer(number) = count.get_ref() else {
            inner.wrong("count", "an integer", count);
            return None;
        };
        let read = i64::from_str_radix(number.as_str(), number.radix()).ok();
        let read = read.filter(|count| *count >= 0);
        if read.is_none() {
            inner.wrong("count", "how many questions there were", count);
        }
        read
    });
    let fingerprint = inner.text("fingerprint");
    Some(Asked { count: count?, fingerprint: fingerprint?.value })
}

fn answers(reader: &mut Reader<'_, '_>) -> Vec<Answer> {
    let Some(entry) = reader.get("answer") else { return Vec::new() };
    let Some(array) = entry.get_ref().as_array() else {
        reader.wrong("answer", "a list of tables", entry);
        return Vec::new();
    };
    let mut answers = Vec::with_capacity(array.len());
    for item in array.iter() {
        let Some(table) = item.get_ref().as_table() else {
            reader.wrong("answer", "a list of tables", item);
            continue;
        };
        let origin = value::origin(reader.file, item.span());
        let mut inner = Reader {
            file: reader.file,
            faults: &mut *reader.faults,
            what: "an answer",
            table,
            origin,
        };
        answers.extend(answer(&mut inner));
    }
    answers
}

fn answer(reader: &mut Reader<'_, '_>) -> Option<Answer> {
    reader.only(&[
        "who", "of", "where", "policy", "from", "until", "answer", "by", "answered", "why",
    ]);
    reader.about();
    reader.expect_all(&["who", "of", "answer", "by", "answered"]);
    let mut text = |key| reader.text(key).map(|text| text.value);
    let (who, of, by) = (text("who"), text("of"), text("by"));
    let (at, policy, why) = (text("where"), text("policy"), text("why"));
    let remove = reader.word("answer", &["keep", "remove"], &[false, true]);
    let (window, answered) = (reader.window(), reader.time("answered"));
    Some(Answer {
        who: who?,
        of: of?,
        at,
        policy,
        window,
        remove: remove?.value,
        by: by?,
        answered: answered?,
        why,
        origin: reader.origin,
    })
}
