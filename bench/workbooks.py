"""Times workbooks beside the floor (inflating and deflating their XML) and beside scripts.

    cargo build --profile dist
    python3 bench/workbooks.py FOLDER [--runs 5] [--scripts] [--large]

Makes calls.xlsx (50,000 rows of 22 columns; with --large also 500,000) with XlsxWriter, and calls.csv of
200 MB, where they are not there. Needs XlsxWriter from PyPI, and pandas and openpyxl for --scripts.
The floor runs on one core with zlib: a sheet is inflated, and deflated again at level 1. Medians of
turns that alternate, after one that does not count; a ratio is the median of ratios.
"""

import argparse
import datetime
import os
import random
import shutil
import subprocess
import sys

from run import HERE, PROGRAM, beside, run

HEADER = ("call_id quay berth agent vessel flag cargo arrived departed tonnes draught dues length beam "
          "pilots remarks manifest owner master last_port next_port office").split()


def workbook(path, rows):
    import xlsxwriter

    dice = random.Random(20260305)
    words = [f"{a} {b}" for a in ("Skarv", "Brask", "Polder", "Nordlys", "Kestrel", "Cormorant")
             for b in ("Marine", "Trader", "Maid", "Queen", "Star", "Line")]
    book = xlsxwriter.Workbook(path, {"constant_memory": rows > 100_000})
    sheet = book.add_worksheet("calls")
    moment = book.add_format({"num_format": "yyyy-mm-dd hh:mm"})
    money = book.add_format({"num_format": "#,##0.00"})
    sheet.write_row(0, 0, HEADER)
    base = datetime.datetime(2025, 1, 1)
    for row in range(1, rows + 1):
        arrived = base + datetime.timedelta(minutes=dice.randrange(600_000))
        texts = [f"VH-{row:07}", dice.choice(("North Quay", "Grain Pier", "Coal Dock")),
                 dice.choice("ABC") + str(dice.randrange(9)), dice.choice(words), dice.choice(words),
                 "X" + dice.choice("ABN"), dice.choice(("grain", "coal", "timber", "fish"))]
        for column, text in enumerate(texts):
            sheet.write_string(row, column, text)
        sheet.write_datetime(row, 7, arrived, moment)
        sheet.write_datetime(row, 8, arrived + datetime.timedelta(minutes=dice.randrange(5000)), moment)
        numbers = [dice.randrange(40_000), dice.randrange(20, 150) / 10, dice.randrange(10**6) / 100,
                   dice.randrange(3000) / 10, dice.randrange(500) / 10, dice.randrange(4)]
        for column, number in enumerate(numbers, 9):
            sheet.write_number(row, column, number, money if column == 11 else None)
        sheet.write_string(row, 15, " ".join(dice.choice(words) for _ in range(3)))
        sheet.write_string(row, 16, f"M{dice.randrange(10**8):08}")
        for column in range(17, 22):
            sheet.write_string(row, column, dice.choice(words))
    book.close()


def floor_of(what, *paths):
    """Seconds of the floor, in a process of its own so that its memory is not counted with others."""
    script = os.path.join(HERE, "scripts", "floor", "deflate.py")
    return float(subprocess.run([sys.executable, script, what, *paths], capture_output=True, check=True).stdout)


def case(label, command, floor, out, runs):
    """A command that writes to `out` beside a function that gives the seconds of its floor."""
    def turn(_):
        shutil.rmtree(out, ignore_errors=True)
        return command

    beside(label, lambda _: floor(), turn, runs)
    shutil.rmtree(out, ignore_errors=True)


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--scripts", action="store_true")
    parser.add_argument("--large", action="store_true")
    arguments = parser.parse_args()
    folder = arguments.folder
    os.makedirs(folder, exist_ok=True)
    out = os.path.join(folder, "out")
    sizes = [("calls.xlsx", 50_000)] + ([("calls-500k.xlsx", 500_000)] if arguments.large else [])
    for name, rows in sizes:
        if not os.path.exists(os.path.join(folder, name)):
            workbook(os.path.join(folder, name), rows)
    print(f"{'case':<42}{'numerant':>9}{'floor':>10}{'ratio':>8}{'peak':>10}")
    for name, rows in sizes:
        path = os.path.join(folder, name)

        def both(path=path):
            return floor_of("both", path)

        def alone(path=path):
            return floor_of("inflate", path)

        split = [PROGRAM, "split", path, "--by", "quay", "--out", out, "--quiet", "--memory", "128M"]
        case(f"{rows:,} × 22 to three workbooks", split, both, out, arguments.runs)
        read = [PROGRAM, "split", path, "--where", "quay = 'x'", "--by", "quay", "--out", out, "--quiet"]
        case("  reading alone / inflating", read, alone, out, arguments.runs)
        to_csv = [PROGRAM, "split", path, "--by", "quay", "--name", "{quay}.csv", "--out", out, "--quiet"]
        case("  to three texts / inflating", to_csv, alone, out, arguments.runs)
    text = os.path.join(folder, "calls.csv")
    if not os.path.exists(text):
        subprocess.run([PROGRAM, "combine", os.path.join(folder, "calls.xlsx"), "--name", "one.csv", "--out",
                        folder, "--quiet"], check=True)
        with open(os.path.join(folder, "one.csv"), "rb") as one, open(text, "wb") as whole:
            whole.write(one.readline())
            body = one.read()
            while whole.tell() < 200_000_000:
                whole.write(body)
            del body
        os.remove(os.path.join(folder, "one.csv"))
    split = [PROGRAM, "split", text, "--by", "quay", "--name", "{quay}.xlsx", "--out", out, "--quiet"]
    shutil.rmtree(out, ignore_errors=True)
    run(split)
    parts = os.path.join(folder, "parts")
    shutil.rmtree(parts, ignore_errors=True)
    os.rename(out, parts)
    sheets = [os.path.join(parts, name) for name in sorted(os.listdir(parts))]
    case("text of 200 MB to workbooks / deflating", split, lambda: floor_of("deflate", *sheets), out, arguments.runs)
    shutil.rmtree(parts)
    if arguments.scripts:
        for script in ["pandas_workbook.py", "openpyxl_workbook.py"]:
            shutil.rmtree(out, ignore_errors=True)
            os.makedirs(out)
            command = [sys.executable, os.path.join(HERE, "scripts", script), os.path.join(folder, "calls.xlsx"), out]
            seconds, peak = run(command)
            print(f"{script:<42}{seconds:>7.2f} s{'':>18}{peak:>6.0f} MiB", flush=True)
        shutil.rmtree(out, ignore_errors=True)


main()
