//! Fixed-width text: records whose fields are in the same characters of every line, as extracts of mainframes and
//! printed reports have them.
//!
//! Where fields stand is stated by a layout (`--field-layout FILE`) or by widths (`--widths 8,20,10`), or detected
//! from the columns of blanks that run through all lines. `docs/fixed-width.md` describes layouts.

mod detect;
mod layout;
mod read;
mod write;

#[cfg(test)]
mod tests;

use std::path::Path;

use numerant_data::record::Batch;
use numerant_data::source::{Input, ReadError, ReadProblem};
use numerant_format::{
    Capabilities, EncodeError, EncoderRequest, Format, FormatOption, NewEncoder, Opening,
    OptionValues, ReadContext, ReadOptions, RecordReader, Side, Source, Start, Takes, Weight,
};

use self::layout::{Layout, LayoutError, parse_widths};
use self::read::FixedReader;
use self::write::FixedEncoder;
use crate::DelimitedReader;

const NAME: &str = "fixed-width text";

/// Bytes of a file that its fields are detected from.
const SAMPLE: usize = 1 << 18;

const WIDTHS: &str = "widths";
const LAYOUT: &str = "field-layout";
const OUT_WIDTHS: &str = "out-widths";
const OUT_LAYOUT: &str = "out-field-layout";

static OPTIONS: [FormatOption; 4] = [
    FormatOption {
        name: WIDTHS,
        side: Side::Reading,
        takes: Takes::Text,
        value_name: "N[,N…]",
        help: "Cut lines into fields of these widths in characters, one behind the other; the first line has the names \
               unless --no-header",
        check: check_widths,
    },
    FormatOption {
        name: LAYOUT,
        side: Side::Reading,
        takes: Takes::File,
        value_name: "FILE",
        help: "Cut lines into fields after a layout in TOML, as docs/fixed-width.md has it [default of fwf: \
               detected from the blanks between columns]",
        check: accept,
    },
    FormatOption {
        name: OUT_WIDTHS,
        side: Side::Writing,
        takes: Takes::Text,
        value_name: "N[,N…]",
        help: "Write .fwf with columns of these widths [default: --widths]",
        check: check_widths,
    },
    FormatOption {
        name: OUT_LAYOUT,
        side: Side::Writing,
        takes: Takes::File,
        value_name: "FILE",
        help: "Write .fwf after a layout in TOML, as docs/fixed-width.md has it [default: --field-layout]",
        check: accept,
    },
];

fn check_widths(text: &str) -> Result<(), String> {
    parse_widths(text).map(|_| ())
}

fn accept(_text: &str) -> Result<(), String> {
    Ok(())
}

/// Fixed-width text.
#[derive(Debug)]
pub struct FixedWidthFormat;

impl Format for FixedWidthFormat {
    fn name(&self) -> &'static str {
        NAME
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["fwf", "prn", "txt"]
    }

    fn written(&self) -> &'static [&'static str] {
        &["fwf"]
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            has_own_columns: true,
            ..Capabilities::default()
        }
    }

    fn options(&self) -> &'static [FormatOption] {
        &OPTIONS
    }

    fn options_of_outputs(&self, read: &OptionValues, write: &OptionValues) -> OptionValues {
        let mut values = OptionValues::default();
        for (out, name) in [(OUT_LAYOUT, LAYOUT), (OUT_WIDTHS, WIDTHS)] {
            if let Some(value) = write.get(out) {
                values.set(name, value);
            }
        }
        if values.is_empty() {
            return read.clone();
        }
        values
    }

    fn weight(&self) -> Weight {
        Weight::Stated
    }

    fn open(&self, start: &mut Start<'_>) -> Result<Option<Box<dyn Source>>, ReadError> {
        let values = &start.options.of_formats;
        let is_stated = values.get(WIDTHS).is_some() || values.get(LAYOUT).is_some();
        let is_free = start.is_free() || start.is_said(&[NAME]);
        if (is_stated && is_free) || start.is_said(&[NAME]) {
            self.open_named(start).map(Some)
        } else {
            Ok(None)
        }
    }

    fn open_named(&self, start: &mut Start<'_>) -> Result<Box<dyn Source>, ReadError> {
        let has_header_line = !start.options.no_header;
        let values = &start.options.of_formats;
        let stated = stated(values, (WIDTHS, LAYOUT), has_header_line);
        let layout = match stated.map_err(|(path, error)| layout_error(start, &path, &error))? {
            Some(layout) => layout,
            None => {
                let sample = start.peek(SAMPLE)?;
                let lines = sample_lines(start, sample)?;
                let lines = lines.iter().map(String::as_str);
                detect::detect(lines, has_header_line).ok_or_else(|| {
                    start.error(ReadProblem::OfFormat {
                        what: "no column of blanks runs through all lines, so fields cannot be detected"
                            .to_owned(),
                        hint: "say --widths 8,20,10 or --field-layout FILE",
                    })
                })?
            }
        };
        Ok(Box::new(FixedSource {
            input: Some(start.take()?),
            layout,
        }))
    }

    fn encoder(&self, request: EncoderRequest<'_>) -> Result<NewEncoder, EncodeError> {
        let failed = |what: String, hint| EncodeError::OfFormat {
            at: None,
            column: None,
            format: NAME,
            what,
            hint,
        };
        let has_header_line = request.fields.header.is_some();
        let sides = [
            (&request.write.of_formats, (OUT_WIDTHS, OUT_LAYOUT)),
            (&request.read.of_formats, (WIDTHS, LAYOUT)),
        ];
        for (values, names) in sides {
            let stated = stated(values, names, has_header_line).map_err(|(path, error)| {
                failed(
                    format!("{path}: {error}"),
                    "docs/fixed-width.md describes layouts",
                )
            })?;
            if let Some(layout) = stated {
                return FixedEncoder::new(&request, layout).map(NewEncoder::of);
            }
        }
        Err(failed(
            "fields need widths, and none are stated".to_owned(),
            "say --out-widths 8,20,10 or --out-field-layout FILE",
        ))
    }
}

/// The layout that options state, if they do.
fn stated(
    values: &OptionValues,
    (widths, file): (&str, &str),
    has_header_line: bool,
) -> Result<Option<Layout>, (String, LayoutError)> {
    if let Some(path) = values.get(file) {
        let layout = Layout::read(Path::new(path));
        return layout.map(Some).map_err(|error| (path.to_owned(), error));
    }
    let Some(widths) = values.get(widths) else {
        return Ok(None);
    };
    let widths = parse_widths(widths);
    let widths = widths.map_err(|what| (NAME.to_owned(), LayoutError::Wrong(what)))?;
    Ok(Some(Layout::of_widths(&widths, has_header_line)))
}

fn layout_error(start: &Start<'_>, path: &str, error: &LayoutError) -> ReadError {
    start.error(ReadProblem::OfFormat {
        what: format!("the layout {path}: {error}"),
        hint: "docs/fixed-width.md describes layouts",
    })
}

/// How lines are read.
fn as_lines(options: &ReadOptions) -> ReadOptions {
    ReadOptions {
        lines: true,
        encoding: options.encoding,
        skip_lines: options.skip_lines,
        context: ReadContext {
            may_be_empty: true,
            ..ReadContext::default()
        },
        ..ReadOptions::default()
    }
}

/// The lines of a sample; a last one that is cut off is left out.
fn sample_lines(start: &Start<'_>, sample: Vec<u8>) -> Result<Vec<String>, ReadError> {
    let is_cut = sample.len() == SAMPLE;
    let whole = match memchr::memrchr(b'\n', &sample).filter(|_| is_cut) {
        Some(end) => sample[..=end].to_vec(),
        None => sample,
    };
    let input = Input::from_reader(
        start.path.clone(),
        Box::new(std::io::Cursor::new(whole)),
        None,
    )?;
    let options = as_lines(start.options);
    let mut reader = DelimitedReader::open(input, &options, SAMPLE, start.memory)?;
    let mut lines = Vec::new();
    let mut batch = Batch::default();
    while lines.len() < detect::MAX_LINES && reader.next_batch(&mut batch)? {
        for record in 0..batch.len() {
            lines.push(String::from_utf8_lossy(&batch.field(record, 0).text()).into_owned());
        }
    }
    Ok(lines)
}

/// An open file of fixed-width text, until it is read.
struct FixedSource {
    input: Option<Input>,
    layout: Layout,
}

impl Source for FixedSource {
    fn format_name(&self) -> &'static str {
        NAME
    }

    fn open_table(
        &mut self,
        _table: usize,
        opening: Opening<'_>,
    ) -> Result<Box<dyn RecordReader>, ReadError> {
        let Some(mut input) = self.input.take() else {
            let problem = ReadProblem::Io(std::io::Error::other("the file is already read"));
            return Err(numerant_data::source::SourcePath::Standard.error(problem));
        };
        let Opening {
            options,
            batch_size,
            largest_record,
            ..
        } = opening;
        let mut lines_options = as_lines(options);
        let mut names = None;
        if self.layout.has_header_line {
            let first = input.peek(SAMPLE)?;
            let again = Input::from_reader(
                input.path.clone(),
                Box::new(std::io::Cursor::new(first)),
                None,
            )?;
            let mut reader =
                DelimitedReader::open(again, &lines_options, batch_size, largest_record)?;
            let mut batch = Batch::default();
            if reader.next_batch(&mut batch)? && !batch.is_empty() {
                names = Some(String::from_utf8_lossy(&batch.field(0, 0).text()).into_owned());
            }
            lines_options.skip_lines += 1;
        }
        let lines = DelimitedReader::open(input, &lines_options, batch_size, largest_record)?;
        let reader =
            FixedReader::new(lines, self.layout.clone(), names.as_deref(), options.ragged)?;
        Ok(Box::new(reader))
    }
}
