//! What an estate is expected to decide: checks, laws, separations.

use bexum_core::declaration::{Check, Law, Separation};
use bexum_core::expectation::Claim;
use bexum_core::{Reason, Verdict};

use super::reader::Reader;

const VERDICTS: &[&str] = &["allow", "deny"];
const REASONS: &[&str] =
    &["disabled", "role-refused", "denied", "not-granted", "over-ceiling", "granted"];

pub(super) fn check(reader: &mut Reader<'_, '_>) -> Option<Check> {
    reader.only(&[
        "name", "who", "does", "on", "as", "also", "under", "given", "absent", "item", "expect",
        "reason",
    ]);
    reader.expect_all(&["name", "who", "does", "on", "expect"]);
    let (about, take_up) = (reader.about(), reader.text("as"));
    let (also, under) = (reader.names("also"), reader.names("under"));
    let (given, absent) = (reader.flat("given"), reader.names("absent"));
    let has_item = reader.get("item").is_some();
    let item = reader.flat("item");
    let reason = reader.word("reason", REASONS, &Reason::ALL);
    let (who, does, on) = (reader.list("who"), reader.list("does"), reader.list("on"));
    let expect = reader.word("expect", VERDICTS, &[Verdict::Allow, Verdict::Deny]);
    Some(Check {
        name: reader.text("name")?,
        who: who?,
        does: does?,
        on: on?,
        take_up,
        also,
        under,
        given: given.values,
        absent,
        item: has_item.then_some(item.values),
        empty_tables: [given.empty_tables, item.empty_tables],
        expect: expect?.value,
        reason,
        about,
        origin: reader.origin,
    })
}

pub(super) fn law(reader: &mut Reader<'_, '_>, claim: Claim) -> Option<Law> {
    reader.only(&["name", "who", "except", "does", "on", "when"]);
    reader.expect_all(&["who", "does", "on"]);
    let (name, about) = (reader.text("name"), reader.about());
    let (except, when) = (reader.list("except"), reader.text("when"));
    let (who, does, on) = (reader.list("who"), reader.list("does"), reader.list("on"));
    Some(Law {
        claim,
        name,
        who: who?,
        except,
        does: does?,
        on: on?,
        when,
        about,
        origin: reader.origin,
    })
}

pub(super) fn separation(reader: &mut Reader<'_, '_>) -> Option<Separation> {
    reader.only(&["name", "any-two-of", "at"]);
    reader.expect_all(&["any-two-of"]);
    let (name, about, at) = (reader.text("name"), reader.about(), reader.list("at"));
    let any_two_of = reader.list("any-two-of")?;
    Some(Separation { name, any_two_of, at, about, origin: reader.origin })
}
