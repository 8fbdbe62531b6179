//! Names from an image, made fit for a host: no way out of the folder, nothing that a file system
//! or a terminal could take amiss, and no two that only differ in case.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// Bytes of a name at most; hosts allow 255, and a number may have to fit as well.
const LONGEST: usize = 200;
/// Names that mean devices on some hosts, whatever their extension.
const DEVICES: [&str; 22] = [
    "con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8", "com9",
    "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9",
];

/// One name of a path, made safe.
pub(crate) fn safe(name: &str) -> String {
    let swapped = name.chars().map(|c| {
        let turns = matches!(c, '\u{200E}' | '\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}' | '\u{FEFF}');
        if c.is_control() || turns || "/\\<>:\"|?*".contains(c) { '_' } else { c }
    });
    let mut text: String = swapped.collect();
    while text.len() > LONGEST {
        text.pop();
    }
    let trimmed = text.trim_end_matches([' ', '.']);
    let mut text = if trimmed.len() < text.len() { format!("{trimmed}_") } else { text };
    let stem = text.split('.').next().unwrap_or("").to_lowercase();
    if text.is_empty() || DEVICES.contains(&stem.as_str()) {
        text.insert(0, '_');
    }
    text
}

/// The paths given out so far.
pub(crate) struct Names {
    to: PathBuf,
    taken: HashSet<String>,
    folders: HashMap<String, String>,
}

impl Names {
    /// Nothing given out yet, below `to`.
    pub(crate) fn new(to: &Path) -> Self {
        let taken = HashSet::from([super::manifest::NAME.to_lowercase()]);
        Self { to: to.to_owned(), taken, folders: HashMap::from([(String::new(), String::new())]) }
    }

    /// The path for a folder: the same each time it is asked for.
    pub(crate) fn folder(&mut self, path: &str) -> String {
        if let Some(known) = self.folders.get(path) {
            return known.clone();
        }
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let above = self.folder(above);
        let given = self.free(&above, &safe(name), |_| false);
        self.folders.insert(path.to_owned(), given.clone());
        given
    }

    /// A path for a file; never one that is taken or that stands there already, unless `same` says
    /// that what stands there is this very file.
    pub(crate) fn file(&mut self, path: &str, same: impl Fn(&Path) -> bool) -> String {
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let above = self.folder(above);
        let to = self.to.clone();
        self.free(&above, &safe(name), |given| {
            let place = to.join(given);
            place.symlink_metadata().is_ok() && !same(&place)
        })
    }

    /// Remembers a path that was given out in an earlier run.
    pub(crate) fn keep(&mut self, path: &str, saved_as: &str) {
        if let (Some((above, _)), Some((given, _))) = (path.rsplit_once('/'), saved_as.rsplit_once('/')) {
            self.folders.entry(above.to_owned()).or_insert_with(|| given.to_owned());
        }
        self.taken.insert(saved_as.to_lowercase());
    }

    fn free(&mut self, above: &str, name: &str, occupied: impl Fn(&str) -> bool) -> String {
        let mut number = 1_u64;
        loop {
            let numbered = match (number, name.rsplit_once('.')) {
                (1, _) => name.to_owned(),
                (n, Some((stem, extension))) if !stem.is_empty() => format!("{stem} ({n}).{extension}"),
                (n, _) => format!("{name} ({n})"),
            };
            let path = if above.is_empty() { numbered } else { format!("{above}/{numbered}") };
            let key = path.to_lowercase();
            if !self.taken.contains(&key) && !occupied(&path) {
                self.taken.insert(key);
                return path;
            }
            number += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_leads_out_or_speaks_to_a_terminal() {
        for (name, expected) in [
            ("..", "_"),
            (".", "_"),
            ("", "_"),
            ("a/b\\c", "a_b_c"),
            ("nul.txt", "_nul.txt"),
            ("tail. ", "tail_"),
            ("\x1b[31mred", "_[31mred"),
            ("Möwe 文字.png", "Möwe 文字.png"),
        ] {
            assert_eq!(safe(name), expected);
        }
        assert!(safe(&"ä".repeat(300)).len() <= LONGEST);
    }

    #[test]
    fn names_that_differ_in_case_are_kept_apart() {
        let mut names = Names::new(Path::new("/nowhere-at-all"));
        assert_eq!(names.file("Pics/a.jpg", |_| false), "Pics/a.jpg");
        assert_eq!(names.file("PICS/A.JPG", |_| false), "PICS (2)/A.JPG");
        assert_eq!(names.file("Pics/A.jpg", |_| false), "Pics/A (2).jpg");
        assert_eq!(names.file("../../etc/passwd", |_| false), "_/_ (2)/etc/passwd".replace("_ (2)", "_"));
    }
}
