//! `docs/rooms.svg`: which room of the core imports which, from the sources; a circle is an error.

use anyhow::{Context, ensure};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write,
    fs,
    path::Path,
};
use syn::visit::{self, Visit};

/// A room with the rooms that it imports.
type Edges = BTreeMap<String, BTreeSet<String>>;

pub(crate) fn run(check: bool) -> anyhow::Result<()> {
    let source = crate::root().join("crates/punchdog-core/src");
    let edges = edges(&source)?;
    let levels = levels(&edges)?;
    let (path, picture) = (crate::root().join("docs/rooms.svg"), draw(&edges, &levels));
    if check {
        let stands = fs::read_to_string(&path).unwrap_or_default();
        ensure!(stands == picture, "docs/rooms.svg is stale: run `cargo xtask rooms`");
        return Ok(());
    }
    fs::write(path, picture)?;
    Ok(())
}

fn edges(source: &Path) -> anyhow::Result<Edges> {
    let mut edges = Edges::new();
    for entry in fs::read_dir(source)? {
        let path = entry?.path();
        let room = path.file_stem().context("a name")?.to_string_lossy().into_owned();
        if room != "lib" {
            gather(&path, edges.entry(room).or_default())?;
        }
    }
    let rooms: BTreeSet<String> = edges.keys().cloned().collect();
    for (room, imports) in &mut edges {
        imports.retain(|import| import != room && rooms.contains(import));
    }
    Ok(edges)
}

/// Adds what the file at `path` names of the crate, or every file in that folder.
fn gather(path: &Path, found: &mut BTreeSet<String>) -> anyhow::Result<()> {
    if path.is_dir() {
        return fs::read_dir(path)?.try_for_each(|entry| gather(&entry?.path(), found));
    }
    let file = syn::parse_file(&fs::read_to_string(path)?).with_context(|| path.display().to_string())?;
    Names(found).visit_file(&file);
    Ok(())
}

/// Collects the first name behind `crate::`, outside tests.
struct Names<'f>(&'f mut BTreeSet<String>);

impl<'ast> Visit<'ast> for Names<'_> {
    fn visit_item_mod(&mut self, item: &'ast syn::ItemMod) {
        if item.ident != "tests" {
            visit::visit_item_mod(self, item);
        }
    }
    fn visit_item_use(&mut self, item: &'ast syn::ItemUse) {
        if let syn::UseTree::Path(path) = &item.tree
            && path.ident == "crate"
        {
            self.firsts(&path.tree);
        }
    }
    fn visit_path(&mut self, path: &'ast syn::Path) {
        let mut segments = path.segments.iter();
        if segments.next().is_some_and(|first| first.ident == "crate") {
            self.0.extend(segments.next().map(|room| room.ident.to_string()));
        }
        visit::visit_path(self, path);
    }
}

impl Names<'_> {
    fn firsts(&mut self, tree: &syn::UseTree) {
        match tree {
            syn::UseTree::Path(path) => self.0.extend([path.ident.to_string()]),
            syn::UseTree::Name(name) => self.0.extend([name.ident.to_string()]),
            syn::UseTree::Rename(name) => self.0.extend([name.ident.to_string()]),
            syn::UseTree::Group(group) => group.items.iter().for_each(|tree| self.firsts(tree)),
            syn::UseTree::Glob(_) => {}
        }
    }
}

/// The rooms from the bottom up: each stands above all that it imports.
fn levels(edges: &Edges) -> anyhow::Result<Vec<Vec<String>>> {
    let mut left: BTreeSet<&String> = edges.keys().collect();
    let mut levels = Vec::new();
    while !left.is_empty() {
        let free: Vec<String> = left
            .iter()
            .filter(|room| edges[**room].iter().all(|import| !left.contains(import)))
            .map(|room| (*room).clone())
            .collect();
        ensure!(!free.is_empty(), "rooms import each other in a circle: {left:?}");
        left.retain(|room| !free.contains(room));
        levels.push(free);
    }
    Ok(levels)
}

const WIDTH: usize = 960;
const STEP: usize = 92;
const BOX: (usize, usize) = (120, 36);

fn draw(edges: &Edges, levels: &[Vec<String>]) -> String {
    let mut places: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for (number, rooms) in levels.iter().rev().enumerate() {
        for (place, room) in rooms.iter().enumerate() {
            // Levels of one room stand a little to the side, lest an edge run through them.
            let nudge = if rooms.len() == 1 { [0, 90][number % 2] } else { 0 };
            let x = WIDTH * (2 * place + 1) / (2 * rooms.len()) + nudge;
            places.insert(room, (x, 30 + number * STEP));
        }
    }
    let height = levels.len() * STEP;
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {height}\" font-family=\"sans-serif\" font-size=\"15\">\n\
         <rect width=\"{WIDTH}\" height=\"{height}\" fill=\"#fff\"/>\n\
         <defs><marker id=\"tip\" viewBox=\"0 0 8 8\" refX=\"7\" refY=\"4\" markerWidth=\"7\" markerHeight=\"7\" orient=\"auto\"><path d=\"M0 0L8 4L0 8z\" fill=\"#678\"/></marker></defs>\n"
    );
    for (room, imports) in edges {
        for import in imports.iter().filter(|import| !implied(edges, room, import)) {
            let ((x, y), (to_x, to_y)) = (places[room.as_str()], places[import.as_str()]);
            let (from, to) = (y + BOX.1 / 2, to_y - BOX.1 / 2);
            let bend = (to - from) / 2;
            let _ = writeln!(
                svg,
                "<path d=\"M{x} {from}C{x} {} {to_x} {} {to_x} {to}\" fill=\"none\" stroke=\"#678\" marker-end=\"url(#tip)\"/>",
                from + bend,
                to - bend
            );
        }
    }
    for (room, (x, y)) in &places {
        let _ = writeln!(
            svg,
            "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" rx=\"4\" fill=\"#eef3f6\" stroke=\"#345\"/><text x=\"{x}\" y=\"{}\" text-anchor=\"middle\" fill=\"#123\">{room}</text>",
            x - BOX.0 / 2,
            y - BOX.1 / 2,
            BOX.0,
            BOX.1,
            y + 5
        );
    }
    svg.push_str("</svg>\n");
    svg
}

/// True where another import of `room` leads to `import` as well, so that an arrow would say nothing new.
fn implied(edges: &Edges, room: &str, import: &str) -> bool {
    let mut left: Vec<&String> = edges[room].iter().filter(|other| *other != import).collect();
    let mut met = BTreeSet::new();
    while let Some(other) = left.pop() {
        if other == import {
            return true;
        }
        if met.insert(other) {
            left.extend(&edges[other]);
        }
    }
    false
}
