//! Charts of columns, bars, lines and pies (ECMA-376 Part 1, 21.2), with the values that their cells have.

use roxmltree::Node;

use super::cells::Content;
use super::compute::Computation;
use super::looks::Looks;
use super::{PrintError, child, descendant, elements, is_true, name, number, parsed, shown};
use crate::color::of_digits;
use numerant_format::sheet::{Chart, ChartKind, DisplayFormat, Rgb, Series};

/// Values of a series that are drawn.
const MAX_VALUES: usize = 5_000;

/// A chart; `None` if it is of a kind that is not drawn.
pub(super) fn read(
    text: &str,
    path: &str,
    looks: &Looks,
    computation: &Computation<'_>,
) -> Result<Option<Chart>, PrintError> {
    let document = parsed(text, path)?;
    let root = document.root_element();
    let Some(area) = descendant(root, "plotArea") else {
        return Ok(None);
    };
    let plots: Vec<Node<'_, '_>> = elements(Some(area))
        .filter(|plot| name(*plot).ends_with("Chart"))
        .collect();
    let [plot] = plots[..] else {
        return Ok(None);
    };
    let value = |wanted: &str| child(plot, wanted).and_then(|node| node.attribute("val"));
    let kind = match name(plot) {
        "barChart" | "bar3DChart" if value("barDir") == Some("bar") => ChartKind::Bars,
        "barChart" | "bar3DChart" => ChartKind::Columns,
        "lineChart" | "line3DChart" => ChartKind::Lines,
        "pieChart" | "pie3DChart" | "doughnutChart" => ChartKind::Pie,
        _ => return Ok(None),
    };
    if value("grouping") == Some("percentStacked") {
        return Ok(None);
    }
    let mut chart = Chart {
        kind,
        title: String::new(),
        category_title: axis_title(area, &["catAx", "dateAx"], computation)?,
        value_title: axis_title(area, &["valAx"], computation)?,
        categories: Vec::new(),
        series: Vec::new(),
        is_stacked: value("grouping") == Some("stacked"),
        has_legend: descendant(root, "legend").is_some(),
    };
    for one in elements(Some(plot)).filter(|one| name(*one) == "ser") {
        let values = match child(one, "val") {
            Some(values) => numbers(values, computation)?,
            None => Vec::new(),
        };
        let title = match child(one, "tx") {
            Some(title) => texts(title, computation)?.join(" "),
            None => String::new(),
        };
        if chart.categories.is_empty()
            && let Some(categories) = child(one, "cat")
        {
            let axis = elements(Some(area)).find(|axis| matches!(name(*axis), "catAx" | "dateAx"));
            let format = axis.and_then(|axis| child(axis, "numFmt"));
            let format =
                format.filter(|format| !format.attribute("sourceLinked").is_some_and(is_true));
            let format = format.and_then(|format| format.attribute("formatCode"));
            let format = format
                .filter(|code| *code != "General")
                .map(DisplayFormat::new);
            chart.categories = texts_in(categories, computation, format.as_ref())?;
        }
        chart.series.push(Series {
            name: title,
            color: child(one, "spPr").and_then(|look| color(look, looks)),
            values,
        });
    }
    let title = descendant(root, "title")
        .filter(|title| title.parent().is_some_and(|parent| name(parent) == "chart"));
    if let Some(title) = title {
        chart.title = texts(title, computation)?.join(" ");
        if chart.title.is_empty() && chart.series.len() == 1 {
            chart.title.clone_from(&chart.series[0].name);
        }
    }
    let has_values = chart.series.iter().any(|series| !series.values.is_empty());
    Ok(has_values.then_some(chart))
}

/// The reference to cells that an element has.
fn reference<'a>(node: Node<'a, '_>) -> Option<&'a str> {
    descendant(node, "f").and_then(|formula| formula.text())
}

fn numbers(
    node: Node<'_, '_>,
    computation: &Computation<'_>,
) -> Result<Vec<Option<f64>>, PrintError> {
    if let Some(found) = reference(node)
        && let Some(values) = computation.range(0, found)?
    {
        let values = values.into_iter().take(MAX_VALUES);
        return Ok(values
            .map(|(value, _)| match value {
                Content::Number(number) => Some(number),
                _ => None,
            })
            .collect());
    }
    Ok(points(node)
        .into_iter()
        .map(|text| text.and_then(|text| text.parse().ok()))
        .collect())
}

/// The title of an axis.
fn axis_title(
    area: Node<'_, '_>,
    kinds: &[&str],
    computation: &Computation<'_>,
) -> Result<String, PrintError> {
    let axis = elements(Some(area)).find(|axis| kinds.contains(&name(*axis)));
    match axis.and_then(|axis| child(axis, "title")) {
        Some(title) => Ok(texts(title, computation)?.join(" ")),
        None => Ok(String::new()),
    }
}

fn texts(node: Node<'_, '_>, computation: &Computation<'_>) -> Result<Vec<String>, PrintError> {
    texts_in(node, computation, None)
}

/// The texts that an element leads to or holds; numbers under the format of an axis, if it has one.
fn texts_in(
    node: Node<'_, '_>,
    computation: &Computation<'_>,
    format: Option<&DisplayFormat>,
) -> Result<Vec<String>, PrintError> {
    if let Some(found) = reference(node)
        && let Some(values) = computation.range(0, found)?
    {
        let looks = computation.looks();
        let values = values.iter().take(MAX_VALUES);
        let text = |(value, style): &(Content, usize)| match (value, format) {
            (Content::Number(number), Some(format)) => {
                format.number(&looks.number(*number, *style))
            }
            _ => shown(value, looks, *style).0,
        };
        return Ok(values.map(text).collect());
    }
    let kept = points(node);
    if !kept.is_empty() {
        return Ok(kept.into_iter().map(Option::unwrap_or_default).collect());
    }
    let runs = node
        .descendants()
        .filter(|part| part.is_element() && matches!(name(*part), "t" | "v"));
    Ok(vec![
        runs.filter_map(|part| part.text()).collect::<String>(),
    ])
}

/// The values that are kept with a chart.
fn points(node: Node<'_, '_>) -> Vec<Option<String>> {
    let mut values = Vec::new();
    for point in node
        .descendants()
        .filter(|point| point.is_element() && name(*point) == "pt")
    {
        let place = number::<usize>(point, "idx").unwrap_or(values.len());
        if place >= MAX_VALUES {
            continue;
        }
        if values.len() <= place {
            values.resize(place + 1, None);
        }
        values[place] = child(point, "v")
            .and_then(|value| value.text())
            .map(str::to_owned);
    }
    values
}

/// The color of an area or a line.
fn color(look: Node<'_, '_>, looks: &Looks) -> Option<Rgb> {
    let line = child(look, "ln").and_then(|line| child(line, "solidFill"));
    let fill = child(look, "solidFill").or(line)?;
    let color = elements(Some(fill)).next()?;
    let value = color.attribute("val")?;
    match name(color) {
        "srgbClr" => of_digits(value),
        "schemeClr" => looks.scheme(value),
        _ => None,
    }
}
