//! A sheet as it is printed: what its cells show and how they look, and the setup of its pages.
//!
//! Lengths are points, rows and columns count from 0, and ranges hold their ends.

use super::Rgb;

/// A sheet that is to be drawn on pages.
#[derive(Clone, Debug, Default)]
pub struct PrintSheet {
    /// Its name.
    pub name: String,
    /// The width of each column; 0 if it is hidden.
    pub columns: Vec<f32>,
    /// The height of each row; 0 if it is hidden.
    pub rows: Vec<RowHeight>,
    /// The cells with a text or a look, by rows and then by columns.
    pub cells: Vec<PrintCell>,
    /// How cells look, by the numbers in [`PrintCell::look`].
    pub looks: Vec<CellLook>,
    /// The cells that are one.
    pub merged: Vec<CellRange>,
    /// Paper, margins and the like.
    pub setup: PageSetup,
    /// Pictures and charts, those after first.
    pub drawings: Vec<Drawing>,
    /// What it has and is not drawn, with how many there are.
    pub left_out: Vec<(LeftOutDrawing, u64)>,
}

/// The height of a row.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum RowHeight {
    /// It is stated.
    Fixed(f32),
    /// At least this, and as high as the wrapped texts in it.
    Fitting(f32),
}

/// Something that a sheet has and that is not drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LeftOutDrawing {
    /// Shapes and text boxes.
    Shapes,
    /// Charts of other kinds than columns, bars, lines and pies.
    Charts,
    /// Pictures in a format that is not read.
    Pictures,
    /// Ranges with conditional formats.
    ConditionalFormats,
    /// Cells with fonts that change within their text.
    RichTexts,
    /// Cells whose text is turned.
    Turned,
    /// Sparklines.
    Sparklines,
    /// Formulas that cannot be computed, and whose values may be older than the data.
    OldValues,
    /// Texts that are longer than their cells, and are cut.
    CutTexts,
    /// Rows with something in them outside the print area.
    RowsOutside,
    /// Columns with something in them outside the print area.
    ColumnsOutside,
    /// Hidden rows with something in them.
    HiddenRows,
    /// Hidden columns with something in them.
    HiddenColumns,
}

/// A range of cells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellRange {
    /// The first row.
    pub top: u32,
    /// The first column.
    pub left: u32,
    /// The last row.
    pub bottom: u32,
    /// The last column.
    pub right: u32,
}

/// A cell.
#[derive(Clone, Debug, PartialEq)]
pub struct PrintCell {
    /// Its row.
    pub row: u32,
    /// Its column.
    pub column: u32,
    /// What it shows.
    pub text: String,
    /// What its value is, which decides on which side it stands if its look does not.
    pub kind: PrintKind,
    /// The number of its look.
    pub look: usize,
    /// The color that its number format states for the value.
    pub color: Option<Rgb>,
}

/// What the value of a cell is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PrintKind {
    /// A text.
    Text,
    /// A number, a date or a time.
    Number,
    /// A truth value or an error.
    Word,
}

/// How a cell looks.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CellLook {
    /// The font.
    pub font: FontLook,
    /// What is after the text.
    pub fill: Option<Rgb>,
    /// The lines at its left, top, right and bottom.
    pub borders: [Option<Border>; 4],
    /// Where the text is between left and right.
    pub horizontal: PrintAlign,
    /// Where the text is between top and bottom.
    pub vertical: PrintVertical,
    /// Long texts are wrapped.
    pub wraps: bool,
    /// Long texts are made smaller.
    pub shrinks: bool,
    /// Steps of three blanks that the text is moved from its side.
    pub indent: u32,
    /// The text is turned, which is not drawn.
    pub is_turned: bool,
}

/// A font.
#[derive(Clone, Debug, PartialEq)]
pub struct FontLook {
    /// The name of its family.
    pub family: String,
    /// Its size in points.
    pub size: f32,
    /// Bold.
    pub is_bold: bool,
    /// Italic.
    pub is_italic: bool,
    /// Underlined.
    pub is_underlined: bool,
    /// Struck through.
    pub is_struck: bool,
    /// Its color.
    pub color: Rgb,
}

impl Default for FontLook {
    fn default() -> Self {
        Self {
            family: "Calibri".to_owned(),
            size: 11.0,
            is_bold: false,
            is_italic: false,
            is_underlined: false,
            is_struck: false,
            color: [0; 3],
        }
    }
}

/// A line at a side of a cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Border {
    /// How wide it is.
    pub width: f32,
    /// Its color.
    pub color: Rgb,
    /// How it is drawn.
    pub stroke: BorderStroke,
}

/// How a line is drawn.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BorderStroke {
    /// In one piece.
    #[default]
    Solid,
    /// In long pieces.
    Dashed,
    /// In short pieces.
    Dotted,
    /// Twice.
    Double,
}

/// Where a text is between left and right.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PrintAlign {
    /// Texts at the left, numbers at the right, words in the middle.
    #[default]
    General,
    /// At the left.
    Left,
    /// In the middle.
    Center,
    /// At the right.
    Right,
    /// In the middle of this cell and the blank ones after it that say so, too.
    CenterAcross,
    /// Again and again, as often as there is room.
    Fill,
}

/// Where a text is between top and bottom.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PrintVertical {
    /// At the top.
    Top,
    /// In the middle.
    Center,
    /// At the bottom.
    #[default]
    Bottom,
}

/// How the pages of a sheet are set up.
#[derive(Clone, Debug, PartialEq)]
pub struct PageSetup {
    /// Width and height of the paper, upright; as for tables if it is not stated.
    pub paper: Option<(f32, f32)>,
    /// The paper is turned.
    pub is_landscape: bool,
    /// The margins at the left, top, right and bottom.
    pub margins: [f32; 4],
    /// From the edges to the header and to the footer.
    pub header_footer: [f32; 2],
    /// The scale, 1 for the true size.
    pub scale: f32,
    /// Pages side by side and below each other that all must fit on; 0 for any number.
    pub fit: Option<(u32, u32)>,
    /// What is printed; all if nothing is stated.
    pub print_area: Vec<CellRange>,
    /// Rows that are on each page.
    pub repeated_rows: Option<(u32, u32)>,
    /// Columns that are on each page.
    pub repeated_columns: Option<(u32, u32)>,
    /// Rows and columns that begin a page.
    pub breaks: (Vec<u32>, Vec<u32>),
    /// Centered between left and right, and between top and bottom.
    pub is_centered: (bool, bool),
    /// The lines between cells are drawn.
    pub has_gridlines: bool,
    /// Pages go on to the right before they go on below.
    pub is_over_then_down: bool,
    /// The header and the footer, in the codes of ECMA-376 Part 1, 18.3.1.46.
    pub header: String,
    /// The footer.
    pub footer: String,
}

impl Default for PageSetup {
    fn default() -> Self {
        Self {
            paper: None,
            is_landscape: false,
            margins: [50.4, 54.0, 50.4, 54.0],
            header_footer: [21.6, 21.6],
            scale: 1.0,
            fit: None,
            print_area: Vec::new(),
            repeated_rows: None,
            repeated_columns: None,
            breaks: (Vec::new(), Vec::new()),
            is_centered: (false, false),
            has_gridlines: false,
            is_over_then_down: false,
            header: String::new(),
            footer: String::new(),
        }
    }
}

/// A picture or chart on a sheet.
#[derive(Clone, Debug)]
pub struct Drawing {
    /// The cell that its upper left corner is in, and how far from the corner of that.
    pub from: Anchor,
    /// Where it ends.
    pub to: DrawingEnd,
    /// What it shows, in words, if that is stated.
    pub description: String,
    /// What it is.
    pub content: DrawingContent,
}

/// A place on a sheet.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Anchor {
    /// The row.
    pub row: u32,
    /// The column.
    pub column: u32,
    /// Points from the top of the row.
    pub down: f32,
    /// Points from the left of the column.
    pub right: f32,
}

/// Where a drawing ends.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum DrawingEnd {
    /// At a place on the sheet.
    At(Anchor),
    /// It has this width and height.
    Size(f32, f32),
}

/// What a drawing is.
#[derive(Clone, Debug)]
pub enum DrawingContent {
    /// A picture as the bytes of its file, in PNG, JPEG or GIF.
    Picture(Vec<u8>),
    /// A chart.
    Chart(Chart),
}

/// A chart.
#[derive(Clone, Debug, PartialEq)]
pub struct Chart {
    /// What it is drawn as.
    pub kind: ChartKind,
    /// Its title.
    pub title: String,
    /// The title of the axis of categories.
    pub category_title: String,
    /// The title of the axis of values.
    pub value_title: String,
    /// The names of its categories.
    pub categories: Vec<String>,
    /// Its values.
    pub series: Vec<Series>,
    /// Series are on each other.
    pub is_stacked: bool,
    /// It has a legend.
    pub has_legend: bool,
}

/// What a chart is drawn as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChartKind {
    /// Columns upwards.
    Columns,
    /// Bars to the right.
    Bars,
    /// Lines.
    Lines,
    /// A pie of the first series.
    Pie,
}

/// The values of a chart that belong together.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// Its name.
    pub name: String,
    /// Its color, if that is stated.
    pub color: Option<Rgb>,
    /// A value for each category; none where the cell is blank.
    pub values: Vec<Option<f64>>,
}
