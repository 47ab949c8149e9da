use super::*;
use crate::StepName;
use numerant_data::record::{Batch, Computed, Span};
use numerant_data::value::{Cells, DecimalMark};

/// A record with these cells.
fn record(cells: &[&str]) -> Batch {
    let mut computed: Vec<Computed> = Vec::new();
    for cell in cells {
        let mut column = Computed::default();
        column.push(cell.as_bytes());
        computed.push(column);
    }
    let mut batch = Batch {
        bytes: b"\n".to_vec(),
        computed,
        ..Batch::default()
    };
    batch.spans.push(Span {
        start: 0,
        first: 0,
        last_byte: 0,
    });
    batch
}

const NAMES: [&str; 8] = [
    "quay", "tonnes", "dues", "arrived", "departed", "pilot", "remarks", "Öl",
];

const CELLS: [&str; 8] = [
    "North Quay",
    "1200",
    "10.10",
    "2026-03-31 14:20",
    "2026-04-02",
    "TRUE",
    "",
    "n/a",
];

fn columns() -> Vec<ScopeColumn> {
    NAMES
        .iter()
        .enumerate()
        .map(|(slot, name)| ScopeColumn {
            name: (*name).to_owned(),
            slot,
            kind: Type::Cell,
            computed: false,
        })
        .collect()
}

fn evaluated(text: &str) -> Result<String, String> {
    let columns = columns();
    let later = [("total".to_owned(), StepName::Set)];
    let scope = Scope {
        columns: &columns,
        later: &later,
        cells: &Cells::default(),
        occurrences: None,
    };
    let expression: Expression = text.parse().map_err(|error: ExprError| error.to_string())?;
    let compiled = expression
        .compile(&scope)
        .map_err(|error| error.to_string())?;
    let batch = record(&CELLS);
    let cells = Cells::default();
    let value = compiled
        .evaluate(&batch, 0, &cells)
        .map_err(|error| error.to_string())?;
    let mut out = Vec::new();
    value.write(DecimalMark::Point, &mut out);
    let shown = String::from_utf8(out).expect("UTF-8");
    Ok(if value == Value::Null {
        "NULL".to_owned()
    } else {
        shown
    })
}

#[test]
fn values() {
    for (text, expected) in [
        ("dues * 1.2", "12.120"),
        ("dues * 1.20 - 0.1", "12.0200"),
        ("ROUND(dues / 3, 2)", "3.37"),
        ("-dues + 1", "-9.10"),
        ("2 + 3 * 4", "14"),
        ("(2 + 3) * 4", "20"),
        ("7 / 2", "3.5"),
        ("MOD(7, 2)", "1"),
        ("ABS(-1.50)", "1.50"),
        ("FLOOR(-1.5)", "-2"),
        ("CEIL(1.2)", "2"),
        ("CEILING(-1.2)", "-1"),
        ("ROUND(2.5)", "3"),
        (".5 + 5.", "5.5"),
        ("quay || '!'", "North Quay!"),
        ("quay || remarks", "NULL"),
        ("COALESCE(remarks, 'none')", "none"),
        ("COALESCE(remarks, dues)", "10.10"),
        ("COALESCE(remarks, 0) + 1", "1"),
        ("NULLIF(tonnes, 1200)", "NULL"),
        ("NULLIF(tonnes, '1200')", "NULL"),
        ("NULLIF(tonnes, '12')", "1200"),
        ("NULLIF(CAST(tonnes AS VARCHAR), '1200.0')", "1200"),
        ("GREATEST(tonnes, dues)", "1200"),
        ("LEAST(arrived, departed)", "2026-03-31 14:20"),
        ("LEAST(tonnes, remarks)", "NULL"),
        ("GREATEST(tonnes, 5)", "1200"),
        ("LEAST(tonnes, 5)", "5"),
        ("UPPER(quay)", "NORTH QUAY"),
        ("LOWER('ÅÖ')", "åö"),
        ("CHAR_LENGTH('Ångkajen')", "8"),
        ("OCTET_LENGTH('Ångkajen')", "9"),
        ("POSITION('Q' IN quay)", "7"),
        ("POSITION('x' IN quay)", "0"),
        ("SUBSTRING(quay FROM 7)", "Quay"),
        ("SUBSTRING(quay FROM 1 FOR 5)", "North"),
        ("SUBSTRING(quay FROM -1 FOR 4)", "No"),
        ("SUBSTRING('Ångkajen' FROM 2 FOR 2)", "ng"),
        ("TRIM('  x ')", "x"),
        ("TRIM(LEADING '0' FROM '007')", "7"),
        ("TRIM(TRAILING 'y' FROM quay)", "North Qua"),
        ("OVERLAY(quay PLACING 'South' FROM 1)", "South Quay"),
        ("OVERLAY(quay PLACING 'S' FROM 1 FOR 5)", "S Quay"),
        ("LPAD(tonnes, 7, '0')", "0001200"),
        ("RPAD('a', 3) || '|'", "a  |"),
        ("EXTRACT(YEAR FROM arrived)", "2026"),
        ("EXTRACT(HOUR FROM arrived)", "14"),
        ("EXTRACT(HOUR FROM departed)", "0"),
        ("arrived + INTERVAL '14' DAY", "2026-04-14 14:20:00"),
        ("departed + INTERVAL '1' MONTH", "2026-05-02"),
        ("arrived - INTERVAL '90' MINUTE", "2026-03-31 12:50:00"),
        (
            "arrived - INTERVAL '1-1' YEAR TO MONTH",
            "2025-02-28 14:20:00",
        ),
        (
            "CAST(departed AS TIMESTAMP) - CAST(arrived AS TIMESTAMP)",
            "1 09:40:00",
        ),
        ("EXTRACT(DAY FROM DATE '2026-04-02' - arrived)", "1"),
        ("CAST(arrived AS DATE)", "2026-03-31"),
        ("CAST(tonnes AS DECIMAL(10, 2))", "1200.00"),
        ("CAST('7.0' AS INTEGER)", "7"),
        ("CAST(1.50 AS VARCHAR) || ' EUR'", "1.50 EUR"),
        ("CAST('ab' AS CHAR(4)) || '|'", "ab  |"),
        (
            "CASE WHEN tonnes > 1000 THEN 'large' ELSE 'small' END",
            "large",
        ),
        (
            "CASE quay WHEN 'x' THEN 1 WHEN 'North Quay' THEN 2 END",
            "2",
        ),
        ("CASE WHEN remarks = 'x' THEN 1 END", "NULL"),
        ("\"Öl\"", "n/a"),
        ("öl", "n/a"),
        ("TRUE", "TRUE"),
    ] {
        assert_eq!(evaluated(text).as_deref(), Ok(expected), "{text}");
    }
}

#[test]
fn conditions_have_three_values() {
    for (text, expected) in [
        ("tonnes > 999", "TRUE"),
        ("tonnes = 1200.00", "TRUE"),
        ("tonnes = '1200'", "TRUE"),
        ("tonnes = '7'", "FALSE"),
        ("CAST(tonnes AS VARCHAR) = '1200.00'", "FALSE"),
        ("'9' > tonnes", "FALSE"),
        ("tonnes > '9'", "TRUE"),
        ("tonnes > dues", "TRUE"),
        ("dues < tonnes", "TRUE"),
        ("tonnes = dues", "FALSE"),
        ("arrived < departed", "TRUE"),
        ("arrived > '2026-03-31'", "TRUE"),
        ("arrived > '1.3.2026'", "TRUE"),
        ("tonnes BETWEEN '5' AND '10000'", "TRUE"),
        ("tonnes NOT BETWEEN '5' AND '10000'", "FALSE"),
        ("remarks BETWEEN '5' AND '7'", "NULL"),
        ("tonnes IN ('12', '1200')", "TRUE"),
        ("remarks > '5'", "NULL"),
        ("remarks IS DISTINCT FROM 'x'", "TRUE"),
        ("quay IS DISTINCT FROM 'North Quay'", "FALSE"),
        ("quay IS NOT DISTINCT FROM 'North Quay'", "TRUE"),
        ("remarks IS NOT DISTINCT FROM remarks", "TRUE"),
        ("CASE tonnes WHEN '1200' THEN 1 ELSE 0 END = 1", "TRUE"),
        ("quay < 'Old'", "TRUE"),
        ("quay <> 'North Quay'", "FALSE"),
        ("remarks = 'x'", "NULL"),
        ("NOT remarks = 'x'", "NULL"),
        ("remarks IS NULL", "TRUE"),
        ("\"Öl\" IS NOT NULL", "TRUE"),
        ("remarks = 'x' AND tonnes < 5", "FALSE"),
        ("remarks = 'x' OR tonnes > 5", "TRUE"),
        ("remarks = 'x' OR tonnes < 5", "NULL"),
        ("(remarks = 'x') IS UNKNOWN", "TRUE"),
        ("(remarks = 'x') IS NOT TRUE", "TRUE"),
        ("remarks IS DISTINCT FROM quay", "TRUE"),
        ("remarks IS NOT DISTINCT FROM NULL", "TRUE"),
        ("tonnes BETWEEN 1200 AND 1300", "TRUE"),
        ("tonnes NOT BETWEEN 1 AND 2", "TRUE"),
        ("tonnes BETWEEN NULL AND 5", "FALSE"),
        ("tonnes BETWEEN 5 AND NULL", "NULL"),
        ("quay IN ('A', 'North Quay')", "TRUE"),
        ("quay NOT IN ('A')", "TRUE"),
        ("remarks IN ('A')", "NULL"),
        ("tonnes IN (1, 1200.0)", "TRUE"),
        ("tonnes IN (1, NULL)", "NULL"),
        ("tonnes NOT IN (1200, NULL)", "FALSE"),
        ("quay LIKE 'North%'", "TRUE"),
        ("quay NOT LIKE '%y'", "FALSE"),
        ("'50%' LIKE '%!%' ESCAPE '!'", "TRUE"),
        ("quay LIKE quay || '%'", "TRUE"),
        ("arrived >= DATE '2026-03-31'", "TRUE"),
        ("arrived <= DATE '2026-03-31'", "FALSE"),
        ("arrived < TIMESTAMP '2026-03-31 14:21:00'", "TRUE"),
        ("pilot", "TRUE"),
        ("pilot = FALSE", "FALSE"),
        ("NOT pilot OR pilot", "TRUE"),
        (
            "DATE '2026-03-05' - DATE '2026-03-01' > INTERVAL '3' DAY",
            "TRUE",
        ),
    ] {
        assert_eq!(evaluated(text).as_deref(), Ok(expected), "{text}");
    }
}

#[test]
fn what_has_no_value_says_why() {
    for (text, expected) in [
        ("\"Öl\" + 1", "column 'Öl': \"n/a\" is not a number"),
        (
            "arrived + 1",
            "column 'arrived': \"2026-03-31 14:20\" is not a number",
        ),
        (
            "\"Öl\" > DATE '2026-01-01'",
            "column 'Öl': \"n/a\" is not a date",
        ),
        (
            "quay AND TRUE",
            "column 'quay': \"North Quay\" is neither true nor false",
        ),
        (
            "tonnes = '1200.00'",
            "column 'tonnes': \"1200\" and \"1200.00\" are the same number and not the same text",
        ),
        (
            "tonnes IN ('7', '1200.0')",
            "column 'tonnes': \"1200\" and \"1200.0\" are the same number and not the same text",
        ),
        (
            "departed = '2.4.2026'",
            "column 'departed': \"2026-04-02\" and \"2.4.2026\" are the same date and not the same text",
        ),
        (
            "tonnes > 'M'",
            "column 'tonnes': \"1200\" is a number, and \"M\" is a text",
        ),
        (
            "quay > '100'",
            "column 'quay': \"North Quay\" is a text, and \"100\" is a number",
        ),
        (
            "quay > arrived",
            "column 'arrived': \"2026-03-31 14:20\" is a date, and \"North Quay\" is a text",
        ),
        (
            "GREATEST(tonnes, arrived)",
            "column 'arrived': \"2026-03-31 14:20\" is a date, and \"1200\" is a number",
        ),
        ("1 / (tonnes - 1200)", "division by zero"),
        ("MOD(1, 0)", "division by zero"),
        (
            "99999999999999999999 * 99999999999999999999",
            "the result has more than 38 digits",
        ),
        (
            "CAST('1,5' AS DECIMAL)",
            "\"1,5\" has another decimal mark than stated",
        ),
        (
            "CAST('1,500' AS DECIMAL)",
            "\"1,500\" could be read in two ways",
        ),
        ("CAST('31.02.2025' AS DATE)", "\"31.02.2025\" is not a date"),
        (
            "CAST(dues AS INTEGER)",
            "10.10 is not a number of at most 38 digits with 0 decimals; use ROUND",
        ),
        (
            "CAST(quay AS VARCHAR(5))",
            "\"North Quay\" has more than 5 characters",
        ),
        (
            "SUBSTRING(quay FROM 1 FOR -1)",
            "the length of SUBSTRING is -1, which is not at least 0",
        ),
        (
            "TRIM('ab' FROM quay)",
            "what TRIM removes is 'ab', which is not a single character",
        ),
        (
            "departed + INTERVAL '1' HOUR",
            "a date without a time cannot be moved by hours",
        ),
    ] {
        assert_eq!(evaluated(text), Err(expected.to_owned()), "{text}");
    }
}

fn fault(text: &str) -> String {
    let columns = columns();
    let later = [("total".to_owned(), StepName::Set)];
    let scope = Scope {
        columns: &columns,
        later: &later,
        cells: &Cells::default(),
        occurrences: None,
    };
    let error = text
        .parse::<Expression>()
        .and_then(|expression| expression.compile(&scope).map(|_| ()))
        .expect_err(text);
    let mut lines = vec![error.to_string()];
    lines.extend(error.marked());
    lines.join("\n")
}

#[test]
fn faults_are_marked_before_anything_is_read() {
    let faults: Vec<String> = [
        "quai = 'North'",
        "quay = \"North\"",
        "total > 5",
        "UPPR(quay) = 'N'",
        "SUM(dues) > 5",
        "ROUND(dues, 1, 2)",
        "tonnes > 'many' + 1",
        "quay || 5",
        "dues = 5 AND 'x'",
        "dues + 1 AND pilot",
        "dues > DATE '2026-02-31'",
        "remarks = ''",
        "quay = 'North",
        "quay = ",
        "quay = 'a' 'b'",
        "tonnes > 1e",
        "tonnes % 2 = 0",
        "quay ILIKE 'n%'",
        "calls.quay = 'x'",
        "EXTRACT(WEEK FROM arrived) = 1",
        "CURRENT_DATE > arrived",
        "quay = (SELECT 1)",
        "INTERVAL 'x' DAY < arrived - arrived",
        "CAST(dues AS DECIMAL(2, 5))",
        "CAST(dues AS FLOAT)",
        "CASE WHEN tonnes THEN 1 END > 'a'",
        "",
        "dues >\n  quai",
    ]
    .map(fault)
    .to_vec();
    insta::assert_snapshot!(faults.join("\n\n"));
}

#[test]
fn what_is_too_deep_is_refused_and_harms_nobody() {
    for text in [
        format!("{}1{}", "(".repeat(10_000), ")".repeat(10_000)),
        format!("1{}", " + 1".repeat(100_000)),
        format!("{}TRUE", "NOT ".repeat(10_000)),
        format!("1{}", " = 1".repeat(10_000)),
        format!("{}1", "- ".repeat(10_000)),
    ] {
        let error = text.parse::<Expression>().expect_err("too deep");
        assert!(
            matches!(error.problem, ExprProblem::TooDeep { .. }),
            "{error}"
        );
    }
    let long: Vec<String> = (0..20_000).map(|number| format!("'{number}'")).collect();
    assert_eq!(
        evaluated(&format!("quay IN ({})", long.join(", "))).as_deref(),
        Ok("FALSE"),
        "a long list is not deep"
    );
    // The engine gives as much stack to the thread that evaluates.
    let chain = format!("tonnes{}", " + 1".repeat(400));
    let thread = std::thread::Builder::new().stack_size(8 << 20);
    let thread = thread.spawn(move || evaluated(&chain)).expect("a thread");
    assert_eq!(thread.join().expect("no panic").as_deref(), Ok("1600"));
    let nines = "9".repeat(40);
    assert_eq!(
        evaluated(&nines),
        Err(format!("{nines} has more than 38 digits"))
    );
}
