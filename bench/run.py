"""Times Numerant beside the floor (cp) and beside scripts that an analyst would write.

    cargo build --profile dist
    python3 bench/data.py bench/data
    python3 bench/run.py bench/data [--runs 7] [--scripts] [--only TEXT]

Every case runs in turn with cp of the same file, after one turn that does not count. What an
earlier turn wrote is removed, and the disk is synced, before the clock starts. The table gives the
medians of wall time, the median of the ratios pair by pair, and the largest resident memory.
--scripts adds the scripts in bench/scripts (they need pandas and polars from PyPI), one run each.
"""

import argparse
import os
import resource
import shutil
import statistics
import subprocess
import sys
import time

HERE = os.path.dirname(os.path.abspath(__file__))
PROGRAM = os.path.join(HERE, "..", "target", "dist", "numerant")


def run(command, limit=None):
    """Wall seconds and peak MiB of a command."""
    os.sync()
    files = (lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (limit, limit))) if limit else None
    begun = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, preexec_fn=files)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    if status != 0:
        sys.exit(f"failed: {' '.join(command)}")
    return seconds, usage.ru_maxrss / 1024


def clean(folder):
    """Frees the memory and the disk that outputs take, for both sides alike."""
    out = os.path.join(folder, "out")
    copy = os.path.join(folder, "copy")
    if os.path.exists(copy):
        os.remove(copy)
    if not os.path.exists(out):
        return
    names = os.listdir(out)
    if len(names) < 1000:
        shutil.rmtree(out)
        return
    # A file system that has just removed many files makes new ones more slowly for a while, so
    # these are emptied and put aside.
    for name in names:
        os.truncate(os.path.join(out, name), 0)
    os.rename(out, os.path.join(folder, f"out-{time.monotonic_ns()}"))


def remove_old(folder):
    for name in os.listdir(folder):
        if name.startswith("out-"):
            shutil.rmtree(os.path.join(folder, name))


def measure(folder, source, command, limit, runs):
    """Medians of the command and of cp, the median of their ratios, and peak memory."""
    times, floors, peaks = [], [], []
    for turn in range(runs + 1):
        clean(folder)
        floor, _ = run(["cp", source, os.path.join(folder, "copy")])
        clean(folder)
        seconds, peak = run(command, limit)
        if turn > 0:
            times.append(seconds)
            floors.append(floor)
            peaks.append(peak)
    clean(folder)
    remove_old(folder)
    ratios = [seconds / floor for seconds, floor in zip(times, floors)]
    return statistics.median(times), statistics.median(floors), statistics.median(ratios), max(peaks)


def beside(label, floor, command, runs):
    """Prints the medians of a command and of its floor, turn by turn after one that does not count.
    `floor` gives the seconds of a turn, `command` the words of a command."""
    times, floors, peaks = [], [], []
    for turn in range(runs + 1):
        its = floor(turn)
        seconds, peak = run(command(turn))
        if turn > 0:
            times.append(seconds)
            floors.append(its)
            peaks.append(peak)
    ratio = statistics.median(seconds / its for seconds, its in zip(times, floors))
    print(f"{label:<42}{statistics.median(times):>7.2f} s{statistics.median(floors):>8.2f} s"
          f"{ratio:>7.2f}×{max(peaks):>6.0f} MiB", flush=True)


def each(folder, runs):
    """--each on 50,000 records beside a loop that makes and writes as many files. Each turn has
    folders of its own, as a file system that has just removed files makes new ones more slowly."""
    source = os.path.join(folder, "small.csv")
    with open(os.path.join(folder, "calls.csv"), "rb") as whole, open(source, "wb") as small:
        small.writelines(line for line, _ in zip(whole, range(50_001)))
    loop = os.path.join(HERE, "scripts", "floor", "each_loop.py")

    def floor(turn):
        return run([sys.executable, loop, source, os.path.join(folder, f"out-loop-{turn}")])[0]

    def command(turn):
        out = os.path.join(folder, f"out-each-{turn}")
        return [PROGRAM, "split", source, "--each", "--max-outputs", "100000", "--out", out, "--quiet"]

    beside("--each 50,000 records / a loop", floor, command, runs)
    remove_old(folder)
    os.remove(source)


def verify(folder, runs):
    """verify --whole --parts beside reading both with cat, twice."""
    source = os.path.join(folder, "calls.csv")
    out = os.path.join(folder, "out")
    clean(folder)
    run([PROGRAM, "split", source, "--by", "quay", "--out", out, "--quiet"])
    parts = [os.path.join(out, name) for name in os.listdir(out)]
    command = [PROGRAM, "verify", "--whole", source, "--parts", out, "--quiet"]
    beside("verify --whole --parts / cat twice", lambda _: run(["cat", *[source, *parts] * 2])[0],
           lambda _: command, runs)
    clean(folder)


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--scripts", action="store_true")
    parser.add_argument("--only", default="")
    arguments = parser.parse_args()
    folder = arguments.folder
    out = os.path.join(folder, "out")

    def split(name, *options):
        return [PROGRAM, "split", os.path.join(folder, name), "--out", out, "--quiet", *options]

    cases = [
        ("one key, 40 outputs", "calls.csv", split("calls.csv", "--by", "quay"), None),
        ("the same on one thread", "calls.csv", split("calls.csv", "--by", "quay", "--jobs", "1"), None),
        ("three keys, 480 outputs", "calls.csv", split("calls.csv", "--by", "quay,flag,pilot"), None),
        ("CRLF", "calls-crlf.csv", split("calls-crlf.csv", "--by", "quay"), None),
        ("every field quoted", "calls-quoted.csv", split("calls-quoted.csv", "--by", "quay"), None),
        ("by month of a date", "calls.csv", split("calls.csv", "--name", "{arrived:month}.csv"), None),
        ("a column dropped", "calls.csv", split("calls.csv", "--by", "quay", "--drop", "remarks"), None),
        ("--where on a number", "calls.csv", split("calls.csv", "--by", "quay", "--where", "tonnes > 20000"), None),
        ("--where on a text", "calls.csv", split("calls.csv", "--by", "quay", "--where", "cargo <> 'fish'"), None),
        ("--set of a product", "calls.csv", split("calls.csv", "--by", "quay", "--set", "net=dues * 0.8"), None),
        ("--total", "calls.csv", split("calls.csv", "--by", "quay", "--total", "dues"), None),
        ("--rows 100000", "calls.csv", split("calls.csv", "--rows", "100000"), None),
        ("--sort text and number, 256M", "calls.csv",
         split("calls.csv", "--by", "quay", "--sort", "agent,-dues", "--memory", "256M"), None),
        ("20,000 outputs, 256 open files", "calls-20000.csv",
         split("calls-20000.csv", "--by", "quay", "--max-outputs", "20000"), 256),
    ]
    print(f"{'case':<34}{'numerant':>10}{'cp':>9}{'ratio':>8}{'peak':>10}")
    for name, source, command, limit in cases:
        if arguments.only not in name:
            continue
        source = os.path.join(folder, source)
        seconds, floor, ratio, peak = measure(folder, source, command, limit, arguments.runs)
        print(f"{name:<34}{seconds:>8.2f} s{floor:>7.2f} s{ratio:>7.2f}×{peak:>6.0f} MiB", flush=True)
    if arguments.only in "--each 50,000 records":
        each(folder, arguments.runs)
    if arguments.only in "verify":
        verify(folder, arguments.runs)
    if arguments.scripts:
        print(f"\n{'script, one key, 40 outputs':<34}{'time':>10}{'':>17}{'peak':>10}")
        for script in sorted(os.listdir(os.path.join(HERE, "scripts"))):
            if not script.endswith(".py"):
                continue
            clean(folder)
            os.makedirs(out)
            path = os.path.join(HERE, "scripts", script)
            seconds, peak = run([sys.executable, path, os.path.join(folder, "calls.csv"), out])
            print(f"{script:<34}{seconds:>8.2f} s{'':>17}{peak:>6.0f} MiB", flush=True)
        clean(folder)


if __name__ == "__main__":
    main()
