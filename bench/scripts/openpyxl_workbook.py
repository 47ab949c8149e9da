"""Splits a workbook by quay with openpyxl, row by row: openpyxl_workbook.py WORKBOOK FOLDER"""

import os
import sys

import openpyxl

rows = openpyxl.load_workbook(sys.argv[1], read_only=True).active.iter_rows(values_only=True)
header = next(rows)
column = header.index("quay")
books = {}
for row in rows:
    book = books.get(row[column])
    if book is None:
        book = books[row[column]] = openpyxl.Workbook(write_only=True)
        book.create_sheet().append(header)
    book.worksheets[0].append(row)
for quay, book in books.items():
    book.save(os.path.join(sys.argv[2], f"{quay}.xlsx"))
