//! The axis of a chart, and where its columns and bars begin and end.

use numerant_data::value::grouped;
use numerant_format::sheet::Chart;

/// The values between which an axis goes, and the steps on it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Axis {
    least: f64,
    greatest: f64,
    step: f64,
}

impl Axis {
    pub(super) fn of(chart: &Chart) -> Self {
        let mut values: Vec<f64> = chart
            .series
            .iter()
            .flat_map(|series| series.values.iter().flatten().copied())
            .collect();
        if chart.is_stacked {
            let count = chart
                .series
                .iter()
                .map(|series| series.values.len())
                .max()
                .unwrap_or(0);
            values = (0..count)
                .map(|place| {
                    chart
                        .series
                        .iter()
                        .filter_map(|series| *series.values.get(place)?)
                        .sum()
                })
                .collect();
        }
        let greatest = values.iter().copied().fold(0.0, f64::max);
        let least = values.iter().copied().fold(0.0, f64::min);
        let spread = if greatest > least {
            greatest - least
        } else {
            1.0
        };
        let rough = spread / 5.0;
        let power = 10_f64.powf(rough.log10().floor());
        let factor = [1.0, 2.0, 2.5, 5.0]
            .into_iter()
            .find(|factor| rough <= factor * power);
        let step = factor.unwrap_or(10.0) * power;
        Self {
            least: (least / step).floor() * step,
            greatest: (greatest / step).ceil().max((least / step).floor() + 1.0) * step,
            step,
        }
    }

    /// Where a value is, from 0 to 1.
    pub(super) fn share(self, value: f64) -> f32 {
        ((value - self.least) / (self.greatest - self.least)) as f32
    }

    pub(super) fn steps(self) -> impl Iterator<Item = f64> {
        let count = ((self.greatest - self.least) / self.step).round() as u32;
        (0..=count.min(20)).map(move |place| self.least + f64::from(place) * self.step)
    }

    pub(super) fn text(self, value: f64) -> String {
        // As many digits as steps have.
        let is_whole = |places: &usize| {
            let moved = self.step * 10_f64.powi(*places as i32);
            (moved - moved.round()).abs() < moved * 1e-6
        };
        let places = (0..7).find(is_whole).unwrap_or(7);
        // Zero has no sign.
        grouped(&format!("{:.places$}", value + 0.0))
    }
}

/// Values that are on each other: the positive ones upwards, the negative ones downwards.
#[derive(Clone, Copy, Debug, Default)]
struct Stack {
    up: f64,
    down: f64,
}

impl Stack {
    /// Puts a value on its side, and returns where it begins.
    fn put(&mut self, value: f64) -> f64 {
        let end = if value < 0.0 {
            &mut self.down
        } else {
            &mut self.up
        };
        let begins = *end;
        *end += value;
        begins
    }
}

/// A column or bar of a chart.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Bar {
    /// The place of its category.
    pub(super) at: usize,
    /// The place of its series.
    pub(super) series: usize,
    /// The place next to the other bars of the category.
    pub(super) lane: usize,
    /// The value at which it begins.
    pub(super) from: f64,
    /// The value at which it ends.
    pub(super) to: f64,
}

/// How many bars of a category are side by side.
pub(super) fn lane_count(chart: &Chart) -> usize {
    if chart.is_stacked {
        1
    } else {
        chart.series.len().max(1)
    }
}

/// The columns or bars of a chart.
pub(super) fn bars_of(chart: &Chart) -> Vec<Bar> {
    let count = chart.series.iter().map(|series| series.values.len()).max();
    let mut bars = Vec::new();
    for at in 0..count.unwrap_or(0) {
        let mut stack = Stack::default();
        for (place, series) in chart.series.iter().enumerate() {
            let Some(value) = series.values.get(at).copied().flatten() else {
                continue;
            };
            let (from, lane) = if chart.is_stacked {
                (stack.put(value), 0)
            } else {
                (0.0, place)
            };
            bars.push(Bar {
                at,
                series: place,
                lane,
                from,
                to: from + value,
            });
        }
    }
    bars
}

#[cfg(test)]
mod tests {
    use super::*;
    use numerant_format::sheet::{ChartKind, Series};

    #[test]
    fn axes_end_at_round_numbers() {
        let axis = |values: &[f64], is_stacked: bool| {
            let series = values.iter().map(|value| Series {
                name: String::new(),
                color: None,
                values: vec![Some(*value)],
            });
            let chart = Chart {
                kind: ChartKind::Columns,
                title: String::new(),
                category_title: String::new(),
                value_title: String::new(),
                categories: Vec::new(),
                series: series.collect(),
                is_stacked,
                has_legend: false,
            };
            let axis = Axis::of(&chart);
            (
                axis.text(axis.least),
                axis.text(axis.greatest),
                axis.text(axis.step),
            )
        };
        let texts =
            |one: &str, two: &str, three: &str| (one.to_owned(), two.to_owned(), three.to_owned());
        assert_eq!(axis(&[3.0, 9.5], false), texts("0", "10", "2"));
        assert_eq!(axis(&[60.0, 60.0], true), texts("0", "125", "25"));
        assert_eq!(axis(&[-4.0, 8.0], false), texts("-5.0", "10.0", "2.5"));
        assert_eq!(axis(&[0.0], false), texts("0.0", "0.2", "0.2"));
        assert_eq!(axis(&[12_345.0], false), texts("0", "12,500", "2,500"));
    }

    #[test]
    fn bars_stand_side_by_side_or_on_each_other() {
        let series = |values: &[Option<f64>]| Series {
            name: String::new(),
            color: None,
            values: values.to_vec(),
        };
        let mut chart = Chart {
            kind: ChartKind::Bars,
            title: String::new(),
            category_title: String::new(),
            value_title: String::new(),
            categories: Vec::new(),
            series: vec![
                series(&[Some(2.0), None]),
                series(&[Some(-1.0), Some(4.0)]),
                series(&[Some(3.0)]),
            ],
            is_stacked: false,
            has_legend: false,
        };
        let found = |chart: &Chart| -> Vec<(usize, usize, f64, f64)> {
            bars_of(chart)
                .iter()
                .map(|bar| (bar.at, bar.lane, bar.from, bar.to))
                .collect()
        };
        assert_eq!(lane_count(&chart), 3);
        assert_eq!(
            found(&chart),
            [
                (0, 0, 0.0, 2.0),
                (0, 1, 0.0, -1.0),
                (0, 2, 0.0, 3.0),
                (1, 1, 0.0, 4.0)
            ]
        );
        chart.is_stacked = true;
        assert_eq!(lane_count(&chart), 1);
        assert_eq!(
            found(&chart),
            [
                (0, 0, 0.0, 2.0),
                (0, 0, 0.0, -1.0),
                (0, 0, 2.0, 5.0),
                (1, 0, 0.0, 4.0)
            ]
        );
    }
}
