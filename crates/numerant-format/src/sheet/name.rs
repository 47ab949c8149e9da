//! Names of sheets: legal in every spreadsheet program, and unique in their workbook.

use std::collections::HashMap;

/// Characters that a sheet's name may have, in UTF-16 units.
pub const LONGEST_SHEET_NAME: usize = 31;

/// Signs that no name of a sheet may hold.
const FORBIDDEN: &[char] = &['[', ']', ':', '*', '?', '/', '\\'];

/// The names of the sheets of one workbook.
#[derive(Clone, Debug, Default)]
pub struct SheetNames {
    /// Names in folded case, and whose they are.
    taken: HashMap<String, usize>,
    /// The numbers that were found to be taken after the start of a name, from one on: the first that was not tried.
    numbers: HashMap<(String, u64), u64>,
}

/// `wanted` as a name that a sheet may have.
pub fn legal(wanted: &str, blank: &str) -> String {
    let wanted = if wanted.trim().is_empty() {
        blank
    } else {
        wanted
    };
    let signs = wanted.chars().map(|sign| {
        if FORBIDDEN.contains(&sign) || sign.is_control() {
            '_'
        } else {
            sign
        }
    });
    let name = cut(&signs.collect::<String>(), LONGEST_SHEET_NAME);
    // An apostrophe at either end is taken for a quote, and one name is the program's own.
    let trimmed = name.trim_matches('\'').trim();
    if trimmed.is_empty() {
        return "_".to_owned();
    }
    if trimmed.eq_ignore_ascii_case("history") {
        return format!("{trimmed}_");
    }
    trimmed.to_owned()
}

/// The start of `name` that has at most so many UTF-16 units.
fn cut(name: &str, most: usize) -> String {
    let mut units = 0;
    name.chars()
        .take_while(|sign| {
            units += sign.len_utf16();
            units <= most
        })
        .collect()
}

impl SheetNames {
    /// Claims a legal name for `claimant`; `Err` with whose it is if another has it.
    pub fn claim(&mut self, name: &str, claimant: usize) -> Result<(), usize> {
        let folded = numerant_naming::fold(name);
        match self.taken.get(&folded) {
            Some(holder) => Err(*holder),
            None => {
                self.taken.insert(folded, claimant);
                Ok(())
            }
        }
    }

    /// Gives the name to another claimant.
    pub fn hand_over(&mut self, name: &str, claimant: usize) {
        self.taken.insert(numerant_naming::fold(name), claimant);
    }

    /// `name (2)`, `name (3)` …: the first that is free, claimed for `claimant`.
    pub fn numbered(&mut self, name: &str, claimant: usize, from: u64) -> String {
        let start = (cut(name, LONGEST_SHEET_NAME - " (2)".len()), from);
        let mut number = self.numbers.get(&start).copied().unwrap_or(from);
        loop {
            let ending = format!(" ({number})");
            let room = LONGEST_SHEET_NAME - ending.len();
            let numbered = format!("{}{ending}", cut(name, room).trim_end());
            number += 1;
            if self.claim(&numbered, claimant).is_ok() {
                self.numbers.insert(start, number);
                return numbered;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_made_legal() {
        for (wanted, name) in [
            ("North Quay", "North Quay"),
            ("a/b\\c:d*e?f[g]", "a_b_c_d_e_f_g_"),
            ("'quoted'", "quoted"),
            ("", "blank"),
            ("'", "_"),
            ("History", "History_"),
            ("tab\there", "tab_here"),
        ] {
            assert_eq!(legal(wanted, "blank"), name);
        }
        assert_eq!(legal(&"x".repeat(40), "").len(), 31);
        assert_eq!(legal(&"🚢".repeat(20), "").chars().count(), 15);
    }

    #[test]
    fn names_are_unique_whatever_their_case() {
        let mut names = SheetNames::default();
        assert_eq!(names.claim("North", 0), Ok(()));
        assert_eq!(names.claim("NORTH", 1), Err(0));
        assert_eq!(names.numbered("NORTH", 1, 2), "NORTH (2)");
        assert_eq!(names.numbered("North", 2, 2), "North (3)");
        let long = "x".repeat(31);
        assert_eq!(names.claim(&long, 3), Ok(()));
        assert_eq!(
            names.numbered(&long, 4, 2),
            format!("{} (2)", "x".repeat(27))
        );
    }
}
