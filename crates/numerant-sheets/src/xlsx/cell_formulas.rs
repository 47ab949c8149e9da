//! The formulas of cells as texts, also of those that share one.

use std::collections::HashMap;

use super::cell_reference;
use super::formula::shifted;

/// The formulas of a sheet, where they are wanted.
#[derive(Debug, Default)]
pub(super) struct Formulas {
    /// The number by which the open cell shares its formula, and the text of that.
    group: Option<String>,
    pub(super) text: String,
    /// The formulas that others share, with the cells that they were written for.
    shared: HashMap<String, (cell_reference::CellReference, String)>,
}

impl Formulas {
    /// Begins the formula of a cell, by the attributes of its element.
    pub(super) fn begin(&mut self, attribute: impl Fn(&str) -> Option<String>) {
        let is_shared = attribute("t").is_some_and(|kind| kind == "shared");
        self.group = attribute("si").filter(|_| is_shared);
        self.text.clear();
    }

    /// The formula of the open cell, which is at `place`.
    pub(super) fn take(&mut self, place: cell_reference::CellReference) -> String {
        let text = std::mem::take(&mut self.text);
        match self.group.take() {
            Some(group) if text.is_empty() => {
                let shared = self.shared.get(&group);
                let text = shared.and_then(|(from, text)| shifted(text, *from, place));
                text.unwrap_or_default()
            }
            Some(group) => {
                self.shared.insert(group, (place, text.clone()));
                text
            }
            None => text,
        }
    }
}
