//! `numerant help`: short topics, of which the tables in `docs/names.md` and `docs/expressions.md` are made too.

use clap::{Args, ValueEnum};

/// Explain a topic: names, expressions, dates, formats or exit codes
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  \
    numerant help names\n  \
    numerant help expressions\n  \
    numerant help split")]
pub(crate) struct HelpArguments {
    /// Topic, or a command [default: the list of commands]
    #[arg(value_name = "TOPIC")]
    pub(crate) topic: Option<String>,
}

/// What can be explained.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Topic {
    Names,
    Expressions,
    Dates,
    Formats,
    ExitCodes,
}

/// A term as it is typed, and its meaning.
pub(crate) type Entry = (&'static str, &'static str);

/// Part of a topic.
#[derive(Debug)]
pub(crate) struct Section {
    pub(crate) title: &'static str,
    pub(crate) entries: &'static [Entry],
}

const PLACEHOLDERS: Section = Section {
    title: "Placeholders of --name, --sheet, --title and --put",
    entries: &[
        ("{quay}", "value of a column"),
        ("{arrived:month}", "part of a value, see below"),
        (
            "{\"dues, EUR\"}",
            "column whose name has a comma, colon, quote or brace",
        ),
        (
            "{.stem} {.ext} {.folder}",
            "name of the source without extension, its extension, its folder",
        ),
        (
            "{.sheet}",
            "name of the source's sheet; of text, its name without extension",
        ),
        (
            "{.n} {.n:03}",
            "number of the output, from 1; with --rows, --parts and --max-size within its group",
        ),
        ("{.case}", "name of the case, with --case"),
        ("{.rows}", "number of records of the output"),
        (
            "{.date} {.time}",
            "date and time of the run: 2026-03-05, 14-20-05; parts and patterns work too: {.date:month}",
        ),
        ("{{ }}", "braces"),
    ],
};

const PARTS: Section = Section {
    title: "Parts of values, also for --by and --values",
    entries: &[
        (
            "year quarter month week",
            "of a date: 2026, 2026-Q1, 2026-03, 2026-W10 (ISO 8601)",
        ),
        ("day hour", "of a date: 2026-03-05, 2026-03-05T14"),
        ("weekday", "of a date: Monday … Sunday"),
        ("%Y-%m", "of a date: any pattern of 'numerant help dates'"),
        ("first 3", "first characters of a text"),
        ("band 10000", "range of a number: 10000-19999"),
        (
            "lower upper slug",
            "text in lower or upper case; in lower case with hyphens between words",
        ),
        ("folders", "path as folders: {path:folders}"),
        ("03", "text filled with zeros to this width"),
    ],
};

const FUNCTIONS: Section = Section {
    title: "Functions",
    entries: &[
        ("UPPER(t) LOWER(t)", "text in upper or lower case"),
        (
            "CHAR_LENGTH(t) CHARACTER_LENGTH(t) OCTET_LENGTH(t)",
            "number of characters; of bytes in UTF-8",
        ),
        (
            "POSITION(p IN t)",
            "position of the first p in t, from 1; 0 if there is none",
        ),
        (
            "SUBSTRING(t FROM n FOR m)",
            "m characters from the n-th; without FOR all that follow",
        ),
        (
            "OVERLAY(t PLACING r FROM n FOR m)",
            "t with m characters from the n-th replaced by r; without FOR as many as r has",
        ),
        (
            "TRIM(t) TRIM(LEADING '0' FROM t) LTRIM RTRIM BTRIM",
            "text without spaces, or another character, on the LEADING, TRAILING or BOTH sides",
        ),
        (
            "LPAD(t, n, f) RPAD(t, n, f)",
            "text filled with f (a space by default), or cut, to n characters",
        ),
        (
            "ABS(x) MOD(x, y)",
            "absolute value; remainder of a division, with the sign of x",
        ),
        (
            "ROUND(x, n) FLOOR(x) CEILING(x) CEIL(x)",
            "rounded to n decimals (0 by default), halves away from zero; next integer below or above",
        ),
        (
            "EXTRACT(YEAR FROM d)",
            "YEAR, MONTH, DAY, HOUR, MINUTE or SECOND of a date or an interval",
        ),
        (
            "COALESCE(a, b, …) NULLIF(a, b)",
            "first value that is not NULL; NULL if both are equal",
        ),
        (
            "GREATEST(a, b, …) LEAST(a, b, …)",
            "greatest, least value; NULL if one is NULL",
        ),
        (
            "CASE WHEN … THEN … ELSE … END",
            "value of the first condition that is true, else NULL; also CASE x WHEN … THEN … END",
        ),
        (
            "CAST(x AS type)",
            "VARCHAR, VARCHAR(n), CHAR(n), DECIMAL, DECIMAL(p, s), INTEGER, DATE, TIMESTAMP or BOOLEAN; an error if digits or characters would be lost",
        ),
    ],
};

const OPERATORS: Section = Section {
    title: "Columns, literals and operators of --where, --set and --case (SQL standard)",
    entries: &[
        (
            "tonnes  \"dues, EUR\"",
            "columns; in double quotes if the name has spaces, signs or is an SQL word",
        ),
        (
            "12.50  'Grain Pier'  TRUE  NULL",
            "number, text (quotes are doubled inside), Boolean, blank",
        ),
        (
            "DATE '2026-03-05'",
            "date; also TIMESTAMP '2026-03-05 14:20:00' and INTERVAL '14' DAY",
        ),
        (
            "+ - * /",
            "arithmetic on numbers; dates plus or minus intervals",
        ),
        ("= <> < <= > >=", "comparisons of values of one type"),
        ("a || b", "joins texts"),
        ("AND OR NOT", "combine conditions"),
        (
            "IS NULL  IS NOT NULL",
            "blank, not blank; a comparison with a blank is neither true nor false",
        ),
        ("BETWEEN … AND …  IN (…)", "range, list; also with NOT"),
        (
            "LIKE 'C%'",
            "pattern: % for any characters, _ for one; also with NOT and ESCAPE '!'",
        ),
        ("IS DISTINCT FROM", "like <>, but a blank counts as a value"),
    ],
};

const DATES: Section = Section {
    title: "Patterns of --date-format, {column:%…} and {.date:%…}",
    entries: &[
        ("%Y %y", "year with four or two digits"),
        ("%m %-m", "month 01 to 12; without a leading zero"),
        ("%b %B", "month name, short or full"),
        ("%d %-d", "day 01 to 31; without a leading zero"),
        ("%H %I %p", "hour 00 to 23; 01 to 12 with AM or PM"),
        ("%M %S", "minutes, seconds"),
        ("%a %A", "weekday, short or full"),
        ("%j %G %V", "day of the year; ISO year and week"),
    ],
};

const DATES_READ: Section = Section {
    title: "Dates that are read without --date-format",
    entries: &[
        (
            "2026-03-05  20260305",
            "ISO 8601, with or without a time: 2026-03-05 14:20, 2026-03-05T14:20:00Z",
        ),
        ("5.3.2026", "day, month, year with points"),
        (
            "9/13/2026",
            "columns in which only one order of day and month is possible; otherwise --date-format decides",
        ),
    ],
};

const EXIT_CODES: Section = Section {
    title: "Exit codes",
    entries: &[
        ("0", "done, and everything is accounted for"),
        (
            "1",
            "an error in the data or the files: nothing was written, unless the message says otherwise; or a check failed",
        ),
        ("2", "an error in the command line or a job file"),
        (
            "3",
            "done, but some files of a batch or an inspection, or messages of a delivery, failed; each is named",
        ),
        ("130", "interrupted; no incomplete output is left"),
    ],
};

impl Topic {
    /// The name that is typed.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Names => "names",
            Self::Expressions => "expressions",
            Self::Dates => "dates",
            Self::Formats => "formats",
            Self::ExitCodes => "exit-codes",
        }
    }

    /// What is shown of it; formats come from their registry.
    pub(crate) fn sections(self) -> &'static [Section] {
        match self {
            Self::Names => &[PLACEHOLDERS, PARTS],
            Self::Expressions => &[OPERATORS, FUNCTIONS],
            Self::Dates => &[DATES_READ, DATES],
            Self::Formats => &[],
            Self::ExitCodes => &[EXIT_CODES],
        }
    }

    /// The last line: where there is more.
    pub(crate) fn more(self) -> &'static str {
        match self {
            Self::Names => {
                "An output's extension decides its format. '/' separates folders. More in docs/names.md."
            }
            Self::Expressions => {
                "Functions over many records (SUM, COUNT) are not part of expressions: --total sums columns. More in docs/expressions.md."
            }
            Self::Dates => {
                "The pattern must match the whole value. --locale adds month names of other languages."
            }
            Self::Formats => {
                "A source's format is detected from its content; --from states it. .gz and .zst may follow an extension of text."
            }
            Self::ExitCodes => "More in docs/reliability.md.",
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fmt::Write;

    use super::*;

    /// Compares the table between two marks of a document with the sections, or writes it.
    fn is_held(document: &str, mark: &str, sections: &[&Section], heads: (&str, &str)) {
        let path = format!("{}/../../docs/{document}", env!("CARGO_MANIFEST_DIR"));
        let text = std::fs::read_to_string(&path).expect("the document");
        let (begin, end) = (
            format!("<!-- begin: {mark} -->\n"),
            format!("<!-- end: {mark} -->"),
        );
        let (before, rest) = text.split_once(&begin).expect("the beginning of the table");
        let (found, after) = rest.split_once(&end).expect("the end of the table");
        let mut table = format!("\n| {} | {} |\n|---|---|\n", heads.0, heads.1);
        for (term, meaning) in sections.iter().flat_map(|section| section.entries) {
            let term = term.replace('|', "\\|");
            writeln!(table, "| `{term}` | {meaning} |").expect("written");
        }
        table.push('\n');
        if std::env::var_os("NUMERANT_WRITE_DOCS").is_some() {
            std::fs::write(&path, format!("{before}{begin}{table}{end}{after}")).expect("written");
        } else {
            assert_eq!(found, table, "NUMERANT_WRITE_DOCS=1 cargo test writes it");
        }
    }

    #[test]
    fn the_tables_of_the_documents_are_those_of_the_topics() {
        is_held(
            "names.md",
            "placeholders",
            &[&PLACEHOLDERS],
            ("placeholder", "meaning"),
        );
        is_held("names.md", "parts", &[&PARTS], ("part", "gives"));
        is_held(
            "expressions.md",
            "functions",
            &[&FUNCTIONS],
            ("function", "gives"),
        );
        is_held(
            "reliability.md",
            "exit codes",
            &[&EXIT_CODES],
            ("code", "meaning"),
        );
        is_held("values.md", "patterns", &[&DATES], ("pattern", "meaning"));
    }

    #[test]
    fn each_function_is_explained() {
        let explained: String = FUNCTIONS.entries.iter().map(|(term, _)| *term).collect();
        for name in numerant_steps::expr::FUNCTIONS {
            assert!(explained.contains(name), "{name}");
        }
    }
}
