//! `numerant split`.

use std::path::PathBuf;

use clap::Args;
use numerant_data::value::Size;
use numerant_engine::job::{Job, Work};
use numerant_naming::{Key, KeyError, Template, parse_keys};
use numerant_steps::Case;

use super::options::{FormulaOptions, GatherOptions, format};
use super::run::{OutputOptions, RunRequest, SourceOptions};
use super::steps::case;

/// Split files by column values, conditions, number of records, size, record or sheet
#[derive(Debug, Args)]
#[command(
    after_help = "Templates such as '{quay}/{arrived:month}.csv' name the outputs; an output's extension decides its \
    format. 'numerant help names' lists the placeholders, 'numerant help expressions' the operators and \
    functions of conditions.\n\n\
    Examples:\n  \
    numerant split calls.csv --by quay --plan\n  \
    numerant split calls.csv --by quay,cargo --out parts --drop remarks\n  \
    numerant split calls.csv --name '{quay}/{arrived:month}.csv' --ledger split.json\n  \
    numerant split calls.csv --case large='tonnes > 20000' --others small --total dues\n  \
    numerant split calls.csv --rows 5000 --sort arrived\n  \
    numerant split calls.csv --lookup owners.csv:quay --name '{folder}/{quay}.csv'\n  \
    numerant split calls.csv --name calls.xlsx --sheet '{quay}'\n  \
    numerant split year.xlsx --per-sheet --name '{.sheet}.csv'\n  \
    numerant split report.xlsx --skip-lines 2 --by quay --like-source"
)]
pub(crate) struct SplitArguments {
    /// Split by the values of columns, or of parts such as arrived:month; write a name with a comma
    /// or colon in double quotes
    #[arg(
        long,
        value_name = "COLUMN[,COLUMN…]",
        value_parser = keys,
        help_heading = "Splitting"
    )]
    by: Vec<Keys>,
    /// Split by conditions: records that match CONDITION go to the output NAME, such as
    /// large='tonnes > 20000'; if repeated, the first match counts
    #[arg(
        long,
        value_name = "NAME=CONDITION",
        value_parser = case,
        help_heading = "Splitting"
    )]
    case: Vec<Case>,
    /// Output name for all other records, which match no --case [default: they are left out]
    #[arg(long, value_name = "NAME", help_heading = "Splitting")]
    others: Option<String>,
    /// Split into files of N records
    #[arg(long, value_name = "N", help_heading = "Splitting")]
    rows: Option<u64>,
    /// Split into N files of about equal size
    #[arg(long, value_name = "N", help_heading = "Splitting")]
    parts: Option<u64>,
    /// Split into files of at most this size, such as 10M (10,000,000 bytes) or 10MiB
    #[arg(long, value_name = "SIZE", help_heading = "Splitting")]
    max_size: Option<Size>,
    /// Write one file for each record
    #[arg(long, help_heading = "Splitting")]
    each: bool,
    /// Write one file for each visible sheet of workbooks, or for those of --read-sheet
    #[arg(long, help_heading = "Splitting")]
    per_sheet: bool,
    /// Write workbooks that look like the source sheet: rows above the header, widths, formats,
    /// filters, styles and formulas; columns added by steps come last
    #[arg(long, help_heading = "Splitting")]
    like_source: bool,
    #[command(flatten)]
    formulas: FormulaOptions,
    #[command(flatten)]
    source: SourceOptions,
    #[command(flatten)]
    gather: GatherOptions,
    /// Path of each output, such as '{quay}/{arrived:month}.csv' [default: the keys joined by _, or
    /// the source's name, with a number if needed]
    #[arg(long, value_name = "TEMPLATE", help_heading = "Naming")]
    name: Option<Template>,
    /// Write outputs in FORMAT, such as xlsx, whatever extension --name has [default: the format of
    /// the extension of --name, or of the source]
    #[arg(long, value_name = "FORMAT", value_parser = format, help_heading = "Naming")]
    to: Option<String>,
    /// Write outputs to DIR, which is created; - for one output to standard output [default: a new
    /// folder named after the source]
    #[arg(long, value_name = "DIR", help_heading = "Naming")]
    out: Option<PathBuf>,
    #[command(flatten)]
    output: OutputOptions,
}

#[derive(Clone, Debug)]
pub(super) struct Keys(pub(super) Vec<Key>);

pub(super) fn keys(text: &str) -> Result<Keys, KeyError> {
    parse_keys(text).map(Keys)
}

impl SplitArguments {
    pub(crate) fn into_request(self) -> RunRequest {
        let job = Job {
            by: self.by.into_iter().flat_map(|keys| keys.0).collect(),
            case: self.case,
            others: self.others,
            rows: self.rows,
            parts: self.parts,
            max_size: self.max_size,
            each: self.each,
            per_sheet: self.per_sheet,
            like_source: self.like_source,
            formulas: self.formulas.formulas,
            name: self.name,
            to: self.to,
            out: self.out,
            columns: self.gather.columns,
            ..self.source.into_job()
        };
        self.output.into_request(job, Work::Split)
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use numerant_data::dialect::LineEnd;
    use numerant_engine::gather::ColumnPolicy;
    use numerant_engine::job::{Formulas, Gathering, Overflow, PageOptions};
    use numerant_engine::output::ExistingPolicy;
    use numerant_format::sheet::Types;
    use numerant_format::{
        ControlCharacters, FillOptions, OptionValue, OptionValues, Ragged, ReadOptions,
        WriteOptions,
    };
    use numerant_naming::ClashPolicy;

    use numerant_data::tree::ListLayout;
    use numerant_data::value::{ColumnType, Size};
    use numerant_steps::{Lookup, OnError, Repeated, SortColumn, Step, Unmatched};

    use super::*;
    use crate::args::{Arguments, Command, Mode};

    fn request(words: &[&str]) -> RunRequest {
        let words = ["numerant", "split"].iter().chain(words);
        match Arguments::try_parse_from(words).expect("valid").command {
            Command::Split(split) => split.into_request(),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn the_shortest_command_is_the_default_job() {
        let split = request(&["calls.csv", "--by", "quay"]);
        let expected = Job {
            sources: vec![PathBuf::from("calls.csv").into()],
            by: parse_keys("quay").expect("a key"),
            ..Job::default()
        };
        assert_eq!((split.job, split.mode), (expected, Mode::Run));
    }

    #[test]
    fn every_option_has_its_place_in_the_job() {
        let split = request(&[
            "a.csv",
            "-",
            "--by",
            "quay,arrived:month",
            "--by",
            "cargo",
            "--recursive",
            "--pick",
            "*.csv",
            "--skip",
            "old",
            "--from-name",
            "{station}_{term}.csv",
            "--source-column",
            "origin",
            "--columns",
            "union",
            "--from",
            "csv",
            "--read-sheet",
            "May",
            "--read-sheet",
            "2",
            "--delimiter",
            ";",
            "--quote",
            "none",
            "--encoding",
            "latin1",
            "--no-header",
            "--skip-lines",
            "3",
            "--ragged",
            "reject",
            "--plain",
            "--locale",
            "de",
            "--date-format",
            "%d/%m/%Y",
            "--decimal-comma",
            "--sort",
            "-dues,\"a,b\"",
            "--drop",
            "b",
            "--keep",
            "a,b",
            "--rename",
            "a=A",
            "--where",
            "dues > 5",
            "--set",
            "\"net, EUR\"=dues * 0.8",
            "--lookup",
            "owners.csv:quay=berth",
            "--unmatched",
            "blank",
            "--repeated",
            "last",
            "--type",
            "dues=decimal",
            "--tidy",
            "--on-error",
            "reject",
            "--case",
            "large=tonnes >= 20000",
            "--others",
            "small",
            "--rows",
            "9",
            "--total",
            "dues,tonnes",
            "--name",
            "{quay}.tsv",
            "--out",
            "parts",
            "--blank",
            "none",
            "--clash",
            "number",
            "--existing",
            "skip",
            "--out-delimiter",
            "tab",
            "--out-encoding",
            "utf-16le",
            "--bom=no",
            "--line-end",
            "crlf",
            "--types",
            "off",
            "--control-characters",
            "drop",
            "--records",
            "$.calls[*]",
            "--lists",
            "rows=items",
            "--no-prefixes",
            "--depth",
            "200",
            "--nulls",
            "null",
            "--indent",
            "2",
            "--flat",
            "--root",
            "port",
            "--item",
            "call",
            "--number-format",
            "1.234,50",
            "--xml-comment",
            "{.rows} calls",
            "--escape",
            "\\",
            "--padded-quotes",
            "--comment",
            "#",
            "--blank-values",
            "NA,-",
            "--shape",
            "calls.xml",
            "--sheet",
            "{cargo}",
            "--sheet-order",
            "records",
            "--overflow",
            "files",
            "--sync",
            "--plan",
            "--max-outputs",
            "7",
            "--ledger",
            "l.json",
            "--rejects",
            "r.csv",
            "--jobs",
            "2",
            "--memory",
            "64M",
        ]);
        let mut of_formats = OptionValues::default();
        of_formats.set("nulls", "null");
        of_formats.put("indent", OptionValue::Number(2));
        of_formats.put("flat", OptionValue::Set);
        for (name, text) in [
            ("root", "port"),
            ("item", "call"),
            ("xml-comment", "{.rows} calls"),
        ] {
            of_formats.set(name, text);
        }
        let expected = Job {
            sources: vec![PathBuf::from("a.csv").into(), PathBuf::from("-").into()],
            recursive: true,
            pick: vec!["*.csv".parse().expect("a pattern")],
            skip: vec!["old".parse().expect("a pattern")],
            from_name: Some("{station}_{term}.csv".parse().expect("a pattern")),
            source_column: Some("origin".into()),
            columns: Some(ColumnPolicy::Union),
            batch: false,
            stop_on_error: false,
            read: ReadOptions {
                from: Some("csv".into()),
                read_sheet: vec!["May".to_owned().into(), "2".to_owned().into()],
                delimiter: Some("semicolon".parse().expect("a delimiter")),
                quote: Some("none".parse().expect("a quote")),
                escape: Some("\\".parse().expect("an escape")),
                padded_quotes: Some(true),
                comment: Some("#".into()),
                blank_values: vec!["NA".into(), "-".into()],
                encoding: Some("windows-1252".parse().expect("an encoding")),
                no_header: true,
                skip_lines: 3,
                ragged: Ragged::Reject,
                records: Some("$.calls[*]".into()),
                lists: Some(ListLayout::Rows(Some("items".into()))),
                no_prefixes: true,
                depth: Some(200),
                ..ReadOptions::default()
            },
            date_format: vec!["%d/%m/%Y".parse().expect("a format")],
            decimal_comma: true,
            number_format: Some("1.234,50".parse().expect("an example")),
            locale: Some("de".parse().expect("a language")),
            on_error: OnError::Reject,
            steps: vec![
                Step::Tidy,
                Step::Type {
                    column: "dues".into(),
                    is: ColumnType::Decimal,
                },
                Step::Lookup(Lookup {
                    file: "owners.csv".into(),
                    key: "quay".into(),
                    column: Some("berth".into()),
                    unmatched: Unmatched::Blank,
                    repeated: Repeated::Last,
                }),
                Step::Set {
                    name: "net, EUR".into(),
                    value: "dues * 0.8".parse().expect("an expression"),
                },
                Step::Where("dues > 5".parse().expect("a condition")),
                Step::Rename {
                    from: "a".into(),
                    to: "A".into(),
                },
                Step::Keep(vec!["a".into(), "b".into()]),
                Step::Drop(vec!["b".into()]),
                Step::Sort(vec![
                    SortColumn {
                        column: "dues".into(),
                        descending: true,
                    },
                    SortColumn {
                        column: "a,b".into(),
                        descending: false,
                    },
                ]),
            ],
            case: vec![Case {
                name: "large".into(),
                when: "tonnes >= 20000".parse().expect("a condition"),
            }],
            others: Some("small".into()),
            rows: Some(9),
            parts: None,
            max_size: None,
            each: false,
            pages: PageOptions::default(),
            per_sheet: false,
            sheet_order: Some(numerant_engine::job::SheetOrder::Records),
            sheet: Some("{cargo}".parse().expect("a template")),
            overflow: Overflow::Files,
            total: vec!["dues".into(), "tonnes".into()],
            by: parse_keys("quay,arrived:month,cargo").expect("keys"),
            to: None,
            source_format: None,
            base: PathBuf::new(),
            name: Some("{quay}.tsv".parse().expect("a template")),
            out: Some("parts".into()),
            pack: None,
            like_source: false,
            gathering: Gathering::Table,
            formulas: Formulas::Keep,
            fill: FillOptions::default(),
            allow_absolute: false,
            blank: "none".into(),
            clash: ClashPolicy::Number,
            existing: ExistingPolicy::Skip,
            write: WriteOptions {
                plain: true,
                out_delimiter: Some("tab".parse().expect("a delimiter")),
                out_encoding: Some("utf-16le".parse().expect("an encoding")),
                bom: Some(false),
                line_end: Some(LineEnd::CrLf),
                types: Types::Off,
                control_characters: ControlCharacters::Drop,
                schema: None,
                shape: Some("calls.xml".into()),
                of_formats,
            },
            max_outputs: 7,
            memory: Size(64_000_000),
            jobs: 2,
            sync: true,
            page: None,
            ledger: Some("l.json".into()),
            rejects: Some("r.csv".into()),
        };
        assert_eq!((split.job, split.mode), (expected, Mode::Plan));
    }

    #[test]
    fn other_ways_to_split() {
        let split = request(&["a.csv", "--each", "--name", "{id}.csv"]);
        assert!(split.job.each);
        let split = request(&["a.csv", "--parts", "3"]);
        assert_eq!(split.job.parts, Some(3));
        let split = request(&["a.csv", "--max-size", "10M"]);
        assert_eq!(split.job.max_size, Some(Size(10_000_000)));
        assert!(request(&["a.xlsx", "--per-sheet"]).job.per_sheet);
    }

    #[test]
    fn the_commands_are_sound() {
        use clap::CommandFactory;
        Arguments::command().debug_assert();
    }
}
