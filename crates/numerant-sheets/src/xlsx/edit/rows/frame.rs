//! What stands around the rows of a sheet, and the parts that belong to it, brought to where the rows have come.

use std::collections::HashSet;

use super::texts::TextNumbers;
use super::{Moved, RowCutter, number};
use crate::repack::Change;
use crate::xlsx::cell_reference::{Area, CellReference};
use crate::xlsx::edit::assemble::{Extracted, Target};
use crate::xlsx::edit::element::{Document, Element};
use crate::xlsx::edit::relations::Relationships;
use crate::xlsx::edit::sheet::Gone;
use crate::xlsx::formula;
use crate::xlsx::formula::Cells;
use numerant_data::source::ReadProblem;

impl RowCutter {
    /// Brings what stands around the rows to where they have come.
    pub(super) fn edit_frame(
        &self,
        frame: &mut Document,
        moved: &Moved,
        used: &mut TextNumbers,
        extracted: &mut Extracted,
    ) {
        let (above, gone) = (self.above, &self.gone);
        let (mut scenarios, mut filters, mut lost_rules) = (0, 0, 0);
        let mut keep = |element: &mut Element| -> bool {
            let attribute = match element.name() {
                "conditionalFormatting" | "dataValidation" | "ignoredError" | "protectedRange" => {
                    "sqref"
                }
                "mergeCell" | "hyperlink" | "autoFilter" | "dimension" | "sortState"
                | "sortCondition" => "ref",
                "inputCells" | "cellWatch" | "cellSmartTags" => "r",
                "filterColumn" => return without_criteria(element, &mut filters),
                "scenario" => {
                    // It holds the values of its cells.
                    let is_whole = element.elements().all(|cell| {
                        let place = cell
                            .attribute("r")
                            .and_then(|text| CellReference::parse(&text));
                        place.is_none_or(|place| moved.row(place.row).is_some())
                    });
                    scenarios += u64::from(!is_whole);
                    return is_whole;
                }
                "scenarios" => {
                    let areas = element.attribute("sqref");
                    let left = areas.and_then(|areas| moved.areas(&areas));
                    element.set_attribute("sqref", left.as_deref());
                    return true;
                }
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
            let is_rule = matches!(element.name(), "conditionalFormatting" | "dataValidation");
            match moved
                .areas(&text)
                .filter(|left| !is_rule || moved.holds_rule(left))
            {
                Some(left) => {
                    element.set_attribute(attribute, Some(&left));
                    true
                }
                None => {
                    // Among rows in another order, the records that a rule is for are unknown.
                    lost_rules += u64::from(is_rule && moved.is_reordered());
                    false
                }
            }
        };
        frame.root.prune(&mut keep);
        extracted.scenarios += scenarios;
        extracted.reordered += lost_rules;
        extracted.filters += filters;
        if scenarios > 0
            && let Some(list) = frame.root.child_mut("scenarios")
        {
            // Which of them is shown is said by their number.
            list.set_attribute("current", None);
            list.set_attribute("show", None);
        }
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
                        extracted.formulas += 1;
                        extracted.without_value += u64::from(element.child("v").is_none());
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
                        extracted.rules += 1;
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
            extracted.rules += self.edit_extensions(extensions, moved);
        }
        let is_empty = |list: &Element| list.elements().next().is_none();
        frame
            .root
            .retain(|element| element.name() != "extLst" || !is_empty(element));
    }

    /// Brings the rules and small charts of extensions to where their rows have come; how many lead to
    /// what is not there.
    pub(super) fn edit_extensions(&self, extensions: &mut Element, moved: &Moved) -> u64 {
        let mut lost = 0;
        let is_entry = |name: &str| {
            matches!(
                name,
                "conditionalFormatting"
                    | "dataValidation"
                    | "sparkline"
                    | "ignoredError"
                    | "protectedRange"
            )
        };
        let left = |element: &Element| -> Option<String> {
            let areas = element.child("sqref").map(Element::text)?;
            Some(moved.areas(&areas).unwrap_or_default())
        };
        let mut keep = |entry: &mut Element| -> bool {
            if !is_entry(entry.name()) {
                return true;
            }
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
        extensions.prune(&mut keep);
        extensions.prune(&mut |group| {
            group.name() != "sparklineGroup" || group.child("sparklines").is_some()
        });
        extensions.walk_mut(&mut |element| {
            let ranges = element.name() == "sparkline";
            for child in element.elements_mut() {
                if child.name() != "f" {
                    continue;
                }
                let text = child.text();
                let new = if ranges {
                    moved.formula(&text, &self.sheet)
                } else {
                    moved.rule(&text, &self.sheet)
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
    pub(super) fn edit_names(&self, target: &mut Target, moved: &Moved) {
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
        target.extracted.names += lost;
    }

    /// Edits the parts that belong to the sheet.
    pub(super) fn edit_parts(
        &self,
        target: &mut Target,
        frame: &mut Document,
        moved: &Moved,
    ) -> Result<(), ReadProblem> {
        let Some(mut leads) = Relationships::of(&self.book.package, &self.part)? else {
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
        let extracted = &mut target.extracted;
        leads.retain(|lead| match lead.kind.as_str() {
            "pivotTable" => {
                extracted.pivots_left_out += 1;
                false
            }
            "slicer" | "timeline" => {
                extracted.lost += 1;
                false
            }
            kind => !by_id.contains(&kind) || wanted.contains(&lead.id),
        });
        let known: HashSet<&str> = leads.all.iter().map(|lead| lead.id.as_str()).collect();
        frame.root.drop_dangling(&|id| known.contains(id));
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
        let gone: Vec<String> = Relationships::of(&self.book.package, &self.part)?
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
        moved: &Moved,
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
            let extracted = &mut target.extracted;
            filter.retain_mut(|column| without_criteria(column, &mut extracted.filters));
        }
        table.root.retain(|element| element.name() != "sortState");
        target.change(path, Change::Bytes(table.into_bytes()));
        Ok(())
    }

    pub(super) fn edit_chart(
        &self,
        target: &mut Target,
        path: &str,
        moved: &Moved,
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
        if moved.is_reordered() {
            target.extracted.reordered += lost;
        } else {
            target.extracted.ranges += lost;
        }
        target.change(path, Change::Bytes(chart.into_bytes()));
        Ok(())
    }
}

/// The comments of rows that are left.
fn edit_comments(target: &mut Target, path: &str, moved: &Moved) -> Result<(), ReadProblem> {
    let Some(mut document) = target.book.part(path)? else {
        return Ok(());
    };
    let mut keep = |element: &mut Element| -> bool {
        if !matches!(element.name(), "comment" | "threadedComment") {
            return true;
        }
        let place = element
            .attribute("ref")
            .and_then(|place| CellReference::parse(&place));
        let Some(place) = place else { return true };
        match moved.row(place.row) {
            Some(row) => {
                let new = CellReference { row, ..place };
                element.set_attribute("ref", Some(&new.to_string()));
                true
            }
            None => false,
        }
    };
    document.root.prune(&mut keep);
    target.change(path, Change::Bytes(document.into_bytes()));
    Ok(())
}

/// Takes the criteria of a filter away that name values of records; whether anything is left of it.
fn without_criteria(column: &mut Element, filters: &mut u64) -> bool {
    let before = column.elements().count();
    column.retain(|child| matches!(child.name(), "colorFilter" | "iconFilter"));
    let left = column.elements().count();
    *filters += u64::from(left < before);
    let is_button = ["hiddenButton", "showButton"]
        .iter()
        .any(|name| column.attribute(name).is_some());
    left > 0 || is_button
}

/// The boxes of comments of rows that are left.
fn edit_shapes(target: &mut Target, path: &str, moved: &Moved) -> Result<(), ReadProblem> {
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
