//! `impact --by`: whether somebody may make the change.

use anyhow::bail;
use bexum_core::edit_rights::{self, Side};
use bexum_core::engine::Engine;
use bexum_core::impact::SameFiles;

use super::circumstances;
use super::impact::Side as Named;
use crate::args::Impact;
use crate::render::ruling::By;

/// What somebody may and may not of a change, now, by the estate before it.
pub(super) fn ruled<'s>(
    who: &str,
    typed: &Impact,
    [before, after]: [&'s Named; 2],
    engines: &'s [Engine; 2],
    same: &SameFiles,
) -> anyhow::Result<By<'s>> {
    let supposed = &typed.circumstances;
    if !supposed.also.is_empty() || !supposed.under.is_empty() {
        bail!("`--by` asks for somebody as they are: `--also` and `--under` do not go with it");
    }
    let now = crate::args::Circumstances { at_time: None, ..supposed.clone() };
    let (mut request, _) = circumstances::request(&now)?;
    request.time = super::moment(None)?;
    request.who = who.to_owned().into();
    let sides = [
        Side { declared: &before.declared, engine: &engines[0] },
        Side { declared: &after.declared, engine: &engines[1] },
    ];
    let ruling = edit_rights::ruling(sides[0], sides[1], same, &request)
        .map_err(|fault| super::with_hint(&fault, &before.estate))?;
    Ok(By {
        ruling,
        request,
        engine: &engines[0],
        sources: [&before.sources, &after.sources],
        before: &before.name,
    })
}
