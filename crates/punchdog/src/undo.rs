//! `punchdog undo`: putting the old bytes back into a copy.

use crate::{
    args::{Args, Undo},
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    workplace::{Files, journal_path},
};
use punchdog_core::{
    impaired,
    medium::Extent,
    repair::apply::{self, ApplyError, Standing},
};
use schemars::JsonSchema;
use serde::Serialize;

/// The document of `undo`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.undo/2"))]
    schema: &'static str,
    copy: String,
    restored_bytes: u64,
    restored_places: u64,
    /// Nothing had to be put back.
    stood_so_before: bool,
    /// Places whose old bytes nobody knows: zeros stand there.
    could_not_be_read: Vec<Extent>,
}

pub(crate) fn run(args: &Args, given: &Undo) -> anyhow::Result<Verdict> {
    let mut files = Files::new(&given.copy, None, None)?;
    let undone = apply::undo(&mut files).map_err(|error| {
        let next = match error {
            ApplyError::NoCopy => "check the name: undo wants the copy that punchdog apply made",
            _ => "the image itself was never changed: a new copy can be made from it with punchdog apply",
        };
        Failure::with(format!("{}: {error}", given.copy.display()), next)
    })?;
    let (bytes, places) = (undone.restored.bytes, undone.restored.places);
    let before = undone.standing == Standing::Unchanged;
    if args.json {
        json::print(&Document {
            schema: "punchdog.undo/2",
            copy: given.copy.display().to_string(),
            restored_bytes: bytes,
            restored_places: places,
            stood_so_before: before,
            could_not_be_read: undone.unread,
        })?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    page.head(&page::clean(&given.copy.display().to_string()), "the old bytes are back", page::GOOD);
    page.gap();
    let what = format!("{} in {}", page::size(bytes), page::count(places, "place", "places"));
    page.say(&if before {
        format!("The old bytes, {what}, stood there already: nothing had to be put back.")
    } else {
        format!("{what} put back, as the image had them.")
    });
    if !undone.unread.is_empty() {
        let sectors = impaired::sectors(&undone.unread);
        page.say(&format!(
            "{} of the image could not be read when the copy was made: nobody knows their old bytes, and zeros stand there.",
            page::count(sectors, "sector", "sectors")
        ));
    }
    page.say(&format!(
        "Only these places were looked at. What somebody else changed elsewhere in the copy is as they left it. The journal {} stays, so that the same plan can be applied again.",
        page::quoted(&journal_path(&given.copy)),
    ));
    page.print()?;
    Ok(Verdict::Fine)
}
