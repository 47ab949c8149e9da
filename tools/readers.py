#!/usr/bin/env python3
"""Holds written workbooks and documents against independent readers, value by value and type by type,
and saved jobs against their schema.

Usage: tools/readers.py NUMERANT
Needs openpyxl, xlrd, odfpy, lxml, jsonschema, pymarc, pydifact and pyx12 from PyPI, and Python 3.11 or later.
"""
import csv
import datetime
import json
import subprocess
import sys
import tempfile
import tomllib
import unicodedata
from pathlib import Path

import jsonschema
import openpyxl
import pymarc
import xlrd
from lxml import etree
from odf.opendocument import load
from odf.table import Table, TableCell, TableRow

ROWS = [
    ["id", "text", "count", "dues", "mixed", "day", "arrived", "left", "stay", "pilot", "lower"],
    ["007", " two  spaces ", "1", "12.30", "1", "2026-03-05", "2026-03-05 14:20", "09:15", "26:30:00", "TRUE", "true"],
    ["1E5", "=1+1", "-20", "7.00", "x", "1999-12-31", "2026-03-06 00:00", "23:59", "00:00:01", "FALSE", "false"],
    ["+47", 'a "quoted" <tag> & more', "", "-0.05", "", "", "2026-12-31 23:59", "", "120:00:00", "TRUE", "true"],
    ["1234567890123456", "Ærø\nSkarv", "40000", "1000000.00", "2026-03-05", "2026-02-28", "", "00:00", "", "", ""],
]
DAY = datetime.timedelta(days=1)
BASE = datetime.datetime(1899, 12, 30)


def expected(column, text):
    """What a reader should make of a value: its type and itself."""
    if text == "":
        return ("blank", None)
    name = ROWS[0][column]
    if name == "count":
        return ("number", float(text))
    if name == "dues":
        return ("number", float(text))
    if name in ("day", "arrived"):
        return ("date", datetime.datetime.fromisoformat(text))
    if name in ("left", "stay"):
        parts = [int(part) for part in text.split(":")] + [0]
        return ("time", datetime.timedelta(hours=parts[0], minutes=parts[1], seconds=parts[2]))
    if name in ("pilot", "lower"):
        return ("boolean", text.lower() == "true")
    return ("text", text)


def of_openpyxl(path):
    book = openpyxl.load_workbook(path)
    sheet = book.active
    assert sheet.freeze_panes == "A2" and sheet.auto_filter.ref and sheet["A1"].font.bold
    for row in sheet.iter_rows():
        yield [plain(cell.value) for cell in row]


def plain(value):
    if value is None:
        return ("blank", None)
    if isinstance(value, bool):
        return ("boolean", value)
    if isinstance(value, (int, float)):
        return ("number", float(value))
    if isinstance(value, datetime.datetime):
        return ("date", value)
    if isinstance(value, datetime.time):
        return ("time", datetime.timedelta(hours=value.hour, minutes=value.minute, seconds=value.second))
    if isinstance(value, datetime.timedelta):
        return ("time", value)
    return ("text", value)


def of_xlrd(path):
    book = xlrd.open_workbook(path, formatting_info=True)
    sheet = book.sheet_by_index(0)
    assert sheet.panes_are_frozen and sheet.horz_split_pos == 1
    for row in range(sheet.nrows):
        cells = []
        for cell in sheet.row(row):
            if cell.ctype in (xlrd.XL_CELL_EMPTY, xlrd.XL_CELL_BLANK):
                cells.append(("blank", None))
            elif cell.ctype == xlrd.XL_CELL_TEXT:
                cells.append(("text", cell.value))
            elif cell.ctype == xlrd.XL_CELL_NUMBER:
                cells.append(("number", cell.value))
            elif cell.ctype == xlrd.XL_CELL_BOOLEAN:
                cells.append(("boolean", bool(cell.value)))
            else:
                code = book.format_map[book.xf_list[cell.xf_index].format_key].format_str
                if "y" in code:
                    cells.append(("date", round_seconds(BASE + DAY * cell.value)))
                else:
                    cells.append(("time", datetime.timedelta(seconds=round(cell.value * 86400))))
        yield cells


def round_seconds(moment):
    return (moment + datetime.timedelta(microseconds=500000)).replace(microsecond=0)


def of_odfpy(path):
    table = load(path).getElementsByType(Table)[0]
    for row in table.getElementsByType(TableRow):
        cells = []
        for cell in row.getElementsByType(TableCell):
            kind = cell.getAttribute("valuetype")
            repeated = int(cell.getAttribute("numbercolumnsrepeated") or 1)
            if kind is None:
                cells += [("blank", None)] * repeated
            elif kind == "float":
                cells.append(("number", float(cell.getAttribute("value"))))
            elif kind == "boolean":
                cells.append(("boolean", cell.getAttribute("booleanvalue") == "true"))
            elif kind == "date":
                cells.append(("date", datetime.datetime.fromisoformat(cell.getAttribute("datevalue"))))
            elif kind == "time":
                text = cell.getAttribute("timevalue")[2:-1].replace("H", " ").replace("M", " ")
                hours, minutes, seconds = text.split()
                cells.append(("time", datetime.timedelta(hours=int(hours), minutes=int(minutes), seconds=float(seconds))))
            else:
                cells.append(("text", "\n".join(paragraph(p) for p in cell.childNodes)))
        yield cells


def paragraph(node):
    text = ""
    for child in node.childNodes:
        if child.nodeType == child.TEXT_NODE:
            text += child.data
        elif child.qname[1] == "s":
            text += " " * int(child.getAttribute("c") or 1)
        elif child.qname[1] == "tab":
            text += "\t"
    return text


def documents(numerant, folder):
    """What other parsers make of JSON and XML, and what becomes of what other writers have made."""
    def convert(*words):
        subprocess.run([numerant, "convert", *words, "--quiet"], cwd=folder, check=True)

    convert("calls.csv", "--name", "calls.json")
    convert("calls.csv", "--name", "calls.jsonl")
    with open(folder / "calls.json", encoding="utf-8") as file:
        found = json.load(file)
    with open(folder / "calls.jsonl", encoding="utf-8") as file:
        assert [json.loads(line) for line in file] == found
    numbers = {"count": int, "dues": float}
    for row, record in zip(ROWS[1:], found, strict=True):
        assert list(record) == ROWS[0]
        for name, text in zip(ROWS[0], row):
            wanted = numbers.get(name, str)(text) if text else None
            if name == "lower" and text:
                wanted = text == "true"
            assert record[name] == wanted, (name, record[name], wanted)
    print(f"calls.json, calls.jsonl: {len(found)} records are what the json module reads")
    convert("calls.csv", "--name", "calls.xml", "--out-encoding", "windows-1252")
    root = etree.parse(folder / "calls.xml").getroot()
    for row, record in zip(ROWS[1:], root, strict=True):
        values = {element.tag: element.text for element in record}
        assert values == {name: text for name, text in zip(ROWS[0], row) if text}, values
    print(f"calls.xml: {len(root)} records are what lxml reads")
    # There and back, by way of what others write.
    records = [{"id": 1, "in": {"a": [1.5, None, {}], "b": "\u0000\U0001f6a2\u001f"}}, {"id": 2, "in": {"a": []}}]
    with open(folder / "other.json", "w", encoding="utf-8") as file:
        json.dump(records, file)
    convert("other.json", "--name", "back.json", "--indent", "1")
    with open(folder / "back.json", encoding="utf-8") as file:
        assert json.load(file) == records
    root = etree.Element("{urn:port}port", nsmap={None: "urn:port", "p": "urn:p"})
    for number in range(3):
        call = etree.SubElement(root, "{urn:port}call", {"id": str(number), "{urn:p}q": "<&>\u00e6"})
        etree.SubElement(call, "{urn:p}dues").text = f"{number}.50 \n]]>"
    etree.ElementTree(root).write(folder / "other.xml", encoding="utf-16", xml_declaration=True)
    convert("other.xml", "--name", "back.xml", "--indent", "2")
    back = etree.parse(folder / "back.xml").getroot()
    plain = lambda element: (element.tag, dict(element.attrib), (element.text or "").strip(), [plain(e) for e in element])
    assert plain(back) == plain(root), etree.tostring(back)
    print("other.json, other.xml: what other writers have made comes back the same")


def jobs(numerant, folder):
    """Job files hold to the schema that is shipped, and wrong ones do not."""
    schema = json.loads((Path(__file__).parent.parent / "docs" / "job.schema.json").read_text())
    validator = jsonschema.Draft202012Validator(schema)
    validator.check_schema(schema)
    commands = [
        ["split", "calls.csv", "--by", "id", "--where", "id > '1'", "--rows", "5", "--to", "xlsx"],
        ["combine", "calls.csv", "--name", "all.csv", "--columns", "union", "--lookup", "t.csv:id"],
        ["convert", "calls.csv", "--to", "xml", "--set", "x=1", "--sort=-id", "--memory", "64M"],
        ["verify", "--whole", "calls.csv", "--parts", "parts", "--ignore", "x"],
        ["verify", "ledger.json"],
    ]
    for number, command in enumerate(commands):
        name = f"job{number}.toml"
        subprocess.run([numerant, *command, "--save-job", name, "--quiet"], cwd=folder, check=True)
        job = tomllib.loads((folder / name).read_text())
        validator.validate(job)
        for wrong in ({**job["job"][0], "bye": 1}, {**job["job"][0], "command": "spilt"}):
            assert not validator.is_valid({"job": [wrong]}), wrong
    subprocess.run([numerant, "demo", "world"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    validator.validate(tomllib.loads((folder / "world" / "monthly.toml").read_text()))
    print(f"{len(commands)} saved jobs and monthly.toml hold to docs/job.schema.json")


def seen(sheet):
    """What openpyxl sees of a sheet: cells with their look, and what belongs to it."""
    def cell(it):
        font, fill = it.font, it.fill.start_color
        return (it.coordinate, it.value, it.number_format, font.name, font.sz, font.b, font.color and font.color.rgb,
                it.fill.fill_type, fill.rgb if fill.type == "rgb" else fill.theme, it.border.bottom.style,
                it.alignment.textRotation, it.comment and it.comment.text, it.hyperlink and it.hyperlink.target)
    cells = [cell(it) for row in sheet.iter_rows() for it in row]
    widths = {key: column.width for key, column in sheet.column_dimensions.items()}
    heights = {key: row.height for key, row in sheet.row_dimensions.items() if row.height}
    rules = [(str(area.sqref), [rule.formula for rule in area.rules]) for area in sheet.conditional_formatting]
    checks = [(str(check.sqref), check.formula1) for check in sheet.data_validations.dataValidation]
    return {
        "cells": cells, "widths": widths, "heights": heights, "rules": rules, "checks": checks,
        "merged": sorted(map(str, sheet.merged_cells.ranges)), "frozen": sheet.freeze_panes,
        "filter": sheet.auto_filter.ref, "charts": len(sheet._charts), "tables": sorted(sheet.tables),
        "hidden": sheet.sheet_state, "area": sheet.print_area, "titles": sheet.print_title_rows,
    }


def looks(numerant, folder):
    """Sheets that keep their look are what openpyxl saw in their own workbooks."""
    books = Path(__file__).resolve().parent.parent / "crates/numerant-engine/tests/books"
    run = lambda *words: subprocess.run([numerant, *map(str, words), "--quiet"], cwd=folder, check=True,
                                        stderr=subprocess.DEVNULL)
    sources = {name: openpyxl.load_workbook(books / f"{name}.xlsx") for name in ("port", "tariff")}
    run("split", books / "port.xlsx", "--per-sheet", "--read-sheet", "all", "--name", "whole.xlsx", "--out", ".")
    whole = openpyxl.load_workbook(folder / "whole.xlsx")
    for sheet in sources["port"]:
        assert seen(whole[sheet.title]) == seen(sheet), sheet.title
    run("combine", books / "port.xlsx", books / "tariff.xlsx", "--as", "sheets", "--name", "gathered.xlsx")
    gathered = openpyxl.load_workbook(folder / "gathered.xlsx")
    places = [("port", "Calls 2026", "Calls 2026"), ("port", "Notes", "Notes"), ("port", "Rates", "port Rates"),
              ("tariff", "Rates", "tariff Rates"), ("tariff", "Offers", "Offers")]
    for book, sheet, called in places:
        one, other = seen(sources[book][sheet]), seen(gathered[called])
        for key in one:
            # Formulas and rules follow the new names.
            text = repr(one[key]).replace("Rates!", f"'{book} Rates'!")
            text = text.replace("rate_table", "rate_table_2") if book == "tariff" else text
            assert text.replace('"', "'") == repr(other[key]).replace('"', "'"), (called, key)
    print(f"{len(places) + 4} sheets look as they did to openpyxl")
    report = openpyxl.load_workbook(folder / "world/reports/V07 report.xlsx")
    template = openpyxl.load_workbook(folder / "world/report.xlsx")
    first, last = report["Level"]["A6"], report["Level"]["A53"]
    assert first.value == datetime.datetime(2026, 3, 1) and last.value == datetime.datetime(2026, 3, 2, 23)
    style = lambda cell: (cell.number_format, cell.border.bottom.style, cell.fill.start_color.rgb)
    for column in "ABC":
        for row in (6, 53):
            assert style(report["Level"][f"{column}{row}"]) == style(template["Level"][f"{column}6"])
    assert report["Summary"]["B3"].value == "V07" and report["Summary"]["B7"].value == template["Summary"]["B7"].value
    assert len(report["Summary"]._charts) == 1 and report.calculation.fullCalcOnLoad
    print("a filled report is what openpyxl should see")


def records(numerant, folder):
    """Bibliographic records are what pymarc reads, in both forms and from one into the other."""
    run = lambda *words: subprocess.run([numerant, *words, "--quiet"], cwd=folder / "world", check=True)
    run("convert", "charts.mrc", "--to", "marcxml", "--out", "xml")
    run("combine", "xml/charts.marcxml", "--name", "back.mrc", "--out", "xml")
    plain = [record.as_dict() for record in pymarc.MARCReader((folder / "world/charts.mrc").read_bytes())]
    back = [record.as_dict() for record in pymarc.MARCReader((folder / "world/xml/back.mrc").read_bytes())]
    of_xml = [record.as_dict() for record in pymarc.parse_xml_to_array(str(folder / "world/xml/charts.marcxml"))]
    assert plain == back == of_xml and len(plain) == 40
    schema = etree.XMLSchema(etree.parse(Path(__file__).with_name("marc21slim.xsd")))
    run("split", "charts.mrc", "--by", "250$a", "--name", "{250$a}.marcxml", "--out", "slim")
    made = [folder / "world/xml/charts.marcxml", *sorted((folder / "world/slim").iterdir())]
    for path in made:
        schema.assertValid(etree.parse(str(path)))
    wrong = made[0].read_bytes().replace(b"<leader>", b"<leader>x", 1)
    assert not schema.validate(etree.fromstring(wrong))
    print(f"{len(made)} documents of MARCXML are valid by the slim schema")
    # pymarc's own MARC-8, and records that it has written.
    record = pymarc.Record(leader="00000nem  2200000   4500", force_utf8=False)
    record.leader = record.leader[:9] + " " + record.leader[10:]
    text = b"\xeaAngkajen \xb2st, f\xe2ee"
    record.add_field(pymarc.Field(tag="001", data="VH9"))
    record.add_field(pymarc.Field(tag="245", indicators=pymarc.Indicators("1", "0"),
                                  subfields=[pymarc.Subfield("a", "TITLE")]))
    (folder / "world/own.mrc").write_bytes(record.as_marc())
    run("convert", "own.mrc", "--to", "csv", "--out", "xml")
    assert "TITLE" in (folder / "world/xml/own.csv").read_text()
    from pymarc.marc8 import marc8_to_unicode
    title = marc8_to_unicode(text)
    field = b"10\x1fa" + text + b"\x1e"
    body = b"VH9\x1e" + field
    directory = b"001000400000" + b"245%04d00004" % len(field) + b"\x1e"
    base = 24 + len(directory)
    raw = b"%05dnem  22%05d   4500" % (base + len(body) + 1, base) + directory + body + b"\x1d"
    (folder / "world/old.mrc").write_bytes(raw)
    run("convert", "old.mrc", "--to", "jsonl", "--out", "xml")
    read = json.loads((folder / "world/xml/old.jsonl").read_text())["245$a"]
    assert unicodedata.normalize("NFC", title) == read, (title, read)
    print(f"{len(plain)} bibliographic records are what pymarc reads, in both forms")


def messages(numerant, folder):
    """Messages that were extracted are what pyx12 and pydifact read, and balance."""
    from decimal import Decimal

    import pyx12.x12file
    from pydifact.segmentcollection import Interchange

    world = folder / "world"
    for name in ("remittance.x12", "remittance of the other harbour.x12"):
        with pyx12.x12file.X12Reader(str(world / name)) as reader:
            stated, found, items = Decimal(0), Decimal(0), 0
            for segment in reader:
                if segment.get_seg_id() == "BPR":
                    stated += Decimal(segment.get_value("BPR02"))
                if segment.get_seg_id() == "RMR":
                    found += Decimal(segment.get_value("RMR04"))
                    items += 1
            errors = reader.pop_errors()
        assert not errors and stated == found and items, (name, errors, stated, found)
        print(f"{name}: {items} items balance for pyx12, and its envelopes have no errors")
    parts = 0
    for path in sorted((world / "advice").glob("*.edifact")):
        segments = list(Interchange.from_str(path.read_text().replace("\n", "")).segments)
        amounts = [Decimal(segment.elements[0][1]) for segment in segments if segment.tag == "MOA"]
        documents = [segment for segment in segments if segment.tag == "DOC"]
        assert sum(amounts[:-1]) == amounts[-1] and len(amounts) == len(documents) + 1, path
        [count] = [segment.elements[0][1] for segment in segments if segment.tag == "CNT"]
        assert int(count) == len(documents), path
        parts += len(documents)
    assert parts == 60
    print(f"{parts} documents of EDIFACT balance for pydifact")


def main():
    numerant = Path(sys.argv[1]).resolve()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        with open(folder / "calls.csv", "w", newline="") as file:
            csv.writer(file, lineterminator="\n").writerows(ROWS)
        for extension, reader in [("xlsx", of_openpyxl), ("xls", of_xlrd), ("ods", of_odfpy)]:
            name = f"calls.{extension}"
            command = [numerant, "combine", "calls.csv", "--name", name, "--quiet"]
            subprocess.run(command, cwd=folder, check=True)
            found = list(reader(folder / name))
            wanted = [[("text", title) for title in ROWS[0]]]
            wanted += [[expected(column, text) for column, text in enumerate(row)] for row in ROWS[1:]]
            assert len(found) == len(wanted), (extension, len(found))
            for number, (row, its) in enumerate(zip(wanted, found), 1):
                its = its + [("blank", None)] * (len(row) - len(its))
                for column, (one, other) in enumerate(zip(row, its)):
                    assert one == other, f"{name}, row {number}, {ROWS[0][column]}: {one} and not {other}"
            print(f"{name}: {len(wanted)} rows of {len(wanted[0])} cells are what {reader.__name__[3:]} reads")
        documents(numerant, folder)
        jobs(numerant, folder)
        looks(numerant, folder)
        records(numerant, folder)
        messages(numerant, folder)
        # All parts are well-formed XML for a parser that takes nothing amiss.
        import zipfile

        for name in ["calls.xlsx", "calls.ods"]:
            with zipfile.ZipFile(folder / name) as package:
                parts = [part for part in package.namelist() if part.endswith((".xml", ".rels"))]
                for part in parts:
                    etree.fromstring(package.read(part), etree.XMLParser(recover=False))
                print(f"{name}: {len(parts)} parts are well-formed")


main()
