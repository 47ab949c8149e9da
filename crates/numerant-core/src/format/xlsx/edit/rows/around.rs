//! What stands around the rows of a sheet, and the parts that belong to it, brought to where the rows have come.

use std::collections::HashSet;

use super::texts::TextNumbers;
use super::{Cutting, Moved, number};
use crate::format::repack::Change;
use crate::format::xlsx::edit::assemble::{Extracted, Target};
use crate::format::xlsx::edit::element::{Document, Element};
use crate::format::xlsx::edit::relations::Leads;
use crate::format::xlsx::edit::sheet::Gone;
use crate::format::xlsx::formula::{self, Cells};
use crate::format::xlsx::place::{Area, Place};
use crate::source::ReadProblem;

impl Cutting {
    /// Brings what stands around the rows to where they have come.
    pub(super) fn edit_frame(
        &self,
        frame: &mut Document,
        moved: &Moved<'_>,
        used: &mut TextNumbers,
        told: &mut Extracted,
    ) {
        let (above, gone) = (self.above, &self.gone);
        let keep = |element: &mut Element| -> bool {
            let attribute = match element.name() {
                "conditionalFormatting" | "dataValidation" | "ignoredError" | "protectedRange" => {
                    "sqref"
                }
                "mergeCell" | "hyperlink" | "autoFilter" | "dimension" | "sortState"
                | "sortCondition" => "ref",
                "brk" => {
                    let row = number(element.attribute("id"));
                    // Breaks of columns have small numbers, and stay.
                    return row.is_none_or(|row| row <= above || moved.row(row).is_some());
                }
                _ => return true,
            };
            let Some(text) = element.attribute(attribute) else {
                return true;
            };
            let whole = |area: &Area| {
                // A merged cell of which a row is gone is none.
                let length = area.last.row - area.first.row;
                let left = moved.area(*area);
                element.name() == "mergeCell"
                    && left.is_some_and(|left| left.last.row - left.first.row != length)
            };
            if Area::parse(&text).is_some_and(|area| whole(&area)) {
                return false;
            }
            match moved.areas(&text) {
                Some(left) => {
                    element.set_attribute(attribute, Some(&left));
                    true
                }
                None => false,
            }
        };
        edit_tree(&mut frame.root, &keep);
        frame.root.walk_mut(&mut |element| match element.name() {
            "c" => {
                if element.attribute("t").as_deref() == Some("s")
                    && let Some(value) = element.child_mut("v")
                    && let Ok(text) = value.text().trim().parse::<usize>()
                {
                    value.set_text(&used.of(text).to_string());
                }
                if let Some(formula) = element.child("f") {
                    let (cells, whole) = formula::cells(&formula.text());
                    let below = |cells: &Cells| cells.last.unwrap_or(cells.first).place.row > above;
                    if whole || cells.iter().any(below) || gone.all || gone.breaks(&formula.text())
                    {
                        element.retain(|child| child.name() != "f");
                        told.formulas += 1;
                        told.without_value += u64::from(element.child("v").is_none());
                    }
                }
            }
            "formula" | "formula1" | "formula2" => {
                let text = element.text();
                match moved
                    .rule(&text, &self.sheet)
                    .filter(|_| !self.breaks_rule(&text))
                {
                    Some(new) if new == text => {}
                    Some(new) => element.set_text(&new),
                    None => {
                        element.set_text("#REF!");
                        told.rules += 1;
                    }
                }
            }
            "brk" => {
                if let Some(row) = number(element.attribute("id")).and_then(|row| moved.row(row)) {
                    element.set_attribute("id", Some(&row.to_string()));
                }
            }
            _ => {}
        });
        if let Some(extensions) = frame.root.child_mut("extLst") {
            told.rules += self.edit_extensions(extensions, moved);
        }
        for list in ["mergeCells", "hyperlinks", "dataValidations"] {
            let count = frame
                .root
                .child(list)
                .map_or(0, |list| list.elements().count());
            match frame.root.child_mut(list) {
                Some(list) if count > 0 => {
                    if list.attribute("count").is_some() {
                        list.set_attribute("count", Some(&count.to_string()));
                    }
                }
                _ => frame.root.retain(|element| element.name() != list),
            }
        }
    }

    /// Brings the rules and small charts of extensions to where their rows have come; how many lead to
    /// what is not there.
    pub(super) fn edit_extensions(&self, extensions: &mut Element, moved: &Moved<'_>) -> u64 {
        let mut lost = 0;
        let left = |element: &Element| -> Option<String> {
            let areas = element.child("sqref").map(Element::text)?;
            Some(moved.areas(&areas).unwrap_or_default())
        };
        let mut edit = |entry: &mut Element| -> bool {
            match left(entry) {
                Some(areas) if areas.is_empty() => return false,
                Some(areas) => {
                    if let Some(element) = entry.child_mut("sqref") {
                        element.set_text(&areas);
                    }
                }
                None => {}
            }
            true
        };
        let is_entry = |name: &str| {
            matches!(
                name,
                "conditionalFormatting" | "dataValidation" | "sparkline" | "ignoredError"
            )
        };
        walk_entries(extensions, &is_entry, &mut edit);
        extensions.walk_mut(&mut |element| {
            let ranges = element.name() == "sparkline";
            for child in element.elements_mut() {
                if child.name() != "f" {
                    continue;
                }
                let text = child.text();
                let new = match ranges {
                    true => moved.formula(&text, &self.sheet),
                    false => moved.rule(&text, &self.sheet),
                };
                match new.filter(|_| !self.breaks_rule(&text)) {
                    Some(new) => child.set_text(&new),
                    None => {
                        child.set_text("#REF!");
                        lost += 1;
                    }
                }
            }
        });
        lost
    }

    /// Whether a rule leads to what is not there.
    pub(super) fn breaks_rule(&self, formula: &str) -> bool {
        let gone = Gone {
            sheets: self.gone.sheets.clone(),
            ..Gone::default()
        };
        gone.breaks(formula)
    }

    /// Brings the names of ranges to where their rows have come.
    pub(super) fn edit_names(&self, target: &mut Target, moved: &Moved<'_>) {
        let mut lost = 0;
        let root = &mut target.book.document.root;
        if let Some(names) = root.child_mut("definedNames") {
            names.retain_mut(|name| {
                let text = name.text();
                match moved.formula(&text, &self.sheet) {
                    Some(new) if new == text => true,
                    Some(new) => {
                        name.set_text(&new);
                        true
                    }
                    None => {
                        lost += 1;
                        false
                    }
                }
            });
            if names.elements().next().is_none() {
                root.retain(|element| element.name() != "definedNames");
            }
        }
        target.told.names += lost;
    }

    /// Edits the parts that belong to the sheet.
    pub(super) fn edit_parts(
        &self,
        target: &mut Target,
        frame: &mut Document,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut leads) = Leads::of(&self.book.package, &self.part)? else {
            return Ok(());
        };
        let mut wanted: HashSet<String> = HashSet::new();
        frame.root.walk_mut(&mut |element| {
            if element.leads_by("id") {
                wanted.extend(element.attribute("id"));
            }
        });
        let by_id = [
            "hyperlink",
            "drawing",
            "table",
            "vmlDrawing",
            "legacyDrawingHF",
            "printerSettings",
            "image",
        ];
        let before = leads.all.len();
        leads.retain(|lead| {
            let pivots = matches!(lead.kind.as_str(), "pivotTable" | "slicer" | "timeline");
            !pivots && (!by_id.contains(&lead.kind.as_str()) || wanted.contains(&lead.id))
        });
        target.told.lost += (before > leads.all.len()) as u64
            * Leads::of(&self.book.package, &self.part)?
                .iter()
                .flat_map(|leads| &leads.all)
                .filter(|lead| matches!(lead.kind.as_str(), "pivotTable" | "slicer" | "timeline"))
                .count() as u64;
        for lead in leads.all.iter().filter(|lead| !lead.outside) {
            match lead.kind.as_str() {
                "table" => self.edit_table(target, &lead.target, moved)?,
                "comments" | "threadedComment" => edit_comments(target, &lead.target, moved)?,
                "vmlDrawing" => edit_shapes(target, &lead.target, moved)?,
                "drawing" => {
                    for chart in self.book.of_kind(&lead.target, "chart")? {
                        self.edit_chart(target, &chart, moved)?;
                    }
                }
                _ => {}
            }
        }
        let gone: Vec<String> = Leads::of(&self.book.package, &self.part)?
            .iter()
            .flat_map(|all| &all.all)
            .filter(|lead| !lead.outside && !leads.all.iter().any(|kept| kept.id == lead.id))
            .map(|lead| lead.target.clone())
            .collect();
        target.drop_from(&self.part, &gone)?;
        target.change(
            &leads.path.clone(),
            Change::Bytes(leads.document.into_bytes()),
        );
        Ok(())
    }

    pub(super) fn edit_table(
        &self,
        target: &mut Target,
        path: &str,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut table) = self.book.part(path)? else {
            return Ok(());
        };
        let fit = |element: &mut Element| -> bool {
            let area = element.attribute("ref").and_then(|text| Area::parse(&text));
            let left = area.and_then(|area| moved.area(area));
            if let Some(left) = left {
                element.set_attribute("ref", Some(&left.to_string()));
            }
            true
        };
        fit(&mut table.root);
        if let Some(filter) = table.root.child_mut("autoFilter") {
            fit(filter);
        }
        table.root.retain(|element| element.name() != "sortState");
        target.change(path, Change::Bytes(table.into_bytes()));
        Ok(())
    }

    pub(super) fn edit_chart(
        &self,
        target: &mut Target,
        path: &str,
        moved: &Moved<'_>,
    ) -> Result<(), ReadProblem> {
        let Some(mut chart) = self.book.part(path)? else {
            return Ok(());
        };
        let mut lost = 0;
        chart.root.walk_mut(&mut |element| {
            if element.name() == "f" {
                let text = element.text();
                match moved
                    .formula(&text, &self.sheet)
                    .filter(|_| !self.breaks_rule(&text))
                {
                    Some(new) => element.set_text(&new),
                    None => {
                        element.set_text("#REF!");
                        lost += 1;
                    }
                }
            }
            element.retain(|child| {
                !matches!(child.name(), "numCache" | "strCache" | "multiLvlStrCache")
            });
        });
        target.told.ranges += lost;
        target.change(path, Change::Bytes(chart.into_bytes()));
        Ok(())
    }
}

/// Hands the entries of extensions to `edit`, and takes those away that it does not keep.
fn walk_entries(
    element: &mut Element,
    is_entry: &dyn Fn(&str) -> bool,
    edit: &mut dyn FnMut(&mut Element) -> bool,
) {
    element.retain_mut(|child| {
        if is_entry(child.name()) {
            return edit(child);
        }
        walk_entries(child, is_entry, edit);
        true
    });
}

/// Takes away children that `keep` does not keep, and what they leave empty.
fn edit_tree(element: &mut Element, keep: &impl Fn(&mut Element) -> bool) {
    element.retain_mut(|child| {
        if !keep(child) {
            return false;
        }
        if !matches!(child.name(), "sheetData" | "extLst") {
            edit_tree(child, keep);
        }
        true
    });
}

/// The comments of rows that are left.
fn edit_comments(target: &mut Target, path: &str, moved: &Moved<'_>) -> Result<(), ReadProblem> {
    let Some(mut document) = target.book.part(path)? else {
        return Ok(());
    };
    let keep = |element: &mut Element| -> bool {
        if !matches!(element.name(), "comment" | "threadedComment") {
            return true;
        }
        let place = element
            .attribute("ref")
            .and_then(|place| Place::parse(&place));
        let Some(place) = place else { return true };
        match moved.row(place.row) {
            Some(row) => {
                let new = Place { row, ..place };
                element.set_attribute("ref", Some(&new.to_string()));
                true
            }
            None => false,
        }
    };
    edit_tree(&mut document.root, &keep);
    target.change(path, Change::Bytes(document.into_bytes()));
    Ok(())
}

/// The boxes of comments of rows that are left.
fn edit_shapes(target: &mut Target, path: &str, moved: &Moved<'_>) -> Result<(), ReadProblem> {
    let Some(mut document) = target.book.part(path)? else {
        return Ok(());
    };
    document.root.retain_mut(|shape| {
        if shape.name() != "shape" {
            return true;
        }
        let Some(data) = shape.child_mut("ClientData") else {
            return true;
        };
        let Some(row) = data
            .child("Row")
            .and_then(|row| row.text().trim().parse::<u32>().ok())
        else {
            return true;
        };
        // Rows are counted from 0 here.
        let Some(new) = moved.row(row + 1) else {
            return false;
        };
        if let Some(row) = data.child_mut("Row") {
            row.set_text(&(new - 1).to_string());
        }
        if let Some(anchor) = data.child_mut("Anchor") {
            let mut numbers: Vec<String> = anchor
                .text()
                .split(',')
                .map(|n| n.trim().to_owned())
                .collect();
            for place in [2, 6] {
                if let Some(number) = numbers.get_mut(place)
                    && let Ok(value) = number.parse::<u32>()
                {
                    *number = (value + new).saturating_sub(row + 1).to_string();
                }
            }
            anchor.set_text(&numbers.join(", "));
        }
        true
    });
    target.change(path, Change::Bytes(document.into_bytes()));
    Ok(())
}
