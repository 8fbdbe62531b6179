//! Text for people: styles, wrapping, and making text from an image safe to print.

use anstyle::{AnsiColor, Style};
use punchdog_core::report::finding::Weight;
use std::fmt::Write as _;

/// What stops something.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// What is in doubt.
pub(crate) const WARN: Style = AnsiColor::Yellow.on_default();
/// What is fine.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
/// What leads.
pub(crate) const STRONG: Style = Style::new().bold();
/// What is of second rank.
pub(crate) const FAINT: Style = Style::new().dimmed();

/// Columns there are: those that COLUMNS or the terminal says, between 40 and 120; 100 where neither
/// does.
pub(crate) fn width() -> usize {
    let said = std::env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
    let asked = || terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    said.or_else(asked).unwrap_or(100).clamp(40, 120)
}

/// True for what a terminal obeys, or does not show, or shows in another order: control characters (C1
/// ones too), separators of lines, marks of direction, characters without width, tags.
pub(crate) fn is_unseen(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{AD}' | '\u{61C}' | '\u{180E}' | '\u{200B}' | '\u{200E}' | '\u{200F}' | '\u{2028}'..='\u{202E}'
            | '\u{2060}'..='\u{206F}' | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}' | '\u{E0000}'..='\u{E007F}')
}

/// Text without characters that speak to a terminal instead of to a person.
pub(crate) fn clean(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unseen(c) {
            safe.extend(c.escape_unicode());
        } else {
            safe.push(c);
        }
    }
    safe
}

/// `text` wrapped to `width` columns, lines after the first indented by `indent`.
pub(crate) fn wrap(text: &str, width: usize, indent: usize) -> String {
    let room = width.saturating_sub(indent).max(20);
    // Paths and names are not torn at their hyphens.
    let whole_words = textwrap::Options::new(room)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .word_separator(textwrap::WordSeparator::AsciiSpace);
    textwrap::wrap(text, whole_words).join(&format!("\n{}", " ".repeat(indent)))
}

/// Columns that a text takes.
pub(crate) fn columns(text: &str) -> usize {
    textwrap::core::display_width(text)
}

/// A number of bytes for people, in binary units.
pub(crate) fn size(bytes: u64) -> String {
    let text = humansize::format_size(bytes, humansize::BINARY);
    text.replace(".00", "").replace(" B", if bytes == 1 { " byte" } else { " bytes" })
}

/// `1 file`, `2 files`.
pub(crate) fn count(number: u64, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// The style that goes with a weight.
pub(crate) fn style(weight: Weight) -> Style {
    match weight {
        Weight::BlocksMount => BAD,
        Weight::RisksFiles => WARN,
        Weight::Untidy => STRONG,
        Weight::Remark => FAINT,
    }
}

/// Bytes of a page that are held before they are printed.
const HELD: usize = 1 << 20;
/// Bytes of a path from which on it is not broken into lines.
const UNBROKEN: usize = 4096;
/// Columns that text beside something needs.
const ROOM: usize = 26;

/// A page in the making, printed at the end.
pub(crate) struct Page {
    text: String,
    width: usize,
}

impl Page {
    /// An empty page.
    pub(crate) fn new() -> Self {
        Self { text: String::new(), width: width() }
    }
    /// Columns of the page.
    pub(crate) fn width(&self) -> usize {
        self.width
    }
    /// The first line: what it is on the left, the verdict on the right.
    pub(crate) fn head(&mut self, what: &str, verdict: &str, style: Style) {
        let gap = self.width.saturating_sub(columns(what) + columns(verdict)).max(2);
        if columns(what) + columns(verdict) + 2 > self.width {
            let (what, verdict) = (wrap(what, self.width, 0), wrap(verdict, self.width, 0));
            let _ = writeln!(self.text, "{STRONG}{what}{STRONG:#}\n{style}{verdict}{style:#}");
        } else {
            let _ =
                writeln!(self.text, "{STRONG}{what}{STRONG:#}{}{style}{verdict}{style:#}", " ".repeat(gap));
        }
    }
    /// An empty line.
    pub(crate) fn gap(&mut self) {
        self.text.push('\n');
    }
    /// A paragraph.
    pub(crate) fn say(&mut self, text: &str) {
        let _ = writeln!(self.text, "{}", wrap(&clean(text), self.width, 0));
    }
    /// A line as it is; the caller has cleaned it.
    pub(crate) fn line(&mut self, text: &str) {
        let _ = writeln!(self.text, "{text}");
    }
    /// `left`, padded to `at` columns and styled, then `text` wrapped beside it.
    pub(crate) fn beside(&mut self, at: usize, left: &str, style: Style, text: &str) {
        if self.narrow(at.max(columns(left) + 3)) {
            let _ = writeln!(self.text, "  {style}{}{style:#}", wrap(left.trim_end(), self.width, 2));
            if !text.is_empty() {
                self.under(at, text);
            }
            return;
        }
        let gap = " ".repeat(at.saturating_sub(columns(left) + 2).max(1));
        let _ = writeln!(self.text, "  {style}{left}{style:#}{gap}{}", wrap(&clean(text), self.width, at));
    }
    /// Text wrapped at column `at`.
    pub(crate) fn under(&mut self, at: usize, text: &str) {
        let at = self.indent(at);
        let _ = writeln!(self.text, "{}{}", " ".repeat(at), wrap(&clean(text), self.width, at));
    }
    /// True when text at this column would have no room.
    fn narrow(&self, at: usize) -> bool {
        at + ROOM > self.width
    }
    /// Where text that belongs at this column goes.
    fn indent(&self, at: usize) -> usize {
        if self.narrow(at) { 6 } else { at }
    }
    /// The same, in the second rank.
    pub(crate) fn under_faint(&mut self, at: usize, text: &str) {
        let at = self.indent(at);
        let wrapped = wrap(&clean(text), self.width, at);
        let _ = writeln!(self.text, "{}{FAINT}{wrapped}{FAINT:#}", " ".repeat(at));
    }
    /// A line of a list of files: what is said of it, then its path.
    pub(crate) fn file(&mut self, state: &str, style: Style, about: &str, path: &str) {
        let at = 11 + columns(about) + 2;
        let left = format!("  {style}{state:<8}{style:#} {about}");
        if path.len() > UNBROKEN {
            let _ = writeln!(self.text, "{left}  {}", clean(path));
        } else if self.narrow(at) {
            let _ = writeln!(self.text, "{}", left.trim_end());
            self.under(at, path);
        } else {
            let _ = writeln!(self.text, "{left}  {}", wrap(&clean(path), self.width, at));
        }
        // A long list is not held: what has come together is printed. Whoever read enough of it makes
        // the rest of it fail, which `print` says.
        if self.text.len() > HELD && self.put().is_ok() {
            self.text.clear();
        }
    }
    /// The next commands, with why.
    pub(crate) fn next(&mut self, steps: &[(String, &str)]) {
        let longest = steps.iter().map(|(command, _)| columns(command)).max().unwrap_or(0);
        self.gap();
        for (number, (command, why)) in steps.iter().enumerate() {
            let lead = if number == 0 { "Next   " } else { "       " };
            let _ = write!(self.text, "{STRONG}{lead}{STRONG:#}{}", clean(command));
            if longest + columns(why) + 11 <= self.width {
                let _ = writeln!(
                    self.text,
                    "{}    {FAINT}{why}{FAINT:#}",
                    " ".repeat(longest - columns(command))
                );
            } else {
                let why = wrap(why, self.width, 9);
                let _ = writeln!(self.text, "\n         {FAINT}{why}{FAINT:#}");
            }
        }
    }
    /// Prints the page on standard output.
    pub(crate) fn print(&self) -> anyhow::Result<()> {
        match self.put() {
            // Whoever read us has seen enough.
            Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
            other => Ok(other?),
        }
    }
    fn put(&self) -> std::io::Result<()> {
        use std::io::Write as _;
        let mut out = anstream::stdout().lock();
        out.write_all(self.text.as_bytes()).and_then(|()| out.flush())
    }
}

/// A file of ours beside an image, such as its plan: named after it and, where the image holds more than
/// one thing to work on, after what is meant (` --at N`, ` --volume N`, ` --only table`).
pub(crate) fn beside(image: &std::path::Path, again: &str, ending: &str) -> std::path::PathBuf {
    // How it is read does not tell it from another.
    let again = [" --unreadable", " --filler"]
        .iter()
        .fold(again, |again, option| again.split_once(option).map_or(again, |(before, _)| before));
    let meant: Vec<&str> =
        again.split_whitespace().filter(|word| !matches!(*word, "--inside" | "--only")).collect();
    let which = meant.join("-").trim_start_matches("--").to_owned();
    image.with_extension(if which.is_empty() { ending.to_owned() } else { format!("{which}.{ending}") })
}

/// A word for the shell: quoted where it has to be.
pub(crate) fn quoted(path: &std::path::Path) -> String {
    let text = path.display().to_string();
    let plain = |c: char| c.is_alphanumeric() || "/._-+=:,@%".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        text
    } else {
        format!("'{}'", text.replace('\'', r"'\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_from_an_image_cannot_speak_to_the_terminal() {
        assert_eq!(clean("a\x1b[31mb\u{202E}c\n"), "a\\u{1b}[31mb\\u{202e}c\\u{a}");
        assert_eq!(clean("\u{85}\u{200B}\u{2028}x"), "\\u{85}\\u{200b}\\u{2028}x");
        assert_eq!(clean("Möwen 文字"), "Möwen 文字");
    }

    #[test]
    fn sizes_and_words() {
        assert_eq!(size(64 << 20), "64 MiB");
        assert_eq!(size(1), "1 byte");
        assert_eq!(size(1536), "1.50 KiB");
        let named = |again: &str| beside(std::path::Path::new("d/a.img"), again, "plan.json");
        assert_eq!(named(""), std::path::Path::new("d/a.plan.json"));
        assert_eq!(named(" --at 1048576 --inside"), std::path::Path::new("d/a.at-1048576.plan.json"));
        assert_eq!(named(" --only table"), std::path::Path::new("d/a.table.plan.json"));
        assert_eq!(quoted(std::path::Path::new("a b.img")), "'a b.img'");
        assert_eq!(quoted(std::path::Path::new("a-b.img")), "a-b.img");
    }

    #[test]
    fn no_line_is_wider_than_the_page() {
        for width in [40, 60, 80, 100] {
            within(width);
        }
    }

    fn within(width: usize) {
        let mut page = Page { text: String::new(), width };
        page.head("card.img · FAT32 · 64 MiB · \"NESTCAM\"", "does not mount", BAD);
        page.say(&"a long sentence of many words ".repeat(20));
        page.beside(24, "fat/boot-gone", BAD, &"what is so and what should be so ".repeat(9));
        page.next(&[(
            "punchdog plan card.img --out card.plan.json".into(),
            "repair: exact, no file changes",
        )]);
        for line in anstream::adapter::strip_str(&page.text).to_string().lines() {
            let fits = columns(line) <= width || line.contains("punchdog ");
            assert!(fits, "{} columns: {line}", columns(line));
        }
    }
}
