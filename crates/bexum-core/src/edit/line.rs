//! An edit as it is typed: the way back from what reads it.

use std::fmt::{self, Display};

use super::{Edit, Keyed, ListOf, Target};
use crate::attribute::Value;
use crate::policy::Effect;
use crate::time::Window;

impl Edit {
    /// The words of the edit, as `bexum edit` takes them, not quoted.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let mut line = Line::default();
        match self {
            Self::New { target, preset, keys } => {
                line.word("new").word(&target.to_string());
                line.option("--preset", preset.iter());
                line.keys(keys);
            }
            Self::Copy { from, to, drop, keep } => {
                line.word("copy").word(&policy(from)).word(&policy(to));
                drop.iter().for_each(|one| line.pair("--drop", one));
                keep.iter().for_each(|one| line.pair("--keep", one));
            }
            Self::State { policy: name, effect, actions, on, when, name: called } => {
                line.word(if *effect == Effect::Allow { "allow" } else { "deny" });
                line.word(&policy(name)).all(actions);
                line.option("--on", on.iter());
                line.option("--when", when.iter());
                line.option("--name", called.iter());
            }
            Self::Strike { policy: name, statement } => {
                line.word("strike").word(&policy(name)).word(statement);
            }
            Self::Spare { policy: name, statement, paths } => {
                line.word("spare").word(&policy(name)).word(statement).all(paths);
            }
            Self::Restate { policy: name, statement, actions, on } => {
                line.word("restate").word(&policy(name)).word(statement);
                line.option("--do", actions.iter()).option("--on", on.iter());
            }
            Self::Set { target, keys } if switch(target, keys).is_some() => {
                line.word(switch(target, keys).unwrap_or_default());
                line.word(&match target {
                    Target::Scope(_, path) => path.clone(),
                    other => other.to_string(),
                });
            }
            Self::Set { target, keys } => {
                line.word("set").word(&target.to_string());
                keys.iter().for_each(|(key, value)| {
                    line.word(&format!("{key}={}", of_key(key, value)));
                });
            }
            Self::Unset { target, keys } => {
                line.word("unset").word(&target.to_string()).all(keys);
            }
            Self::Add { who, list, of, window } => {
                line.word("add").all(who).list("--to", *list, of).window(*window);
            }
            Self::Remove { who, list, of } => {
                line.word("remove").all(who).list("--from", *list, of);
            }
            Self::Attach { policies, to, at, window } => {
                line.word("attach").policies(policies);
                line.option("--to", to.iter()).option("--at", at.iter()).window(*window);
            }
            Self::Detach { policies, from, at } => {
                line.word("detach").policies(policies);
                line.option("--from", from.iter()).option("--at", at.iter());
            }
            Self::Limit { policy: name, over, bound, window } => {
                line.word("limit").word(&policy(name));
                line.option("--over", over.iter()).option("--for", bound.iter()).window(*window);
            }
            Self::Unlimit { policy: name, over, bound } => {
                line.word("unlimit").word(&policy(name));
                line.option("--over", over.iter()).option("--for", bound.iter());
            }
            Self::AskIn { user, group, why } => {
                line.word("ask-in").word(&format!("user:{user}"));
                line.pair("--to", &format!("group:{group}"));
                line.option("--why", why.iter());
            }
            Self::Approve { user, group, window } => {
                line.word("approve").word(&format!("user:{user}"));
                line.pair("--to", &format!("group:{group}"));
                line.window(*window);
            }
            Self::Decline { user, group } => {
                line.word("decline").word(&format!("user:{user}"));
                line.pair("--to", &format!("group:{group}"));
            }
            Self::Rename { target, to } => {
                line.word("rename").word(&target.to_string()).word(to);
            }
            Self::Delete { target, hand_over, with_uses } => {
                line.word("delete").word(&target.to_string());
                let user = hand_over.as_ref().map(|user| format!("user:{user}"));
                line.option("--hand-over", user.iter());
                if *with_uses {
                    line.word("--with-uses");
                }
            }
        }
        line.words
    }
}

/// The edit on a line, each word quoted where a shell would read another.
impl Display for Edit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, word) in self.words().iter().enumerate() {
            if i > 0 {
                f.write_str(" ")?;
            }
            f.write_str(&quoted(word))?;
        }
        Ok(())
    }
}

/// A word as a shell reads it.
fn quoted(word: &str) -> String {
    // A tilde at the start of a word is a folder to a shell, an equals sign a program's path.
    let plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "/._-~+@:=,".contains(c));
    match plain && !word.is_empty() && !word.starts_with(['~', '=']) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', r"'\''")),
    }
}

/// The edit of its own that a key has which is on or off.
fn switch(target: &Target, keys: &[Keyed]) -> Option<&'static str> {
    let [(key, Value::Boolean(is_on))] = keys else { return None };
    match (target, key.as_str(), is_on) {
        (Target::User(_), "enabled", true) => Some("enable"),
        (Target::User(_), "enabled", false) => Some("disable"),
        (Target::Scope(..), "sealed", true) => Some("seal"),
        (Target::Scope(..), "sealed", false) => Some("unseal"),
        _ => None,
    }
}

fn policy(name: &str) -> String {
    format!("policy:{name}")
}

/// A value as it is typed after the `=` of a key.
fn of_key(key: &str, value: &Value) -> String {
    match value {
        value if key.starts_with("attributes.") => of_attribute(value),
        Value::List(all) => all.iter().map(plain).collect::<Vec<_>>().join(","),
        one => plain(one),
    }
}

/// A value by itself.
fn plain(value: &Value) -> String {
    match value {
        Value::Text(text) => text.to_string(),
        Value::Integer(number) => number.to_string(),
        Value::Boolean(truth) => truth.to_string(),
        Value::Time(time) => time.to_string(),
        Value::List(_) => of_attribute(value),
    }
}

/// A value as the options for attributes read it: as JSON, or as a text where it is none.
pub(crate) fn of_attribute(value: &Value) -> String {
    match value {
        Value::Text(text) => {
            let is_word = ["true", "false", "null"].contains(&&**text);
            let is_read_as_json = text.is_empty()
                || is_word
                || text.starts_with(['[', '{', '"'])
                || text.trim().parse::<f64>().is_ok();
            if is_read_as_json { in_quotes(text) } else { text.to_string() }
        }
        Value::List(all) => {
            let all = all.iter().map(|one| match one {
                Value::Text(text) => in_quotes(text),
                Value::Time(time) => in_quotes(&time.to_string()),
                other => plain(other),
            });
            format!("[{}]", all.collect::<Vec<_>>().join(","))
        }
        other => plain(other),
    }
}

/// A text as JSON writes it.
fn in_quotes(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() => quoted.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// The words of a line so far.
#[derive(Default)]
struct Line {
    words: Vec<String>,
}

impl Line {
    fn word(&mut self, word: &str) -> &mut Self {
        self.words.push(word.to_owned());
        self
    }

    fn all(&mut self, words: &[String]) -> &mut Self {
        self.words.extend(words.iter().cloned());
        self
    }

    fn policies(&mut self, names: &[String]) -> &mut Self {
        self.words.extend(names.iter().map(|name| policy(name)));
        self
    }

    fn pair(&mut self, option: &str, value: &str) {
        self.word(option).word(value);
    }

    /// An option with all of its values, if there are any.
    fn option<'v>(
        &mut self,
        option: &str,
        values: impl ExactSizeIterator<Item = &'v String>,
    ) -> &mut Self {
        if values.len() > 0 {
            self.word(option);
            self.words.extend(values.cloned());
        }
        self
    }

    fn list(&mut self, option: &str, list: ListOf, of: &str) -> &mut Self {
        let (word, flag) = match list {
            ListOf::Members => ("group", None),
            ListOf::Owners => ("group", Some("--owner")),
            ListOf::HeldBy => ("role", None),
            ListOf::TakenBy => ("role", Some("--taken")),
        };
        self.word(option).word(&format!("{word}:{of}"));
        if let Some(flag) = flag {
            self.word(flag);
        }
        self
    }

    fn window(&mut self, window: Window) -> &mut Self {
        for (option, at) in [("--since", window.from), ("--until", window.until)] {
            if let Some(at) = at {
                self.word(option).word(&at.to_string());
            }
        }
        self
    }

    /// What a new thing comes with.
    fn keys(&mut self, keys: &[Keyed]) {
        for (key, value) in keys {
            if let Some(attribute) = key.strip_prefix("attributes.") {
                self.pair("--attribute", &format!("{attribute}={}", of_attribute(value)));
                continue;
            }
            let option = match key.as_str() {
                "owners" => "--owner",
                "members" => "--member",
                other => &format!("--{other}"),
            };
            match value {
                Value::List(all) => all.iter().for_each(|one| self.pair(option, &plain(one))),
                one => self.pair(option, &plain(one)),
            }
        }
    }
}
