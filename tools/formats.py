#!/usr/bin/env python3
"""Writes workbooks with two independent writers, openpyxl and XlsxWriter, in which every cell has a number
format, and holds what Numerant makes of them against what was written: values and number formats, cell by cell.

Usage: tools/formats.py NUMERANT [WORKBOOKS]

Each workbook is split by a column and put together again, with steps that change other columns.
"""
import datetime
import random
import subprocess
import sys
import tempfile
from pathlib import Path

import openpyxl
import xlsxwriter

SEED = 20260305
NUMBERS = [
    "0", "0.00", "#,##0", "#,##0.00", "0%", "0.0%", "0.00%", "$#,##0.00", "$#,##0.00;[Red]($#,##0.00)",
    '#,##0.00 "kr"', "[$€-407] #,##0.00", "#,##0.00;-#,##0.00;\"-\"", "0.00E+00", "# ?/?", "00000", "0.0##",
    "[>=1000]#,##0,\"k\";0", '"DKK" #,##0', "#,##0_);(#,##0)", "General",
]
DATES = [
    "yyyy-mm-dd", "dd/mm/yyyy", "m/d/yy", "d-mmm-yy", "mmmm yyyy", "dddd, d. mmmm yyyy", "dd.mm.yyyy hh:mm",
    "[$-407]d. mmmm yyyy", "yyyy\"T\"hh:mm", "h:mm AM/PM",
]
QUAYS = ["North Quay", "Coal Dock", "Grain Pier"]


def contents(rng):
    """Rows of quay, a number and a date with their formats; each column has one or several formats."""
    numbers = rng.sample(NUMBERS, rng.choice([1, 1, 2, 4]))
    dates = rng.sample(DATES, rng.choice([1, 1, 2]))
    rows = []
    for number in range(rng.randrange(3, 30)):
        amount = rng.choice([rng.randrange(-5000, 90000) / 100, rng.randrange(0, 100000), 0])
        moment = datetime.datetime(2026, 1, 1) + datetime.timedelta(minutes=rng.randrange(0, 500000))
        rows.append((rng.choice(QUAYS), number, (amount, rng.choice(numbers)), (moment, rng.choice(dates))))
    return rows


def with_openpyxl(path, rows):
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["quay", "id", "dues", "arrived"])
    for quay, number, (amount, amount_format), (moment, date_format) in rows:
        sheet.append([quay, number, amount, moment])
        cells = sheet[sheet.max_row]
        cells[2].number_format, cells[3].number_format = amount_format, date_format
    book.save(path)


def with_xlsxwriter(path, rows):
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet()
    sheet.write_row(0, 0, ["quay", "id", "dues", "arrived"])
    for place, (quay, number, (amount, amount_format), (moment, date_format)) in enumerate(rows, 1):
        sheet.write_row(place, 0, [quay, number])
        sheet.write_number(place, 2, amount, book.add_format({"num_format": amount_format}))
        sheet.write_datetime(place, 3, moment, book.add_format({"num_format": date_format}))
    book.close()


def cells(path):
    """The records of a workbook by their number: value and format of the dues and the arrival."""
    sheet = openpyxl.load_workbook(path).active
    found = {}
    for row in sheet.iter_rows(min_row=2):
        found[row[1].value] = [(cell.value, cell.number_format) for cell in (row[2], row[3])]
    return found


def check(program, folder, number, rng):
    rows = contents(rng)
    source = folder / f"calls-{number}.xlsx"
    (with_openpyxl if number % 2 else with_xlsxwriter)(source, rows)
    expected = cells(source)
    parts, whole = folder / f"parts-{number}", folder / f"whole-{number}"
    steps = ["--set", "quay=UPPER(quay)", "--sort=-id"]
    subprocess.run(
        [program, "split", source, "--by", "quay", "--to", "xlsx", *steps, "--out", parts, "--quiet"], check=True
    )
    subprocess.run(
        [program, "combine", parts, "--name", "all.xlsx", "--out", whole, "--quiet"], check=True
    )
    found = {}
    for part in parts.iterdir():
        found.update(cells(part))
    for what, these in (("parts", found), ("whole", cells(whole / "all.xlsx"))):
        if these != expected:
            wrong = [key for key in expected if these.get(key) != expected[key]]
            sys.exit(f"{source}, {what}: record {wrong[0]}: {these.get(wrong[0])}, not {expected[wrong[0]]}")


def main():
    program = str(Path(sys.argv[1]).resolve())
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 100
    rng = random.Random(SEED)
    with tempfile.TemporaryDirectory() as folder:
        for number in range(count):
            check(program, Path(folder), number, rng)
    print(f"{count} workbooks keep values and number formats")


if __name__ == "__main__":
    main()
