"""Pages by Numerant as an independent reader sees them: text, tags, bookmarks, and the same bytes twice.

    python tools/pages.py target/debug/numerant
"""

import csv
import subprocess
import sys
import tempfile
from datetime import datetime
from html.parser import HTMLParser
from pathlib import Path

import openpyxl
from pypdf import PdfReader

ROWS = 400


def tags(node, found):
    """The types of structure elements, counted."""
    node = node.get_object()
    if not hasattr(node, "get"):
        return
    if "/S" in node:
        found[node["/S"]] = found.get(node["/S"], 0) + 1
    kids = node.get("/K", [])
    for kid in kids if isinstance(kids, list) else [kids]:
        if not isinstance(kid, int):
            tags(kid, found)


class Page(HTMLParser):
    """The cells of a page, and what it would fetch."""

    def __init__(self, text):
        super().__init__()
        self.cells, self.fetched, self.is_cell = [], [], False
        self.feed(text)
        self.close()

    def handle_starttag(self, tag, attributes):
        self.fetched += [value for name, value in attributes if name in ("src", "href")]
        self.is_cell = tag == "td"
        if self.is_cell:
            self.cells.append("")

    def handle_endtag(self, tag):
        self.is_cell = self.is_cell and tag != "td"

    def handle_data(self, data):
        if self.is_cell:
            self.cells[-1] += data


def html(program, folder):
    """Whether a page has the values of its source, as texts."""
    values = ["<script>alert(1)</script>", "a & b", "&amp;", '"quoted"', "</table>", "Ångkajen", "</td><td>"]
    with open(folder / "values.csv", "w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(["value"])
        out.writerows([value] for value in values)
    subprocess.run([program, "convert", "values.csv", "--to", "html"], cwd=folder, check=True, capture_output=True)
    text = (folder / "values" / "values.html").read_text() if (folder / "values").exists() else (
        folder / "values.html").read_text(encoding="utf-8")
    page = Page(text)
    assert page.cells == values, page.cells
    assert not page.fetched and "http" not in text, page.fetched
    print(f"a page of HTML has its {len(values)} values as texts, and fetches nothing")


def sheets(program, folder):
    """Whether the pages of a sheet show what its cells show."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["quay", "tonnes", "dues", "arrived"])
    for number in range(ROWS):
        sheet.append([f"Quay {number}", number * 1000, number * 1.25, datetime(2026, 3, number % 28 + 1, 13, 30)])
        cells = sheet[number + 2]
        cells[1].number_format, cells[2].number_format, cells[3].number_format = "#,##0", "0.00 \"kr\"", "d mmm hh:mm"
    sheet["F2"] = f"=SUM(C2:C{ROWS + 1})"
    sheet.print_title_rows = "1:1"
    sheet.oddFooter.center.text = "Page &P of &N"
    book.save(folder / "sheet.xlsx")
    words = ["split", "sheet.xlsx", "--per-sheet", "--name", "{.stem}.pdf", "--out", "drawn"]
    subprocess.run([program, *words], cwd=folder, check=True, capture_output=True)
    reader = PdfReader(folder / "drawn" / "sheet.pdf")
    shown = ["".join(page.extract_text().split()) for page in reader.pages]
    text = "".join(shown)
    for number in range(ROWS):
        row = f"Quay{number}{number * 1000:,}{number * 1.25:.2f}kr{number % 28 + 1}Mar13:30"
        assert row in text, row
    assert f"{sum(number * 1.25 for number in range(ROWS)):g}" in text, "the formula is computed"
    for number, page in enumerate(shown, 1):
        assert f"Page{number}of{len(shown)}" in page, f"page {number}"
    upright = [page for page in shown if "Quay" in page]
    assert all("quay" in page and "arrived" in page for page in upright), "the header is on each page"
    print(f"{len(shown)} pages of a sheet show its {ROWS} rows, formats, header and footer")


def main():
    program = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        with open(folder / "calls.csv", "w", newline="", encoding="utf-8") as file:
            out = csv.writer(file)
            out.writerow(["id", "quay", "arrived", "dues", "note"])
            for number in range(ROWS):
                out.writerow([
                    f"VRN{number:04}", "Ångkajen", f"2026-03-{number % 28 + 1:02}", f"{number * 1.25:.2f}",
                    f"note {number} of some words that are wrapped in their column when it is narrow",
                ])
        for out in ("one", "two"):
            words = ["convert", "calls.csv", "--to", "pdf", "--total", "dues", "--out", out]
            subprocess.run([program, *words], cwd=folder, check=True, capture_output=True)
        one, two = (folder / out / "calls.pdf" for out in ("one", "two"))
        assert one.read_bytes() == two.read_bytes(), "the same input gives the same bytes"
        reader = PdfReader(one)
        text = "".join(page.extract_text() for page in reader.pages)
        words = "".join(text.split())
        for number in range(ROWS):
            assert f"VRN{number:04}" in words and f"note{number}ofsome" in words, number
        total = f"{sum(number * 1.25 for number in range(ROWS)):.2f}"
        assert total in words and f"{ROWS}records" in words, "the control total and the number of records"
        for number, page in enumerate(reader.pages, 1):
            shown = "".join(page.extract_text().split())
            assert f"{number}of{len(reader.pages)}" in shown and "arrived" in shown, f"page {number}"
        root = reader.trailer["/Root"]
        assert root["/MarkInfo"]["/Marked"] and root["/Lang"] == "en", "tagged, with a language"
        found = {}
        tags(root["/StructTreeRoot"], found)
        expected = {"/Table": 1, "/TR": ROWS + 2, "/TH": 5, "/TD": 5 * (ROWS + 1), "/H1": 1}
        assert all(found.get(kind) == count for kind, count in expected.items()), found
        assert [item.title for item in reader.outline] == ["calls"], reader.outline
        assert reader.metadata.title == "calls", reader.metadata
        html(program, folder)
        sheets(program, folder)
        fonts = {name for page in reader.pages for name in page["/Resources"]["/Font"]}
        print(f"{len(reader.pages)} pages of {ROWS} records: text, tags and bookmarks are there; {len(fonts)} fonts")


main()
