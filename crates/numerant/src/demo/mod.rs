//! The sample world, the Port of Varnholm, and a walk through the work with it.

mod calls;
mod documents;
mod gauges;
mod messages;
mod random;
mod stops;
mod tables;
mod walk;

use std::path::Path;
use std::sync::Arc;
use std::{fs, io};

use numerant_data::disk::Disk;
use numerant_engine::job::Job;
use numerant_engine::{Context, Unobserved};
use numerant_steps::Step;
pub(crate) use walk::walk;

use crate::failure::Failure;

/// Stands in the folder so that a later demo knows that it may make it anew.
const README: &str = "README.txt";

const README_TEXT: &str = "\
The Port of Varnholm: sample data of 'numerant demo'.
The port and all names in it are invented. Each demo replaces this folder.

calls.csv    12,000 berth calls of 18 months, not sorted
owners.csv   the office of each quay, and its head
routes.csv   recipients of the calls of each quay
charts.csv   a catalogue of sea charts; one number is used twice
charts.mrc   the same catalogue as bibliographic records (ISO 2709, MARC 21)
port.xlsx    calls, owners and charts as sheets of a workbook
invoices-us.csv, rechnungen.csv
             invoices with dates and money as written in the US and in Germany
remittance.x12, advice.edifact
             remittance advices of a bank, as EDI messages
manifests    cargo manifests, a JSON document for each kind of cargo
notices      notices to mariners, an XML document for each week
gauges       readings of 24 tide gauges, two files each, with semicolons and pipes
report.xlsx  a formatted report of a tide gauge, to be filled
monthly.toml a saved job of the office
customs.xml  a template of the document that customs want
";

/// The report, with formulas and a chart, as `tools/make_books.py` has made it.
const REPORT: &[u8] = include_bytes!("report.xlsx");

/// Makes `folder` with the sample data. A folder that an earlier demo made is emptied first.
pub(crate) fn lay_out(folder: &Path) -> Result<(), Failure> {
    let failed = |path: &Path, error: &io::Error| Failure::Demo {
        message: format!("{}: {error}", path.display()),
        hint: "name another folder: numerant demo DIR".into(),
    };
    if folder.exists() {
        let empty = fs::read_dir(folder)
            .map_err(|error| failed(folder, &error))?
            .next()
            .is_none();
        let ours = fs::read_to_string(folder.join(README)).is_ok_and(|text| {
            README_TEXT
                .lines()
                .next()
                .is_some_and(|first| text.starts_with(first))
        });
        if !empty && !ours {
            return Err(Failure::Demo {
                message: format!(
                    "{} exists and was not created by a demo, so it is not changed",
                    folder.display()
                ),
                hint: "name another folder: numerant demo DIR".into(),
            });
        }
        fs::remove_dir_all(folder).map_err(|error| failed(folder, &error))?;
    }
    fs::create_dir_all(folder).map_err(|error| failed(folder, &error))?;
    for (name, bytes) in [
        (README, README_TEXT.as_bytes()),
        ("calls.csv", calls::csv().as_slice()),
        ("owners.csv", &tables::owners()),
        ("routes.csv", &tables::routes()),
        ("charts.csv", &tables::charts()),
        ("invoices-us.csv", &tables::invoices_us()),
        ("rechnungen.csv", &tables::invoices_de()),
        ("report.xlsx", REPORT),
    ] {
        let path = folder.join(name);
        fs::write(&path, bytes).map_err(|error| failed(&path, &error))?;
    }
    let monthly = ("monthly.toml".to_owned(), gauges::MONTHLY.into());
    let messages = messages::all().map(|(name, bytes)| (name.to_owned(), bytes));
    let others = documents::all()
        .into_iter()
        .chain(gauges::all())
        .chain(messages);
    for (name, bytes) in others.chain([monthly]) {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(|error| failed(parent, &error))?;
        }
        fs::write(&path, bytes).map_err(|error| failed(&path, &error))?;
    }
    workbook(folder)?;
    catalogue(folder)
}

/// Makes a workbook of the tables, with a sheet for each.
fn workbook(folder: &Path) -> Result<(), Failure> {
    let tables = ["calls.csv", "owners.csv", "charts.csv"];
    make(&Job {
        sources: tables.map(|name| folder.join(name).into()).to_vec(),
        name: Some("port.xlsx".parse().expect("a template")),
        sheet: Some("{.stem}".parse().expect("a template")),
        out: Some(folder.to_owned()),
        ..Job::default()
    })
}

/// Makes bibliographic records of the catalogue of charts.
fn catalogue(folder: &Path) -> Result<(), Failure> {
    let rename = |(from, to): (&str, &str)| Step::Rename {
        from: from.to_owned(),
        to: to.to_owned(),
    };
    let set = |(name, value): (&str, &str)| Step::Set {
        name: name.to_owned(),
        value: value.parse().expect("an expression"),
    };
    let computed = [
        ("LDR", "'00000nem a2200000 a 4500'"),
        (
            "008",
            "'260301s' || edition || '    xx |||||| a     1  0eng d'",
        ),
        ("110#1", "'2'"),
        ("110$a", "'Port of Varnholm'"),
        ("110$b", "'Harbour Office'"),
        ("245#1", "'1'"),
        ("245#2", "'0'"),
        ("650#2", "'4'"),
        ("650$a", "'Nautical charts'"),
        ("650[2]#2", "'4'"),
        ("650[2]$a", "'Harbours'"),
        ("650[2]$z", "'Varnholm'"),
    ];
    let renamed = [
        ("number", "001"),
        ("title", "245$a"),
        ("scale", "255$a"),
        ("edition", "250$a"),
    ];
    let order = [
        "LDR", "001", "008", "110#1", "110$a", "110$b", "245#1", "245#2", "245$a", "250$a",
        "255$a", "650#2", "650$a", "650[2]#2", "650[2]$a", "650[2]$z",
    ];
    let mut steps: Vec<Step> = computed.map(set).into();
    steps.extend(renamed.map(rename));
    steps.push(Step::Keep(order.map(str::to_owned).into()));
    make(&Job {
        sources: vec![folder.join("charts.csv").into()],
        name: Some("charts.mrc".parse().expect("a template")),
        out: Some(folder.to_owned()),
        steps,
        ..Job::default()
    })
}

/// Runs a job without anybody who watches it.
fn make(job: &Job) -> Result<(), Failure> {
    let context = Context {
        now: jiff::civil::DateTime::default(),
        cancel: Arc::default(),
        observer: Arc::new(Unobserved),
        open_files: 64,
        processors: 2,
        temporary: std::env::temp_dir(),
        disk: Disk::default(),
        own_files: Vec::new(),
        commits: Arc::default(),
    };
    numerant_engine::run(job, &context)?;
    Ok(())
}
