//! What check found: a fault with its weight, its bytes and its files.

use crate::{medium::Extent, report::forecast::HostForecast};
use schemars::JsonSchema;
use serde::Serialize;

/// How much a finding matters, heaviest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// At least one host refuses the volume because of it.
    BlocksMount,
    /// Files are damaged, unreachable, or will be by the next write.
    RisksFiles,
    /// Against the specification, but no file is in danger.
    Untidy,
    /// Worth knowing; not a fault.
    Remark,
}

impl Weight {
    /// The weight as people and JSON read it.
    pub fn name(self) -> &'static str {
        match self {
            Self::BlocksMount => "blocks-mount",
            Self::RisksFiles => "risks-files",
            Self::Untidy => "untidy",
            Self::Remark => "remark",
        }
    }
}

/// One entry of the catalogue: a class of fault, explained once.
#[derive(Debug, PartialEq, Eq)]
pub struct Entry {
    /// The stable code, `family/what-is-wrong`.
    pub code: &'static str,
    /// The weight it usually has; a finding can be heavier or lighter.
    pub weight: Weight,
    /// What is wrong, in a few words.
    pub title: &'static str,
    /// What it means for the person whose files these are, and where it comes from.
    pub meaning: &'static str,
    /// How it is mended, and what that rests on.
    pub mending: &'static str,
    /// The section of the specification that it goes against.
    pub source: &'static str,
}

/// Declares the classes of one family, each a static, and `ALL` of them in order: name = (code,
/// weight, title, source, meaning, mending).
macro_rules! catalogue {
    ($($name:ident = ($code:literal, $weight:ident, $title:literal, $source:literal, $meaning:literal, $mending:literal);)*) => {
        $(
            #[doc = concat!("`", $code, "`: ", $title, ".")]
            pub static $name: Entry = Entry {
                code: $code,
                weight: $weight,
                title: $title,
                meaning: $meaning,
                mending: $mending,
                source: $source,
            };
        )*
        /// All of them, in the order of the documentation.
        pub static ALL: &[&Entry] = &[$(&$name),*];
    };
}
pub(crate) use catalogue;

/// One fault, found in one place.
#[derive(Debug, Clone)]
pub struct Finding {
    /// Its class.
    pub entry: &'static Entry,
    /// How much it matters here.
    pub weight: Weight,
    /// One sentence for a list.
    pub summary: String,
    /// What is so.
    pub is: String,
    /// What should be so.
    pub should: String,
    /// What follows from it.
    pub follows: String,
    /// The bytes concerned, from the start of the volume.
    pub extents: Vec<Extent>,
    /// The files concerned.
    pub paths: Vec<String>,
    /// How many alike were folded into this one, itself included.
    pub count: u64,
}

impl Finding {
    /// A finding of class `entry`, with its usual weight and no bytes or files yet.
    pub fn new(entry: &'static Entry, summary: impl Into<String>) -> Self {
        Self {
            entry,
            weight: entry.weight,
            summary: summary.into(),
            is: String::new(),
            should: String::new(),
            follows: String::new(),
            extents: Vec::new(),
            paths: Vec::new(),
            count: 1,
        }
    }
    /// Sets the three parts of the text: what is so, what should be so, what follows.
    #[must_use]
    pub fn because(
        mut self,
        is: impl Into<String>,
        should: impl Into<String>,
        follows: impl Into<String>,
    ) -> Self {
        self.is = is.into();
        self.should = should.into();
        self.follows = follows.into();
        self
    }
    /// Adds bytes concerned.
    #[must_use]
    pub fn at(mut self, offset: u64, length: u64) -> Self {
        self.extents.push(Extent::new(offset, length));
        self
    }
    /// Adds a file concerned.
    #[must_use]
    pub fn file(mut self, path: impl Into<String>) -> Self {
        self.paths.push(path.into());
        self
    }
    /// Sets another weight than the usual one.
    #[must_use]
    pub fn weighing(mut self, weight: Weight) -> Self {
        self.weight = weight;
        self
    }
    /// The three parts of the text as one paragraph.
    pub fn detail(&self) -> String {
        let parts = [&self.is, &self.should, &self.follows];
        parts.into_iter().filter(|part| !part.is_empty()).cloned().collect::<Vec<_>>().join(" ")
    }
}

/// Takes findings as they are found.
pub trait Sink {
    /// One more finding.
    fn add(&mut self, finding: Finding);
}

/// Findings of one class kept apart before further ones are folded into the last.
const APART: u64 = 200;
/// Files and extents named in a folded finding.
const NAMED: usize = 2000;

/// Keeps findings, and folds those beyond the two hundredth of a class into one with a count.
#[derive(Default)]
pub struct Collector {
    findings: Vec<Finding>,
    seen: std::collections::HashMap<&'static str, (u64, usize)>,
}

impl Collector {
    /// The findings, weighed by what hosts do: what stops one from reading is the heaviest, whatever it usually
    /// weighs; what stops one from writing puts files at risk; where none is stopped, nothing blocks the mount, and what usually does puts files at risk.
    pub fn weighed_by(mut self, hosts: &[HostForecast]) -> Vec<Finding> {
        let mounted = hosts.iter().all(|host| host.mounts_read_only);
        for finding in &mut self.findings {
            let stopped = |host: &&HostForecast| host.refused_by == Some(finding.entry.code);
            if hosts.iter().filter(stopped).any(|host| !host.mounts_read_only) {
                finding.weight = Weight::BlocksMount;
            } else if hosts.iter().any(|host| stopped(&host)) {
                finding.weight = Weight::RisksFiles;
            } else if mounted {
                finding.weight = finding.weight.max(Weight::RisksFiles);
            }
        }
        self.into_sorted()
    }

    /// The findings: heaviest first, then by place in the volume.
    pub fn into_sorted(self) -> Vec<Finding> {
        let mut findings = self.findings;
        findings.sort_by_key(|f| {
            let place = f.extents.first().map_or(u64::MAX, |e| e.offset);
            (f.weight, place, f.entry.code, f.paths.first().cloned())
        });
        findings
    }
}

impl Sink for Collector {
    fn add(&mut self, finding: Finding) {
        let (count, last) = self.seen.entry(finding.entry.code).or_insert((0, 0));
        *count = count.saturating_add(1);
        if *count <= APART {
            *last = self.findings.len();
            self.findings.push(finding);
        } else if let Some(folded) = self.findings.get_mut(*last) {
            folded.count = folded.count.saturating_add(finding.count);
            folded.weight = folded.weight.min(finding.weight);
            if folded.extents.len() < NAMED {
                folded.extents.extend(finding.extents);
            }
            if folded.paths.len() < NAMED {
                folded.paths.extend(finding.paths);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    static A_CLASS: Entry = Entry {
        code: "fat/a-class",
        weight: Weight::Untidy,
        title: "",
        meaning: "",
        mending: "",
        source: "",
    };

    #[test]
    fn many_alike_are_folded_into_one_with_a_count() {
        let mut collector = Collector::default();
        for number in 0..APART + 50 {
            collector.add(Finding::new(&A_CLASS, "x").at(number * 512, 512));
        }
        let findings = collector.into_sorted();
        assert_eq!(findings.len() as u64, APART);
        assert_eq!(findings.iter().map(|f| f.count).sum::<u64>(), APART + 50);
    }
}
