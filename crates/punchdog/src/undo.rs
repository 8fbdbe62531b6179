//! `punchdog undo`: putting the old bytes back into a copy.

use crate::{
    args::{Args, Undo},
    json,
    page::{self, Page},
    trouble::{Trouble, Verdict},
    workplace::{Files, journal_path},
};
use punchdog_core::apply;
use serde_json::json;

pub(crate) fn run(args: &Args, given: &Undo) -> anyhow::Result<Verdict> {
    let mut files = Files::new(&given.copy, None)?;
    let (ranges, bytes) = apply::undo(&mut files).map_err(|error| {
        Trouble::with(
            error.to_string(),
            "the image itself was never changed: a new copy can be made from it with punchdog apply",
        )
    })?;
    if args.json {
        json::print(&json!({
            "schema": "punchdog.undo/1",
            "copy": given.copy.display().to_string(),
            "restored_ranges": ranges,
            "restored_bytes": bytes,
        }))?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    page.head(&page::clean(&given.copy.display().to_string()), "as the image was", page::GOOD);
    page.gap();
    page.say(&format!(
        "{} put back in {}. The journal {} stays, so that the same plan can be applied again.",
        page::size(bytes),
        page::count(ranges as u64, "place", "places"),
        page::word(&journal_path(&given.copy)),
    ));
    page.print()?;
    Ok(Verdict::Fine)
}
