//! `numerant convert`.

use std::path::PathBuf;

use clap::Args;
use numerant_engine::job::{Job, Work};
use numerant_naming::Template;

use super::options::format;
use super::run::{OutputOptions, RunRequest, SourceOptions};

/// Convert each file to another format
#[derive(Debug, Args)]
#[command(
    after_help = "Each source becomes an output of its own. If a file fails, the others are still converted, and the \
    exit code is 3; --existing newer then converts what is missing or has changed. With several \
    files, --rejects names a folder.\n\n\
    Examples:\n  \
    numerant convert calls.csv --to jsonl\n  \
    numerant convert incoming --recursive --to xlsx --out sheets --existing newer\n  \
    numerant convert manifests/*.json --to xml --out customs --shape customs.xml \\\n    \
    --set total='net + tax' --xml-comment '{.rows} items from {.source}'"
)]
pub(crate) struct ConvertArguments {
    /// Write outputs in FORMAT, such as csv, jsonl or xlsx, whatever extension --name has
    #[arg(
        long,
        value_name = "FORMAT",
        value_parser = format,
        required_unless_present = "name",
        help_heading = "Naming"
    )]
    to: Option<String>,
    #[command(flatten)]
    source: SourceOptions,
    /// Path of each output, such as '{.stem}.xlsx' [default: the source's name with the extension
    /// of --to]
    #[arg(long, value_name = "TEMPLATE", help_heading = "Naming")]
    name: Option<Template>,
    /// Write outputs to DIR, which is created, with the subfolders of the sources; - for one output
    /// to standard output [default: next to each source; with --name the current folder]
    #[arg(long, value_name = "DIR", help_heading = "Naming")]
    out: Option<PathBuf>,
    /// Stop at the first file that fails [default: the other files are converted]
    #[arg(long, help_heading = "Running")]
    stop_on_error: bool,
    #[command(flatten)]
    output: OutputOptions,
}

impl ConvertArguments {
    pub(crate) fn into_request(self) -> RunRequest {
        // A path that is typed begins where it is typed; outputs without one stay next to their sources.
        let here = self.name.is_some().then(|| PathBuf::from("."));
        let job = Job {
            out: self.out.or(here.filter(|_| !self.output.packs())),
            name: self.name,
            to: self.to,
            batch: true,
            stop_on_error: self.stop_on_error,
            ..self.source.into_job()
        };
        self.output.into_request(job, Work::Convert)
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;
    use crate::args::{Arguments, Command};

    fn request(words: &[&str]) -> Option<RunRequest> {
        let words = ["numerant", "convert"].iter().chain(words);
        match Arguments::try_parse_from(words).ok()?.command {
            Command::Convert(convert) => Some(convert.into_request()),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn names_keep_their_stems_beside_the_files() {
        let job = request(&["in/a.csv", "in/b.xml", "--to", ".JSONL"])
            .expect("valid")
            .job;
        let expected = Job {
            sources: ["in/a.csv", "in/b.xml"]
                .map(|name| PathBuf::from(name).into())
                .to_vec(),
            to: Some("jsonl".into()),
            batch: true,
            ..Job::default()
        };
        assert_eq!(job, expected);
        let job = request(&[
            "in",
            "--recursive",
            "--pick",
            "*.dat",
            "--skip",
            "old/**",
            "--to",
            "xml",
            "--existing",
            "newer",
            "--stop-on-error",
        ]);
        let expected = Job {
            sources: vec![PathBuf::from("in").into()],
            recursive: true,
            pick: vec!["*.dat".parse().expect("a pattern")],
            skip: vec!["old/**".parse().expect("a pattern")],
            to: Some("xml".into()),
            existing: numerant_engine::output::ExistingPolicy::Newer,
            batch: true,
            stop_on_error: true,
            ..Job::default()
        };
        assert_eq!(job.expect("valid").job, expected);
        assert!(request(&["a.csv"]).is_none());
        assert!(request(&["a.csv", "--to", "docx"]).is_none());
    }
}
