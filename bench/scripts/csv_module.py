"""The loop that an analyst writes with Python's csv module."""

import csv
import sys

source, out = sys.argv[1:]
writers = {}
with open(source, newline="", encoding="utf-8") as text:
    reader = csv.reader(text)
    header = next(reader)
    key = header.index("quay")
    for record in reader:
        value = record[key]
        if value not in writers:
            file = open(f"{out}/{value}.csv", "w", newline="", encoding="utf-8")
            writers[value] = csv.writer(file), file
            writers[value][0].writerow(header)
        writers[value][0].writerow(record)
for _, file in writers.values():
    file.close()
