//! Groups of records on pages: those with one value of a column, with their subtotals.

use std::collections::HashMap;
use std::io;

use numerant_data::value::Number;
use numerant_format::sheet::Cell;

/// The groups of a sheet, in the order of their first records.
#[derive(Debug)]
pub(crate) struct Groups {
    /// The place of the column in the sheet.
    pub(crate) column: usize,
    /// The places of the columns with subtotals.
    totals: Vec<usize>,
    places: HashMap<String, usize>,
    pub(crate) groups: Vec<Group>,
}

/// The records with one value of a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Group {
    /// The value as it is shown.
    pub(crate) value: String,
    pub(crate) records: u64,
    /// The subtotals, by the places of their columns in the sheet.
    pub(crate) sums: Vec<(usize, Number)>,
}

impl Groups {
    /// Begins groups by a column, with subtotals of the columns with these `totals`.
    pub(crate) fn new(column: usize, totals: &[(usize, String)]) -> Self {
        Self {
            column,
            totals: totals.iter().map(|(place, _)| *place).collect(),
            places: HashMap::new(),
            groups: Vec::new(),
        }
    }

    /// Counts a record, and returns the place of its group.
    pub(crate) fn take(&mut self, value: &str, cells: &[Cell<'_>]) -> io::Result<usize> {
        let place = match self.places.get(value) {
            Some(place) => *place,
            None => {
                let place = self.groups.len();
                self.places.insert(value.to_owned(), place);
                self.groups.push(Group {
                    value: value.to_owned(),
                    records: 0,
                    sums: self
                        .totals
                        .iter()
                        .map(|column| (*column, Number::ZERO))
                        .collect(),
                });
                place
            }
        };
        let group = &mut self.groups[place];
        group.records += 1;
        for (column, sum) in &mut group.sums {
            let digits: &str = match &cells[*column] {
                Cell::Blank => continue,
                Cell::Number(digits, _) => digits,
                Cell::Text(text) if text.trim().is_empty() => continue,
                Cell::Text(text) => text,
                Cell::Moment(..) | Cell::Boolean(..) => {
                    return Err(io::Error::other(
                        "a subtotal needs numbers, and one of its values is not a number",
                    ));
                }
            };
            let number: Number = digits.parse().map_err(io::Error::other)?;
            *sum = sum.plus(number).map_err(io::Error::other)?;
        }
        Ok(place)
    }

    /// Checks that the subtotals add up to the control totals.
    pub(crate) fn check(&self, totals: &[(usize, String)]) -> io::Result<()> {
        for (place, (column, total)) in totals.iter().enumerate() {
            let mut sum = Number::ZERO;
            for group in &self.groups {
                sum = sum.plus(group.sums[place].1).map_err(io::Error::other)?;
            }
            let total_number: Number = total.parse().map_err(io::Error::other)?;
            if sum.compare(total_number).is_ne() {
                return Err(io::Error::other(format!(
                    "the subtotals of column {} add up to {sum}, and its control total is {total}",
                    column + 1
                )));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_format::sheet::CellFormat;

    #[test]
    fn subtotals_are_exact_and_add_up() {
        let totals = [(1, "0.60".to_owned())];
        let mut groups = Groups::new(0, &totals);
        for (value, digits) in [("coal", "0.1"), ("grain", "0.30"), ("coal", "0.2")] {
            let number = Cell::Number(digits.into(), CellFormat::General);
            let place = groups.take(value, &[Cell::Text(value), number]);
            assert_eq!(place.expect("a number"), usize::from(value == "grain"));
        }
        let sums: Vec<String> = groups
            .groups
            .iter()
            .map(|g| g.sums[0].1.to_string())
            .collect();
        assert_eq!(sums, ["0.3", "0.30"]);
        assert!(groups.check(&totals).is_ok());
        assert!(groups.check(&[(1, "0.61".to_owned())]).is_err());
        let text = Cell::Text("much");
        assert!(groups.take("coal", &[Cell::Blank, text]).is_err());
    }
}
