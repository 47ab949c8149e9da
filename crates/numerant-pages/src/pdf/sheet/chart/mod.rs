//! Charts of sheets: columns, bars, lines and pies.

mod axis;

use self::axis::{Axis, bars_of, lane_count};
use crate::fonts::{FontFace, MissingGlyph};
use crate::pdf::pen::{Area, Pen};
use numerant_format::sheet::{Chart, ChartKind, Rgb};

/// Colors of series that state none; people with color blindness tell them apart.
const COLORS: [Rgb; 8] = [
    [0x3b, 0x7d, 0xd8],
    [0xe6, 0x9f, 0x00],
    [0x00, 0x9e, 0x73],
    [0xcc, 0x79, 0xa7],
    [0x56, 0xb4, 0xe9],
    [0xd5, 0x5e, 0x00],
    [0x7a, 0x7a, 0x7a],
    [0xf0, 0xe4, 0x42],
];

const INK: Rgb = [0x33, 0x33, 0x33];
const RULE: Rgb = [0xd0, 0xd0, 0xd0];
const SIZE: f32 = 8.0;
const LINE: f32 = 1.25;

/// Draws a chart into an area.
pub(super) fn draw(pen: &mut Pen<'_>, chart: &Chart, area: Area) -> Result<(), MissingGlyph> {
    pen.rect(area, [255; 3]);
    pen.frame(area, 0.5, RULE);
    let mut inner = Area {
        left: area.left + 8.0,
        top: area.top + 6.0,
        width: (area.width - 16.0).max(10.0),
        height: (area.height - 12.0).max(10.0),
    };
    if !chart.title.is_empty() {
        let size = 11.0;
        let width = pen.fonts.width(&chart.title, FontFace::BOLD) * size;
        let left = inner.left + ((inner.width - width) / 2.0).max(0.0);
        pen.words(
            &chart.title,
            (left, inner.top + size),
            size,
            FontFace::BOLD,
            INK,
        )?;
        inner.top += size * 1.8;
        inner.height -= size * 1.8;
    }
    if chart.has_legend {
        legend(pen, chart, &mut inner)?;
    }
    axis_titles(pen, chart, &mut inner)?;
    match chart.kind {
        ChartKind::Pie => pie(pen, chart, inner),
        ChartKind::Bars => bars(pen, chart, inner),
        ChartKind::Columns | ChartKind::Lines => upright(pen, chart, inner),
    }
}

/// The titles of the axes: that of the upright one above it, the other below the chart.
fn axis_titles(pen: &mut Pen<'_>, chart: &Chart, inner: &mut Area) -> Result<(), MissingGlyph> {
    let (upright, level) = match chart.kind {
        ChartKind::Pie => return Ok(()),
        ChartKind::Bars => (&chart.category_title, &chart.value_title),
        ChartKind::Columns | ChartKind::Lines => (&chart.value_title, &chart.category_title),
    };
    if !upright.is_empty() {
        pen.words(
            upright,
            (inner.left, inner.top + SIZE),
            SIZE,
            FontFace::REGULAR,
            INK,
        )?;
        inner.top += SIZE * 1.5;
        inner.height -= SIZE * 1.5;
    }
    if !level.is_empty() {
        let width = pen.fonts.width(level, FontFace::REGULAR) * SIZE;
        let left = inner.left + ((inner.width - width) / 2.0).max(0.0);
        let base = inner.top + inner.height - SIZE * 0.3;
        pen.words(level, (left, base), SIZE, FontFace::REGULAR, INK)?;
        inner.height -= SIZE * 1.5;
    }
    Ok(())
}

fn color(chart: &Chart, place: usize) -> Rgb {
    let stated = chart.series.get(place).and_then(|series| series.color);
    stated.unwrap_or(COLORS[place % COLORS.len()])
}

/// The names of what has a color of its own, below the chart.
fn legend(pen: &mut Pen<'_>, chart: &Chart, inner: &mut Area) -> Result<(), MissingGlyph> {
    let names: Vec<(&str, Rgb)> = if chart.kind == ChartKind::Pie {
        let names = chart.categories.iter().enumerate();
        names
            .map(|(place, name)| (name.as_str(), COLORS[place % COLORS.len()]))
            .collect()
    } else {
        let series = chart.series.iter().enumerate();
        series
            .map(|(place, series)| (series.name.as_str(), color(chart, place)))
            .collect()
    };
    let mut rows: Vec<Vec<(&str, Rgb, f32)>> = vec![Vec::new()];
    let mut taken = 0.0;
    for (name, color) in names.into_iter().take(24) {
        let width = pen.fonts.width(name, FontFace::REGULAR) * SIZE + SIZE * 2.5;
        if taken + width > inner.width && taken > 0.0 {
            rows.push(Vec::new());
            taken = 0.0;
        }
        taken += width;
        if let Some(row) = rows.last_mut() {
            row.push((name, color, width));
        }
    }
    let height = rows.len() as f32 * SIZE * LINE + 4.0;
    inner.height = (inner.height - height).max(10.0);
    let mut base = inner.top + inner.height + 4.0 + SIZE;
    for row in rows {
        let width: f32 = row.iter().map(|(_, _, width)| width).sum();
        let mut left = inner.left + ((inner.width - width) / 2.0).max(0.0);
        for (name, color, width) in row {
            let mark = Area {
                left,
                top: base - SIZE * 0.75,
                width: SIZE * 0.75,
                height: SIZE * 0.75,
            };
            pen.rect(mark, color);
            pen.words(
                name,
                (left + SIZE * 1.1, base),
                SIZE,
                FontFace::REGULAR,
                INK,
            )?;
            left += width;
        }
        base += SIZE * LINE;
    }
    Ok(())
}

/// As much of a text as there is room for.
fn cut(pen: &Pen<'_>, text: &str, room: f32) -> String {
    if pen.fonts.width(text, FontFace::REGULAR) * SIZE <= room {
        return text.to_owned();
    }
    let mut kept = String::new();
    for character in text.chars() {
        kept.push(character);
        if pen.fonts.width(&kept, FontFace::REGULAR) * SIZE + SIZE * 0.7 > room {
            kept.pop();
            break;
        }
    }
    kept.push('…');
    kept
}

/// Columns and lines, over their categories.
fn upright(pen: &mut Pen<'_>, chart: &Chart, inner: Area) -> Result<(), MissingGlyph> {
    let axis = Axis::of(chart);
    let width_of = |pen: &Pen<'_>, text: &str| pen.fonts.width(text, FontFace::REGULAR) * SIZE;
    let labels: Vec<(f64, String)> = axis
        .steps()
        .map(|value| (value, axis.text(value)))
        .collect();
    let widest = labels
        .iter()
        .map(|(_, text)| width_of(pen, text))
        .fold(0.0, f32::max);
    let plot = Area {
        left: inner.left + widest + 5.0,
        top: inner.top + 4.0,
        width: (inner.width - widest - 8.0).max(10.0),
        height: (inner.height - SIZE * 2.0 - 4.0).max(10.0),
    };
    let height_of = |value: f64| plot.top + plot.height * (1.0 - axis.share(value));
    for (value, text) in &labels {
        let y = height_of(*value);
        pen.rule((plot.left, y), (plot.left + plot.width, y), 0.5, RULE);
        let left = plot.left - 4.0 - width_of(pen, text);
        pen.words(text, (left, y + SIZE * 0.35), SIZE, FontFace::REGULAR, INK)?;
    }
    let count = category_count(chart);
    let step = plot.width / count as f32;
    let names = chart.categories.iter().take(count);
    let widest_name = names
        .map(|name| width_of(pen, name))
        .fold(SIZE * 2.0, f32::max);
    let room = widest_name.min(plot.width / 3.0) + SIZE * 0.6;
    let each = (room / step).ceil().max(1.0) as usize;
    for (place, name) in chart
        .categories
        .iter()
        .enumerate()
        .take(count)
        .step_by(each)
    {
        let shown = cut(pen, name, step * each as f32 - 2.0);
        let left = plot.left + (place as f32 + 0.5) * step - width_of(pen, &shown) / 2.0;
        let base = plot.top + plot.height + SIZE * 1.4;
        pen.words(
            &shown,
            (left.max(inner.left), base),
            SIZE,
            FontFace::REGULAR,
            INK,
        )?;
    }
    if chart.kind == ChartKind::Lines {
        for (place, series) in chart.series.iter().enumerate() {
            let mut line = Vec::new();
            for (at, value) in series.values.iter().enumerate() {
                match value {
                    Some(value) => {
                        line.push((plot.left + (at as f32 + 0.5) * step, height_of(*value)));
                    }
                    None => pen.polyline(&std::mem::take(&mut line), 1.5, color(chart, place)),
                }
            }
            pen.polyline(&line, 1.5, color(chart, place));
        }
    } else {
        let lanes = lane_count(chart) as f32;
        let width = step * 0.7 / lanes;
        for bar in bars_of(chart) {
            let (one, other) = (height_of(bar.from), height_of(bar.to));
            let area = Area {
                left: plot.left + (bar.at as f32 + 0.15) * step + bar.lane as f32 * width,
                top: one.min(other),
                width,
                height: (one - other).abs(),
            };
            pen.rect(area, color(chart, bar.series));
        }
    }
    let zero = height_of(0.0);
    pen.rule((plot.left, zero), (plot.left + plot.width, zero), 0.8, INK);
    Ok(())
}

/// The number of categories, one at least.
fn category_count(chart: &Chart) -> usize {
    let counts = chart.series.iter().map(|series| series.values.len());
    counts.max().unwrap_or(0).max(1)
}

/// Bars next to their categories, the first at the bottom, as sheets have them.
fn bars(pen: &mut Pen<'_>, chart: &Chart, inner: Area) -> Result<(), MissingGlyph> {
    let axis = Axis::of(chart);
    let names: Vec<String> = chart
        .categories
        .iter()
        .map(|name| cut(pen, name, inner.width * 0.35))
        .collect();
    let width_of = |pen: &Pen<'_>, text: &str| pen.fonts.width(text, FontFace::REGULAR) * SIZE;
    let widest = names
        .iter()
        .map(|name| width_of(pen, name))
        .fold(0.0, f32::max);
    let plot = Area {
        left: inner.left + widest + 5.0,
        top: inner.top + 2.0,
        width: (inner.width - widest - 14.0).max(10.0),
        height: (inner.height - SIZE * 2.0).max(10.0),
    };
    let x_of = |value: f64| plot.left + plot.width * axis.share(value);
    for value in axis.steps() {
        let x = x_of(value);
        pen.rule((x, plot.top), (x, plot.top + plot.height), 0.5, RULE);
        let text = axis.text(value);
        let left = x - width_of(pen, &text) / 2.0;
        pen.words(
            &text,
            (left, plot.top + plot.height + SIZE * 1.4),
            SIZE,
            FontFace::REGULAR,
            INK,
        )?;
    }
    let count = category_count(chart);
    let step = plot.height / count as f32;
    let lanes = lane_count(chart);
    let height = step * 0.7 / lanes as f32;
    // The first category and the first series are at the bottom.
    let top_of = |at: usize| plot.top + plot.height - (at as f32 + 1.0) * step;
    for (at, name) in names.iter().enumerate().filter(|_| step > SIZE * 0.9) {
        let left = plot.left - 4.0 - width_of(pen, name);
        let base = top_of(at) + step / 2.0 + SIZE * 0.35;
        pen.words(name, (left, base), SIZE, FontFace::REGULAR, INK)?;
    }
    for bar in bars_of(chart) {
        let (one, other) = (x_of(bar.from), x_of(bar.to));
        let row = (lanes - 1 - bar.lane) as f32;
        let area = Area {
            left: one.min(other),
            top: top_of(bar.at) + step * 0.15 + row * height,
            width: (one - other).abs(),
            height,
        };
        pen.rect(area, color(chart, bar.series));
    }
    let zero = x_of(0.0);
    pen.rule((zero, plot.top), (zero, plot.top + plot.height), 0.8, INK);
    Ok(())
}

/// A pie of the first series, from the top to the right.
fn pie(pen: &mut Pen<'_>, chart: &Chart, inner: Area) -> Result<(), MissingGlyph> {
    let Some(series) = chart.series.first() else {
        return Ok(());
    };
    let total: f64 = series
        .values
        .iter()
        .flatten()
        .filter(|value| **value > 0.0)
        .sum();
    if total <= 0.0 {
        return Ok(());
    }
    let radius = inner.width.min(inner.height) / 2.0 - 2.0;
    let center = (
        inner.left + inner.width / 2.0,
        inner.top + inner.height / 2.0,
    );
    let mut from = 0.0;
    for (place, value) in series.values.iter().enumerate() {
        let Some(value) = value.filter(|value| *value > 0.0) else {
            continue;
        };
        let to = from + value / total;
        pen.slice(
            center,
            radius,
            from as f32,
            to as f32,
            COLORS[place % COLORS.len()],
        );
        if value / total > 0.04 {
            let middle = f64::midpoint(from, to) * std::f64::consts::TAU;
            let text = format!("{:.0} %", 100.0 * value / total);
            let width = pen.fonts.width(&text, FontFace::BOLD) * SIZE;
            let x = center.0 + radius * 0.7 * middle.sin() as f32 - width / 2.0;
            let y = center.1 - radius * 0.7 * middle.cos() as f32 + SIZE * 0.35;
            pen.words(&text, (x, y), SIZE, FontFace::BOLD, [255; 3])?;
        }
        from = to;
    }
    Ok(())
}

/// What a chart shows, in words.
pub(super) fn description(chart: &Chart) -> String {
    let kind = match chart.kind {
        ChartKind::Columns => "column chart",
        ChartKind::Bars => "bar chart",
        ChartKind::Lines => "line chart",
        ChartKind::Pie => "pie chart",
    };
    let mut text = kind.to_owned();
    if !chart.title.is_empty() {
        text.push_str(&format!(": {}", chart.title));
    }
    for series in chart.series.iter().take(8) {
        let values = series
            .values
            .iter()
            .take(24)
            .enumerate()
            .filter_map(|(place, value)| {
                let name = chart.categories.get(place).map_or("", String::as_str);
                Some(format!("{name} {}", (*value)?))
            });
        let values: Vec<String> = values.collect();
        text.push_str(&format!("; {}: {}", series.name, values.join(", ")));
    }
    text
}
