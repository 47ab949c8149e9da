//! Which of the lists in a document holds its records.

use super::Survey;

/// How many times as long as the list around it a list within its items is, if it is the one with
/// the records: some groups with many records each, and not many records with some parts each.
const GROUPED: u64 = 4;

impl Survey {
    /// The places of lists in the order in which their items are likely to be the records.
    ///
    /// `lists` are the candidates, each after those that it is in. The longest list comes first
    /// (the first of several), wherever it stands; a list within the items of others counts by its
    /// average length, and only where that is more than four times the number of their items.
    pub fn by_likely_records(&self, lists: &[usize]) -> Vec<usize> {
        let around = |place: usize| {
            let mut found = Vec::new();
            let mut at = self.parent(place);
            while at != 0 {
                if lists.contains(&at) {
                    found.push(at);
                }
                at = self.parent(at);
            }
            found
        };
        let length = |place: usize| {
            let node = &self.nodes[place];
            let outer = around(place);
            if outer.is_empty() {
                return Some(node.times);
            }
            if node.branches <= node.lists {
                return None;
            }
            let average = node.times / node.parents.max(1);
            let longest = outer.iter().map(|outer| self.nodes[*outer].times).max();
            (average > GROUPED * longest.unwrap_or_default()).then_some(average)
        };
        let mut ranked: Vec<(usize, Option<u64>)> =
            lists.iter().map(|place| (*place, length(*place))).collect();
        // Lists that are in others and are shorter come last, in the order of the document.
        ranked.sort_by_key(|(_, length)| std::cmp::Reverse(*length));
        ranked.into_iter().map(|(place, _)| place).collect()
    }
}

#[cfg(test)]
mod tests {
    use crate::tree::{Kind, Survey};

    /// Surveys lists of objects: how many lists of each name, and of how many items each.
    fn items(survey: &mut Survey, name: &str, count: usize, inside: &dyn Fn(&mut Survey)) {
        survey.open(Some(name), Kind::List);
        for _ in 0..count {
            survey.open(None, Kind::Object);
            inside(survey);
            survey.close();
        }
        survey.close();
    }

    fn best(document: &dyn Fn(&mut Survey)) -> String {
        let mut survey = Survey::default();
        survey.open(None, Kind::Object);
        document(&mut survey);
        survey.close();
        let survey = survey.finish();
        let nodes = survey.nodes.iter().enumerate();
        let lists: Vec<usize> = nodes
            .filter(|(_, node)| node.items)
            .map(|(at, _)| at)
            .collect();
        survey.path(survey.by_likely_records(&lists)[0])
    }

    #[test]
    fn the_longest_list_is_that_of_the_records() {
        let none = |_: &mut Survey| {};
        let after = best(&|survey| {
            items(survey, "codes", 3, &none);
            items(survey, "calls", 50, &none);
        });
        assert_eq!(after, "calls[]");
        let parts = best(&|survey| {
            items(survey, "calls", 50, &|survey| {
                items(survey, "cargo", 100, &none);
            });
        });
        assert_eq!(parts, "calls[]");
        let groups = best(&|survey| {
            items(survey, "quays", 3, &|survey| {
                items(survey, "calls", 50, &none);
            });
            items(survey, "codes", 20, &none);
        });
        assert_eq!(groups, "quays[].calls[]");
        let equal = best(&|survey| {
            items(survey, "quays", 3, &none);
            items(survey, "calls", 3, &none);
        });
        assert_eq!(equal, "quays[]");
    }
}
