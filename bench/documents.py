#!/usr/bin/env python3
"""Measures JSON and XML beside a bare parse, copying, and the scripts that an analyst would write.

    python3 bench/documents.py FOLDER [--runs N] [--scripts]

Makes calls.jsonl (1.65 million objects of 12 members), calls-200.csv (200 MB) and calls.xml (200 MB) in
FOLDER if they are not there. Needs `cargo build --profile dist -p numerant-engine --example bare`, and polars
for --scripts.
"""
import argparse
import os
import random
import shutil
import subprocess
import sys

from run import HERE, PROGRAM, beside, run

BARE = os.path.join(os.path.dirname(PROGRAM), "examples", "bare")
QUAYS = ["North Quay", "Grain Pier", "Ro/Ro Terminal", "Old Harbour", "East Mole", "Coal Dock"]


def calls(count):
    chance = random.Random(7)
    for place in range(count):
        yield [
            place, chance.choice(QUAYS), f"{'NSEW'[place & 3]}{chance.randint(1, 9)}", f"Agent {chance.randint(1, 99)}",
            f"MV Vessel {chance.randint(1, 9999)}", chance.choice(["XA", "XB", "XD", "XN"]), "containers and general",
            f"2026-{chance.randint(1, 12):02}-{chance.randint(1, 28):02}T{chance.randint(0, 23):02}:00:00",
            f"{chance.randint(0, 99999)}.{chance.randint(0, 99):02}", f"{chance.randint(0, 9999)}.{chance.randint(0, 99):02}",
            chance.randint(0, 3), "" if place % 3 else "waiting for the tide, then shifted to another berth",
        ]


NAMES = "call_id quay berth agent vessel flag cargo arrived tonnes dues pilots remarks".split()
TEXTS = {1, 2, 3, 4, 5, 6, 7, 11}


def make(path, write):
    if os.path.exists(path):
        return
    with open(path + ".new", "w", encoding="utf-8") as out:
        write(out)
    os.rename(path + ".new", path)


def jsonl(out):
    for call in calls(1_650_000):
        values = (f'"{name}":"{value}"' if place in TEXTS else f'"{name}":{value}'
                  for place, (name, value) in enumerate(zip(NAMES, call)))
        out.write("{" + ",".join(values) + "}\n")


def csv(out):
    out.write(",".join(NAMES) + "\n")
    for call in calls(10_000_000):
        out.write(",".join(f'"{value}"' if "," in str(value) else str(value) for value in call) + "\n")
        if out.tell() > 200_000_000:
            return


def xml(out):
    out.write("<calls>\n")
    for call in calls(10_000_000):
        out.write("<call>" + "".join(f"<{name}>{value}</{name}>" for name, value in zip(NAMES, call)) + "</call>\n")
        if out.tell() > 200_000_000:
            break
    out.write("</calls>\n")


def bare(kind, path):
    return float(subprocess.run([BARE, kind, path], capture_output=True, check=True).stdout.split()[0])


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--scripts", action="store_true")
    arguments = parser.parse_args()
    folder = arguments.folder
    os.makedirs(folder, exist_ok=True)
    paths = {name: os.path.join(folder, name) for name in ["calls.jsonl", "calls-200.csv", "calls.xml"]}
    make(paths["calls.jsonl"], jsonl)
    make(paths["calls-200.csv"], csv)
    make(paths["calls.xml"], xml)
    out = os.path.join(folder, "out-documents")

    def case(label, floor, *words):
        def turn(_):
            shutil.rmtree(out, ignore_errors=True)
            return [PROGRAM, *words, "--out", out, "--quiet"]

        beside(label, lambda _: floor(), turn, arguments.runs)
        shutil.rmtree(out, ignore_errors=True)

    def copied(path):
        def copy():
            target = os.path.join(folder, "copy")
            seconds = run(["cp", path, target])[0]
            os.remove(target)
            return seconds
        return copy

    print(f"{'case':<42}{'numerant':>9}{'floor':>10}{'ratio':>8}{'peak':>10}")
    lines, table, elements = paths["calls.jsonl"], paths["calls-200.csv"], paths["calls.xml"]
    case("JSON Lines to csv / a bare parse", lambda: bare("json", lines), "convert", lines, "--to", "csv")
    case("JSON Lines by a member / cp", copied(lines), "split", lines, "--by", "quay")
    case("csv of 200 MB to JSON Lines / cp", copied(table), "convert", table, "--to", "jsonl")
    case("XML to csv / a bare parse", lambda: bare("xml", elements), "convert", elements, "--to", "csv")
    case("XML by an element / cp", copied(elements), "split", elements, "--by", "quay")
    if arguments.scripts:
        script = os.path.join(HERE, "scripts", "polars_documents.py")
        for what, source in [("jsonl-to-csv", lines), ("csv-to-jsonl", table)]:
            times = []
            for _ in range(3):
                seconds, peak = run([sys.executable, script, what, source, os.path.join(folder, "copy")])
                times.append(seconds)
            os.remove(os.path.join(folder, "copy"))
            print(f"{'polars, ' + what:<42}{sorted(times)[1]:>7.2f} s{'':>18}{peak:>6.0f} MiB", flush=True)


main()
