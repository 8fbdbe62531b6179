//! The path of a file as a chain of names: the files of a folder share its path, so that a list of files
//! takes memory for names and not for depth.

use crate::arith::Sat;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::{borrow::Cow, cmp::Ordering, fmt, sync::Arc};

/// A file's or folder's path; `/` between names, none in front.
#[derive(Clone)]
pub struct TreePath(Arc<Link>);

struct Link {
    above: Option<Arc<Link>>,
    name: Box<str>,
    depth: usize,
}

impl Drop for Link {
    /// Folder by folder: a deep path must not need a deep stack.
    fn drop(&mut self) {
        let mut above = self.above.take();
        while let Some(mut link) = above.and_then(Arc::into_inner) {
            above = link.above.take();
        }
    }
}

impl Link {
    fn is_below(&self, other: &Self) -> bool {
        match (&self.above, &other.above) {
            (Some(one), Some(two)) => Arc::ptr_eq(one, two),
            (None, None) => true,
            _ => false,
        }
    }
}

impl TreePath {
    /// Something in the root folder.
    pub fn in_root(name: &str) -> Self {
        Self(Arc::new(Link { above: None, name: name.into(), depth: 0 }))
    }

    /// Something in the folder of this path.
    #[must_use]
    pub fn child(&self, name: &str) -> Self {
        let depth = self.0.depth.plus(1);
        Self(Arc::new(Link { above: Some(Arc::clone(&self.0)), name: name.into(), depth }))
    }

    /// The last name.
    pub fn name(&self) -> &str {
        &self.0.name
    }

    /// The first name, which stands in the root folder.
    pub fn first(&self) -> &str {
        self.upwards().last().map_or("", |link| &link.name)
    }

    fn upwards(&self) -> impl Iterator<Item = &Link> {
        std::iter::successors(Some(&*self.0), |link| link.above.as_deref())
    }

    /// The names from the root on.
    fn names(&self) -> Vec<&str> {
        let mut names: Vec<&str> = self.upwards().map(|link| &*link.name).collect();
        names.reverse();
        names
    }

    /// Bytes of the whole text.
    pub fn bytes(&self) -> usize {
        self.upwards().fold(self.0.depth, |sum, link| sum.plus(link.name.len()))
    }
}

impl From<&str> for TreePath {
    fn from(text: &str) -> Self {
        let mut names = text.split('/');
        let first = Self::in_root(names.next().unwrap_or(""));
        names.fold(first, |path, name| path.child(name))
    }
}

impl From<String> for TreePath {
    fn from(text: String) -> Self {
        Self::from(text.as_str())
    }
}

impl fmt::Display for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, name) in self.names().into_iter().enumerate() {
            if number > 0 {
                f.write_str("/")?;
            }
            f.write_str(name)?;
        }
        Ok(())
    }
}

impl fmt::Debug for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.to_string())
    }
}

impl Ord for TreePath {
    /// Name by name from the root on: a folder stands before what is in it, and that together.
    fn cmp(&self, other: &Self) -> Ordering {
        let (mut one, mut two) = (&*self.0, &*other.0);
        let length = one.depth.cmp(&two.depth);
        let up = |link: &mut &Link, to: usize| {
            let mut at = *link;
            while at.depth > to {
                match &at.above {
                    Some(above) => at = above,
                    None => break,
                }
            }
            *link = at;
        };
        // To the same depth, then to where both lie in the same folder: nearly always at once.
        let depth = one.depth.min(two.depth);
        up(&mut one, depth);
        up(&mut two, depth);
        if std::ptr::eq(one, two) {
            return length;
        }
        while !one.is_below(two) {
            match (&one.above, &two.above) {
                (Some(above), Some(other)) => (one, two) = (above, other),
                _ => break,
            }
        }
        // Two folders of one name, or paths that share nothing: every name is compared.
        if one.name == two.name { self.names().cmp(&other.names()) } else { one.name.cmp(&two.name) }
    }
}

impl PartialOrd for TreePath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for TreePath {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for TreePath {}

impl PartialEq<str> for TreePath {
    fn eq(&self, other: &str) -> bool {
        self.bytes() == other.len() && self.names().into_iter().eq(other.split('/'))
    }
}

impl PartialEq<&str> for TreePath {
    fn eq(&self, other: &&str) -> bool {
        self == *other
    }
}

impl PartialEq<String> for TreePath {
    fn eq(&self, other: &String) -> bool {
        self == other.as_str()
    }
}

impl JsonSchema for TreePath {
    fn schema_name() -> Cow<'static, str> {
        "Path".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "description": "A path in a volume, from its root, with a slash between the names." })
    }
}

impl Serialize for TreePath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for TreePath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(Self::from)
    }
}

/// Bytes of a path in a sentence at most.
const LONGEST: usize = 2048;

/// Names from the root on as one text; of a path too long for a sentence only its first and last names.
pub(crate) fn sentence(names: &[&str]) -> String {
    let whole = names.iter().fold(0_usize, |sum, name| sum.plus(name.len()).plus(1));
    match names {
        [first, .., above, last] if whole > LONGEST => {
            let between = names.len().minus(3);
            format!("{first}/… {between} folders …/{above}/{last}")
        }
        _ => names.join("/"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Paths that share their folders and paths that do not are ordered as their names are.
        #[test]
        fn ordered_as_their_names(
            parents in prop::collection::vec((0_usize..8, "[ab]{1,2}"), 1..12),
        ) {
            let mut paths: Vec<TreePath> = Vec::new();
            for (parent, name) in &parents {
                let path = match paths.get(*parent) {
                    Some(above) => above.child(name),
                    None => TreePath::in_root(name),
                };
                paths.push(path);
            }
            for one in &paths {
                prop_assert_eq!(&TreePath::from(one.to_string()), one);
                prop_assert!(*one == one.to_string().as_str());
                prop_assert_eq!(one.bytes(), one.to_string().len());
                for other in &paths {
                    let (a, b) = (one.to_string(), other.to_string());
                    let expected = a.split('/').collect::<Vec<_>>().cmp(&b.split('/').collect());
                    prop_assert_eq!(one.cmp(other), expected);
                    prop_assert_eq!(one.cmp(&TreePath::from(b)), expected);
                }
            }
        }
    }

    #[test]
    fn depth_costs_no_stack() {
        let mut path = TreePath::in_root("a");
        for _ in 0..300_000 {
            path = path.child("b");
        }
        assert_eq!(path.bytes(), 600_001);
        drop(path);
    }

    #[test]
    fn long_paths_are_short_in_sentences() {
        assert_eq!(sentence(&["a", "b"]), "a/b");
        let deep = vec!["a folder with a name"; 500];
        assert_eq!(
            sentence(&deep),
            "a folder with a name/… 497 folders …/a folder with a name/a folder with a name"
        );
    }
}
