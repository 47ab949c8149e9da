"""Converts a folder of CSV files, or puts them in one, as a script in pandas does."""

import glob
import os
import sys

import pandas

what, source, out = sys.argv[1:]
os.makedirs(out)
files = sorted(glob.glob(os.path.join(source, "*.csv")))
if what == "csv":
    frames = [pandas.read_csv(file, dtype=str) for file in files]
    pandas.concat(frames).to_csv(os.path.join(out, "whole.csv"), index=False)
for file in files if what != "csv" else []:
    frame = pandas.read_csv(file, dtype=str)
    name = os.path.join(out, os.path.basename(file)[:-4])
    if what == "json":
        frame.to_json(name + ".json", orient="records")
    else:
        frame.to_excel(name + ".xlsx", index=False)
