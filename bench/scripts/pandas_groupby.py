"""The loop that an analyst writes with pandas."""

import sys

import pandas

source, out = sys.argv[1:]
table = pandas.read_csv(source, dtype=str, keep_default_na=False)
for value, part in table.groupby("quay"):
    part.to_csv(f"{out}/{value}.csv", index=False)
