#!/usr/bin/env python3
"""Holds workbooks that Numerant writes against the schemas of ECMA-376 and OpenDocument.

Usage: tools/schemas.py NUMERANT
Needs openxml-audit from PyPI, which brings the schemas. Workbooks that Numerant writes anew must have no
finding. Workbooks that keep their look must have none that their sources do not have, too: what is valid
stays valid.
"""
import subprocess
import sys
import tempfile
from itertools import permutations
from pathlib import Path

from openxml_audit import OdfValidator, OpenXmlValidator, ValidationSeverity

ROOT = Path(__file__).resolve().parent.parent
BOOKS = ROOT / "crates/numerant-engine/tests/books"
CASES = ROOT / "crates/numerant/tests/cases/look"

# Workbooks without a theme open everywhere, and Numerant writes none.
ALLOWED = ["relationships/theme' is missing"]

LARGE = 50_000


def findings(path):
    """What the schemas find wrong in a workbook: texts of errors, without the places of elements."""
    validator = OdfValidator() if path.suffix == ".ods" else OpenXmlValidator()
    result = validator.validate(str(path))
    errors = [error for error in result.errors if error.severity == ValidationSeverity.ERROR]
    texts = {error.description for error in errors}
    return {text for text in texts if not any(allowed in text for allowed in ALLOWED)}


class Checker:
    """Runs Numerant in a folder, and checks all that it writes there."""

    def __init__(self, numerant, folder):
        self.numerant, self.folder = numerant, folder
        self.known, self.runs, self.checked = {}, 0, 0

    def of_source(self, path):
        """The findings of a source, found once."""
        if path not in self.known:
            self.known[path] = findings(path)
        return self.known[path]

    def run(self, *words, sources=()):
        """Runs a command into a folder of its own; its outputs may have the findings of `sources`."""
        self.runs += 1
        out = self.folder / str(self.runs)
        command = [self.numerant, *map(str, words), "--out", out, "--quiet"]
        done = subprocess.run(command, cwd=self.folder, capture_output=True, text=True)
        if done.returncode != 0:
            # A pair of workbooks may be refused, such as those of different date systems.
            assert "error: " in done.stderr, (words, done.stderr)
            return
        allowed = set().union(*map(self.of_source, sources)) if sources else set()
        for path in sorted(out.rglob("*.*")):
            if path.suffix not in (".xlsx", ".xlsm", ".ods"):
                continue
            new = findings(path) - allowed
            assert not new, f"numerant {' '.join(map(str, words))}: {path.name}: {sorted(new)}"
            self.checked += 1


def main():
    numerant = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        check = Checker(numerant, folder)
        (folder / "calls.csv").write_text(
            "quay,arrived,tonnes,dues,note\nNorth Quay,2026-03-05,120,12.50,\n"
            "Grain Pier,2026-03-06 14:20,80,7.00,<b> & \"c\"\n")
        for extension in ("xlsx", "ods"):
            check.run("convert", "calls.csv", "--to", extension)
            check.run("split", "calls.csv", "--sheet", "{quay}", "--name", f"all.{extension}")
        written = check.checked
        sources = sorted([*BOOKS.glob("*.xls[xm]"), *CASES.glob("*/in/*.xlsx")])
        for source in sources:
            check.run("split", source, "--per-sheet", sources=[source])
            check.run("split", source, "--per-sheet", "--name", "one.xlsx", sources=[source])
            check.run("split", source, "--per-sheet", "--formulas", "values", "--on-uncomputed", "blank",
                      sources=[source])
            for skipped in (0, 3):
                check.run("split", source, "--rows", 2, "--like-source", "--skip-lines", skipped,
                          "--on-uncomputed", "blank", sources=[source])
        for one, other in permutations(sources, 2):
            check.run("combine", one, other, "--as", "sheets", "--name", "both.xlsx", sources=[one, other])
        # The walk fills templates, and gathers and cuts what it filled.
        subprocess.run([numerant, "demo", "world"], cwd=folder, check=True, capture_output=True)
        template = check.of_source(folder / "world/report.xlsx")
        for path in sorted((folder / "world").rglob("*.xlsx")):
            # A large one has more of the same rows, which take minutes to go through.
            if path.stat().st_size > LARGE:
                continue
            new = findings(path) - template
            assert not new, f"{path.relative_to(folder)}: {sorted(new)}"
            check.checked += 1
        print(f"{written} new workbooks are valid; {check.checked - written} that keep their look have no finding "
              f"that their sources do not have")


main()
