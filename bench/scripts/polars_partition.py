"""The loop that an analyst writes with polars."""

import sys

import polars

source, out = sys.argv[1:]
table = polars.read_csv(source, infer_schema=False)
for (value,), part in table.partition_by("quay", as_dict=True).items():
    part.write_csv(f"{out}/{value}.csv")
