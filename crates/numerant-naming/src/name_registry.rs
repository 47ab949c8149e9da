//! The names that a run gives out, and what happens where two of them fall together.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::safe::fold;

/// What to do where two outputs would share a file.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum ClashPolicy {
    /// Refuse the run, with the list of them.
    #[default]
    Refuse,
    /// Put `-2`, `-3` … after the later ones.
    Number,
    /// Write the first one, and leave the records of the others out.
    First,
    /// Write the last one, and leave the records of the others out.
    Last,
    /// Write them all into one.
    Together,
}

/// Two outputs that would share a file, at least on a system that ignores case.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clash {
    /// The path of the later one.
    pub path: String,
    /// Which output has the name already, by the order of first records.
    pub holder: usize,
    /// Which one wants it.
    pub claimant: usize,
    /// One is a file where the other needs a folder.
    pub folder: bool,
}

/// What came of a claim to a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Claim {
    /// It is granted, perhaps with a number.
    Granted(String),
    /// Another output has it, or had it: what that means is for the policy to say.
    Refused(Clash),
}

/// All names that a run has given out.
#[derive(Debug, Default)]
pub struct NameRegistry {
    policy: ClashPolicy,
    files: HashMap<String, usize>,
    folders: HashMap<String, usize>,
    /// The next number to try for a name that was taken.
    numbers: HashMap<String, u64>,
}

impl NameRegistry {
    /// A book without names.
    pub fn new(policy: ClashPolicy) -> Self {
        Self {
            policy,
            ..Self::default()
        }
    }

    /// Claims `path` for output `claimant`.
    pub fn claim(&mut self, path: &str, claimant: usize) -> Claim {
        let folded = fold(path);
        let Some((holder, folder)) = self.holder(&folded) else {
            self.grant(&folded, claimant);
            return Claim::Granted(path.to_owned());
        };
        if self.policy == ClashPolicy::Last && !folder {
            self.files.insert(folded.clone(), claimant);
        }
        if self.policy != ClashPolicy::Number {
            let path = path.to_owned();
            return Claim::Refused(Clash {
                path,
                holder,
                claimant,
                folder,
            });
        }
        let mut number = self.numbers.get(&folded).copied().unwrap_or(2);
        loop {
            let numbered = numbered(path, number);
            number += 1;
            let numbered_folded = fold(&numbered);
            if self.holder(&numbered_folded).is_none() {
                self.numbers.insert(folded, number);
                self.grant(&numbered_folded, claimant);
                return Claim::Granted(numbered);
            }
        }
    }

    /// Which output is in the way of a file at `folded`, and whether that is because one of
    /// the two would have to be a folder.
    fn holder(&self, folded: &str) -> Option<(usize, bool)> {
        if let Some(holder) = self.files.get(folded) {
            return Some((*holder, false));
        }
        if let Some(holder) = self.folders.get(folded) {
            return Some((*holder, true));
        }
        parents(folded)
            .find_map(|parent| self.files.get(parent))
            .map(|holder| (*holder, true))
    }

    fn grant(&mut self, folded: &str, claimant: usize) {
        for parent in parents(folded) {
            if !self.folders.contains_key(parent) {
                self.folders.insert(parent.to_owned(), claimant);
            }
        }
        self.files.insert(folded.to_owned(), claimant);
    }
}

fn parents(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').map(|(at, _)| &path[..at])
}

/// `folder/name.csv` as `folder/name-2.csv`, no longer than a name may be.
pub fn numbered(path: &str, number: u64) -> String {
    let name_at = path.rfind('/').map_or(0, |slash| slash + 1);
    let (folders, name) = path.split_at(name_at);
    let dot = name.rfind('.').filter(|dot| *dot > 0).unwrap_or(name.len());
    let (stem, extension) = name.split_at(dot);
    let ending = format!("-{number}{extension}");
    let mut room = stem.len().min(255_usize.saturating_sub(ending.len()));
    while !stem.is_char_boundary(room) {
        room -= 1;
    }
    format!("{folders}{}{ending}", &stem[..room])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn granted(book: &mut NameRegistry, path: &str) -> String {
        match book.claim(path, 0) {
            Claim::Granted(path) => path,
            Claim::Refused(clash) => panic!("{clash:?}"),
        }
    }

    #[test]
    fn names_that_fall_together_are_refused() {
        let mut book = NameRegistry::new(ClashPolicy::Refuse);
        assert_eq!(
            book.claim("North.csv", 0),
            Claim::Granted("North.csv".into())
        );
        let refused = |path: &str, holder, claimant, folder| {
            Claim::Refused(Clash {
                path: path.into(),
                holder,
                claimant,
                folder,
            })
        };
        assert_eq!(
            book.claim("north.csv", 1),
            refused("north.csv", 0, 1, false)
        );
        assert_eq!(book.claim("a/b.csv", 2), Claim::Granted("a/b.csv".into()));
        assert_eq!(book.claim("a", 3), refused("a", 2, 3, true));
        assert_eq!(
            book.claim("A/B.csv/c.csv", 4),
            refused("A/B.csv/c.csv", 2, 4, true)
        );
    }

    #[test]
    fn or_numbered() {
        let mut book = NameRegistry::new(ClashPolicy::Number);
        let names: Vec<String> = ["a.csv", "A.csv", "a-2.csv", "a.csv", "x/a.csv", "x/a.csv"]
            .iter()
            .map(|path| granted(&mut book, path))
            .collect();
        assert_eq!(
            names,
            [
                "a.csv",
                "A-2.csv",
                "a-2-2.csv",
                "a-3.csv",
                "x/a.csv",
                "x/a-2.csv"
            ]
        );
        let long = format!("{}.csv", "å".repeat(125));
        granted(&mut book, &long);
        let second = granted(&mut book, &long);
        assert!(
            second.len() <= 255 && second.ends_with("å-2.csv"),
            "{second}"
        );
    }
}
