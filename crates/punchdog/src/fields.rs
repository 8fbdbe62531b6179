//! `punchdog fields`: boot structures field by field.

use crate::{
    args::{Args, Fields},
    choose,
    failure::{Failure, Verdict},
    json,
    page::{self, Page},
    watch::Screen,
};
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use punchdog_core::{
    family::Kind,
    medium::{Medium, Window},
    report::fields::{FieldGroup, FieldRow},
};
use schemars::JsonSchema;
use serde::Serialize;

/// The document of `fields`.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Document {
    #[schemars(extend("const" = "punchdog.fields/1"))]
    schema: &'static str,
    image: json::Image,
    volume: Volume,
    structures: Vec<FieldGroup>,
}

/// A volume.
#[derive(Serialize, JsonSchema)]
struct Volume {
    kind: Kind,
    /// Where it begins.
    offset: u64,
}

pub(crate) fn run(args: &Args, given: &Fields) -> anyhow::Result<Verdict> {
    let image = choose::open_for(&given.target.image, &given.target.which)?;
    let screen = Screen::new();
    let chosen = choose::one(&image, &given.target, &screen)?;
    let window = Window::new(&image, chosen.target.extent);
    let mut groups = chosen.target.survey(&window, &screen)?.fields(&window);
    drop(screen);
    if let Some(which) = &given.which {
        let known: Vec<&str> = groups.iter().map(|group| group.which).collect();
        let known = known.join(", ");
        groups.retain(|group| group.which == which);
        if groups.is_empty() {
            return Err(Failure::with(
                format!("there is no structure called {which} here"),
                format!("name one of: {known}"),
            ));
        }
    }
    let wrong = groups.iter().flat_map(|group| &group.rows).filter(|row| row.wrong).count();
    if args.json {
        json::print(&Document {
            schema: "punchdog.fields/1",
            image: json::Image::of(&given.target.image, image.len()),
            volume: Volume { kind: chosen.target.volume.kind(), offset: chosen.target.extent.offset },
            structures: groups,
        })?;
        return Ok(Verdict::Fine);
    }
    let mut page = Page::new();
    let (verdict, style) = match wrong {
        0 => ("every field as it should be".to_owned(), page::GOOD),
        n => (page::count(n as u64, "field is wrong", "fields are wrong"), page::BAD),
    };
    page.head(&choose::title(&given.target.image, &chosen.target, None), &verdict, style);
    for group in &groups {
        page.gap();
        structure(&mut page, group, chosen.target.extent.offset);
    }
    page.next(&[(
        format!("punchdog explain {}{}", page::quoted(&given.target.image), chosen.again),
        "what follows from the wrong ones",
    )]);
    page.print()?;
    Ok(Verdict::Fine)
}

fn structure(page: &mut Page, group: &FieldGroup, base: u64) {
    let second = match group.backup_offset {
        Some(at) => format!("second copy at byte {}", at + base),
        None => "no second copy".to_owned(),
    };
    page.say(&format!("{}, at byte {}; {second}", group.title, group.offset + base));
    let with_backup = group.backup_offset.is_some();
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(page.width()).unwrap_or(100));
    let mut head = vec!["", "at", "field", "as it stands"];
    if with_backup {
        head.push("second copy");
    }
    head.extend(["computed", "believed, and why"]);
    table.set_header(head);
    for row in &group.rows {
        table.add_row(cells(row, with_backup));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 1));
    }
    if let Some(column) = table.column_mut(1) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    for (line, text) in table.to_string().lines().enumerate() {
        let wrong = text.trim_start().starts_with('>');
        let style = if wrong {
            page::BAD
        } else if line == 0 {
            page::FAINT
        } else {
            anstyle::Style::new()
        };
        page.line(&format!("{style}{}{style:#}", text.trim_end()));
    }
}

/// A value in a cell: a field of one repeated byte is not written out.
fn short(value: &str) -> String {
    if value.len() > 2 && value.trim_matches('"').replace("\\0", "").is_empty() && value.contains("\\0") {
        return "all 00".to_owned();
    }
    let mut words = value.split(' ');
    let first = words.next().unwrap_or("");
    if value.len() > 12 && first.len() == 2 && words.clone().all(|word| word == first) {
        return format!("all {first}");
    }
    page::clean(value)
}

fn cells(row: &FieldRow, with_backup: bool) -> Vec<String> {
    let or_dash = |value: &Option<String>| value.as_deref().map_or("-".to_owned(), short);
    let mark = if row.wrong { ">" } else { " " };
    let mut cells = vec![mark.to_owned(), row.at.to_string(), row.field.to_owned(), or_dash(&row.primary)];
    if with_backup {
        cells.push(or_dash(&row.backup));
    }
    cells.push(or_dash(&row.computed));
    let believed = if row.wrong { format!("{}: {}", short(&row.believed), row.why) } else { row.why.clone() };
    cells.push(believed);
    cells
}
