"""What an analyst would write with polars: JSON Lines to CSV, or CSV to JSON Lines."""
import sys

import polars

what, source, target = sys.argv[1:]
if what == "jsonl-to-csv":
    polars.read_ndjson(source).write_csv(target)
else:
    polars.read_csv(source).write_ndjson(target)
