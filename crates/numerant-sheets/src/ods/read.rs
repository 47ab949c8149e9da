//! Opens spreadsheets and lists their tables.

use std::io::{self, BufReader, Read};
use std::sync::Arc;

use quick_xml::events::{BytesStart, Event};

use super::column_style::column_styles;
use super::rows::OdsRows;
use super::styles::Styles;
use crate::package::Package;
use numerant_data::source::{ReadProblem, SharedFile};
use numerant_format::sheet::{
    ColumnStyle, NumberFormats, Rows, SheetInfo, StyledRange, Uncomputed, Visibility, Workbook,
};
use numerant_markup::{Flow, Markup, attribute};

/// Bytes that a part besides the content may take.
const SMALL: u64 = 64 << 20;

const CONTENT: &str = "content.xml";

/// Where the content of a spreadsheet is.
#[derive(Clone)]
enum Content {
    Package(Package),
    Flat(SharedFile),
}

impl Content {
    fn markup(&self) -> Result<Markup, ReadProblem> {
        match self {
            Self::Package(package) => package.markup(CONTENT),
            Self::Flat(file) => {
                let input: Box<dyn Read + Send> = Box::new(BufReader::new(file.same_count()));
                Ok(Markup::new(input, "the document"))
            }
        }
    }
}

/// An open spreadsheet.
pub struct OdsBook {
    content: Content,
    sheets: Vec<SheetInfo>,
    styles: Arc<Styles>,
}

impl OdsBook {
    /// Opens the spreadsheet of a package; `None` if the package is none.
    pub fn open(package: &Package, numbers: &NumberFormats) -> Result<Option<Self>, ReadProblem> {
        if package.place(CONTENT).is_none() {
            return Ok(None);
        }
        let kind = package.bytes("mimetype", SMALL)?.unwrap_or_default();
        let is_sheet = |kind: &[u8]| memchr::memmem::find(kind, b"spreadsheet").is_some();
        if !kind.is_empty() && !is_sheet(&kind) {
            return Ok(None);
        }
        if let Some(manifest) = package.bytes("META-INF/manifest.xml", SMALL)?
            && memchr::memmem::find(&manifest, b"encryption-data").is_some()
        {
            return Err(ReadProblem::Encrypted);
        }
        let mut styles = Styles::default();
        if let Some(bytes) = package.bytes("styles.xml", SMALL)? {
            let mut markup = Markup::new(Box::new(io::Cursor::new(bytes)), "styles.xml");
            markup.pull(|event| {
                styles.take(&event);
                Ok(Flow::On)
            })?;
        }
        Self::with(Content::Package(package.clone()), styles, numbers).map(Some)
    }

    /// Opens a spreadsheet that is one XML file.
    pub fn open_flat(file: SharedFile, numbers: &NumberFormats) -> Result<Self, ReadProblem> {
        Self::with(Content::Flat(file), Styles::default(), numbers)
    }

    /// Reads the styles, which are before the tables, and looks for the tables.
    fn with(
        content: Content,
        mut styles: Styles,
        numbers: &NumberFormats,
    ) -> Result<Self, ReadProblem> {
        let mut markup = content.markup()?;
        let mut sheets = Vec::new();
        markup.pull(|event| {
            if let Event::Start(tag) | Event::Empty(tag) = &event
                && tag.local_name().as_ref() == "table"
            {
                sheets.push(sheet_info(tag, &styles));
                return Ok(Flow::Pause);
            }
            styles.take(&event);
            Ok(Flow::On)
        })?;
        styles.resolve(numbers);
        // The rest is only looked through for the names of tables.
        let mark = "<table:table ";
        let finder = memchr::memmem::Finder::new(mark);
        loop {
            let rest = markup.rest();
            let Some(at) = finder.find(rest.as_bytes()) else {
                let mut keep = rest.len().saturating_sub(mark.len());
                while !rest.is_char_boundary(keep) {
                    keep -= 1;
                }
                markup.pass(keep);
                if !markup.has_more() {
                    break;
                }
                markup.more()?;
                continue;
            };
            markup.pass(at);
            markup.pull(|event| {
                if let Event::Start(tag) | Event::Empty(tag) = &event
                    && attribute(tag, "is-sub-table").is_none()
                {
                    sheets.push(sheet_info(tag, &styles));
                }
                Ok(Flow::Pause)
            })?;
        }
        Ok(Self {
            content,
            sheets,
            styles: Arc::new(styles),
        })
    }
}

fn sheet_info(tag: &BytesStart<'_>, styles: &Styles) -> SheetInfo {
    let style = attribute(tag, "style-name").unwrap_or_default();
    SheetInfo {
        name: attribute(tag, "name").unwrap_or_default(),
        visibility: if styles.hides(&style) {
            Visibility::Hidden
        } else {
            Visibility::Visible
        },
        has_cells: true,
    }
}

impl OdsBook {
    /// The content after the start of a table; `None` if nothing is in it.
    fn table(&self, sheet: usize) -> Result<Option<Markup>, ReadProblem> {
        let mut markup = self.content.markup()?;
        let mut before = sheet;
        let mut is_empty = false;
        let found = markup.pull(|event| match &event {
            Event::Start(tag) | Event::Empty(tag) if tag.local_name().as_ref() == "table" => {
                if before == 0 {
                    is_empty = matches!(event, Event::Empty(_));
                    return Ok(Flow::Pause);
                }
                before -= 1;
                Ok(Flow::On)
            }
            _ => Ok(Flow::On),
        })?;
        Ok(Some(markup).filter(|_| found && !is_empty))
    }
}

impl Workbook for OdsBook {
    fn sheets(&self) -> &[SheetInfo] {
        &self.sheets
    }

    fn column_styles(
        &self,
        sheet: usize,
        range: &StyledRange,
    ) -> Result<Vec<ColumnStyle>, ReadProblem> {
        match self.table(sheet)? {
            Some(mut markup) => column_styles(&mut markup, &self.styles, range),
            None => Ok(Vec::new()),
        }
    }

    fn rows(&self, sheet: usize, on_uncomputed: Uncomputed) -> Result<Box<dyn Rows>, ReadProblem> {
        let (markup, is_empty) = match self.table(sheet)? {
            Some(markup) => (markup, false),
            None => (self.content.markup()?, true),
        };
        Ok(Box::new(OdsRows::new(
            markup,
            Arc::clone(&self.styles),
            is_empty,
            on_uncomputed,
        )))
    }
}
