//! Circumstances as typed: `--as`, `--also`, `--under`, `--given`, `--at-time`.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read as _;
use std::path::Path;

use anyhow::{Context as _, bail};
use bexum_core::Request;
use bexum_core::attribute::Value;
use bexum_core::name::Grammar;
use clap::Parser;

use super::token;
use crate::args::Circumstances;
use bexum_wire::json::Json;
use bexum_wire::request as wire;

/// Most bytes of a file of circumstances.
const MOST_BYTES: u64 = 16 << 20;

/// A request in these circumstances that does not yet say who, what and where, and whether its
/// time was named.
pub(super) fn request(typed: &Circumstances) -> anyhow::Result<(Request<'static>, bool)> {
    let mut typed_time = typed.at_time.is_some();
    let now = super::moment(typed.at_time.as_deref())?;
    let mut request = Request::new("", "", "", now);
    request.take_up = typed.take_up.clone().map(Cow::Owned);
    request.also = typed.also.iter().cloned().map(Cow::Owned).collect();
    request.under = typed.under.iter().cloned().map(Cow::Owned).collect();
    let mut given: Vec<(String, Option<Value>)> = Vec::new();
    if let Some(file) = &typed.given_from {
        let text = read_all(file)?;
        let name = file.display();
        let json = Json::parse(&text).with_context(|| format!("`{name}` is no JSON"))?;
        if let Some(key) = json.repeated_key() {
            bail!("`{key}` stands twice in `{name}`");
        }
        let (flat, time) =
            wire::read_given(json).map_err(|error| anyhow::anyhow!("{error} (in `{name}`)"))?;
        let values = flat.values.into_iter();
        given.extend(values.map(|(key, value)| (key.into_owned(), value)));
        let tables = flat.empty_tables.into_iter();
        request.empty_tables = tables.map(|name| Cow::Owned(name.into_owned())).collect();
        if let (Some(time), None) = (time, &typed.at_time) {
            request.time = time;
            typed_time = true;
        }
    }
    if let Some(file) = &typed.claims {
        let (text, mut decoded) = (read_all(file)?, String::new());
        let flat = token::circumstances(&text, &mut decoded, file, request.time)?;
        for (key, value) in flat.values {
            if given.iter().any(|(known, _)| *known == key) {
                bail!("`{key}` is a claim, and stands in `--given-from` too");
            }
            given.push((key.into_owned(), value));
        }
        let tables = flat.empty_tables.into_iter();
        request.empty_tables.extend(tables.map(|name| Cow::Owned(name.into_owned())));
    }
    let mut names: BTreeSet<String> = given.iter().map(|(name, _)| name.clone()).collect();
    for pair in &typed.given {
        let (key, value) = read_pair("--given", pair)?;
        if key == "time" {
            bail!("the time of the request is given with `--at-time`");
        }
        if !names.insert(key.clone()) {
            let also = if typed.claims.is_some() { ", or is a claim too" } else { "" };
            bail!("`--given {key}` is given twice{also}");
        }
        given.push((key, value));
    }
    check_tables(&names)?;
    request.given = given.into_iter().map(|(key, value)| (key.into(), value)).collect();
    Ok((request, typed_time))
}

/// The options in a `--beside`.
pub(super) fn beside<O: Parser>(options: &str) -> anyhow::Result<O> {
    let words = shlex::split(options)
        .with_context(|| format!("`--beside '{options}'`: a quote is not closed"))?;
    O::try_parse_from(words).map_err(|error| {
        let text = error.to_string();
        let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
        anyhow::anyhow!("`--beside '{options}'`: {first}")
    })
}

/// A name cannot be both a value and the head of others: JSON could not say it either.
fn check_tables(names: &BTreeSet<String>) -> anyhow::Result<()> {
    for name in names {
        let mut heads = name.match_indices('.').map(|(dot, _)| &name[..dot]);
        if let Some(head) = heads.find(|head| names.contains(*head)) {
            bail!("`--given {head}` is given a value, and so is `{name}` below it");
        }
    }
    Ok(())
}

/// `KEY=VALUE`: `true`, `false`, integers, JSON lists and JSON strings are what they look like,
/// anything else is a string; nothing after the sign says that the attribute is absent.
pub(super) fn read_pair(option: &str, pair: &str) -> anyhow::Result<(String, Option<Value>)> {
    let Some((key, written)) = pair.split_once('=') else {
        bail!("`{option} {pair}` has no `=`: write KEY=VALUE");
    };
    if let Some(part) = key.split('.').find(|part| !Grammar::Attribute.accepts(part)) {
        bail!("`{part}` in `{option} {pair}` is no attribute name: {}", Grammar::Attribute.rule());
    }
    if written.is_empty() {
        return Ok((key.to_owned(), None));
    }
    let looks_like_json = written.starts_with(['[', '"', '{']);
    let value = match Json::parse(written) {
        Ok(Json::Null) => return Ok((key.to_owned(), None)),
        Ok(Json::OtherNumber(_)) => {
            bail!("`{option} {pair}`: a number is an integer within 64 bits")
        }
        Ok(json) => wire::attribute(json).map_err(|found| {
            anyhow::anyhow!("`{option} {pair}`: an attribute cannot be {found}")
        })?,
        Err(error) if looks_like_json => {
            bail!("`{option} {pair}` starts like JSON but is none: {error}")
        }
        Err(_) => Value::Text(written.into()),
    };
    Ok((key.to_owned(), Some(value)))
}

/// A whole text, if it is of a size that circumstances can have.
fn read_all(file: &Path) -> anyhow::Result<String> {
    let is_standard = file == Path::new("-");
    let name = if is_standard { "standard input".into() } else { format!("`{}`", file.display()) };
    let mut text = String::new();
    let read = if is_standard {
        std::io::stdin().lock().take(MOST_BYTES + 1).read_to_string(&mut text)
    } else {
        File::open(file).and_then(|file| file.take(MOST_BYTES + 1).read_to_string(&mut text))
    };
    let length = read.with_context(|| format!("cannot read {name}"))?;
    if length as u64 > MOST_BYTES {
        bail!("{name} is larger than {} MiB: no circumstances are", MOST_BYTES >> 20);
    }
    Ok(text)
}
