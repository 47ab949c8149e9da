//! The walk: each command as one would type it, then what it really answers.

use std::env;
use std::io::{self, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::report::screen::Mark;

use crate::commands::Failure;

const TITLE: Mark = Mark::Green;
const TYPED: Mark = Mark::Bold;

/// A command of the walk.
struct Stop {
    /// What it is there for.
    why: &'static str,
    words: &'static [&'static str],
    /// The code that it ends with.
    code: i32,
}

const STOPS: &[Stop] = &[
    Stop {
        why: "Look: what is in the file?",
        words: &["inspect", "calls.csv"],
        code: 0,
    },
    Stop {
        why: "Which quays are there? Some calls have none.",
        words: &["inspect", "calls.csv", "--values", "quay"],
        code: 0,
    },
    Stop {
        why: "An expression is tried before it is run: a rebate for fish, the highest dues first.",
        words: &[
            "inspect",
            "calls.csv",
            "--set",
            "net=ROUND(dues * 0.92, 2)",
            "--where",
            "cargo = 'fish'",
            "--keep",
            "call_id,quay,dues,net",
            "--sort",
            "-dues",
            "--show",
            "4",
        ],
        code: 0,
    },
    Stop {
        why: "Plan: which files would a split by quay write?",
        words: &[
            "split",
            "calls.csv",
            "--by",
            "quay",
            "--blank",
            "no quay",
            "--total",
            "dues",
            "--plan",
        ],
        code: 0,
    },
    Stop {
        why: "Split: that is right, one file for each quay; the books kept.",
        words: &[
            "split",
            "calls.csv",
            "--by",
            "quay",
            "--blank",
            "no quay",
            "--total",
            "dues",
            "--ledger",
            "calls.json",
        ],
        code: 0,
    },
    Stop {
        why: "Once more? What is there is not replaced in silence.",
        words: &["split", "calls.csv", "--by", "quay", "--blank", "no quay"],
        code: 1,
    },
    Stop {
        why: "To each office its own folder, as the table of owners says. One value is not in it …",
        words: &[
            "split",
            "calls.csv",
            "--lookup",
            "owners.csv:quay",
            "--name",
            "{office}/{quay}.csv",
            "--out",
            "offices",
        ],
        code: 1,
    },
    Stop {
        why: "… so it is said what becomes of that. The offices do not see the invoices.",
        words: &[
            "split",
            "calls.csv",
            "--lookup",
            "owners.csv:quay",
            "--unmatched",
            "blank",
            "--name",
            "{office}/{quay}.csv",
            "--blank",
            "nobody",
            "--drop",
            "office,head,invoice",
            "--out",
            "offices",
        ],
        code: 0,
    },
    Stop {
        why: "By conditions; the control total shows that the parts add up.",
        words: &[
            "split",
            "calls.csv",
            "--case",
            "large=tonnes > 40000",
            "--case",
            "late=departed > arrived + INTERVAL '2' DAY",
            "--rest",
            "others",
            "--total",
            "dues",
            "--out",
            "cases",
        ],
        code: 0,
    },
    Stop {
        why: "A folder for each quay, a file for each month.",
        words: &[
            "split",
            "calls.csv",
            "--name",
            "{quay}/{arrived:month}.csv",
            "--blank",
            "no quay",
            "--out",
            "months",
            "--quiet",
        ],
        code: 0,
    },
    Stop {
        why: "In the order of arrival, at most 5,000 calls in a file.",
        words: &[
            "split",
            "calls.csv",
            "--rows",
            "5000",
            "--sort",
            "arrived",
            "--out",
            "thousands",
        ],
        code: 0,
    },
    Stop {
        why: "One file for each chart of the catalogue. Two charts with one number never become one file in silence.",
        words: &["split", "charts.csv", "--each", "--name", "{number}.csv"],
        code: 1,
    },
    Stop {
        why: "Numbered, both are there.",
        words: &[
            "split",
            "charts.csv",
            "--each",
            "--name",
            "{number}.csv",
            "--clash",
            "number",
            "--quiet",
        ],
        code: 0,
    },
    Stop {
        why: "A slip of the finger is told before anything is written.",
        words: &["split", "calls.csv", "--by", "quai,cargo"],
        code: 2,
    },
    Stop {
        why: "So is a slip in an expression, with its place.",
        words: &[
            "split",
            "calls.csv",
            "--by",
            "quay",
            "--where",
            "tonnes > 1000 AND UPPR(cargo) = 'FISH'",
        ],
        code: 2,
    },
    Stop {
        why: "Semicolons and Windows-1252 for a partner's old system.",
        words: &[
            "split",
            "calls.csv",
            "--by",
            "cargo",
            "--keep",
            "call_id,cargo,agent,tonnes,dues",
            "--out",
            "partner",
            "--out-delimiter",
            ";",
            "--out-encoding",
            "windows-1252",
            "--line-end",
            "crlf",
        ],
        code: 0,
    },
    Stop {
        why: "The port has it all in one workbook too. What is on its sheet of charts?",
        words: &[
            "inspect",
            "port.xlsx",
            "--read-sheet",
            "charts",
            "--show",
            "3",
        ],
        code: 0,
    },
    Stop {
        why: "A workbook for each quay, with a sheet for each year; dates are dates and numbers are numbers.",
        words: &[
            "split",
            "port.xlsx",
            "--name",
            "{quay}.xlsx",
            "--sheet",
            "{arrived:year}",
            "--blank",
            "no quay",
            "--out",
            "workbooks",
        ],
        code: 0,
    },
    Stop {
        why: "The workbook taken apart, a file for each sheet, for programs that know only the old binary format …",
        words: &[
            "split",
            "port.xlsx",
            "--per-sheet",
            "--name",
            "{.sheet}.xls",
            "--out",
            "sheets",
        ],
        code: 0,
    },
    Stop {
        why: "… and put together again, in an open one.",
        words: &[
            "combine",
            "sheets/calls.xls",
            "sheets/owners.xls",
            "sheets/charts.xls",
            "--name",
            "together.ods",
            "--sheet",
            "{.stem}",
        ],
        code: 0,
    },
    Stop {
        why: "What is in a manifest, and where are its records?",
        words: &["inspect", "manifests/grain.json", "--show", "2"],
        code: 0,
    },
    Stop {
        why: "For customs each manifest becomes a document in their form, with a total that is computed; a record is a line of a manifest, with what stands above it.",
        words: &[
            "convert",
            "manifests/containers.json",
            "manifests/grain.json",
            "manifests/timber.json",
            "manifests/vehicles.json",
            "--records",
            "$",
            "--repeats",
            "rows=lines",
            "--set",
            "total=\"lines.price.net\" + \"lines.price.tax\"",
            "--to",
            "xml",
            "--shape",
            "customs.xml",
            "--xml-comment",
            "{.rows} lines of {.source}",
            "--out",
            "customs",
        ],
        code: 0,
    },
    Stop {
        why: "The notices of each week as a workbook, with names that people read.",
        words: &[
            "convert",
            "notices/2026-W10.xml",
            "notices/2026-W11.xml",
            "notices/2026-W12.xml",
            "--to",
            "xlsx",
            "--sheet",
            "notices",
            "--rename",
            "@number=notice",
            "--rename",
            "@kind=about",
            "--out",
            "weeks",
        ],
        code: 0,
    },
    Stop {
        why: "A document is taken apart as a document: each part has the root, and the records as they stand.",
        words: &[
            "split",
            "notices/2026-W10.xml",
            "--by",
            "@kind",
            "--out",
            "kinds",
        ],
        code: 0,
    },
    Stop {
        why: "Invoices from a system in the US: how are dates and money written in them?",
        words: &["inspect", "invoices-us.csv", "--show", "3"],
        code: 0,
    },
    Stop {
        why: "By the month in which they are due, as workbooks in which dates and money look as they did.",
        words: &[
            "split",
            "invoices-us.csv",
            "--by",
            "due:month",
            "--total",
            "amount",
            "--to",
            "xlsx",
            "--out",
            "invoices",
        ],
        code: 0,
    },
    Stop {
        why: "The same from a German system.",
        words: &[
            "split",
            "rechnungen.csv",
            "--by",
            "fällig:quarter",
            "--where",
            "betrag > 1000",
            "--total",
            "betrag",
            "--to",
            "xlsx",
            "--out",
            "rechnungen",
        ],
        code: 0,
    },
    Stop {
        why: "The readings of all tide gauges, a folder of text with semicolons and bars, as workbooks.",
        words: &[
            "convert",
            "gauges",
            "--recursive",
            "--to",
            "xlsx",
            "--out",
            "gauge workbooks",
        ],
        code: 0,
    },
    Stop {
        why: "Once more: only what has changed since is done, and that is nothing.",
        words: &[
            "convert",
            "gauges",
            "--recursive",
            "--to",
            "xlsx",
            "--out",
            "gauge workbooks",
            "--existing",
            "newer",
        ],
        code: 0,
    },
    Stop {
        why: "All levels in one table; the names of the files say the station.",
        words: &[
            "combine",
            "gauges/**/*_level.txt",
            "--from-name",
            "{waters}/{station}_level.txt",
            "--name",
            "levels.csv",
        ],
        code: 0,
    },
    Stop {
        why: "A report for each station: the readings go into copies of a formatted workbook.",
        words: &[
            "fill",
            "report.xlsx",
            "gauges",
            "--recursive",
            "--from-name",
            "{waters}/{station}_{kind}.txt",
            "--name",
            "{station} report.xlsx",
            "--put",
            "Level!A6={.records:*_level.txt}",
            "--put",
            "Salinity!A6={.records:*_salinity.txt}",
            "--put",
            "Station={station}",
            "--put",
            "Summary!B4={waters} waters",
            "--put",
            "Summary!B5={.rows}",
            "--style-down",
            "--out",
            "reports",
        ],
        code: 0,
    },
    Stop {
        why: "Two reports in one workbook, look, formulas and charts kept.",
        words: &[
            "combine",
            "reports/V07 report.xlsx",
            "reports/V08 report.xlsx",
            "--as",
            "sheets",
            "--name",
            "two stations.xlsx",
        ],
        code: 0,
    },
    Stop {
        why: "And each sheet of one by itself.",
        words: &[
            "split",
            "reports/V07 report.xlsx",
            "--per-sheet",
            "--out",
            "V07 sheets",
        ],
        code: 0,
    },
    Stop {
        why: "The doubtful readings in a sheet that looks as the report does.",
        words: &[
            "split",
            "reports/V07 report.xlsx",
            "--read-sheet",
            "Level",
            "--skip-lines",
            "3",
            "--by",
            "quality",
            "--name",
            "V07 {quality}.xlsx",
            "--like-source",
            "--out",
            "V07 by quality",
        ],
        code: 0,
    },
    Stop {
        why: "The catalogue of charts, record by record. Two have one number …",
        words: &[
            "split",
            "charts.mrc",
            "--each",
            "--name",
            "{001}.mrc",
            "--out",
            "catalogue",
        ],
        code: 1,
    },
    Stop {
        why: "… so it is said what becomes of the second.",
        words: &[
            "split",
            "charts.mrc",
            "--each",
            "--name",
            "{001}.mrc",
            "--clash",
            "number",
            "--out",
            "catalogue",
        ],
        code: 0,
    },
    Stop {
        why: "The charts of harbours as MARCXML, for another library's system.",
        words: &[
            "convert",
            "charts.mrc",
            "--where",
            "\"245$a\" LIKE '%Harbour%' AND \"008/35-37\" = 'eng'",
            "--to",
            "marcxml",
        ],
        code: 0,
    },
    Stop {
        why: "A bank pays dues for many calls, with messages that hold an item for each. Do they agree?",
        words: &["inspect", "remittance.x12", "--show", "3"],
        code: 0,
    },
    Stop {
        why: "Accounts that begin with 4 or 7 are another harbour's: its items alone, complete messages that balance.",
        words: &[
            "convert",
            "remittance.x12",
            "--where",
            "RMR02 LIKE '4%' OR RMR02 LIKE '7%'",
            "--balance",
            "recompute",
            "--name",
            "{.stem} of the other harbour.x12",
        ],
        code: 0,
    },
    Stop {
        why: "The same of an EDIFACT message, one file for each first digit.",
        words: &[
            "split",
            "advice.edifact",
            "--by",
            "DOC02:first 1",
            "--balance",
            "recompute",
        ],
        code: 0,
    },
    Stop {
        why: "The parts of the split, put together again …",
        words: &["combine", "calls", "--name", "calls again.csv"],
        code: 0,
    },
    Stop {
        why: "… are the whole.",
        words: &[
            "verify",
            "--whole",
            "calls.csv",
            "--parts",
            "calls again.csv",
        ],
        code: 0,
    },
    Stop {
        why: "What is done each month is a saved job, with the month as a parameter.",
        words: &["run", "monthly.toml", "month=2026-04"],
        code: 0,
    },
    Stop {
        why: "Do the workbooks of the quays have every call, with the value that it had?",
        words: &["verify", "--whole", "calls.csv", "--parts", "workbooks"],
        code: 0,
    },
    Stop {
        why: "Check: are the files still what the run has written?",
        words: &["verify", "calls.json"],
        code: 0,
    },
    Stop {
        why: "And do the offices have exactly the calls that there are?",
        words: &[
            "verify",
            "--whole",
            "calls.csv",
            "--parts",
            "offices",
            "--ignore",
            "invoice",
        ],
        code: 0,
    },
];

/// Walks through the work in `folder`, which holds the sample data.
pub(crate) fn walk(folder: &Path) -> Result<(), Failure> {
    let program = env::current_exe()?;
    {
        let mut out = crate::report::screen::stdout();
        let shown = crate::report::folder(folder);
        writeln!(
            out,
            "{TITLE}The Port of Varnholm{TITLE:#}: sample data is laid out in {shown}"
        )?;
        writeln!(out, "{TYPED}$ cd {shown}{TYPED:#}")?;
        out.flush()?;
    }
    for stop in STOPS {
        let typed: Vec<String> = stop.words.iter().map(|word| quoted(word)).collect();
        {
            let mut out = crate::report::screen::stdout();
            writeln!(out, "\n{TITLE}# {}{TITLE:#}", stop.why)?;
            writeln!(out, "{TYPED}$ numerant {}{TYPED:#}", typed.join(" "))?;
            out.flush()?;
        }
        // What is said on standard error belongs between the lines of the walk, so both streams
        // are one here.
        let status = Command::new(&program)
            .args(stop.words)
            .current_dir(folder)
            .stdin(Stdio::null())
            .stderr(standard_output()?)
            .status()?;
        if status.code() != Some(stop.code) {
            return Err(Failure::Demo {
                message: format!("'numerant {}' ended with {status}", typed.join(" ")),
                hint: "is there room on the disk?".into(),
            });
        }
    }
    let mut out = crate::report::screen::stdout();
    let shown = crate::report::folder(folder);
    writeln!(
        out,
        "\n{TITLE}That was the walk.{TITLE:#} All of it is in {shown}: look around."
    )?;
    Ok(out.flush()?)
}

/// Standard output once more, for the standard error of a command.
fn standard_output() -> io::Result<Stdio> {
    #[cfg(unix)]
    {
        use std::os::fd::AsFd;
        Ok(Stdio::from(io::stdout().as_fd().try_clone_to_owned()?))
    }
    #[cfg(not(unix))]
    Ok(Stdio::inherit())
}

/// A word as one would type it in a shell.
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "-_./,:=".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_owned();
    }
    if word.contains('\'') && !word.contains(['"', '$', '`', '\\', '!']) {
        return format!("\"{word}\"");
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}
