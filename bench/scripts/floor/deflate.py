"""Seconds to inflate the sheets of workbooks, and to deflate them again: deflate.py WHAT WORKBOOK…

WHAT is inflate, deflate (what was inflated, on one core at level 1) or both. The time is printed; it
does not hold the start of Python.
"""

import sys
import time
import zipfile
import zlib

inflating = deflating = 0.0
for path in sys.argv[2:]:
    begun = time.perf_counter()
    with zipfile.ZipFile(path) as package:
        data = package.read("xl/worksheets/sheet1.xml")
    inflated = time.perf_counter()
    packer = zlib.compressobj(1)
    for start in range(0, len(data), 1 << 17):
        packer.compress(data[start:start + (1 << 17)])
    packer.flush()
    inflating += inflated - begun
    deflating += time.perf_counter() - inflated
print({"inflate": inflating, "deflate": deflating, "both": inflating + deflating}[sys.argv[1]])
