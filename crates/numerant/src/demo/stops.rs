//! The stops of the walk: what each is for, and its command.

/// A command of the walk.
pub(super) struct Stop {
    /// What it is there for.
    pub(super) why: &'static str,
    /// What stands behind the name of the program, as it is typed in a shell.
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
        "An expression is tried before it is run: a rebate for fish, the highest dues first.",
        "inspect calls.csv --set 'net=ROUND(dues * 0.92, 2)' --where \"cargo = 'fish'\" --keep \
         call_id,quay,dues,net --sort -dues --show 4",
    ),
    stop(
        "Plan: which files would a split by quay write?",
        "split calls.csv --by quay --blank 'no quay' --total dues --plan",
    ),
    stop(
        "Split: that is right, one file for each quay; the books kept.",
        "split calls.csv --by quay --blank 'no quay' --total dues --ledger calls.json",
    ),
    ends(
        1,
        "Once more? What is there is not replaced in silence.",
        "split calls.csv --by quay --blank 'no quay'",
    ),
    ends(
        1,
        "To each office its own folder, as the table of owners says. One value is not in it …",
        "split calls.csv --lookup owners.csv:quay --name '{office}/{quay}.csv' --out offices",
    ),
    stop(
        "… so it is said what becomes of that. The offices do not see the invoices.",
        "split calls.csv --lookup owners.csv:quay --unmatched blank --name '{office}/{quay}.csv' --blank \
         nobody --drop office,head,invoice --out offices",
    ),
    stop(
        "By conditions; the control total shows that the parts add up.",
        "split calls.csv --case 'large=tonnes > 40000' --case \"late=departed > arrived + INTERVAL '2' \
         DAY\" --others others --total dues --out cases",
    ),
    stop(
        "A folder for each quay, a file for each month.",
        "split calls.csv --name '{quay}/{arrived:month}.csv' --blank 'no quay' --out months --quiet",
    ),
    stop(
        "In the order of arrival, at most 5,000 calls in a file.",
        "split calls.csv --rows 5000 --sort arrived --out thousands",
    ),
    ends(
        1,
        "One file for each chart of the catalogue. Two charts with one number never become one file in \
         silence.",
        "split charts.csv --each --name '{number}.csv'",
    ),
    stop(
        "Numbered, both are there.",
        "split charts.csv --each --name '{number}.csv' --clash number --quiet",
    ),
    ends(
        2,
        "A slip of the finger is told before anything is written.",
        "split calls.csv --by quai,cargo",
    ),
    ends(
        2,
        "So is a slip in an expression, with its place.",
        "split calls.csv --by quay --where \"tonnes > 1000 AND UPPR(cargo) = 'FISH'\"",
    ),
    stop(
        "Semicolons and Windows-1252 for a partner's old system.",
        "split calls.csv --by cargo --keep call_id,cargo,agent,tonnes,dues --out partner --out-delimiter \
         ';' --out-encoding windows-1252 --line-end crlf",
    ),
    stop(
        "The port has it all in one workbook too. What is on its sheet of charts?",
        "inspect port.xlsx --read-sheet charts --show 3",
    ),
    stop(
        "A workbook for each quay, with a sheet for each year; dates are dates and numbers are numbers.",
        "split port.xlsx --name '{quay}.xlsx' --sheet '{arrived:year}' --blank 'no quay' --out workbooks",
    ),
    stop(
        "The workbook taken apart, a file for each sheet, for programs that know only the old binary \
         format …",
        "split port.xlsx --per-sheet --name '{.sheet}.xls' --out sheets",
    ),
    stop(
        "… and put together again, in an open one.",
        "combine sheets/calls.xls sheets/owners.xls sheets/charts.xls --name together.ods --sheet \
         '{.stem}'",
    ),
    stop(
        "What is in a manifest, and where are its records?",
        "inspect manifests/grain.json --show 2",
    ),
    stop(
        "For customs each manifest becomes a document in their form, with a total that is computed; a \
         record is a line of a manifest, with what stands above it.",
        "convert manifests/containers.json manifests/grain.json manifests/timber.json \
         manifests/vehicles.json --records '$' --lists rows=lines --set 'total=\"lines.price.net\" + \
         \"lines.price.tax\"' --to xml --shape customs.xml --xml-comment '{.rows} lines of {.source}' --out \
         customs",
    ),
    stop(
        "The notices of each week as a workbook, with names that people read.",
        "convert notices/2026-W10.xml notices/2026-W11.xml notices/2026-W12.xml --to xlsx --sheet notices \
         --rename '@number=notice' --rename '@kind=about' --out weeks",
    ),
    stop(
        "A document is taken apart as a document: each part has the root, and the records as they stand.",
        "split notices/2026-W10.xml --by '@kind' --out kinds",
    ),
    stop(
        "Invoices from a system in the US: how are dates and money written in them?",
        "inspect invoices-us.csv --show 3",
    ),
    stop(
        "By the month in which they are due, as workbooks in which dates and money look as they did.",
        "split invoices-us.csv --by due:month --total amount --to xlsx --out invoices",
    ),
    stop(
        "The same from a German system.",
        "split rechnungen.csv --by fällig:quarter --where 'betrag > 1000' --total betrag --to xlsx --out \
         rechnungen",
    ),
    stop(
        "The readings of all tide gauges, a folder of text with semicolons and bars, as workbooks.",
        "convert gauges --recursive --to xlsx --out 'gauge workbooks'",
    ),
    stop(
        "Once more: only what has changed since is done, and that is nothing.",
        "convert gauges --recursive --to xlsx --out 'gauge workbooks' --existing newer",
    ),
    stop(
        "All levels in one table; the names of the files say the station.",
        "combine 'gauges/**/*_level.txt' --from-name '{waters}/{station}_level.txt' --name levels.csv",
    ),
    stop(
        "A report for each station: the readings go into copies of a formatted workbook.",
        "fill report.xlsx gauges --recursive --from-name '{waters}/{station}_{kind}.txt' --name \
         '{station} report.xlsx' --put 'Level!A6={.records:*_level.txt}' --put \
         'Salinity!A6={.records:*_salinity.txt}' --put 'Station={station}' --put 'Summary!B4={waters} \
         waters' --put 'Summary!B5={.rows}' --style-down --out reports",
    ),
    stop(
        "Two reports in one workbook, look, formulas and charts kept.",
        "combine 'reports/V07 report.xlsx' 'reports/V08 report.xlsx' --as sheets --name 'two \
         stations.xlsx'",
    ),
    stop(
        "And each sheet of one by itself.",
        "split 'reports/V07 report.xlsx' --per-sheet --out 'V07 sheets'",
    ),
    stop(
        "The same on pages, as they are printed: formulas are computed, and the chart is drawn.",
        "split 'reports/V07 report.xlsx' --per-sheet --name 'V07 {.sheet}.pdf' --out 'V07 pages'",
    ),
    stop(
        "The doubtful readings in a sheet that looks as the report does.",
        "split 'reports/V07 report.xlsx' --read-sheet Level --skip-lines 3 --by quality --name 'V07 \
         {quality}.xlsx' --like-source --out 'V07 by quality'",
    ),
    ends(
        1,
        "The catalogue of charts, record by record. Two have one number …",
        "split charts.mrc --each --name '{001}.mrc' --out catalogue",
    ),
    stop(
        "… so it is said what becomes of the second.",
        "split charts.mrc --each --name '{001}.mrc' --clash number --out catalogue",
    ),
    stop(
        "The charts of harbours as MARCXML, for another library's system.",
        "convert charts.mrc --where '\"245$a\" LIKE '\\''%Harbour%'\\'' AND \"008/35-37\" = '\\''eng'\\''' --to \
         marcxml",
    ),
    stop(
        "A bank pays dues for many calls, with messages that hold an item for each. Do they agree?",
        "inspect remittance.x12 --show 3",
    ),
    stop(
        "Accounts that begin with 4 or 7 are another harbour's: its items alone, complete messages that \
         balance.",
        "convert remittance.x12 --where \"RMR02 LIKE '4%' OR RMR02 LIKE '7%'\" --balance recompute --name \
         '{.stem} of the other harbour.x12'",
    ),
    stop(
        "The same of an EDIFACT message, one file for each first digit.",
        "split advice.edifact --by 'DOC02:first 1' --balance recompute",
    ),
    stop(
        "The parts of the split, put together again …",
        "combine calls --name 'calls again.csv'",
    ),
    stop(
        "… are the whole.",
        "verify --whole calls.csv --parts 'calls again.csv'",
    ),
    stop(
        "What is done each month is a saved job, with the month as a parameter.",
        "run monthly.toml month=2026-04",
    ),
    stop(
        "Do the workbooks of the quays have every call, with the value that it had?",
        "verify --whole calls.csv --parts workbooks",
    ),
    stop(
        "Check: are the files still what the run has written?",
        "verify calls.json",
    ),
    stop(
        "A part to be read and not to be edited: typeset, by cargo, with subtotals; and a page about the run.",
        "split calls.csv --where \"arrived >= '2026-06-01'\" --name '{quay}.pdf' --title 'Calls at {quay}' \
         --group-by cargo --keep call_id,vessel,cargo,arrived,tonnes,dues --total dues --blank 'no quay' \
         --out 'to read' --page run.html",
    ),
    stop(
        "A page about the file itself: how the values of each column are spread.",
        "inspect calls.csv --show 0 --page look.html",
    ),
    stop(
        "Hand it out: who would get which of them?",
        "deliver calls.json --routes routes.csv --from 'Port of Varnholm <port@varnholm.example>' \
         --subject '{quay}: {.rows} calls, {.total:dues} of dues' --plan",
    ),
    stop(
        "As drafts, which any mail program sends; with --channel smtp a mail server would.",
        "deliver calls.json --routes routes.csv --from 'Port of Varnholm <port@varnholm.example>' \
         --subject '{quay}: {.rows} calls, {.total:dues} of dues'",
    ),
    stop(
        "And do the offices have exactly the calls that there are?",
        "verify --whole calls.csv --parts offices --ignore invoice",
    ),
];
