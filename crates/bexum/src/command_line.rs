//! A request as somebody would type it: the way back from what `args` reads.

use std::path::Path;

use bexum_core::attribute::Value;
use bexum_core::{Request, Time};

use crate::render::style;
use bexum_wire::common::value_json;
use bexum_wire::json::Json;

/// Which estate a command asks.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Of<'a> {
    /// Its folder, where it was named; else the one around.
    pub(crate) folder: Option<&'a Path>,
    /// The edits that are supposed.
    pub(crate) suppose: &'a [String],
}

/// `bexum ask …` for this request, at `time` if it is not the present.
pub(crate) fn ask(of: Of<'_>, request: &Request<'_>, time: Option<Time>) -> String {
    question("ask", of, request, time)
}

/// `bexum ways …` for this request.
pub(crate) fn ways(of: Of<'_>, request: &Request<'_>, time: Option<Time>, to_deny: bool) -> String {
    let end = if to_deny { " --to deny" } else { "" };
    question("ways", of, request, time) + end
}

fn question(command: &str, of: Of<'_>, request: &Request<'_>, time: Option<Time>) -> String {
    let mut words = vec!["bexum".to_owned()];
    if let Some(folder) = of.folder {
        words.extend(["-C".to_owned(), folder.display().to_string()]);
    }
    words.extend([
        command.to_owned(),
        request.who.to_string(),
        request.does.to_string(),
        request.on.to_string(),
    ]);
    let mut option = |name: &str, value: String| words.extend([name.to_owned(), value]);
    if let Some(role) = &request.take_up {
        option("--as", role.to_string());
    }
    for group in &request.also {
        option("--also", group.to_string());
    }
    for policy in &request.under {
        option("--under", policy.to_string());
    }
    for (name, value) in &request.given {
        option("--given", format!("{name}={}", value.as_ref().map_or(String::new(), written)));
    }
    for (name, value) in request.item.iter().flatten() {
        option("--item", format!("{name}={}", written(value)));
    }
    if let Some(time) = time {
        option("--at-time", time.to_string());
    }
    for edit in of.suppose {
        option("--suppose", edit.clone());
    }
    let quoted: Vec<String> = words.iter().map(|word| quoted(word)).collect();
    quoted.join(" ")
}

/// A value as `--given` reads it.
fn written(value: &Value) -> String {
    match value {
        // What looks like JSON would be read as that.
        Value::Text(text)
            if !text.is_empty()
                && !text.starts_with(['[', '"', '{'])
                && Json::parse(text).is_err() =>
        {
            text.to_string()
        }
        other => value_json(other).to_string(),
    }
}

/// A word as a shell reads it. What could not be typed, or would steer the terminal that shows it,
/// stands as an octal escape in `$'…'`, which bash, zsh and other shells of POSIX 2024 read.
pub(crate) fn quoted(text: &str) -> String {
    if text.chars().any(style::steers) {
        let mut quoted = String::from("$'");
        for c in text.chars() {
            match c {
                '\n' => quoted.push_str("\\n"),
                '\t' => quoted.push_str("\\t"),
                '\'' | '\\' => quoted.extend(['\\', c]),
                c if style::steers(c) => {
                    for byte in c.encode_utf8(&mut [0; 4]).bytes() {
                        quoted.push_str(&format!("\\{byte:03o}"));
                    }
                }
                c => quoted.push(c),
            }
        }
        quoted.push('\'');
        return quoted;
    }
    // A tilde at the start of a word is a folder to a shell, an equals sign a program's path.
    let plain = text.chars().all(|c| c.is_ascii_alphanumeric() || "/._-~+@:=,".contains(c));
    if plain && !text.is_empty() && !text.starts_with(['~', '=']) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', r"'\''"))
    }
}
