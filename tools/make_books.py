#!/usr/bin/env python3
"""Makes the formatted workbooks that tests and demo begin with, by two independent writers.

Usage: tools/make_books.py FOLDER-OF-TESTS REPORT
Needs openpyxl and XlsxWriter from PyPI. The tests' folder gets port.xlsx (XlsxWriter), tariff.xlsx and
call.xlsm (openpyxl); REPORT is the template that the demo fills.
"""
import datetime
import io
import struct
import sys
import zipfile
import zlib
from pathlib import Path

import openpyxl
import xlsxwriter
from openpyxl.chart import LineChart, Reference
from openpyxl.comments import Comment
from openpyxl.formatting.rule import CellIsRule
from openpyxl.styles import Alignment, Border, Font, NamedStyle, PatternFill, Side
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.datavalidation import DataValidation
from openpyxl.worksheet.table import Table, TableStyleInfo

DAY = datetime.datetime(2026, 3, 1)
QUAYS = ["North Quay", "Grain Pier", "Fish Dock"]


def picture():
    """A small PNG."""
    def chunk(kind, data):
        body = kind + data
        return struct.pack(">I", len(data)) + body + struct.pack(">I", zlib.crc32(body))
    rows = b"".join(b"\0" + bytes((30, 90, 140)) * 24 for _ in range(24))
    head = struct.pack(">IIBBBBB", 24, 24, 8, 2, 0, 0, 0)
    return (b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows, 9))
            + chunk(b"IEND", b""))


def port(path):
    """Calls with title rows, a rate sheet that they look into, a summary with a chart."""
    book = xlsxwriter.Workbook(str(path))
    book.set_properties({"title": "Calls of the Port of Varnholm", "created": DAY})
    title = book.add_format({"bold": True, "font_size": 16, "font_color": "#1E5A8C"})
    head = book.add_format({"bold": True, "bg_color": "#1E5A8C", "font_color": "white", "border": 1,
                            "text_wrap": True})
    date = book.add_format({"num_format": "dd.mm.yyyy", "align": "left"})
    money = book.add_format({"num_format": '#,##0.00 "kr"', "bg_color": "#EEF4FA"})
    late = book.add_format({"bg_color": "#FFC7CE", "font_color": "#9C0006"})
    rates = book.add_worksheet("Rates")
    calls = book.add_worksheet("Calls 2026")
    summary = book.add_worksheet("Summary")
    notes = book.add_worksheet("Notes")
    rates.write_row(0, 0, ["quay", "rate"], head)
    for row, quay in enumerate(QUAYS, 1):
        rates.write_row(row, 0, [quay, 0.25 * row])
    book.define_name("rate_table", "=Rates!$A$2:$B$4")
    book.define_name("all_dues", "='Calls 2026'!$E$5:$E$16")
    book.define_name("Surcharge", "=0.02")
    calls.set_tab_color("#1E5A8C")
    calls.set_column("A:A", 12)
    calls.set_column("B:B", 18)
    calls.set_column("C:C", 13, date)
    calls.set_column("D:F", 14)
    calls.merge_range("A1:F1", "Calls, first quarter", title)
    calls.write("A2", "Port of Varnholm")
    calls.insert_image("F2", "mark.png", {"image_data": io.BytesIO(picture())})
    calls.set_row(3, 30)
    calls.write_row(3, 0, ["call", "quay", "arrived", "tonnes", "dues", "net"], head)
    for place in range(12):
        row = 4 + place
        calls.write_string(row, 0, f"C{place + 1:04}")
        calls.write_string(row, 1, QUAYS[place % 3])
        calls.write_datetime(row, 2, DAY + datetime.timedelta(days=place), date)
        calls.write_number(row, 3, 1000 + 137 * place)
        rate = 0.25 * (place % 3 + 1)
        calls.write_formula(row, 4, f"=D{row + 1}*VLOOKUP(B{row + 1},Rates!$A$2:$B$4,2,0)", money,
                            round((1000 + 137 * place) * rate, 2))
        calls.write_formula(row, 5, f"=ROUND(D{row + 1}*0.8,2)", money, round((1000 + 137 * place) * 0.8, 2))
    calls.set_row(8, 28)
    calls.autofilter("A4:F16")
    calls.freeze_panes(4, 1)
    calls.conditional_format("D5:D16", {"type": "cell", "criteria": ">", "value": 2000, "format": late})
    calls.conditional_format("E5:E16", {"type": "formula", "criteria": "=E5>Rates!$B$4*4000", "format": late})
    calls.data_validation("B5:B16", {"validate": "list", "source": "=Rates!$A$2:$A$4"})
    calls.data_validation("D5:D16", {"validate": "integer", "criteria": ">", "value": 0})
    calls.write_comment("B6", "moved from Fish Dock", {"author": "Harbour office"})
    calls.write_comment("D12", "weighed twice")
    calls.write_url("A7", "https://calls.varnholm.example/C0003", string="C0003")
    calls.write_url("A9", "internal:'Summary'!B2", string="C0005")
    calls.set_landscape()
    calls.repeat_rows(3)
    calls.print_area("A1:F16")
    calls.set_footer("&CPage &P of &N")
    summary.write_row(0, 0, ["what", "sum"], head)
    summary.write("A2", "all dues")
    summary.write_formula("B2", "=SUM(all_dues)", money, 9345.25)
    summary.write("A3", "with surcharge")
    summary.write_formula("B3", "=B2*(1+Surcharge)", money, 9532.16)
    summary.write("A4", "tonnes")
    summary.write_formula("B4", "=SUM('Calls 2026'!D5:D16)", None, 21042)
    summary.write("A5", "best rate")
    summary.write_formula("B5", "=MAX(Rates!B2:B4)", None, 0.75)
    chart = book.add_chart({"type": "column"})
    chart.add_series({"name": "tonnes", "categories": "='Calls 2026'!$A$5:$A$16",
                      "values": "='Calls 2026'!$D$5:$D$16"})
    chart.add_series({"name": "rates", "values": "=Summary!$B$2:$B$3"})
    chart.set_title({"name": "Tonnes of calls"})
    summary.insert_chart("D2", chart)
    summary.add_sparkline("C4", {"range": "'Calls 2026'!D5:D16"})
    notes.write("A1", "kept for the harbour master")
    notes.hide()
    summary.activate()
    book.close()


def tariff(path):
    """A table, a named style, rules, a chart, a comment, and names that port.xlsx has too."""
    book = openpyxl.Workbook()
    tariff = book.active
    tariff.title = "Rates"
    style = NamedStyle(name="Harbour", font=Font(name="Georgia", bold=True, color="FFB03A2E"),
                       border=Border(bottom=Side(style="double")))
    book.add_named_style(style)
    tariff.append(["quay", "rate", "since", "yearly"])
    for cell in tariff[1]:
        cell.style = "Harbour"
    for row, quay in enumerate(QUAYS, 2):
        tariff.append([quay, 0.3 * row, DAY.date(), f"=B{row}*12"])
        tariff.cell(row, 2).number_format = '0.000 "kr/t"'
        tariff.cell(row, 3).number_format = "yyyy\\-mm\\-dd"
        tariff.cell(row, 4).fill = PatternFill("solid", start_color="FFFFF2CC")
    table = Table(displayName="Tariff", ref="A1:D4")
    table.tableStyleInfo = TableStyleInfo(name="TableStyleMedium9", showRowStripes=True)
    tariff.add_table(table)
    tariff.conditional_formatting.add(
        "B2:B4", CellIsRule(operator="greaterThan", formula=["0.7"], fill=PatternFill(bgColor="FFC6EFCE")))
    tariff["A2"].comment = Comment("deep water", "Harbour office")
    offers = book.create_sheet("Offers")
    offers["A1"] = "dearest"
    offers["B1"] = "=MAX(Tariff[rate])"
    offers["A2"] = "of North Quay"
    offers["B2"] = "=VLOOKUP(\"North Quay\",rate_table,2,0)"
    offers["A3"] = "elsewhere"
    offers["B3"] = "=Rates!B3*2"
    offers["B3"].number_format = "0.00"
    offers["A4"].alignment = Alignment(textRotation=45)
    offers["A4"] = "turned"
    rule = DataValidation(type="list", formula1="=Rates!$A$2:$A$4", allow_blank=True)
    offers.add_data_validation(rule)
    rule.add("C1:C9")
    chart = LineChart()
    chart.add_data(Reference(tariff, min_col=2, min_row=1, max_row=4), titles_from_data=True)
    offers.add_chart(chart, "E2")
    offers.sheet_state = "hidden"
    book.defined_names["rate_table"] = DefinedName("rate_table", attr_text="Rates!$A$2:$B$4")
    book.properties.created = book.properties.modified = DAY
    book.save(path)


def with_macros(source, path):
    """A workbook with a part that stands for macros."""
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
        for part in old.infolist():
            data = old.read(part)
            if part.filename == "[Content_Types].xml":
                data = data.replace(b"spreadsheetml.sheet.main+xml",
                                    b"MAIN").replace(b"application/vnd.openxmlformats-officedocument.MAIN",
                                                     b"application/vnd.ms-excel.sheet.macroEnabled.main+xml")
                data = data.replace(b"</Types>", b'<Override PartName="/xl/vbaProject.bin" ContentType='
                                    b'"application/vnd.ms-office.vbaProject"/></Types>')
            if part.filename == "xl/_rels/workbook.xml.rels":
                data = data.replace(b"</Relationships>", b'<Relationship Id="rIdM" Type="http://schemas.'
                                    b'microsoft.com/office/2006/relationships/vbaProject" '
                                    b'Target="vbaProject.bin"/></Relationships>')
            new.writestr(zipfile.ZipInfo(part.filename, (1980, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
        new.writestr(zipfile.ZipInfo("xl/vbaProject.bin", (1980, 1, 1, 0, 0, 0)), b"macros")


def report(path):
    """The report of a tide-gauge station: two sheets for readings, a summary with formulas and a chart."""
    book = xlsxwriter.Workbook(str(path))
    book.set_properties({"title": "Tide-gauge report", "created": DAY})
    title = book.add_format({"bold": True, "font_size": 18, "font_color": "#1E5A8C"})
    label = book.add_format({"italic": True, "font_color": "#5A6B7B"})
    line = {"bold": True, "bottom": 1, "bottom_color": "#C9D6E2", "align": "left"}
    value = book.add_format(line)
    metres = book.add_format({**line, "num_format": '0.00 "m"'})
    salt = book.add_format({**line, "num_format": '0.0 "PSU"'})
    head = book.add_format({"bold": True, "bg_color": "#1E5A8C", "font_color": "white", "border": 1})
    cell = {"border": 1, "border_color": "#C9D6E2"}
    time = book.add_format({**cell, "num_format": "dd.mm.yyyy hh:mm", "align": "left"})
    plain = book.add_format(cell)
    high = book.add_format({"bg_color": "#FFE0B2"})
    summary = book.add_worksheet("Summary")
    sheets = {"Level": ("water level", "m", "0.00"), "Salinity": ("salinity", "PSU", "0.0")}
    summary.hide_gridlines(2)
    summary.set_column("A:A", 22)
    summary.set_column("B:B", 20)
    summary.merge_range("A1:D1", "Tide-gauge report", title)
    for row, name in enumerate(["station", "waters", "readings"], 2):
        summary.write(row, 0, name, label)
        summary.write_blank(row, 1, None, value)
    for row, (name, formula, form) in enumerate([
            ("highest level", "=MAX(Level!B6:B4000)", metres),
            ("lowest level", "=MIN(Level!B6:B4000)", metres),
            ("mean salinity", '=IFERROR(AVERAGE(Salinity!B6:B4000),"")', salt),
            ("doubtful readings", '=COUNTIF(Level!C6:C4000,"doubtful")+COUNTIF(Salinity!C6:C4000,"doubtful")',
             value)], 6):
        summary.write(row, 0, name, label)
        summary.write_formula(row, 1, formula, form, "")
    book.define_name("Station", "=Summary!$B$3")
    for name, (what, unit, form) in sheets.items():
        sheet = book.add_worksheet(name)
        number = book.add_format({**cell, "num_format": form, "bg_color": "#EEF4FA"})
        sheet.set_column("A:B", 18)
        sheet.set_column("C:C", 12)
        sheet.merge_range("A1:C1", f"Readings: {what}", title)
        sheet.write("A3", "station", label)
        sheet.write_formula("B3", "=Station", value, "")
        sheet.write_row("A5", ["measured", f"{what}, {unit}", "quality"], head)
        for column, style in enumerate([time, number, plain]):
            sheet.write_blank(5, column, None, style)
        sheet.freeze_panes(5, 0)
        sheet.repeat_rows(4)
        sheet.set_footer("&LPort of Varnholm&RPage &P of &N")
        sheet.conditional_format("C6:C4000", {"type": "cell", "criteria": "==", "value": '"doubtful"',
                                              "format": high})
    chart = book.add_chart({"type": "line"})
    chart.add_series({"name": "water level", "categories": "=Level!$A$6:$A$53", "values": "=Level!$B$6:$B$53",
                      "line": {"color": "#1E5A8C", "width": 1.5}})
    chart.set_title({"name": "Water level"})
    chart.set_x_axis({"num_format": "dd.mm. hh:mm", "text_axis": True, "interval_unit": 8, "interval_tick": 8})
    chart.set_y_axis({"name": "m", "min": 0, "max": 3})
    chart.set_legend({"none": True})
    chart.set_size({"width": 620, "height": 320})
    summary.insert_chart("D3", chart)
    summary.set_landscape()
    summary.fit_to_pages(1, 1)
    book.close()


def main():
    folder, template = Path(sys.argv[1]), sys.argv[2]
    port(folder / "port.xlsx")
    tariff(folder / "tariff.xlsx")
    with_macros(folder / "tariff.xlsx", folder / "call.xlsm")
    report(template)


main()
