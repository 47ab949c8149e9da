"""Times Numerant on whole folders, beside the floor (cp -r, cat) and a script in pandas.

    cargo build --profile dist
    python3 bench/folders.py bench/data [--runs 5] [--scripts] [--books 200]

Makes its files in the folder if they are not there: 10,000 of 2 KB, 100 of 10 MB, and as many of 5 MB
as --books says. Each case runs in turn with its floor, after one turn that does not count; what an
earlier turn wrote is removed, and the disk is synced, before the clock starts. The table gives medians,
the median of the ratios pair by pair, and the share of all processors that was busy.
"""

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import time

HERE = os.path.dirname(os.path.abspath(__file__))
PROGRAM = os.path.join(HERE, "..", "target", "dist", "numerant")
HEADER = "call_id,quay,cargo,arrived,tonnes,dues\n"


def rows(source, count):
    quays = ["North Quay", "Grain Pier", "Coal Dock", "East Mole"]
    line = "{:07},{},grain,2026-{:02}-{:02},{},{}.{:02}\n"
    return "".join(
        line.format(
            source.randrange(10**7),
            quays[source.randrange(4)],
            source.randrange(1, 13),
            source.randrange(1, 29),
            source.randrange(90000),
            source.randrange(9000),
            source.randrange(100),
        )
        for _ in range(count)
    )


def make(folder, name, files, records):
    path = os.path.join(folder, name)
    if os.path.isdir(path) and len(os.listdir(path)) == files:
        return path
    shutil.rmtree(path, ignore_errors=True)
    os.makedirs(path)
    source = random.Random(name)
    text = rows(source, min(records, 20000))
    lines = text.splitlines(keepends=True)
    for number in range(files):
        body = [lines[(number * 7919 + record) % len(lines)] for record in range(records)]
        with open(os.path.join(path, f"calls-{number}.csv"), "w") as file:
            file.write(HEADER + "".join(body))
    return path


def run(command):
    """Wall seconds and processor seconds of a command."""
    os.sync()
    begun = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    if status != 0:
        sys.exit(f"failed: {command}")
    return seconds, usage.ru_utime + usage.ru_stime


def measure(name, command, floor, outputs, runs):
    times, floors, busy = [], [], []
    for turn in range(runs + 1):
        for which, what in (("floor", floor), ("case", command)):
            for output in outputs:
                shutil.rmtree(output, ignore_errors=True)
                if os.path.exists(output):
                    os.remove(output)
            if what is None:
                continue
            seconds, processor = run(what)
            if turn == 0:
                continue
            if which == "floor":
                floors.append(seconds)
            else:
                times.append(seconds)
                busy.append(processor / seconds / os.cpu_count())
    ratio = statistics.median(a / b for a, b in zip(times, floors)) if floors else None
    shown = f"{statistics.median(floors):8.3f} s {ratio:6.2f} ×" if floors else " " * 19
    print(
        f"{name:40} {statistics.median(times):8.3f} s {shown} "
        f"{100 * statistics.median(busy):5.0f} % busy",
        flush=True,
    )


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--books", type=int, default=200)
    parser.add_argument("--scripts", action="store_true")
    given = parser.parse_args()
    os.makedirs(given.folder, exist_ok=True)
    small = make(given.folder, "small", 10000, 42)
    large = make(given.folder, "large", 100, 210000)
    books = make(given.folder, "books", given.books, 105000)
    out = os.path.join(given.folder, "out")
    one = os.path.join(given.folder, "one.csv")
    shutil.copy(os.path.join(small, "calls-0.csv"), one)
    made = os.path.join(given.folder, "one.json")
    measure("start: --version", [PROGRAM, "--version"], None, [], 50)
    measure(
        "start: one small file to JSON",
        [PROGRAM, "convert", one, "--to", "json", "--quiet"],
        None,
        [made],
        50,
    )
    measure(
        "10,000 files of 2 KB to JSON | cp -r",
        [PROGRAM, "convert", small, "--to", "json", "--out", out, "--quiet"],
        ["cp", "-r", small, out],
        [out],
        given.runs,
    )
    whole = os.path.join(out, "whole.csv")
    measure(
        "100 files of 10 MB in one | cat",
        [PROGRAM, "combine", large, "--name", "whole.csv", "--out", out, "--quiet"],
        ["sh", "-c", f"mkdir -p {out}; cat {large}/*.csv > {whole}"],
        [out],
        given.runs,
    )
    measure(
        f"{given.books} files of 5 MB to workbooks",
        [PROGRAM, "convert", books, "--to", "xlsx", "--out", out, "--quiet"],
        None,
        [out],
        1,
    )
    if given.scripts:
        script = os.path.join(HERE, "scripts", "pandas_folder.py")
        for what, source in (("json", small), ("csv", large), ("xlsx", books)):
            shutil.rmtree(out, ignore_errors=True)
            seconds, _ = run([sys.executable, script, what, source, out])
            print(f"pandas, {source} to {what}: {seconds:.2f} s", flush=True)
    shutil.rmtree(out, ignore_errors=True)


if __name__ == "__main__":
    main()
