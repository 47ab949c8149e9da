"""Makes a file of each record of a file, with the header, and nothing else: the floor of --each."""

import os
import sys

source, out = sys.argv[1:3]
with open(source, "rb") as text:
    header, *records = text.read().splitlines(keepends=True)
os.mkdir(out)
for number, record in enumerate(records):
    file = os.open(f"{out}/{number:05}.csv", os.O_WRONLY | os.O_CREAT | os.O_EXCL)
    os.write(file, header + record)
    os.close(file)
