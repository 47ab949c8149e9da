//! Writes spreadsheets as a stream.

use numerant_data::narrow::to_u32;
use std::io::{self, Write};

use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

use super::cell_style::{
    alignment_properties, cell_style, formats_of, header_properties, number_style,
};
use crate::repack::WIDE;
use numerant_data::disk::{Archive, OutFile};
use numerant_format::sheet::{
    Alignment, Cell, CellFormat, ColumnStyle, Head, HeaderStyle, SheetSink, Spelling, letters,
};
use numerant_markup::push_escaped;

/// Bytes that are handed to the compressor at a time.
const FULL: usize = 1 << 17;

const LEVEL: i64 = 1;

const MIMETYPE: &str = "application/vnd.oasis.opendocument.spreadsheet";
const DECLARATION: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";
const NAMESPACES: &str = "xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" \
    xmlns:style=\"urn:oasis:names:tc:opendocument:xmlns:style:1.0\" \
    xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\" \
    xmlns:table=\"urn:oasis:names:tc:opendocument:xmlns:table:1.0\" \
    xmlns:fo=\"urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0\" \
    xmlns:number=\"urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0\" \
    xmlns:config=\"urn:oasis:names:tc:opendocument:xmlns:config:1.0\" office:version=\"1.3\"";

/// A spreadsheet that is being written.
pub struct OdsWriter {
    zip: Archive,
    out: Vec<u8>,
    /// The styles of values, and those of headers.
    styles: Vec<(CellFormat, Alignment)>,
    header_styles: Vec<HeaderStyle>,
    /// How the columns of the present sheet look.
    columns: Vec<ColumnStyle>,
    /// Names of the sheets, and the range of each that has a filter.
    sheets: Vec<(String, Option<String>)>,
    row: u64,
    header: bool,
}

impl OdsWriter {
    /// Begins a spreadsheet in a file.
    pub fn create(file: OutFile) -> io::Result<Self> {
        Ok(Self {
            zip: Archive::new(file, 1 << 16),
            out: Vec::with_capacity(FULL + FULL / 4),
            styles: Vec::new(),
            header_styles: Vec::new(),
            columns: Vec::new(),
            sheets: Vec::new(),
            row: 0,
            header: false,
        })
    }

    fn begin_part(&mut self, name: &str, method: CompressionMethod, most: u64) -> io::Result<()> {
        let level = (method == CompressionMethod::Deflated).then_some(LEVEL);
        let options = SimpleFileOptions::default()
            .compression_method(method)
            .compression_level(level)
            .last_modified_time(zip::DateTime::default())
            .large_file(most >= WIDE);
        Ok(self.zip.start_file(name, options)?)
    }

    fn part(&mut self, name: &str, text: &str) -> io::Result<()> {
        self.begin_part(name, CompressionMethod::Deflated, text.len() as u64)?;
        self.zip.write_all(DECLARATION.as_bytes())?;
        self.zip.write_all(text.as_bytes())
    }

    fn push(&mut self, text: &str) {
        self.out.extend_from_slice(text.as_bytes());
    }

    fn flush(&mut self) -> io::Result<()> {
        self.zip.check()?;
        self.zip.write_all(&self.out)?;
        self.out.clear();
        Ok(())
    }

    /// Appends the name of a cell's style.
    fn push_style(&mut self, format: &CellFormat, alignment: Alignment) {
        let is_same = |known: &(CellFormat, Alignment)| known.0 == *format && known.1 == alignment;
        if let Some(place) = self.styles.iter().position(is_same) {
            self.push(&format!(" table:style-name=\"ce{place}\""));
        }
    }

    /// Appends the name of the style of a column's header.
    fn push_header_style(&mut self, column: ColumnStyle) {
        let Some(header) = column.header else {
            return self.push(" table:style-name=\"head\"");
        };
        if let Some(place) = self.header_styles.iter().position(|known| *known == header) {
            self.push(&format!(" table:style-name=\"head{place}\""));
        }
    }
}

/// Appends the paragraphs of a text. White space that XML would not keep has elements of its own.
fn push_paragraphs(text: &str, out: &mut Vec<u8>) {
    for line in text.split('\n') {
        out.extend_from_slice(b"<text:p>");
        let mut plain = 0;
        let bytes = line.as_bytes();
        let mut at = 0;
        while at < bytes.len() {
            let spaces = bytes[at..].iter().take_while(|byte| **byte == b' ').count();
            let kept = spaces == 1 && at > 0 && at + 1 < bytes.len() && bytes[at - 1] != b'\t';
            if spaces > 0 && !kept {
                push_escaped(&line[plain..at], false, out);
                out.extend_from_slice(format!("<text:s text:c=\"{spaces}\"/>").as_bytes());
                at += spaces;
                plain = at;
            } else if bytes[at] == b'\t' {
                push_escaped(&line[plain..at], false, out);
                out.extend_from_slice(b"<text:tab/>");
                at += 1;
                plain = at;
            } else {
                at += spaces.max(1);
            }
        }
        push_escaped(&line[plain..], false, out);
        out.extend_from_slice(b"</text:p>");
    }
}

impl SheetSink for OdsWriter {
    fn begin(&mut self, heads: &[&Head]) -> io::Result<()> {
        self.begin_part("mimetype", CompressionMethod::Stored, 0)?;
        self.zip.write_all(MIMETYPE.as_bytes())?;
        let mut formats = vec![CellFormat::Text];
        for plan in heads.iter().flat_map(|head| &head.plans) {
            formats_of(plan, &mut formats);
        }
        for head in heads {
            formats.extend(head.formats.iter().map(|kept| kept.format.clone()));
        }
        formats.sort_unstable();
        formats.dedup();
        formats.retain(|format| *format != CellFormat::General);
        let mut widths: Vec<f32> = heads.iter().flat_map(|head| head.widths.clone()).collect();
        widths.sort_unstable_by(f32::total_cmp);
        widths.dedup();
        // A cell has its value as a text, too.
        let most = heads.iter().map(|head| head.most(200, 14));
        let most = most.fold(0, u64::saturating_add);
        self.begin_part("content.xml", CompressionMethod::Deflated, most)?;
        self.push(DECLARATION);
        self.push(&format!(
            "<office:document-content {NAMESPACES}><office:automatic-styles>"
        ));
        for (place, format) in formats.iter().enumerate() {
            let style = number_style(format, &format!("N{place}"));
            self.push(&style);
        }
        let columns = heads.iter().flat_map(|head| &head.styles);
        let mut alignments: Vec<Alignment> = columns.clone().map(|style| style.alignment).collect();
        alignments.push(Alignment::default());
        alignments.sort_unstable();
        alignments.dedup();
        let mut header_styles: Vec<HeaderStyle> =
            columns.filter_map(|style| style.header).collect();
        header_styles.sort_unstable();
        header_styles.dedup();
        for alignment in alignments {
            if alignment != Alignment::default() {
                let number = self.styles.len();
                self.push(&cell_style(
                    &format!("ce{number}"),
                    None,
                    &alignment_properties(alignment, None),
                ));
                self.styles.push((CellFormat::General, alignment));
            }
            for (place, format) in formats.iter().enumerate() {
                let number = self.styles.len();
                let properties = alignment_properties(alignment, None);
                self.push(&cell_style(
                    &format!("ce{number}"),
                    Some(place),
                    &properties,
                ));
                self.styles.push((format.clone(), alignment));
            }
        }
        for (place, header) in header_styles.iter().enumerate() {
            let properties = header_properties(*header);
            self.push(&cell_style(&format!("head{place}"), None, &properties));
        }
        self.header_styles = header_styles;
        self.push(
            "<style:style style:name=\"head\" style:family=\"table-cell\">\
             <style:text-properties fo:font-weight=\"bold\"/></style:style>",
        );
        for width in &widths {
            // A character of the usual font is about two millimetres wide.
            self.push(&format!(
                "<style:style style:name=\"co{width}\" style:family=\"table-column\">\
                 <style:table-column-properties style:column-width=\"{}mm\"/></style:style>",
                width * 2.0 + 3.0
            ));
        }
        self.push("</office:automatic-styles><office:body><office:spreadsheet>");
        Ok(())
    }

    fn begin_sheet(&mut self, head: &Head) -> io::Result<()> {
        let mut name = Vec::new();
        push_escaped(&head.name, true, &mut name);
        self.push("<table:table table:name=\"");
        self.out.extend_from_slice(&name);
        self.push("\">");
        for width in &head.widths {
            self.push(&format!(
                "<table:table-column table:style-name=\"co{width}\"/>"
            ));
        }
        if head.widths.is_empty() {
            self.push("<table:table-column/>");
        }
        self.columns = head.styles.clone();
        self.columns
            .resize(head.plans.len(), ColumnStyle::default());
        self.row = 0;
        self.header = head.header.is_some();
        let last = letters(to_u32(head.plans.len()).saturating_sub(1));
        let filter = self
            .header
            .then(|| format!("A1:{last}{}", head.rows().max(1)));
        self.sheets.push((head.name.clone(), filter));
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        self.row += 1;
        let above = self.header && self.row == 1;
        self.push("<table:table-row>");
        let mut blanks = 0;
        for (place, cell) in cells.iter().enumerate() {
            if *cell == Cell::Blank {
                blanks += 1;
                continue;
            }
            self.push_blanks(blanks);
            blanks = 0;
            self.push("<table:table-cell");
            let column = self.columns.get(place).copied().unwrap_or_default();
            match cell {
                Cell::Blank => {}
                Cell::Text(text) => {
                    if above {
                        self.push_header_style(column);
                    } else if numerant_format::sheet::looks_typed(text) {
                        self.push_style(&CellFormat::Text, column.alignment);
                    } else {
                        self.push_style(&CellFormat::General, column.alignment);
                    }
                    self.push(" office:value-type=\"string\">");
                    push_paragraphs(text, &mut self.out);
                }
                Cell::Number(number, format) => {
                    self.push_style(format, column.alignment);
                    self.push(" office:value-type=\"float\" office:value=\"");
                    self.push(number);
                    self.push("\"><text:p>");
                    self.push(number);
                    self.push("</text:p>");
                }
                Cell::Moment(_, text, format) if !text.contains('-') => {
                    self.push_style(format, column.alignment);
                    let mut parts = text.split(':');
                    let hours = parts.next().unwrap_or("00");
                    let minutes = parts.next().unwrap_or("00");
                    let seconds = parts.next().unwrap_or("00");
                    self.push(&format!(
                        " office:value-type=\"time\" \
                         office:time-value=\"PT{hours}H{minutes}M{seconds}S\"><text:p>{text}</text:p>"
                    ));
                }
                Cell::Moment(_, text, format) => {
                    self.push_style(format, column.alignment);
                    let mut value = text.replace(' ', "T");
                    // The time of a date has seconds.
                    if value.len() == 16 {
                        value.push_str(":00");
                    }
                    self.push(&format!(
                        " office:value-type=\"date\" office:date-value=\"{value}\">\
                         <text:p>{text}</text:p>"
                    ));
                }
                Cell::Boolean(value, format) => {
                    self.push_style(format, column.alignment);
                    let spelling = match format {
                        CellFormat::Boolean(spelling) => *spelling,
                        _ => Spelling::Upper,
                    };
                    self.push(&format!(
                        " office:value-type=\"boolean\" office:boolean-value=\"{value}\">\
                         <text:p>{}</text:p>",
                        spelling.word(*value)
                    ));
                }
            }
            self.push("</table:table-cell>");
        }
        if blanks > 0 || cells.is_empty() {
            self.push_blanks(blanks.max(1));
        }
        self.push("</table:table-row>");
        if self.out.len() > FULL {
            self.flush()?;
        }
        Ok(())
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        if self.row == 0 {
            self.push("<table:table-row><table:table-cell/></table:table-row>");
        }
        self.push("</table:table>");
        self.flush()
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        let sheets = std::mem::take(&mut self.sheets);
        let filters: Vec<(usize, &(String, Option<String>))> = sheets
            .iter()
            .enumerate()
            .filter(|(_, sheet)| sheet.1.is_some())
            .collect();
        if !filters.is_empty() {
            self.push("<table:database-ranges>");
            for (place, (name, range)) in &filters {
                let quoted = format!("'{}'", name.replace('\'', "''"));
                let range = range.as_deref().unwrap_or_default();
                let (from, to) = range.split_once(':').unwrap_or((range, range));
                let mut target = Vec::new();
                push_escaped(&format!("{quoted}.{from}:{quoted}.{to}"), true, &mut target);
                let target = String::from_utf8_lossy(&target);
                self.push(&format!(
                    "<table:database-range table:name=\"__Anonymous_Sheet_DB__{place}\" \
                     table:target-range-address=\"{target}\" table:display-filter-buttons=\"true\"/>"
                ));
            }
            self.push("</table:database-ranges>");
        }
        self.push("</office:spreadsheet></office:body></office:document-content>");
        self.flush()?;
        let item = |name: &str, kind: &str, value: &str| {
            format!(
                "<config:config-item config:name=\"{name}\" config:type=\"{kind}\">{value}</config:config-item>"
            )
        };
        let mut views = String::new();
        for (_, (name, _)) in &filters {
            let mut escaped = Vec::new();
            push_escaped(name, true, &mut escaped);
            views.push_str(&format!(
                "<config:config-item-map-entry config:name=\"{}\">{}{}{}{}</config:config-item-map-entry>",
                String::from_utf8_lossy(&escaped),
                item("VerticalSplitMode", "short", "2"),
                item("VerticalSplitPosition", "int", "1"),
                item("ActiveSplitRange", "short", "2"),
                item("PositionBottom", "int", "1"),
            ));
        }
        let settings = format!(
            "<office:document-settings {NAMESPACES}><office:settings><config:config-item-set \
             config:name=\"ooo:view-settings\"><config:config-item-map-indexed config:name=\"Views\">\
             <config:config-item-map-entry><config:config-item-map-named config:name=\"Tables\">{views}\
             </config:config-item-map-named></config:config-item-map-entry>\
             </config:config-item-map-indexed></config:config-item-set></office:settings>\
             </office:document-settings>"
        );
        self.part("settings.xml", &settings)?;
        let styles = format!(
            "<office:document-styles {NAMESPACES}><office:styles><style:default-style \
             style:family=\"table-cell\"/></office:styles></office:document-styles>"
        );
        self.part("styles.xml", &styles)?;
        let entry = |path: &str, kind: &str| {
            format!(
                "<manifest:file-entry manifest:full-path=\"{path}\" manifest:media-type=\"{kind}\"/>"
            )
        };
        let manifest = format!(
            "<manifest:manifest xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\" \
             manifest:version=\"1.3\">{}{}{}{}</manifest:manifest>",
            entry("/", MIMETYPE),
            entry("content.xml", "text/xml"),
            entry("styles.xml", "text/xml"),
            entry("settings.xml", "text/xml"),
        );
        self.part("META-INF/manifest.xml", &manifest)?;
        self.zip.finish(false)
    }
}

impl OdsWriter {
    fn push_blanks(&mut self, count: usize) {
        match count {
            0 => {}
            1 => self.push("<table:table-cell/>"),
            count => self.push(&format!(
                "<table:table-cell table:number-columns-repeated=\"{count}\"/>"
            )),
        }
    }
}
