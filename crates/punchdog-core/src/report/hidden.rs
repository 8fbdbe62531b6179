//! Whole trees hidden by attributes.
//!
//! Hosts set the hidden and system bits on a few files of their own. Malware sets them on all that a person has,
//! and puts shortcuts or programs of the same names beside it, to be opened in place of the folders.

use crate::{
    arith::Sat,
    report::{
        finding::{Entry, Finding},
        wording::counted,
    },
};
use std::collections::{HashMap, HashSet};

/// Hidden system files from which on, where they are half of all, something hid them.
const MANY: usize = 5;
/// What is put in place of what was hidden.
const LURES: [&str; 9] = ["lnk", "exe", "scr", "com", "pif", "bat", "cmd", "vbs", "js"];
/// Names that hosts hide themselves, in lower case.
const HOSTS_OWN: [&str; 5] =
    ["system volume information", "$recycle.bin", "recycler", "desktop.ini", "thumbs.db"];

/// A file or folder with its attributes.
pub(crate) struct Seen<'a> {
    pub(crate) number: u32,
    pub(crate) parent: u32,
    pub(crate) name: &'a str,
    pub(crate) hidden: bool,
    pub(crate) system: bool,
}

/// What was hidden.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Hidden {
    /// The files and folders, by number.
    pub(crate) numbers: Vec<u32>,
    /// Shortcuts and programs with their names, by number.
    pub(crate) lures: Vec<u32>,
    /// All files and folders there are.
    pub(crate) all: usize,
}

/// The tree that something hid, if something did.
pub(crate) fn tree<'a>(seen: impl Iterator<Item = Seen<'a>>) -> Option<Hidden> {
    let mut found = Hidden::default();
    let mut named: HashMap<(u32, String), u32> = HashMap::new();
    let mut hidden: Vec<(u32, u32, String, bool)> = Vec::new();
    for one in seen {
        found.all = found.all.plus(1);
        if one.hidden {
            let name = one.name.to_lowercase();
            if !HOSTS_OWN.contains(&name.as_str()) {
                hidden.push((one.number, one.parent, name, one.system));
            }
        } else if let Some((base, extension)) = one.name.rsplit_once('.')
            && LURES.iter().any(|lure| extension.eq_ignore_ascii_case(lure))
        {
            named.insert((one.parent, base.to_lowercase()), one.number);
        }
    }
    let mut in_folders: HashSet<u32> = HashSet::new();
    for (_, parent, name, _) in &hidden {
        if let Some(lure) = named.get(&(*parent, name.clone())) {
            found.lures.push(*lure);
            in_folders.insert(*parent);
        }
    }
    let both = hidden.iter().filter(|(.., system)| *system).count();
    if found.lures.is_empty() && (both < MANY || both.times(2) < found.all) {
        return None;
    }
    let lured = |parent: &u32| in_folders.contains(parent);
    found.numbers = hidden
        .iter()
        .filter(|(_, parent, _, system)| *system || lured(parent))
        .map(|(number, ..)| *number)
        .collect();
    found.lures.sort_unstable();
    Some(found)
}

impl Hidden {
    /// The finding that says so, without places and paths.
    pub(crate) fn finding(&self, class: &'static Entry) -> Finding {
        let lures = self.lures.len().wide();
        let beside = if lures == 0 {
            String::new()
        } else {
            format!(", {} of the same names beside them", counted(lures, "program", "programs"))
        };
        let summary = format!("{} of {} files and folders are hidden{beside}", self.numbers.len(), self.all);
        Finding::new(class, summary).because(
            "The bits are set on ordinary files.",
            "Hosts set them on a few files of their own.",
            "Hosts do not show these files.",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(number: u32, name: &str, hidden: bool, system: bool) -> Seen<'_> {
        Seen { number, parent: 0, name, hidden, system }
    }

    #[test]
    fn a_shortcut_of_the_same_name_is_enough() {
        let all = || {
            vec![
                seen(1, "Photos", true, false),
                seen(2, "photos.LNK", false, false),
                seen(3, "a.txt", false, false),
            ]
        };
        let found = tree(all().into_iter()).unwrap();
        assert_eq!((found.numbers, found.lures, found.all), (vec![1], vec![2], 3));
        assert_eq!(tree(all().into_iter().skip(1)), None, "a shortcut alone");
        let own = [seen(1, "Thumbs.db", true, true), seen(2, "thumbs.db.lnk", false, false)];
        assert_eq!(tree(own.into_iter()), None);
    }

    #[test]
    fn many_hidden_system_files_are_enough() {
        let names = ["a", "b", "c", "d", "e", "f", "g"];
        let all = |many: usize| {
            names
                .iter()
                .enumerate()
                .map(move |(n, name)| seen(u32::try_from(n).unwrap(), name, n < many, n < many))
        };
        assert_eq!(tree(all(4)), None);
        assert_eq!(tree(all(5)).unwrap().numbers.len(), 5);
    }
}
