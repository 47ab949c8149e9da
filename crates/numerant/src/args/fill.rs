//! `numerant fill`.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{Job, Work};
use numerant_format::{FillOptions, Incomplete, Occupied, Put};
use numerant_naming::{Key, Template};
use numerant_steps::Case;

use super::options::choice;
use super::run::{OutputOptions, RunRequest, SourceOptions};
use super::split::{Keys, keys};
use super::steps::case;

/// Fill copies of a formatted workbook with data
#[derive(Debug, Args)]
#[command(
    after_help = "Records with the same --name fill one copy of the template. WHAT is {.records}, the records as \
    rows; {.table}, the records below their header; or a text with {column} (a column of --name or --by), \
    {.rows}, {.date}, {.time} or {.stem}. {.records:PATTERN} are the records of files whose names match, or \
    of the --case of that name. Columns of --from-name are not written. Formulas, charts and everything \
    else in the template are kept; formulas are calculated when the copy is opened.\n\n\
    Examples:\n  \
    numerant fill report.xlsx gauges/*.tsv --from-name '{station}_{kind}.tsv' --name '{station} \
    report.xlsx' --put 'Level!A6={.records:*_level.tsv}' --put 'Salinity!A6={.records:*_salinity.tsv}' \
    --put 'Station={station}' --style-down\n  \
    numerant fill letter.xlsx calls.csv --name '{call_id}.xlsx' --put 'Letter!B2={call_id}' --put \
    'Letter!B3={vessel}'\n  \
    numerant fill quay.xlsx calls.csv --name '{quay}.xlsx' --put 'Calls!A3={.table}' --put \
    'Calls!B1={quay}, {.rows} calls'"
)]
pub(crate) struct FillArguments {
    /// Workbook to copy and fill, .xlsx or .xlsm
    #[arg(value_name = "TEMPLATE")]
    template: PathBuf,
    /// Write WHAT at PLACE, a cell or a named range, such as 'Level!A6={.records}' or
    /// 'Summary!B3={station}'; may be repeated
    #[arg(
        long,
        value_name = "PLACE=WHAT",
        required = true,
        help_heading = "Filling"
    )]
    put: Vec<Put>,
    /// Cells to fill that are not blank: refuse ends the run, replace overwrites them
    #[arg(long, value_name = "POLICY", value_parser = choice(OCCUPIED), default_value = "refuse", help_heading = "Filling")]
    occupied: Occupied,
    /// Copies for which one table has no records: refuse ends the run, skip leaves the copy out,
    /// fill leaves the table blank
    #[arg(long, value_name = "POLICY", value_parser = choice(INCOMPLETE), default_value = "refuse", help_heading = "Filling")]
    incomplete: Incomplete,
    /// Format all rows of a table like its first row in the template
    #[arg(long, help_heading = "Filling")]
    style_down: bool,
    /// Make a copy for each value of these columns, or parts such as arrived:month, besides those
    /// of --name
    #[arg(
        long,
        value_name = "COLUMN[,COLUMN…]",
        value_parser = keys,
        help_heading = "Filling"
    )]
    by: Vec<Keys>,
    /// Name records that match CONDITION, for a table of their own; if repeated, the first match
    /// counts
    #[arg(
        long,
        value_name = "NAME=CONDITION",
        value_parser = case,
        help_heading = "Filling"
    )]
    case: Vec<Case>,
    /// Name for all other records, which match no --case [default: they are left out]
    #[arg(long, value_name = "NAME", help_heading = "Filling")]
    others: Option<String>,
    #[command(flatten)]
    source: SourceOptions,
    /// Path of each copy, such as '{station} report.xlsx'
    #[arg(
        long,
        value_name = "TEMPLATE",
        required = true,
        help_heading = "Naming"
    )]
    name: Template,
    /// Write copies to DIR, which is created [default: a new folder named after the first file]
    #[arg(long, value_name = "DIR", help_heading = "Naming")]
    out: Option<PathBuf>,
    #[command(flatten)]
    output: OutputOptions,
}

const OCCUPIED: &[(&str, Occupied)] =
    &[("refuse", Occupied::Refuse), ("replace", Occupied::Replace)];

const INCOMPLETE: &[(&str, Incomplete)] = &[
    ("refuse", Incomplete::Refuse),
    ("skip", Incomplete::Skip),
    ("fill", Incomplete::Fill),
];

impl FillArguments {
    pub(crate) fn into_request(self) -> RunRequest {
        let by: Vec<Key> = self.by.into_iter().flat_map(|keys| keys.0).collect();
        let job = Job {
            by,
            case: self.case,
            others: self.others,
            name: Some(self.name),
            out: self.out,
            fill: FillOptions {
                template: Some(self.template),
                put: self.put,
                occupied: self.occupied,
                incomplete: self.incomplete,
                style_down: self.style_down,
            },
            ..self.source.into_job()
        };
        self.output.into_request(job, Work::Fill)
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use numerant_naming::parse_keys;

    use super::*;
    use crate::args::{Arguments, Command};

    #[test]
    fn every_option_has_its_place_in_the_job() {
        let words = [
            "numerant",
            "fill",
            "report.xlsx",
            "gauges",
            "--put",
            "Level!A6={.records:*_level.tsv}",
            "--put",
            "Station={station}",
            "--occupied",
            "replace",
            "--incomplete",
            "skip",
            "--style-down",
            "--by",
            "station",
            "--others",
            "others",
            "--name",
            "{station} report.xlsx",
            "--out",
            "reports",
        ];
        let request = match Arguments::try_parse_from(words).expect("valid").command {
            Command::Fill(fill) => fill.into_request(),
            other => panic!("{other:?}"),
        };
        let put = |text: &str| text.parse().expect("a put");
        let expected = Job {
            sources: vec![PathBuf::from("gauges").into()],
            by: parse_keys("station").expect("a key"),
            others: Some("others".to_owned()),
            name: Some("{station} report.xlsx".parse().expect("a template")),
            out: Some("reports".into()),
            fill: FillOptions {
                template: Some("report.xlsx".into()),
                put: vec![
                    put("Level!A6={.records:*_level.tsv}"),
                    put("Station={station}"),
                ],
                occupied: Occupied::Replace,
                incomplete: Incomplete::Skip,
                style_down: true,
            },
            ..Job::default()
        };
        assert_eq!(request.job, expected);
    }
}
