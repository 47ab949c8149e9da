//! Where rows have come to, and what that makes of areas and formulas.

use crate::xlsx::cell_reference::{Anchored, Area, CellReference};
use crate::xlsx::formula;
use crate::xlsx::formula::Reference;
use numerant_data::narrow::to_u32;

/// Where rows have come to.
pub(super) struct Moved {
    pub(super) above: u32,
    /// The rows that were taken, by their old numbers.
    pub(super) rows: Vec<u32>,
    /// The place of each of them below the rows above, from 0; none if they are in their old order.
    places: Option<Vec<u32>>,
}

impl Moved {
    /// Rows that are below the row `above`, in their new order.
    pub(super) fn new(above: u32, order: &[u32]) -> Self {
        if order.is_sorted() {
            return Self {
                above,
                rows: order.to_vec(),
                places: None,
            };
        }
        let mut rows: Vec<(u32, u32)> = order.iter().copied().zip(0..).collect();
        rows.sort_unstable();
        let (rows, places) = rows.into_iter().unzip();
        Self {
            above,
            rows,
            places: Some(places),
        }
    }

    /// Whether rows are in another order than before.
    pub(super) fn is_reordered(&self) -> bool {
        self.places.is_some()
    }

    /// The new number of a row.
    pub(super) fn row(&self, row: u32) -> Option<u32> {
        if row <= self.above {
            return Some(row);
        }
        let at = self.rows.binary_search(&row).ok()?;
        let place = self.places.as_ref().map_or(to_u32(at), |places| places[at]);
        Some(self.above + 1 + place)
    }

    /// What is left of an area of rows in another order: the records up to one, or one row.
    fn reordered_area(&self, area: Area, places: &[u32]) -> Option<Area> {
        if area.last.row <= self.above {
            return Some(area);
        }
        let from = self.rows.partition_point(|row| *row < area.first.row);
        let to = self.rows.partition_point(|row| *row <= area.last.row);
        let inside = places.get(from..to).filter(|inside| !inside.is_empty())?;
        let (first, last) = (inside.iter().min()?, inside.iter().max()?);
        let is_block = (last - first) as usize + 1 == inside.len();
        let is_first = *first == 0 || inside.len() == 1;
        if !is_block || !is_first {
            return None;
        }
        let top = if area.first.row <= self.above {
            area.first.row
        } else {
            self.above + 1 + first
        };
        (area.first.row > self.above || *first == 0)
            .then(|| area.with_rows(top, self.above + 1 + last))
    }

    /// What is left of an area.
    pub(super) fn area(&self, area: Area) -> Option<Area> {
        if let Some(places) = &self.places {
            return self.reordered_area(area, places);
        }
        let first = if area.first.row <= self.above {
            area.first.row
        } else {
            self.above + 1 + to_u32(self.rows.partition_point(|row| *row < area.first.row))
        };
        let last = if area.last.row <= self.above {
            area.last.row
        } else {
            self.above + to_u32(self.rows.partition_point(|row| *row <= area.last.row))
        };
        (first <= last).then(|| area.with_rows(first, last))
    }

    /// What is left of areas with blanks between them.
    pub(super) fn areas(&self, text: &str) -> Option<String> {
        let parsed = text
            .split_ascii_whitespace()
            .map(|area| match Area::parse(area) {
                Some(area) => self.area(area).map(|area| area.to_string()),
                // Whole columns stay what they are.
                None => Some(area.to_owned()),
            });
        let left: Vec<String> = parsed.flatten().collect();
        (!left.is_empty()).then(|| left.join(" "))
    }

    /// Whether a rule can be for what is left of its areas: among rows in another order it must be for the first
    /// record, by which its formulas count.
    pub(super) fn holds_rule(&self, areas: &str) -> bool {
        let begins =
            |area: &str| Area::parse(area).is_none_or(|area| area.first.row <= self.above + 1);
        !self.is_reordered() || areas.split_ascii_whitespace().all(begins)
    }

    /// A formula of a name or chart, with what is left of the areas on `sheet` that it leads to; `None`
    /// if nothing is left of one.
    pub(super) fn formula(&self, formula: &str, sheet: &str) -> Option<String> {
        let (cells, _) = formula::cells(formula);
        let mut written = String::new();
        let mut done = 0;
        for named in &cells {
            let on_sheet = match &named.sheet {
                Some(Reference::Sheets(first, None)) => first.eq_ignore_ascii_case(sheet),
                None => true,
                _ => false,
            };
            if !on_sheet {
                continue;
            }
            let last = named.last.unwrap_or(named.first);
            let area = Area {
                first: named.first.place,
                last: last.place,
            };
            let left = self.area(area)?;
            let corner = |anchored: Anchored, place: CellReference| Anchored { place, ..anchored };
            written.push_str(&formula[done..named.range.start]);
            written.push_str(&corner(named.first, left.first).to_string());
            if named.last.is_some() {
                written.push_str(&format!(":{}", corner(last, left.last)));
            }
            done = named.range.end;
        }
        Some(written + &formula[done..])
    }

    /// The formula of a rule, which counts its rows from the first of those that it is for.
    pub(super) fn rule(&self, formula: &str, sheet: &str) -> Option<String> {
        let (cells, _) = formula::cells(formula);
        formula::with_cells(formula, &cells, |named, mut cell| {
            let on_sheet = match &named.sheet {
                None => true,
                Some(Reference::Sheets(first, None)) => first.eq_ignore_ascii_case(sheet),
                Some(_) => return Some(cell),
            };
            let row = cell.place.row;
            if on_sheet && row > self.above {
                cell.place.row = match cell.fixed_row {
                    // A fixed row is a certain record, but for the ends of an area.
                    true if named.last.is_none() => self.row(row)?,
                    true => {
                        let below = to_u32(self.rows.partition_point(|known| *known <= row));
                        self.above + below.max(1)
                    }
                    // The first of the rule's rows comes to be the first that is left.
                    false => {
                        let before = to_u32(self.rows.partition_point(|known| *known < row));
                        self.above + 1 + before.min(to_u32(self.rows.len().saturating_sub(1)))
                    }
                };
            }
            Some(cell)
        })
    }
}
