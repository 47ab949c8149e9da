#!/usr/bin/env python3
"""Opens every kind of workbook that Numerant writes in LibreOffice, and holds what it shows against what was written.

Usage: tools/office.py NUMERANT
Needs soffice on the PATH, so it is run by hand and not by .ci/run.
"""
import csv
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BOOKS = ROOT / "crates/numerant-engine/tests/books"
CASES = ROOT / "crates/numerant/tests/cases"
ROWS = [
    ["quay", "arrived", "tonnes", "dues", "code", "note"],
    ["North Quay", "2026-03-05", "120", "12.50", "007", ""],
    ["Grain Pier", "2026-03-06", "80", "7.00", "12345678901234567", "<b> & \"c\""],
    ["Fiskehamnen å", "2026-03-07", "15", "0.25", "1E5", "two\nlines"],
]


def values(rows):
    """Rows whose numbers are numbers, as text shows them with more or fewer digits."""
    value = lambda cell: float(cell) if cell.replace(".", "", 1).isdigit() and len(cell) < 6 and cell != "007" else cell
    return [[value(cell) for cell in row] for row in rows]


def opened(paths, folder):
    """The rows of the first sheet of each workbook, as LibreOffice writes them to text."""
    out = folder / "text"
    subprocess.run(["soffice", "--headless", f"-env:UserInstallation={(folder / 'profile').as_uri()}", "--convert-to",
                    "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false", "--outdir", out, *paths],
                   check=True, capture_output=True, timeout=600)
    rows = {}
    for path in paths:
        text = out / f"{path.stem}.csv"
        assert text.exists(), f"LibreOffice does not open {path}"
        with open(text, newline="", encoding="utf-8") as file:
            rows[path] = list(csv.reader(file))
    return rows


def main():
    numerant = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        run = lambda *words: subprocess.run([numerant, *map(str, words), "--quiet"], cwd=folder, check=True,
                                            capture_output=True)
        with open(folder / "calls.csv", "w", newline="", encoding="utf-8") as file:
            csv.writer(file, lineterminator="\n").writerows(ROWS)
        plain = []
        for extension in ("xlsx", "xls", "ods"):
            run("convert", "calls.csv", "--name", f"calls {extension}.{extension}", "--out", "plain")
            plain.append(folder / f"plain/calls {extension}.{extension}")
        for path, rows in opened(plain, folder).items():
            assert values(rows) == values(ROWS), f"{path.name}: {rows}"
        print(f"{len(plain)} kinds of workbooks have the values that were written")
        run("split", BOOKS / "port.xlsx", "--per-sheet", "--out", "look/sheets")
        run("combine", BOOKS / "port.xlsx", BOOKS / "tariff.xlsx", "--as", "sheets", "--name", "gathered.xlsx",
            "--out", "look")
        run("split", BOOKS / "port.xlsx", "--read-sheet", "Calls 2026", "--skip-lines", 3, "--by", "quay",
            "--like-source", "--out", "look/rows")
        run("split", "plain/calls ods.ods", "--per-sheet", "--name", "taken.ods", "--out", "look")
        run("split", BOOKS / "call.xlsm", "--per-sheet", "--name", "macros {.sheet}.xlsm", "--out", "look/macros")
        looks = sorted(path for path in (folder / "look").rglob("*.*") if path.is_file())
        looks += sorted(CASES.glob("look/*/out/*/*.xlsx")) + sorted(CASES.glob("workbooks/*/out/*/*.xlsx"))
        # Files of one name in different folders are opened under names of their own.
        named = []
        for number, path in enumerate(looks):
            copy = folder / f"{number} {path.name}"
            copy.write_bytes(path.read_bytes())
            named.append(copy)
        for path, rows in opened(named, folder).items():
            empty = path.name.endswith("Empty.xlsx")
            assert empty or any(any(row) for row in rows), f"{path.name} is shown empty"
            assert not any("Err:" in cell for row in rows for cell in row), f"{path.name}: {rows}"
        print(f"{len(named)} workbooks that keep their look open, and show their cells")


main()
