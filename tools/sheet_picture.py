#!/usr/bin/env python3
"""Draws the first rows of a workbook as a spreadsheet program would show them.

Usage: tools/sheet_picture.py WORKBOOK PICTURE
Reads with openpyxl and draws with Pillow (both from PyPI); needs the DejaVu fonts.
"""
import datetime
import sys

import openpyxl
from openpyxl.utils import get_column_letter
from PIL import Image, ImageDraw, ImageFont

WIDTH, HEIGHT, ROW = 1280, 800, 24
FONTS = "/usr/share/fonts/truetype/dejavu/DejaVuSans"


def shown(cell):
    """The text of a cell under its number format, and whether it stands to the right."""
    value, code = cell.value, cell.number_format
    if value is None:
        return "", False
    if isinstance(value, bool):
        return str(value).upper(), False
    if isinstance(value, datetime.datetime):
        text = value.strftime("%Y-%m-%d %H:%M:%S" if ":ss" in code else "%Y-%m-%d %H:%M")
        return (text if "h" in code else text[:10]), True
    if isinstance(value, (int, float)):
        places = len(code.split(".")[1]) if "." in code else None
        return (f"{value:.{places}f}" if places is not None else f"{value:g}"), True
    return str(value).replace("\n", " "), False


def main():
    workbook, picture = sys.argv[1:]
    book = openpyxl.load_workbook(workbook)
    sheet = book.active
    plain = ImageFont.truetype(f"{FONTS}.ttf", 13)
    bold = ImageFont.truetype(f"{FONTS}-Bold.ttf", 13)
    image = Image.new("RGB", (WIDTH, HEIGHT), "white")
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, WIDTH, ROW), fill="#e8eaed")
    left = 46
    filtered = sheet.auto_filter.ref
    rows = (HEIGHT - ROW - 30) // ROW
    for column in range(1, sheet.max_column + 1):
        letter = get_column_letter(column)
        width = int((sheet.column_dimensions[letter].width or 8) * 7.6) + 6
        if left > WIDTH:
            break
        draw.text((left + width // 2, 5), letter, font=plain, fill="#555")
        for row in range(1, rows + 1):
            top = row * ROW
            cell = sheet.cell(row, column)
            text, right = shown(cell)
            font = bold if cell.font.bold else plain
            room = width - 8 - (16 if row == 1 and filtered else 0)
            while text and draw.textlength(text, font) > room:
                text = text[:-1]
            at = left + width - 5 - draw.textlength(text, font) if right else left + 4
            draw.rectangle((left, top, left + width, top + ROW), outline="#d0d3d8")
            draw.text((at, top + 4), text, font=font, fill="black")
            if row == 1 and filtered:
                x = left + width - 14
                draw.polygon([(x, top + 10), (x + 9, top + 10), (x + 4, top + 16)], fill="#666")
        left += width
    for row in range(1, rows + 1):
        draw.rectangle((0, row * ROW, 45, (row + 1) * ROW), fill="#e8eaed", outline="#d0d3d8")
        draw.text((8, row * ROW + 4), str(row), font=plain, fill="#555")
    if sheet.freeze_panes:
        draw.line((0, 2 * ROW, WIDTH, 2 * ROW), fill="#444", width=2)
    x = 8
    for name in book.sheetnames:
        active = name == sheet.title
        length = draw.textlength(name, bold if active else plain) + 22
        draw.rectangle((x, HEIGHT - 27, x + length, HEIGHT - 2), fill="white" if active else "#e8eaed", outline="#999")
        draw.text((x + 11, HEIGHT - 22), name, font=bold if active else plain, fill="black")
        x += length + 4
    image.save(picture)


main()
