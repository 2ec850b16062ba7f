//! `--claims`: what a token says, as circumstances of a request.

use std::path::Path;

use anyhow::{Context as _, bail};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use bexum_core::Time;
use bexum_core::name::Grammar;
use bexum_wire::json::Json;
use bexum_wire::request::{self as wire, Flat};

use crate::render::style::safe;
use crate::terminal;

/// The claims of a token, from JSON or from the middle part of a signed one; nothing is checked of
/// who made it, and standard error says so. `now` is the moment of the request.
///
/// A claim whose name no condition can say is left out, which standard error says too.
pub(super) fn circumstances<'a>(
    text: &'a str,
    decoded: &'a mut String,
    file: &Path,
    now: Time,
) -> anyhow::Result<Flat<'a>> {
    let name = file.display();
    let trimmed = text.trim();
    let json = match trimmed.starts_with(['{', '[']) {
        true => trimmed,
        false => {
            *decoded = middle_part(trimmed).with_context(|| {
                format!("`{name}` is neither JSON nor a signed token, nor its middle part")
            })?;
            decoded
        }
    };
    let json = Json::parse(json).with_context(|| format!("the claims in `{name}` are no JSON"))?;
    if let Some(key) = json.repeated_key() {
        bail!("the claim `{key}` stands twice in `{name}`");
    }
    let Json::Table(mut claims) = json else {
        bail!("the claims in `{name}` are {}, not an object", json.type_in_words());
    };
    let mut left_out = Vec::new();
    claims.retain(|(claim, _)| {
        let is_name = Grammar::Attribute.accepts(claim);
        if !is_name {
            left_out.push(format!("`{}`", safe(claim)));
        }
        is_name
    });
    if claims.iter().any(|(claim, _)| claim == "time") {
        bail!("a claim is called `time` in `{name}`: the moment is given with `--at-time`");
    }
    let expires = claims.iter().find_map(|(claim, value)| match value {
        Json::Integer(second) if claim == "exp" => Some(*second),
        _ => None,
    });
    let (flat, _) = wire::read_given(Json::Table(claims))
        .map_err(|error| anyhow::anyhow!("{error} (a claim in `{name}`)"))?;
    terminal::print_error("the claims are taken as they stand: no signature was checked\n");
    if !left_out.is_empty() {
        let left_out = left_out.join(", ");
        terminal::print_error(&format!("left out, since no condition can name them: {left_out}\n"));
    }
    let expired = expires.and_then(|second| second.checked_mul(1_000_000)).map(Time);
    if let Some(at) = expired.filter(|at| *at <= now) {
        terminal::print_error(&format!("the token counts no more: it ended at {at}\n"));
    }
    Ok(flat)
}

/// The middle one of three parts with dots between them, which may stand by itself, out of its letters.
fn middle_part(token: &str) -> anyhow::Result<String> {
    let parts: Vec<&str> = token.split('.').collect();
    let ([_, middle, _] | [middle]) = parts[..] else {
        bail!("a signed token has three parts with a dot between them, this has {}", parts.len());
    };
    let bytes = URL_SAFE_NO_PAD
        .decode(middle.trim_end_matches('='))
        .context("the middle part of the token is not in base64url")?;
    String::from_utf8(bytes).context("the middle part of the token is no text")
}
