//! Names from an image, made fit for a host: no way out of the folder, nothing that a file system
//! or a terminal could take amiss, and no two that only differ in case.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// Bytes of a name at most; hosts allow 255, and a number may have to fit as well.
const LONGEST: usize = 200;
/// Bytes of a whole path at most: Linux takes 4095 in one call, other hosts take less.
const LONGEST_PATH: usize = 3500;
/// The folder for what lies too deep to keep its path.
const SHORTENED: &str = "PATHS TOO LONG";
/// Names that mean devices on some hosts, whatever their extension.
const DEVICES: [&str; 22] = [
    "con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8", "com9",
    "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9",
];

/// One name of a path, made safe.
pub(crate) fn safe(name: &str) -> String {
    let swapped =
        name.chars().map(|c| if crate::page::is_unseen(c) || "/\\<>:\"|?*".contains(c) { '_' } else { c });
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
    /// Bytes there are for a path below `to`.
    room: usize,
    taken: HashSet<String>,
    folders: HashMap<String, String>,
    /// The number tried next behind a path, so that a crowd of one name is not counted through for
    /// each of its bearers.
    next: HashMap<String, u64>,
}

impl Names {
    /// Nothing given out yet, below `to`.
    pub(crate) fn new(to: &Path) -> Self {
        let taken = HashSet::from([super::manifest::NAME.to_lowercase()]);
        let above = std::path::absolute(to).map_or(0, |whole| whole.as_os_str().len());
        Self {
            to: to.to_owned(),
            room: LONGEST_PATH.saturating_sub(above).max(LONGEST),
            taken,
            folders: HashMap::from([(String::new(), String::new())]),
            next: HashMap::new(),
        }
    }

    /// The path for a folder: the same each time it is asked for.
    pub(crate) fn folder(&mut self, path: &str) -> String {
        // From the deepest folder that has a path already, so that depth costs no stack.
        let mut open: Vec<&str> = Vec::new();
        let mut at = path;
        while !self.folders.contains_key(at) {
            open.push(at);
            at = at.rsplit_once('/').map_or("", |(above, _)| above);
        }
        let mut given = self.folders.get(at).cloned().unwrap_or_default();
        for folder in open.into_iter().rev() {
            let name = folder.rsplit('/').next().unwrap_or(folder);
            given = self.free(&given, &safe(name), |_| false);
            self.folders.insert(folder.to_owned(), given.clone());
        }
        given
    }

    /// A path for a file; never one that is taken or that stands there already, unless `same` says
    /// that what stands there is this very file.
    pub(crate) fn file(&mut self, path: &str, same: impl Fn(&Path) -> bool) -> String {
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let above = self.folder(above);
        self.unoccupied(&above, &safe(name), same)
    }

    /// A short path for a file whose own the target does not take.
    pub(crate) fn short(&mut self, path: &str) -> String {
        let name = path.rsplit('/').next().unwrap_or(path);
        let extension = name.rsplit_once('.').map_or("", |(_, extension)| extension);
        let plain: String = extension.chars().filter(char::is_ascii_alphanumeric).take(8).collect();
        self.unoccupied(SHORTENED, &format!("file.{plain}"), |_| false)
    }

    fn unoccupied(&mut self, above: &str, name: &str, same: impl Fn(&Path) -> bool) -> String {
        let to = self.to.clone();
        self.free(above, name, |given| {
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
        // A number behind the name has to fit as well.
        let fits = above.len() + name.len() + 24 <= self.room;
        let above = if fits { above } else { SHORTENED };
        let whole = if above.is_empty() { name.to_owned() } else { format!("{above}/{name}") };
        let key = whole.to_lowercase();
        let mut number = self.next.get(&key).copied().unwrap_or(1);
        loop {
            let numbered = match (number, name.rsplit_once('.')) {
                (1, _) => name.to_owned(),
                (n, Some((stem, extension))) if !stem.is_empty() => format!("{stem} ({n}).{extension}"),
                (n, _) => format!("{name} ({n})"),
            };
            number += 1;
            let path = if above.is_empty() { numbered } else { format!("{above}/{numbered}") };
            if !self.taken.contains(&path.to_lowercase()) && !occupied(&path) {
                self.taken.insert(path.to_lowercase());
                self.next.insert(key, number);
                return path;
            }
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
    fn what_lies_too_deep_gets_a_short_path() {
        let mut names = Names::new(Path::new("/nowhere-at-all"));
        let deep = vec!["a folder with a name of some length"; 1000].join("/");
        for number in 0..3 {
            let given = names.file(&format!("{deep}/picture{number}.png"), |_| false);
            assert!(given.len() < LONGEST_PATH, "{given}");
            assert!(
                given.starts_with(SHORTENED) && given.ends_with(&format!("picture{number}.png")),
                "{given}"
            );
        }
        assert_eq!(names.short("a/b.jpeg"), format!("{SHORTENED}/file.jpeg"));
        assert_eq!(names.short("c.jpeg"), format!("{SHORTENED}/file (2).jpeg"));
    }

    #[test]
    fn a_crowd_of_one_name_is_counted_once() {
        let mut names = Names::new(Path::new("/nowhere-at-all"));
        let start = std::time::Instant::now();
        for number in 2..60_000 {
            names.file("d/same.txt", |_| false);
            assert!(names.taken.len() >= number - 1);
        }
        assert!(start.elapsed().as_secs() < 20, "{:?}", start.elapsed());
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
