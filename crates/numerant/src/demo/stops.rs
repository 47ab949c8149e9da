//! The stops of the walk: what each is for, and its command.

/// A command of the walk.
pub(super) struct Stop {
    /// What it is there for.
    pub(super) why: &'static str,
    /// What is after the name of the program, as it is typed in a shell.
    pub(super) typed: &'static str,
    /// The code that it ends with.
    pub(super) code: i32,
}

/// A command that does what it is there for.
const fn stop(why: &'static str, typed: &'static str) -> Stop {
    Stop {
        why,
        typed,
        code: 0,
    }
}

/// A command that ends with a code.
const fn ends(code: i32, why: &'static str, typed: &'static str) -> Stop {
    Stop { why, typed, code }
}

pub(super) const STOPS: &[Stop] = &[
    stop("Look: what is in the file?", "inspect calls.csv"),
    stop(
        "Which quays are there? Some calls have none.",
        "inspect calls.csv --values quay",
    ),
    stop(
        "Try an expression first: a discount for fish, highest dues first.",
        "inspect calls.csv --set 'net=ROUND(dues * 0.92, 2)' --where \"cargo = 'fish'\" --keep \
         call_id,quay,dues,net --sort -dues --show 4",
    ),
    stop(
        "Plan: which files would a split by quay write?",
        "split calls.csv --by quay --blank 'no quay' --total dues --plan",
    ),
    stop(
        "Split: one file for each quay, with a ledger.",
        "split calls.csv --by quay --blank 'no quay' --total dues --ledger calls.json",
    ),
    ends(
        1,
        "Again: existing files are not overwritten silently.",
        "split calls.csv --by quay --blank 'no quay'",
    ),
    ends(
        1,
        "A folder for each office, from a lookup table. One value is missing in it …",
        "split calls.csv --lookup owners.csv:quay --name '{office}/{quay}.csv' --out offices",
    ),
    stop(
        "… so state what to do with it. The offices do not get the invoices.",
        "split calls.csv --lookup owners.csv:quay --unmatched blank --name '{office}/{quay}.csv' --blank \
         nobody --drop office,head,invoice --out offices",
    ),
    stop(
        "By conditions, with a control total that shows that the parts add up.",
        "split calls.csv --case 'large=tonnes > 40000' --case \"late=departed > arrived + INTERVAL '2' \
         DAY\" --others others --total dues --out cases",
    ),
    stop(
        "A folder for each quay, a file for each month.",
        "split calls.csv --name '{quay}/{arrived:month}.csv' --blank 'no quay' --out months --quiet",
    ),
    stop(
        "Sorted by arrival, 5,000 calls in each file.",
        "split calls.csv --rows 5000 --sort arrived --out thousands",
    ),
    ends(
        1,
        "One file for each chart. Two charts have the same number, and none is overwritten silently.",
        "split charts.csv --each --name '{number}.csv'",
    ),
    stop(
        "With numbers, both are written.",
        "split charts.csv --each --name '{number}.csv' --clash number --quiet",
    ),
    ends(
        2,
        "A typing error is reported before anything is written.",
        "split calls.csv --by quai,cargo",
    ),
    ends(
        2,
        "So is an error in an expression, with its position.",
        "split calls.csv --by quay --where \"tonnes > 1000 AND UPPR(cargo) = 'FISH'\"",
    ),
    stop(
        "Semicolons and Windows-1252 for a partner's old system.",
        "split calls.csv --by cargo --keep call_id,cargo,agent,tonnes,dues --out partner --out-delimiter \
         ';' --out-encoding windows-1252 --line-end crlf",
    ),
    stop(
        "The port also has a workbook. What is on its sheet 'charts'?",
        "inspect port.xlsx --read-sheet charts --show 3",
    ),
    stop(
        "A workbook for each quay with a sheet for each year. Dates and numbers are typed cells.",
        "split port.xlsx --name '{quay}.xlsx' --sheet '{arrived:year}' --blank 'no quay' --out workbooks",
    ),
    stop(
        "A file for each sheet, in the old binary format …",
        "split port.xlsx --per-sheet --name '{.sheet}.xls' --out sheets",
    ),
    stop(
        "… and combined again, in an open format.",
        "combine sheets/calls.xls sheets/owners.xls sheets/charts.xls --name together.ods --sheet \
         '{.stem}'",
    ),
    stop(
        "What is in a JSON document, and where are its records?",
        "inspect manifests/grain.json --show 2",
    ),
    stop(
        "XML documents as customs want them, from a template, with a computed total.",
        "convert manifests/containers.json manifests/grain.json manifests/timber.json \
         manifests/vehicles.json --records '$' --lists rows=lines --set 'total=\"lines.price.net\" + \
         \"lines.price.tax\"' --to xml --shape customs.xml --xml-comment '{.rows} lines of {.source}' --out \
         customs",
    ),
    stop(
        "XML to workbooks, with renamed columns.",
        "convert notices/2026-W10.xml notices/2026-W11.xml notices/2026-W12.xml --to xlsx --sheet notices \
         --rename '@number=notice' --rename '@kind=about' --out weeks",
    ),
    stop(
        "Split an XML document: each part has the root element and its records verbatim.",
        "split notices/2026-W10.xml --by '@kind' --out kinds",
    ),
    stop(
        "Invoices from a US system: how are dates and money written?",
        "inspect invoices-us.csv --show 3",
    ),
    stop(
        "Split by due month into workbooks; dates and money keep their format.",
        "split invoices-us.csv --by due:month --total amount --to xlsx --out invoices",
    ),
    stop(
        "The same from a German system.",
        "split rechnungen.csv --by fällig:quarter --where 'betrag > 1000' --total betrag --to xlsx --out \
         rechnungen",
    ),
    stop(
        "A folder of text files with different delimiters to workbooks.",
        "convert gauges --recursive --to xlsx --out 'gauge workbooks'",
    ),
    stop(
        "Again: only changed files are converted. There are none.",
        "convert gauges --recursive --to xlsx --out 'gauge workbooks' --existing newer",
    ),
    stop(
        "Combine all levels into one table; the station comes from the file name.",
        "combine 'gauges/**/*_level.txt' --from-name '{waters}/{station}_level.txt' --name levels.csv",
    ),
    stop(
        "A report for each station: fill copies of a formatted workbook.",
        "fill report.xlsx gauges --recursive --from-name '{waters}/{station}_{kind}.txt' --name \
         '{station} report.xlsx' --put 'Level!A6={.records:*_level.txt}' --put \
         'Salinity!A6={.records:*_salinity.txt}' --put 'Station={station}' --put 'Summary!B4={waters} \
         waters' --put 'Summary!B5={.rows}' --style-down --out reports",
    ),
    stop(
        "Two reports in one workbook, with formatting, formulas and charts.",
        "combine 'reports/V07 report.xlsx' 'reports/V08 report.xlsx' --as sheets --name 'two \
         stations.xlsx'",
    ),
    stop(
        "Each sheet of a report as a workbook.",
        "split 'reports/V07 report.xlsx' --per-sheet --out 'V07 sheets'",
    ),
    stop(
        "Each sheet as PDF: formulas are calculated, and the chart is drawn.",
        "split 'reports/V07 report.xlsx' --per-sheet --name 'V07 {.sheet}.pdf' --out 'V07 pages'",
    ),
    stop(
        "Rows of a formatted sheet by quality, with the same formatting.",
        "split 'reports/V07 report.xlsx' --read-sheet Level --skip-lines 3 --by quality --name 'V07 \
         {quality}.xlsx' --like-source --out 'V07 by quality'",
    ),
    ends(
        1,
        "Bibliographic records, one file each. Two have the same number …",
        "split charts.mrc --each --name '{001}.mrc' --out catalogue",
    ),
    stop(
        "… so state what to do with the second.",
        "split charts.mrc --each --name '{001}.mrc' --clash number --out catalogue",
    ),
    stop(
        "Some records as MARCXML.",
        "convert charts.mrc --where '\"245$a\" LIKE '\\''%Harbour%'\\'' AND \"008/35-37\" = '\\''eng'\\''' --to \
         marcxml",
    ),
    stop(
        "EDI messages from a bank. Do their totals agree?",
        "inspect remittance.x12 --show 3",
    ),
    stop(
        "Only the items of another harbour, as complete messages that balance.",
        "convert remittance.x12 --where \"RMR02 LIKE '4%' OR RMR02 LIKE '7%'\" --balance recompute --name \
         '{.stem} of the other harbour.x12'",
    ),
    stop(
        "The same with EDIFACT, one file for each first digit.",
        "split advice.edifact --by 'DOC02:first 1' --balance recompute",
    ),
    stop(
        "Combine the parts of the split …",
        "combine calls --name 'calls again.csv'",
    ),
    stop(
        "… and compare them with the whole.",
        "verify --whole calls.csv --parts 'calls again.csv'",
    ),
    stop(
        "A saved job, with the month as a parameter.",
        "run monthly.toml month=2026-04",
    ),
    stop(
        "Do the workbooks have every call, unchanged?",
        "verify --whole calls.csv --parts workbooks",
    ),
    stop(
        "Check: are the files unchanged since the run?",
        "verify calls.json",
    ),
    stop(
        "PDF files with groups and subtotals, and an HTML page about the run.",
        "split calls.csv --where \"arrived >= '2026-06-01'\" --name '{quay}.pdf' --title 'Calls at {quay}' \
         --group-by cargo --keep call_id,vessel,cargo,arrived,tonnes,dues --total dues --blank 'no quay' \
         --out 'to read' --page run.html",
    ),
    stop(
        "An HTML page about the file: the distribution of each column.",
        "inspect calls.csv --show 0 --page look.html",
    ),
    stop(
        "Hand out: who would get which file?",
        "deliver calls.json --routes routes.csv --from 'Port of Varnholm <port@varnholm.example>' \
         --subject '{quay}: {.rows} calls, {.total:dues} of dues' --plan",
    ),
    stop(
        "Write drafts for a mail program; --channel smtp would send them.",
        "deliver calls.json --routes routes.csv --from 'Port of Varnholm <port@varnholm.example>' \
         --subject '{quay}: {.rows} calls, {.total:dues} of dues'",
    ),
    stop(
        "Do the offices have exactly the calls of the source?",
        "verify --whole calls.csv --parts offices --ignore invoice",
    ),
];
