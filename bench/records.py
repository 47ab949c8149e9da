"""Times bibliographic records and message batches beside loops and copying.

    cargo build --profile dist
    python3 bench/records.py FOLDER [--runs 5]

Makes catalogue.mrc (100,000 records) and claims.x12 (an 835 of 500 MB with a million claims) where they are not
there. Medians of turns that alternate, after one that does not count; a ratio is the median of ratios.
"""

import argparse
import os
import random
import shutil
import subprocess
import time

from run import PROGRAM, beside, run

RECORDS, CLAIMS = 100_000, 1_000_000


def catalogue(path):
    dice = random.Random(3)
    words = "Skarv Sound Eider Bank Nordlys Fairway Kittiwake Narrows Old Mole Fulmar Rock".split()
    with open(path, "wb") as file:
        for number in range(RECORDS):
            title = " ".join(dice.choice(words) for _ in range(6))
            fields = [("001", b"VH%07d" % number), ("008", b"260301s2026    xx |||||| a     1  0eng d"),
                      ("245", b"10\x1fa" + title.encode() + b"\x1fbsheet A")]
            fields += [("650", b" 4\x1fa" + dice.choice(words).encode() + b"\x1fzVarnholm") for _ in range(8)]
            fields += [("520", b"  \x1fa" + " ".join(dice.choice(words) for _ in range(60)).encode())]
            directory, data = b"", b""
            for tag, content in fields:
                directory += b"%s%04d%05d" % (tag.encode(), len(content) + 1, len(data))
                data += content + b"\x1e"
            base = 24 + len(directory) + 1
            file.write(b"%05dnam a22%05d   4500" % (base + len(data) + 1, base) + directory + b"\x1e" + data + b"\x1d")


def claims(path):
    dice = random.Random(4)
    with open(path, "w", encoding="ascii") as file:
        file.write("ISA*00*          *00*          *ZZ*BANKOFSKARV    *ZZ*PORTVARNHOLM   *260315*0900*^*00501*"
                   "000000042*0*P*:~\nGS*HP*B*P*20260315*0900*42*X*005010~\n")
        for message in range(100):
            body, total = [], 0
            for number in range(CLAIMS // 100):
                lines = [(dice.randrange(10**5, 10**6), dice.randrange(1, 10_000)) for _ in range(4)]
                paid = sum(amount for _, amount in lines)
                total += paid
                account = f"{dice.randrange(1, 10)}{message:02}{number:06}"
                body.append(f"CLP*{account}*1*{paid}*{paid}**12*P{number:09}*11*1~\nNM1*QC*1*LUND*ADA****MI*M{number:09}~\n"
                            f"REF*EA*{number:012}~\nDTM*232*20260301~\nDTM*233*20260302~\n")
                body += [f"SVC*HC:{code}*{amount}*{amount}**1~\nDTM*472*20260301~\nREF*6R*{code}{number:08}~\n"
                         for code, amount in lines]
            text = "".join(body)
            count = text.count("~") + 5
            file.write(f"ST*835*{message:04}~\nBPR*I*{total}*C*ACH~\nTRN*1*T{message}~\nLX*1~\n{text}SE*{count}*{message:04}~\n")
        file.write("GE*100*42~\nIEA*1*000000042~\n")


def loop(source, out):
    """Seconds of a bare loop that makes and writes a file for each record."""
    shutil.rmtree(out, ignore_errors=True)
    os.makedirs(out)
    start = time.perf_counter()
    with open(source, "rb") as records:
        # One at a time: what this script holds counts as memory of the program that it starts.
        for number in range(RECORDS):
            length = records.read(5)
            with open(os.path.join(out, f"VH{number:07}.mrc"), "wb") as file:
                file.write(length + records.read(int(length) - 5))
    seconds = time.perf_counter() - start
    shutil.rmtree(out)
    return seconds


def copied(source, to):
    start = time.perf_counter()
    subprocess.run(["cp", source, to], check=True)
    seconds = time.perf_counter() - start
    os.remove(to)
    return seconds


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--runs", type=int, default=5)
    arguments = parser.parse_args()
    os.makedirs(arguments.folder, exist_ok=True)
    place = lambda name: os.path.join(arguments.folder, name)
    for name, make in [("catalogue.mrc", catalogue), ("claims.x12", claims)]:
        if not os.path.exists(place(name)):
            make(place(name))
    out = place("out")

    def clean(command):
        shutil.rmtree(out, ignore_errors=True)
        return command

    each = [PROGRAM, "split", place("catalogue.mrc"), "--each", "--name", "{001}.mrc", "--out", out,
            "--max-outputs", "200000"]
    beside("100,000 records to files / a loop", lambda _: loop(place("catalogue.mrc"), place("loop")),
           lambda _: clean(each), arguments.runs)
    xml = [PROGRAM, "combine", place("catalogue.mrc"), "--name", "all.marcxml", "--out", out]
    times = [run(clean(xml))[0] for _ in range(arguments.runs + 1)][1:]
    size = os.path.getsize(os.path.join(out, "all.marcxml"))
    print(f"MARCXML: {size / 1e6 / sorted(times)[len(times) // 2]:.0f} MB/s of output")
    extract = [PROGRAM, "combine", place("claims.x12"), "--where", "CLP01 LIKE '4%'", "--balance", "recompute",
               "--name", "taken.x12", "--out", out, "--quiet"]
    beside("X12 of 500 MB, an extraction / cp", lambda _: copied(place("claims.x12"), place("copy")),
           lambda _: clean(extract), arguments.runs)
    shutil.rmtree(out, ignore_errors=True)


main()
