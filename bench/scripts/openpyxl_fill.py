"""What an analyst would write: fills a copy of a template for each file with openpyxl."""
import csv
import os
import sys

import openpyxl

template, folder, out = sys.argv[1:]
os.makedirs(out, exist_ok=True)
for name in sorted(os.listdir(folder)):
    book = openpyxl.load_workbook(template)
    sheet = book["Level"]
    with open(os.path.join(folder, name), encoding="utf-8", newline="") as file:
        for row, record in enumerate(list(csv.reader(file))[1:], 6):
            sheet.cell(row, 1, record[0])
            sheet.cell(row, 2, float(record[1]))
            sheet.cell(row, 3, record[2])
    book.save(os.path.join(out, name.split("_")[0] + ".xlsx"))
