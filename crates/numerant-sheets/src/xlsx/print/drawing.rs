//! Pictures and charts on a sheet (ECMA-376 Part 1, 20.5).

use roxmltree::Node;

use super::compute::Computation;
use super::looks::Looks;
use super::{
    MAX_PICTURE, PrintError, chart, child, descendant, elements, leave_out, name, number, parsed,
    part,
};
use crate::package::Package;
use crate::xlsx::parts::Relations;
use numerant_format::sheet::{
    Anchor, Drawing, DrawingContent, DrawingEnd, LeftOutDrawing, PrintSheet,
};

/// English metric units of a point.
const UNITS: f32 = 12_700.0;

/// Adds the drawings of a sheet.
pub(super) fn read(
    package: &Package,
    root: Node<'_, '_>,
    sheet_path: &str,
    looks: &Looks,
    computation: &Computation<'_>,
    print: &mut PrintSheet,
) -> Result<(), PrintError> {
    let Some(lead) = child(root, "drawing") else {
        return Ok(());
    };
    let relations = Relations::of(package, sheet_path)?;
    let id = lead.attributes().find(|attribute| attribute.name() == "id");
    let Some((_, path)) = id.and_then(|id| relations.target(id.value())) else {
        return Ok(());
    };
    let text = part(package, path, crate::xlsx::SMALL)?;
    let document = parsed(&text, path)?;
    let leads = Relations::of(package, path)?;
    for anchored in elements(Some(document.root_element())) {
        let (Some(from), Some(to)) = (start(anchored), end(anchored)) else {
            continue;
        };
        let properties = descendant(anchored, "cNvPr");
        let description = properties.and_then(|properties| {
            let stated = properties
                .attribute("descr")
                .filter(|text| !text.is_empty());
            stated.or(properties.attribute("name"))
        });
        let description = description.unwrap_or_default().to_owned();
        let content = match kind(anchored) {
            Some(Kind::Picture) => picture(package, anchored, &leads)?,
            Some(Kind::Chart) => {
                let lead = descendant(anchored, "chart").and_then(|chart| {
                    chart
                        .attributes()
                        .find(|attribute| attribute.name() == "id")
                });
                match lead.and_then(|lead| leads.target(lead.value())) {
                    Some((_, path)) => {
                        let text = part(package, path, crate::xlsx::SMALL)?;
                        let chart = chart::read(&text, path, looks, computation)?;
                        chart.map(DrawingContent::Chart)
                    }
                    None => None,
                }
            }
            None => None,
        };
        match (content, kind(anchored)) {
            (Some(content), _) => print.drawings.push(Drawing {
                from,
                to,
                description,
                content,
            }),
            (None, Some(Kind::Picture)) => leave_out(print, LeftOutDrawing::Pictures),
            (None, Some(Kind::Chart)) => leave_out(print, LeftOutDrawing::Charts),
            (None, None) => leave_out(print, LeftOutDrawing::Shapes),
        }
    }
    Ok(())
}

#[derive(Clone, Copy)]
enum Kind {
    Picture,
    Chart,
}

fn kind(anchored: Node<'_, '_>) -> Option<Kind> {
    elements(Some(anchored)).find_map(|element| match name(element) {
        "pic" => Some(Kind::Picture),
        "graphicFrame" => Some(Kind::Chart),
        "AlternateContent" => descendant(element, "graphicFrame").map(|_| Kind::Chart),
        _ => None,
    })
}

fn picture(
    package: &Package,
    anchored: Node<'_, '_>,
    leads: &Relations,
) -> Result<Option<DrawingContent>, PrintError> {
    let lead = descendant(anchored, "blip").and_then(|blip| {
        blip.attributes()
            .find(|attribute| attribute.name() == "embed")
    });
    let Some((_, path)) = lead.and_then(|lead| leads.target(lead.value())) else {
        return Ok(None);
    };
    let bytes = package.bytes(path, MAX_PICTURE)?.unwrap_or_default();
    let is_known = bytes.starts_with(b"\x89PNG")
        || bytes.starts_with(b"\xff\xd8")
        || bytes.starts_with(b"GIF8");
    Ok(is_known.then_some(DrawingContent::Picture(bytes)))
}

/// Where a drawing begins.
fn start(anchored: Node<'_, '_>) -> Option<Anchor> {
    match name(anchored) {
        "absoluteAnchor" => {
            let place = child(anchored, "pos")?;
            Some(Anchor {
                right: number::<f32>(place, "x")? / UNITS,
                down: number::<f32>(place, "y")? / UNITS,
                ..Anchor::default()
            })
        }
        "oneCellAnchor" | "twoCellAnchor" => anchor(child(anchored, "from")?),
        _ => None,
    }
}

fn end(anchored: Node<'_, '_>) -> Option<DrawingEnd> {
    if let Some(to) = child(anchored, "to") {
        return anchor(to).map(DrawingEnd::At);
    }
    let size = child(anchored, "ext")?;
    Some(DrawingEnd::Size(
        number::<f32>(size, "cx")? / UNITS,
        number::<f32>(size, "cy")? / UNITS,
    ))
}

fn anchor(place: Node<'_, '_>) -> Option<Anchor> {
    let value = |name: &str| child(place, name)?.text()?.trim().parse::<f32>().ok();
    let count = |name: &str| child(place, name)?.text()?.trim().parse::<u32>().ok();
    Some(Anchor {
        row: count("row")?,
        column: count("col")?,
        down: value("rowOff").unwrap_or(0.0) / UNITS,
        right: value("colOff").unwrap_or(0.0) / UNITS,
    })
}
