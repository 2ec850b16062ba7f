//! Reviews and answers as they are written into files.

use bexum_core::review::{Answer, Asks, Review};
use bexum_core::time::Time;

use crate::edit::written::{key_text, quoted};

fn texts(all: impl IntoIterator<Item = String>) -> String {
    let all: Vec<String> = all.into_iter().map(|one| quoted(&one)).collect();
    match &all[..] {
        [one] => one.clone(),
        many => format!("[{}]", many.join(", ")),
    }
}

/// The table of a review without answers.
#[must_use]
pub fn new_review(review: &Review) -> String {
    let mut lines = vec![format!("[review.{}]", key_text(&review.name))];
    if let Some(about) = &review.about {
        lines.push(format!("about = {}", quoted(about)));
    }
    lines.push(format!("of = {}", texts(review.of.iter().map(ToString::to_string))));
    let by = match &review.by {
        Asks::Owners => vec!["owners".to_owned()],
        Asks::Managers => vec!["managers".to_owned()],
        Asks::Users(users) => users.clone(),
    };
    lines.push(format!("by = {}", texts(by)));
    lines.push(format!("open = {}", review.open));
    lines.push(format!("until = {}", review.until));
    let word = if review.unanswered_goes { "remove" } else { "keep" };
    lines.push(format!("unanswered = {}", quoted(word)));
    if let Some((count, fingerprint)) = &review.asked {
        lines.push(format!("asked = {{ count = {count}, fingerprint = {} }}", quoted(fingerprint)));
    }
    lines.push(String::new());
    lines.join("\n")
}

/// The table of an answer to a review of this name.
#[must_use]
pub fn written_answer(review: &str, answer: &Answer) -> String {
    let mut lines = vec![format!("[[review.{}.answer]]", key_text(review))];
    let mut text = |key: &str, value: &str| lines.push(format!("{key} = {}", quoted(value)));
    text("who", &answer.who);
    text("of", &answer.of);
    for (key, value) in [("where", &answer.at), ("policy", &answer.policy)] {
        if let Some(value) = value {
            text(key, value);
        }
    }
    text("answer", if answer.remove { "remove" } else { "keep" });
    text("by", &answer.by);
    let mut time = |key: &str, time: Time| lines.push(format!("{key} = {time}"));
    time("answered", answer.answered);
    for (key, at) in [("from", answer.window.from), ("until", answer.window.until)] {
        if let Some(at) = at {
            time(key, at);
        }
    }
    if let Some(why) = &answer.why {
        lines.push(format!("why = {}", quoted(why)));
    }
    lines.push(String::new());
    lines.join("\n")
}
