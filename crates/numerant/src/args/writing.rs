//! Options of how outputs are written.

use std::path::PathBuf;

use clap::Args;
use numerant_data::dialect::{Delimiter, LineEnd};
use numerant_data::encoding::Encoding;
use numerant_format::sheet::Types;
use numerant_format::{ControlCharacters, WriteOptions};

use super::format_options::WritingOptionsOfFormats;
use super::options::{YES_NO, choice};

const LINE_ENDS: &[(&str, LineEnd)] = &[
    ("lf", LineEnd::Lf),
    ("crlf", LineEnd::CrLf),
    ("cr", LineEnd::Cr),
];

const TYPES: &[(&str, Types)] = &[("auto", Types::Auto), ("off", Types::Off)];

const CONTROL_CHARACTERS: &[(&str, ControlCharacters)] = &[
    ("refuse", ControlCharacters::Refuse),
    ("drop", ControlCharacters::Drop),
];

/// How outputs are written.
#[derive(Debug, Args)]
#[command(next_help_heading = "Writing")]
pub(super) struct WritingOptions {
    /// Separator between fields of outputs [default: that of the source; comma or tab if the output
    /// has another extension]
    #[arg(long, value_name = "CHAR")]
    out_delimiter: Option<Delimiter>,
    /// Character encoding of outputs [default: that of the source; utf-8 if the output has another
    /// extension]
    #[arg(long, value_name = "NAME")]
    out_encoding: Option<Encoding>,
    /// Write a byte-order mark; --bom=no writes none [default: as in the source]
    #[arg(
        long,
        value_name = "yes|no",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "yes",
        hide_possible_values = true,
        value_parser = choice(YES_NO)
    )]
    bom: Option<bool>,
    /// Line ending of outputs [default: that of the source; lf if the output has another extension]
    #[arg(long, value_name = "END", value_parser = choice(LINE_ENDS))]
    line_end: Option<LineEnd>,
    /// Types of workbook columns: auto writes numbers and dates as such where every value can be
    /// read back unchanged, off writes everything as text
    #[arg(long = "types", value_name = "HOW", value_parser = choice(TYPES), default_value = "auto")]
    column_types: Types,
    /// Write workbooks without the number formats, column widths and header styles of their sources
    #[arg(long)]
    plain: bool,
    /// Control characters that the output format cannot hold: refuse ends the run, drop removes
    /// them
    #[arg(long, value_name = "POLICY", value_parser = choice(CONTROL_CHARACTERS), default_value = "refuse")]
    control_characters: ControlCharacters,
    /// Write JSON or XML like the template in FILE, with placeholders in braces; docs/documents.md
    /// describes it
    #[arg(long, value_name = "FILE")]
    shape: Option<PathBuf>,
    /// Validate outputs with the schema in FILE, XML Schema or JSON Schema, and refuse the run if
    /// one is not valid
    #[arg(long, value_name = "FILE")]
    schema: Option<PathBuf>,
    #[command(flatten)]
    of_formats: WritingOptionsOfFormats,
    /// Flush outputs to the disk before they are moved into place
    #[arg(long)]
    pub(super) sync: bool,
}

impl WritingOptions {
    pub(super) fn options(&self) -> WriteOptions {
        WriteOptions {
            out_delimiter: self.out_delimiter,
            out_encoding: self.out_encoding,
            bom: self.bom,
            line_end: self.line_end,
            types: self.column_types,
            plain: self.plain,
            control_characters: self.control_characters,
            shape: self.shape.clone(),
            schema: self.schema.clone(),
            of_formats: self.of_formats.0.clone(),
        }
    }
}
