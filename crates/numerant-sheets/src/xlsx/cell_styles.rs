//! The number formats of cells, by the numbers of their styles.

use quick_xml::events::Event;

use super::SMALL;
use crate::package::Package;
use numerant_data::source::ReadProblem;
use numerant_format::sheet::{CellStyles, NumberFormats};
use numerant_markup::{Flow, Markup, attribute};

/// The cell styles, as far as they are about numbers.
pub(super) fn read_styles(
    package: &Package,
    path: &str,
    numbers: &NumberFormats,
) -> Result<CellStyles, ReadProblem> {
    let Some(bytes) = package.bytes(path, SMALL)? else {
        return Ok(CellStyles::default());
    };
    let mut markup = Markup::new(Box::new(std::io::Cursor::new(bytes)), path);
    let mut own: Vec<(u32, String)> = Vec::new();
    let mut formats = Vec::new();
    let mut in_cell_styles = false;
    markup.pull(|event| {
        match event {
            Event::Start(tag) | Event::Empty(tag) => {
                let number = |name| attribute(&tag, name).and_then(|text| text.parse().ok());
                match tag.local_name().as_ref() {
                    "numFmt" => {
                        let code = attribute(&tag, "formatCode").unwrap_or_default();
                        if let Some(id) = number("numFmtId") {
                            own.push((id, code));
                        }
                    }
                    "cellXfs" => in_cell_styles = true,
                    "xf" if in_cell_styles => {
                        formats.push(number("numFmtId").unwrap_or(0));
                    }
                    _ => {}
                }
            }
            Event::End(tag) if tag.local_name().as_ref() == "cellXfs" => in_cell_styles = false,
            _ => {}
        }
        Ok(Flow::On)
    })?;
    Ok(CellStyles::new(formats.into_iter(), &own, numbers))
}
