#!/usr/bin/env python3
"""Writes delimited text in every dialect with Python's csv module and a fixed seed, and holds what Numerant
reads of it against what was written, field by field.

Usage: tools/dialects.py NUMERANT [FILES]

Each file differs in delimiter, quotes, escapes, line ends, encoding, byte-order mark, title, 'sep=' line, end mark
and comments. 'inspect' has to detect the dialect, and 'convert' to write the same records to JSON Lines and to text
with tabs; a split has to verify.
"""
import csv
import io
import json
import random
import subprocess
import sys
import tempfile
from pathlib import Path

SEED = 20260305
DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}
UNUSUAL = ["^", "~", "\x01"]
QUAYS = ["North Quay", "Coal Dock", "Grain Pier", "Ro/Ro Terminal", "Fish Hall"]
WORDS = ["late", "then early", "two tugs", "no pilot", "asked for ice", "12 m draught"]
# Text of one script for each encoding, as a file has.
SCRIPTS = {
    "utf-8": "Ångkajen Øst №",
    "utf-8-sig": "Ångkajen Øst №",
    "utf-16": "Ångkajen Øst №",
    "windows-1252": "Östlicher Kai, große Mole, Ångkajen",
    "windows-1251": "Северный причал, зерновой терминал",
    "shift_jis": "北埠頭、穀物埠頭、かもめ丸とうみねこ",
    "gb18030": "北码头，谷物码头，海鸥号和海风号",
    "euc_kr": "북부두, 곡물부두, 갈매기호와 바닷바람호",
}


def value(rng, script, hard):
    """A value of a record, from plain to one with everything that needs quotes."""
    kind = rng.randrange(10 if hard else 7)
    if kind == 0:
        return ""
    if kind == 1:
        return str(rng.randrange(100000))
    if kind == 2:
        return f"{rng.randrange(10000)},{rng.randrange(100):02}" if hard else f"{rng.randrange(10000)}.5"
    if kind == 3:
        return rng.choice(QUAYS)
    if kind == 4:
        return rng.choice(script.split())
    if kind in (5, 6):
        return rng.choice(WORDS)
    if kind == 7:
        return f'{rng.choice(WORDS)}; {rng.choice(WORDS)}, {rng.choice(QUAYS)} | x\ty'
    if kind == 8:
        return f'asked for "{rng.choice(WORDS)}"'
    return f"{rng.choice(WORDS)}\n{rng.choice(WORDS)}"


def make(rng, number):
    """A file: its bytes, its records with the header, and how it has to be read."""
    encoding = rng.choice(list(SCRIPTS))
    script = SCRIPTS[encoding]
    unusual = rng.random() < 0.12
    several = not unusual and rng.random() < 0.1
    delimiter = rng.choice(UNUSUAL) if unusual else rng.choice(list(DELIMITERS))
    hard = not unusual and not several
    width = rng.randrange(2, 9)
    header = [f"{rng.choice(['quay', 'agent', 'cargo', 'remarks'])} {place}" for place in range(width)]
    header[0] = "id"
    count = rng.randrange(3, 40)
    records = [[str(row + 1)] + [value(rng, script, hard) for _ in range(width - 1)] for row in range(count)]
    # So that the encoding shows.
    records[0][1] = records[1][1] = script.replace(",", " ")
    line_end = rng.choice(["\n", "\r\n", "\r", "\r\r\n"])
    escaped = hard and rng.random() < 0.15
    quoting = csv.QUOTE_ALL if rng.random() < 0.3 else csv.QUOTE_MINIMAL
    options, text = [], io.StringIO(newline="")
    writer = csv.writer(
        text,
        delimiter="\x02" if several else delimiter,
        quoting=quoting,
        doublequote=not escaped,
        escapechar="\\" if escaped else None,
        lineterminator="\n" if line_end == "\r\r\n" else line_end,
    )
    writer.writerows([header] + records)
    text = text.getvalue()
    if escaped:
        options += ["--escape", "\\"]
    if several:
        delimiter = rng.choice(["||", "::", "<>"])
        text = text.replace("\x02", delimiter)
        options += ["--delimiter", delimiter]
    if line_end == "\r\r\n":
        # As a program does that takes each line feed for the end of a line, inside quotes, too.
        if "\n" in "".join(sum(records, [])):
            line_end = "\n"
        else:
            text = text.replace("\n", line_end)
    end = line_end
    above = 0
    if rng.random() < 0.15 and not several:
        text = f"# made for part {number}{end}" + text
        options += ["--comment", "#"]
    elif rng.random() < 0.15 and len(delimiter) == 1 and delimiter != "\x01":
        text = f"sep={delimiter}{end}" + text
    elif rng.random() < 0.15 and not several:
        text = f"Calls of May{end}{end}" + text
        options += ["--skip-lines", "2"]
        above = 2
    if rng.random() < 0.1:
        text = text.removesuffix(end)
    if rng.random() < 0.1 and encoding != "utf-16":
        text += "\x1a"
    raw = text.encode(encoding)
    named = None if several or above else DELIMITERS.get(delimiter, delimiter.replace("\x01", "\\x01"))
    return raw, [header] + records, options, named


def run(numerant, folder, *words):
    result = subprocess.run([numerant, *words], cwd=folder, capture_output=True, text=True)
    assert result.returncode == 0, f"{words}: {result.stderr}{result.stdout}"
    return result.stdout


def main():
    numerant = str(Path(sys.argv[1]).resolve())
    files = int(sys.argv[2]) if len(sys.argv) > 2 else 300
    rng = random.Random(SEED)
    fields = 0
    for number in range(files):
        raw, rows, options, delimiter = make(rng, number)
        with tempfile.TemporaryDirectory() as folder:
            folder = Path(folder)
            (folder / "calls.csv").write_bytes(raw)
            found = json.loads(run(numerant, folder, "inspect", "calls.csv", "--report", "json", *options))
            dialect = found["inspections"][0]["dialect"]
            shown = f"file {number}, options {options}, {raw[:300]!r}"
            assert delimiter is None or dialect["delimiter"] == delimiter, f"{shown}: {dialect}"
            run(numerant, folder, "convert", "calls.csv", "--name", "calls.jsonl", "--flat", "--types", "off", *options)
            lines = (folder / "calls.jsonl").read_text("utf-8").splitlines()
            read = [["" if field is None else field for field in json.loads(line).values()] for line in lines]
            assert read == rows[1:], f"{shown}: {read} and not {rows[1:]}"
            run(numerant, folder, "convert", "calls.csv", "--name", "calls.tsv", *options)
            with open(folder / "calls.tsv", newline="", encoding="utf-8") as file:
                read = list(csv.reader(file, delimiter="\t"))
            assert read == rows, f"{shown}: {read} and not {rows}"
            run(numerant, folder, "split", "calls.csv", "--rows", "7", "--out", "parts", "--ledger", "l.json", *options)
            run(numerant, folder, "verify", "--whole", "calls.csv", "--ledger", "l.json")
            fields += len(rows) * len(rows[0])
    print(f"{files} files of every dialect: {fields} fields are what Python's csv module wrote")


main()
