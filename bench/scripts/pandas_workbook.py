"""Splits a workbook by quay with pandas: pandas_workbook.py WORKBOOK FOLDER"""

import os
import sys

import pandas

frame = pandas.read_excel(sys.argv[1])
for quay, part in frame.groupby("quay", sort=False):
    part.to_excel(os.path.join(sys.argv[2], f"{quay}.xlsx"), index=False)
