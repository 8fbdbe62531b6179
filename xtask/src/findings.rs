//! `docs/findings.md`: every class of fault, from the catalogue.

use punchdog_core::catalogue::all_entries;
use std::fmt::Write;

pub(crate) fn run(check: bool) -> anyhow::Result<()> {
    let path = crate::root().join("docs/findings.md");
    let text = page();
    if check {
        anyhow::ensure!(
            std::fs::read_to_string(&path).unwrap_or_default() == text,
            "docs/findings.md is stale: run `cargo xtask findings`"
        );
        return Ok(());
    }
    std::fs::create_dir_all(crate::root().join("docs"))?;
    std::fs::write(path, text)?;
    Ok(())
}

fn page() -> String {
    let mut text = String::from(
        "# Findings\n\nEvery class of fault that `punchdog check` reports. Made from the catalogue by `cargo xtask findings`; do not edit.\n\n\
        Weights: **blocks-mount** at least one host refuses the volume because of it; **risks-files** files are damaged, unreachable, or will be by the next write; \
        **untidy** against the specification, no file is in danger; **remark** worth knowing, no fault. \
        A finding can weigh more than its class when a host refuses the volume at it.\n",
    );
    let mut family = "";
    for entry in all_entries() {
        let now = entry.code.split('/').next().unwrap_or("");
        if now != family {
            family = now;
            let _ = write!(text, "\n## {family}\n");
        }
        let _ = write!(
            text,
            "\n### `{}`\n\n{}. Usual weight: {}. Source: {}.\n\n{}\n\n*Mending.* {}\n",
            entry.code,
            capital(entry.title),
            entry.weight.name(),
            entry.source,
            entry.meaning,
            entry.mending
        );
    }
    text
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}
