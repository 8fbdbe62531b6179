//! Questions that the volume itself does not answer, and what the technician chose.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};

/// One way of answering a question that the volume itself does not answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChoiceOption {
    /// The word to choose it by.
    pub option: String,
    /// What it does to the files.
    pub effect: String,
}

/// A question with its options, and the one that was taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Choice {
    /// The word to choose by, as in `--choose NAME=OPTION`.
    pub name: String,
    /// What the question is.
    pub question: String,
    /// The option this plan took.
    pub taken: String,
    /// All options.
    pub options: Vec<ChoiceOption>,
    /// The files concerned.
    pub paths: Vec<String>,
}

/// What the technician chose, and which questions came up.
#[derive(Debug, Clone, Default)]
pub struct Choices {
    wanted: BTreeMap<String, String>,
    offered: BTreeMap<String, Choice>,
    /// Paths that a question has, so that a crowd of them is not gone through for each.
    named: HashSet<(String, String)>,
    /// Where the volume in question begins, where a plan is for several.
    about: Option<u64>,
    /// Volumes whose geometry nothing confirms, by where they begin in question.
    unconfirmed: HashSet<Option<u64>>,
}

impl Choices {
    /// With these answers given beforehand: name to option.
    pub fn wanting(wanted: BTreeMap<String, String>) -> Self {
        Self { wanted, ..Self::default() }
    }
    /// Says which of several volumes the next questions are about.
    pub(crate) fn about(&mut self, volume: Option<u64>) {
        self.about = volume;
    }
    /// The answer that was given beforehand, whether it is an option or not.
    pub(crate) fn given(&self, name: &str) -> Option<&str> {
        let own = self.about.map(|at| format!("{name}@{at}"));
        let wanted = own.and_then(|own| self.wanted.get(&own)).or_else(|| self.wanted.get(name));
        wanted.map(String::as_str)
    }
    /// True once this question came up about the volume in question.
    pub(crate) fn came_up(&self, name: &str) -> bool {
        let own = self.about.map_or_else(|| name.to_owned(), |at| format!("{name}@{at}"));
        self.offered.contains_key(&own)
    }
    /// Notes that nothing confirms where things lie in the volume in question.
    pub(crate) fn doubt(&mut self) {
        self.unconfirmed.insert(self.about);
    }
    /// True where that was noted.
    pub(crate) fn doubted(&self) -> bool {
        self.unconfirmed.contains(&self.about)
    }
    /// Puts a question; the first option is taken unless another was asked for. The files of a
    /// question put again are added to those it had.
    pub fn ask(
        &mut self,
        name: &str,
        question: &str,
        options: &[(&str, String)],
        paths: Vec<String>,
    ) -> String {
        let first = options.first().map_or("", |(option, _)| option);
        // Asked of one of several volumes, a question has a name of its own.
        let own = self.about.map_or_else(|| name.to_owned(), |at| format!("{name}@{at}"));
        let name = own.as_str();
        let wanted = self.wanted.get(name).filter(|wish| options.iter().any(|(option, _)| option == wish));
        let taken = wanted.map_or(first, String::as_str).to_owned();
        let choice = self.offered.entry(name.to_owned()).or_insert_with(|| Choice {
            name: name.to_owned(),
            question: question.to_owned(),
            taken: taken.clone(),
            options: options
                .iter()
                .map(|(option, effect)| ChoiceOption { option: (*option).to_owned(), effect: effect.clone() })
                .collect(),
            paths: Vec::new(),
        });
        for path in paths {
            if self.named.insert((name.to_owned(), path.clone())) {
                choice.paths.push(path);
            }
        }
        taken
    }
    /// Says of an option of a question that came up what it does, once that is known better.
    pub(crate) fn tell(&mut self, name: &str, option: &str, effect: &str) {
        let own = self.about.map_or_else(|| name.to_owned(), |at| format!("{name}@{at}"));
        let options = self.offered.get_mut(&own).into_iter().flat_map(|choice| &mut choice.options);
        options.filter(|one| one.option == option).for_each(|one| effect.clone_into(&mut one.effect));
    }
    /// The questions that came up, by name.
    pub fn offered(&self) -> Vec<Choice> {
        self.offered.values().cloned().collect()
    }
    /// Answers that fitted no question or no option of it.
    pub fn unused(&self) -> Vec<String> {
        let fits = |name: &String, option: &String| {
            self.offered.get(name).is_some_and(|c| c.options.iter().any(|o| &o.option == option))
        };
        self.wanted.iter().filter(|(n, o)| !fits(n, o)).map(|(n, o)| format!("{n}={o}")).collect()
    }
}
