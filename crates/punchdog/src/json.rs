//! What the JSON documents share.

use punchdog_core::{
    finding::Finding,
    medium::Extent,
    partition::{Place, Scouting},
};
use serde_json::{Value, json};
use std::path::Path;

/// Prints one document on standard output.
pub(crate) fn print(document: &Value) -> anyhow::Result<()> {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    let text = serde_json::to_string_pretty(document)?;
    match writeln!(out, "{text}") {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        other => Ok(other?),
    }
}

/// The image: path and bytes.
pub(crate) fn image(path: &Path, bytes: u64) -> Value {
    json!({ "path": path.display().to_string(), "bytes": bytes })
}

/// Ranges, moved by `base` so that they count from the start of the image.
pub(crate) fn extents(list: &[Extent], base: u64) -> Vec<Value> {
    let moved = list.iter().map(|extent| extent.moved(base));
    moved.map(|extent| json!({ "offset": extent.offset, "length": extent.length })).collect()
}

/// A finding of the volume that begins at `base`.
pub(crate) fn finding(finding: &Finding, base: u64) -> Value {
    json!({
        "code": finding.entry.code,
        "weight": finding.weight.name(),
        "summary": finding.summary,
        "detail": finding.detail(),
        "extents": extents(&finding.extents, base),
        "paths": finding.paths,
        "count": finding.count,
    })
}

/// A volume of an image.
pub(crate) fn place(number: usize, place: &Place) -> Value {
    json!({
        "number": number,
        "kind": place.what.name(),
        "offset": place.extent.offset,
        "bytes": place.bytes,
        "found": place.way.name(),
        "boot_sector_gone": place.boot_gone,
        "entry": place.entry,
    })
}

/// What is not ours.
pub(crate) fn strangers(seen: &Scouting) -> Vec<Value> {
    let all = seen.strangers.iter().map(|stranger| {
        json!({
            "title": stranger.name.title,
            "advice": stranger.name.advice,
            "offset": stranger.extent.offset,
            "bytes": stranger.extent.length,
        })
    });
    all.collect()
}
