"""Times workbooks that keep their look beside copying and deflating.

    cargo build --profile dist
    python3 bench/look.py FOLDER [--runs 5] [--scripts]

Makes look.xlsx (20 sheets of 50,000 rows and 10 columns), single.xlsx (one such sheet) and template.xlsx
(200 KB) with XlsxWriter, and 500 files of 200 rows, where they are not there. Medians of turns that
alternate, after one that does not count; a ratio is the median of ratios.
"""

import argparse
import os
import random
import shutil
import subprocess
import sys
import time
import zipfile
import zlib

from run import HERE, PROGRAM, beside

ROWS, COLUMNS, COPIES = 50_000, 10, 500


def workbook(path, sheets):
    import xlsxwriter

    dice = random.Random(20260305)
    book = xlsxwriter.Workbook(path, {"constant_memory": True})
    money = book.add_format({"num_format": "#,##0.00"})
    for number in range(sheets):
        sheet = book.add_worksheet(f"Quay {number + 1}")
        sheet.write_row(0, 0, [f"column {place}" for place in range(COLUMNS)])
        for row in range(1, ROWS + 1):
            for column in range(COLUMNS - 1):
                sheet.write_number(row, column, dice.randrange(10**6) / 100, money)
            sheet.write_formula(row, COLUMNS - 1, f"=SUM(A{row + 1}:I{row + 1})", money, 1)
    book.close()


def template(path):
    import xlsxwriter

    dice = random.Random(7)
    book = xlsxwriter.Workbook(path)
    report = book.add_worksheet("Level")
    report.write_row(4, 0, ["measured", "level", "quality"])
    notes = book.add_worksheet("Notes")
    for row in range(3000):
        notes.write_row(row, 0, [dice.randrange(10**9) for _ in range(8)])
    chart = book.add_chart({"type": "line"})
    chart.add_series({"values": "=Level!$B$6:$B$205"})
    report.insert_chart("E2", chart)
    book.close()


def readings(folder):
    os.makedirs(folder)
    dice = random.Random(3)
    for number in range(COPIES):
        with open(os.path.join(folder, f"S{number:03}_level.csv"), "w", encoding="utf-8") as file:
            file.write("measured,level,quality\n")
            for row in range(200):
                file.write(f"2026-03-{1 + row // 24:02} {row % 24:02}:00,{dice.randrange(300) / 100:.2f},good\n")


def copies_and_deflating(source, filled, out):
    """Seconds to copy the template as often, and to deflate the changed sheet once for each."""
    sheet = zipfile.ZipFile(filled).read("xl/worksheets/sheet1.xml")
    shutil.rmtree(out, ignore_errors=True)
    os.makedirs(out)
    start = time.perf_counter()
    for number in range(COPIES):
        shutil.copyfile(source, os.path.join(out, f"{number}.xlsx"))
        zlib.compress(sheet, 6)
    seconds = time.perf_counter() - start
    shutil.rmtree(out)
    return seconds


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--scripts", action="store_true")
    arguments = parser.parse_args()
    os.makedirs(arguments.folder, exist_ok=True)
    place = lambda name: os.path.join(arguments.folder, name)
    for name, sheets in [("look.xlsx", 20), ("single.xlsx", 1)]:
        if not os.path.exists(place(name)):
            workbook(place(name), sheets)
    if not os.path.exists(place("template.xlsx")):
        template(place("template.xlsx"))
    if not os.path.exists(place("stations")):
        readings(place("stations"))
    out, other = place("out"), place("other")

    def clean(command):
        shutil.rmtree(out, ignore_errors=True)
        return command

    def of_single(_):
        shutil.rmtree(other, ignore_errors=True)
        command = [PROGRAM, "split", place("single.xlsx"), "--per-sheet", "--out", other]
        start = time.perf_counter()
        subprocess.run(command, check=True, capture_output=True)
        return time.perf_counter() - start

    one = [PROGRAM, "split", place("look.xlsx"), "--per-sheet", "--read-sheet", "Quay 7", "--out", out]
    beside("a sheet of 20 / of a workbook of 1", of_single, lambda _: clean(one), arguments.runs)
    fill = [PROGRAM, "fill", place("template.xlsx"), place("stations"), "--from-name", "{station}_{kind}.csv",
            "--name", "{station}.xlsx", "--put", "Level!A6={.records}", "--out", out]
    subprocess.run(clean(fill), check=True, capture_output=True)
    sample = place("filled.xlsx")
    shutil.copyfile(os.path.join(out, "S000.xlsx"), sample)
    floor = lambda _: copies_and_deflating(place("template.xlsx"), sample, other)
    beside("500 copies filled / copied and deflated", floor, lambda _: clean(fill), arguments.runs)
    for folder in [out, other]:
        shutil.rmtree(folder, ignore_errors=True)
    if arguments.scripts:
        script = os.path.join(HERE, "scripts", "openpyxl_fill.py")
        start = time.perf_counter()
        subprocess.run([sys.executable, script, place("template.xlsx"), place("stations"), out], check=True)
        print(f"openpyxl_fill.py, 500 copies: {time.perf_counter() - start:.2f} s")
        shutil.rmtree(out, ignore_errors=True)


main()
