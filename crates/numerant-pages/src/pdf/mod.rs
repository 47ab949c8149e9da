//! Writes documents of pages: tables with their header on each page, control totals at their end, tagged for
//! programs that read aloud after ISO 14289-1 (PDF/UA-1), with a bookmark for each table.
//!
//! # Invariants
//!
//! Everything that is drawn is tagged, or an artifact: rules and fills, headers that are repeated, and the numbers of
//! pages. Text is checked for characters that no font has before anything is drawn, as they would be nothing.

mod layout;
mod pagination;
mod pen;
mod sheet;

use std::io::{self, Write};
use std::num::{NonZeroU16, NonZeroU32};

use krilla::Document;
use krilla::SerializeSettings;
use krilla::configure::{Accessibility, ConfigurationBuilder};
use krilla::destination::XyzDestination;
use krilla::geom::Point;
use krilla::metadata::Metadata;
use krilla::outline::{Outline, OutlineNode};
use krilla::page::PageSettings;
use krilla::tagging::{TableHeaderScope, Tag, TagGroup, TagTree};

pub(crate) use self::layout::Paper;
use self::layout::{MARGIN, PADDING, face_of, lines};
use self::pagination::{PageRows, Paged, title_height};
use self::pen::{BASE, GRAY, LINE, Pen, Stands};
pub(crate) use self::sheet::{SheetsRequest, typeset as typeset_sheets};
use crate::fonts::{FontFace, Fonts, MissingGlyph};
use crate::table::{RowKind, ShownCell, Side, Table, TableRow};
use numerant_data::disk::OutFile;
use numerant_format::sheet::{Cell, Head, SheetSink};

/// The size of the title.
const TITLE: f32 = 14.0;

/// The size of the line below the title.
const SUBTITLE: f32 = 10.0;

/// Characters of a value in a message.
const EXAMPLE: usize = 40;

const BLACK: [u8; 3] = [0x1a, 0x1a, 0x1a];
const RULE: [u8; 3] = [0xc8, 0xcc, 0xd0];
const HEADER_FILL: [u8; 3] = [0xe9, 0xed, 0xf1];

/// A document that is being written.
pub(crate) struct PdfWriter {
    file: OutFile,
    paper: Paper,
    fonts: Fonts,
    tables: Vec<Table>,
    totals: Vec<(usize, String)>,
    waits_for_header: bool,
}

impl PdfWriter {
    /// Begins a document in a file.
    pub(crate) fn new(file: OutFile, paper: Paper, fonts: Fonts) -> Self {
        Self {
            file,
            paper,
            fonts,
            tables: Vec::new(),
            totals: Vec::new(),
            waits_for_header: false,
        }
    }
}

impl SheetSink for PdfWriter {
    fn begin_sheet(&mut self, head: &Head) -> io::Result<()> {
        self.waits_for_header = head.header.is_some();
        self.totals.clone_from(&head.totals);
        self.tables.push(Table::new(head));
        Ok(())
    }

    fn row(&mut self, cells: &[Cell<'_>]) -> io::Result<()> {
        let is_header = std::mem::take(&mut self.waits_for_header);
        match self.tables.last_mut() {
            Some(table) => table.push(cells, is_header),
            None => Ok(()),
        }
    }

    fn end_sheet(&mut self) -> io::Result<()> {
        if let Some(table) = self.tables.last_mut() {
            table.finish(&std::mem::take(&mut self.totals))?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        let bytes = typeset(&self.tables, self.paper, &self.fonts)?;
        self.file.write_all(&bytes)?;
        self.file.finish(false)
    }
}

/// The bytes of a document with tables.
fn typeset(tables: &[Table], paper: Paper, fonts: &Fonts) -> io::Result<Vec<u8>> {
    let title = tables.first().map_or("", |table| table.title.as_str());
    let mut document = new_document(title)?;
    let paged: Vec<Paged<'_>> = tables
        .iter()
        .map(|table| Paged::new(table, paper, fonts))
        .collect();
    let all: usize = paged.iter().map(Paged::page_count).sum();
    let mut outline = Outline::new();
    let mut tree = TagTree::new();
    let mut number = 0;
    for paged in &paged {
        let first = number;
        let mut drawing = Drawing {
            fonts,
            paged,
            number,
            all,
            section: TagGroup::new(Tag::Section),
            tables: Vec::new(),
            end: None,
            bookmarks: Vec::new(),
        };
        drawing.draw(&mut document)?;
        number = drawing.number;
        let destination = XyzDestination::new(first, Point::from_xy(MARGIN, MARGIN));
        let mut bookmark = OutlineNode::new(paged.table.title.clone(), destination);
        for (group, page, top) in std::mem::take(&mut drawing.bookmarks) {
            let destination = XyzDestination::new(page, Point::from_xy(MARGIN, top));
            bookmark.push_child(OutlineNode::new(group, destination));
        }
        outline.push_child(bookmark);
        let mut section = drawing.section;
        drawing
            .tables
            .into_iter()
            .for_each(|table| section.push(table));
        if let Some(end) = drawing.end {
            section.push(end);
        }
        tree.push(section);
    }
    finished(document, outline, tree)
}

/// A document with a title, that programs can read aloud.
fn new_document(title: &str) -> io::Result<Document> {
    let configuration = ConfigurationBuilder::new()
        .with_accessibility_validator(Accessibility::UA1)
        .finish()
        .map_err(|_| io::Error::other("the PDF cannot be configured"))?;
    let mut document = Document::new_with(SerializeSettings {
        configuration,
        enable_tagging: true,
        ..SerializeSettings::default()
    });
    document.set_metadata(
        Metadata::new()
            .title(title.to_owned())
            .language("en".to_owned())
            .creator("Numerant".to_owned()),
    );
    Ok(document)
}

/// The bytes of a document.
fn finished(mut document: Document, outline: Outline, tree: TagTree) -> io::Result<Vec<u8>> {
    document.set_outline(outline);
    document.set_tag_tree(tree);
    document
        .finish()
        .map_err(|error| io::Error::other(format!("the PDF cannot be written: {error:?}")))
}

/// A table on its way onto pages.
struct Drawing<'d> {
    fonts: &'d Fonts,
    paged: &'d Paged<'d>,
    /// Pages so far.
    number: usize,
    all: usize,
    section: TagGroup,
    /// The table of each band.
    tables: Vec<TagGroup>,
    end: Option<TagGroup>,
    /// The heads of groups, with the page, from 0, and the height that each is at.
    bookmarks: Vec<(String, usize, f32)>,
}

impl Drawing<'_> {
    fn draw(&mut self, document: &mut Document) -> io::Result<()> {
        let paged = self.paged;
        let layout = &paged.layout;
        let bands = if layout.bands.is_empty() {
            vec![Vec::new()]
        } else {
            layout.bands.clone()
        };
        self.tables = bands.iter().map(|_| TagGroup::new(Tag::Table)).collect();
        for page_rows in &paged.pages {
            for (band, columns) in bands.iter().enumerate() {
                self.page(document, page_rows, band, columns)?;
            }
        }
        Ok(())
    }

    fn page(
        &mut self,
        document: &mut Document,
        rows: &PageRows,
        band: usize,
        columns: &[usize],
    ) -> io::Result<()> {
        let layout = &self.paged.layout;
        let settings = PageSettings::from_wh(layout.width, layout.height)
            .ok_or_else(|| io::Error::other("the paper has no size"))?;
        self.number += 1;
        let mut page = document.start_page_with(settings);
        let mut pen = Pen {
            surface: page.surface(),
            fonts: self.fonts,
            size: layout.size,
        };
        self.draw_page(&mut pen, rows, band, columns)?;
        drop(pen);
        page.finish();
        Ok(())
    }

    fn draw_page(
        &mut self,
        pen: &mut Pen<'_>,
        rows: &PageRows,
        band: usize,
        columns: &[usize],
    ) -> io::Result<()> {
        let paged = self.paged;
        let (table, layout) = (paged.table, &paged.layout);
        let mut top = MARGIN;
        if rows.has_title && band == 0 {
            let base = top + TITLE * BASE;
            let id = pen.tagged_line(&table.title, (MARGIN, base), TITLE, FontFace::BOLD, BLACK);
            let mut heading = TagGroup::new(Tag::Hn(NonZeroU16::MIN, Some(table.title.clone())));
            heading.push(id.map_err(missing)?);
            self.section.push(heading);
            if let Some(subtitle) = &table.subtitle {
                let at = (MARGIN, top + TITLE * LINE + SUBTITLE * BASE);
                let id = pen.tagged_line(subtitle, at, SUBTITLE, FontFace::REGULAR, GRAY);
                let mut paragraph = TagGroup::new(Tag::P);
                paragraph.push(id.map_err(missing)?);
                self.section.push(paragraph);
            }
        }
        if rows.has_title {
            top += title_height(table);
        }
        let width: f32 = columns.iter().map(|place| layout.widths[*place]).sum();
        let has_rows = rows.to > rows.from || rows.has_title;
        if let Some(header) = table
            .header
            .as_ref()
            .filter(|_| has_rows && !columns.is_empty())
        {
            // Programs that read aloud need the header once.
            let is_first = rows.has_title;
            let mut group = TagGroup::new(Tag::TR);
            let mut left = MARGIN;
            for place in columns {
                let column = table.columns[*place];
                let fill = match column.header.fill {
                    Some(fill) => Some(fill),
                    None => Some(HEADER_FILL).filter(|_| !column.has_own_header),
                };
                let cell_width = layout.widths[*place];
                if let Some(fill) = fill {
                    pen.fill((left, top), (cell_width, paged.header_height), fill);
                }
                let cell = header_cell(table, *place, &header[*place]);
                let color = column.header.color.unwrap_or(BLACK);
                let stands = Stands {
                    left,
                    top,
                    width: cell_width,
                    behind_mark: 0.0,
                };
                let face = if column.has_own_header && !column.header.is_bold {
                    FontFace::REGULAR
                } else {
                    FontFace::BOLD
                };
                let id = pen
                    .cell(&cell, stands, face, color, is_first)
                    .map_err(missing)?;
                if let Some(id) = id {
                    let mut th = TagGroup::new(Tag::TH(TableHeaderScope::Column));
                    th.push(id);
                    group.push(th);
                }
                left += cell_width;
            }
            if is_first {
                self.tables[band].push(group);
            }
            top += paged.header_height;
            pen.fill((MARGIN, top - 0.4), (width, 0.8), GRAY);
        }
        for row in rows.from..rows.to {
            if paged.rows[row].kind == RowKind::GroupHead {
                self.group_head(pen, row, band, columns.len(), top)?;
                top += paged.heights[row];
                pen.fill((MARGIN, top - 0.2), (width, 0.4), RULE);
                continue;
            }
            self.row(pen, &paged.rows[row], band, columns, top)?;
            top += paged.heights[row];
            pen.fill((MARGIN, top - 0.2), (width, 0.4), RULE);
        }
        if rows.has_end {
            top = self.totals(pen, band, columns, top)?;
            if band == 0 {
                let count = table.record_count();
                let base = top + layout.size * (LINE + BASE);
                let id = pen.tagged_line(
                    &count,
                    (MARGIN + PADDING, base),
                    layout.size,
                    FontFace::REGULAR,
                    GRAY,
                );
                let mut end = TagGroup::new(Tag::P);
                end.push(id.map_err(missing)?);
                self.end = Some(end);
            }
        }
        let footer = format!("{} of {}", self.number, self.all);
        pen.footer(&footer, layout);
        Ok(())
    }

    /// The head of a group, across the columns of a band.
    fn group_head(
        &mut self,
        pen: &mut Pen<'_>,
        row: usize,
        band: usize,
        columns: usize,
        top: f32,
    ) -> io::Result<()> {
        let paged = self.paged;
        let text = paged.rows[row].cells[0].text.replace('\n', " ");
        let size = paged.layout.size;
        let base = top + paged.heights[row] - PADDING - size * (LINE - BASE);
        let at = (MARGIN + PADDING, base);
        let room = paged.layout.width - 2.0 * (MARGIN + PADDING);
        let (from, to) = lines(&text, room / size, FontFace::BOLD, self.fonts)[0];
        let shown = text[from..to].trim_end();
        let id = pen.tagged_line(shown, at, size, FontFace::BOLD, BLACK);
        let span = NonZeroU32::new(columns as u32);
        let mut head = TagGroup::new(Tag::TH(TableHeaderScope::Row).with_col_span(span));
        head.push(id.map_err(missing)?);
        let mut group = TagGroup::new(Tag::TR);
        group.push(head);
        self.tables[band].push(group);
        if band == 0 {
            self.bookmarks.push((text, self.number - 1, top));
        }
        Ok(())
    }

    /// The control totals below the records; where what follows begins.
    fn totals(
        &mut self,
        pen: &mut Pen<'_>,
        band: usize,
        columns: &[usize],
        top: f32,
    ) -> io::Result<f32> {
        let (table, layout) = (self.paged.table, &self.paged.layout);
        let Some(totals) = &table.totals else {
            return Ok(top);
        };
        self.row(pen, totals, band, columns, top)?;
        let width: f32 = columns.iter().map(|place| layout.widths[*place]).sum();
        pen.fill((MARGIN, top - 0.4), (width, 0.8), GRAY);
        Ok(top + layout.size * LINE + PADDING)
    }

    /// A record or a row of sums.
    fn row(
        &mut self,
        pen: &mut Pen<'_>,
        row: &TableRow,
        band: usize,
        columns: &[usize],
        top: f32,
    ) -> io::Result<()> {
        let (table, layout) = (self.paged.table, &self.paged.layout);
        let face = face_of(row.kind);
        let mut group = TagGroup::new(Tag::TR);
        let mut left = MARGIN;
        for place in columns {
            let stands = Stands {
                left,
                top,
                width: layout.widths[*place],
                behind_mark: layout.behind_marks[*place],
            };
            let cell = &row.cells[*place];
            let id = pen.cell(cell, stands, face, BLACK, true);
            let id = id.map_err(|missing_glyph| {
                let name = table.header.as_ref().map_or("", |header| &header[*place]);
                let (title, why) = (&table.title, missing(missing_glyph));
                let value: String = cell.text.chars().take(EXAMPLE).collect();
                io::Error::other(format!(
                    "'{title}', column '{name}', value '{value}': {why}"
                ))
            })?;
            if let Some(id) = id {
                let mut td = TagGroup::new(Tag::TD);
                td.push(id);
                group.push(td);
            }
            left += layout.widths[*place];
        }
        self.tables[band].push(group);
        Ok(())
    }
}

/// Why a document cannot have a text.
fn missing(MissingGlyph(character): MissingGlyph) -> io::Error {
    io::Error::other(format!(
        "no font has the character '{character}' (U+{:04X}); --font FILE names one that has it",
        u32::from(character)
    ))
}

/// A header cell, on the side of the values below it.
fn header_cell(table: &Table, place: usize, text: &str) -> ShownCell {
    use numerant_format::sheet::Horizontal;
    let mut records = table.rows.iter().filter(|row| row.kind == RowKind::Record);
    let below = records.find(|row| !row.cells[place].text.is_empty());
    let below = below.map_or(Side::Left, |row| row.cells[place].side);
    let side = match (table.columns[place].header.alignment.horizontal, below) {
        (Some(Horizontal::Center), _) | (None, Side::Center) => Side::Center,
        (Some(Horizontal::Right), _) | (None, Side::Right | Side::Decimal(_)) => Side::Right,
        (Some(Horizontal::Left | Horizontal::Justify), _) | (None, Side::Left) => Side::Left,
    };
    ShownCell {
        text: text.to_owned(),
        side,
        is_whole: false,
    }
}
