"""Makes the files that the benchmarks read: berth calls of the made-up Port of Varnholm.

    python3 bench/data.py FOLDER [--size BYTES]

Writes calls.csv (40 quays), calls-crlf.csv (the same with CRLF), calls-quoted.csv (the same with
every field in quotes) and calls-20000.csv (the same with 20,000 agents, unsorted, in the place of
the quay). The bytes are the same each time. A file that is there and has its size is kept.
"""

import argparse
import os
import random

HEADER = "call_id,quay,agent,vessel,flag,cargo,arrived,departed,tonnes,dues,pilot,remarks"
CARGOES = ["containers", "grain", "vehicles", "timber", "coal", "oil products", "fish", "passengers"]
REMARKS = [
    '"berth shifted, then back"',
    '"asked for ""quiet berth"", none free"',
    '"damage to fender\nreported to harbour office"',
    '"dues disputed, see letter"',
]
CHUNK = 100_000


def chunks(size, categories):
    """Yields texts of many records until about `size` bytes are made."""
    dice = random.Random(20260305)
    vessels = [f"{a} {b}" for a in ("Amber", "Eider", "Fulmar", "Grebe", "Isgrim", "Nordlys", "Ångskär")
               for b in ("Star", "Trader", "Express", "Sund", "Carrier", "Queen II")]
    days = [f"{2025 + m // 12}-{m % 12 + 1:02}-{d:02} {h:02}:{q:02}" for m in range(18)
            for d in range(1, 29) for h in range(24) for q in (0, 15, 30, 45)]
    agents = [f"Agency {n:03}" for n in range(400)]
    made = 0
    number = 0
    while made < size:
        lines = []
        columns = zip(
            dice.choices(categories, k=CHUNK),
            dice.choices(agents, k=CHUNK),
            dice.choices(vessels, k=CHUNK),
            dice.choices(("XA", "XB", "XD", "XG", "XN", "XV"), k=CHUNK),
            dice.choices(CARGOES, k=CHUNK),
            dice.choices(days, k=CHUNK),
            dice.choices(days, k=CHUNK),
            dice.choices(range(100, 70_000), k=CHUNK),
            dice.choices(range(10_000, 9_999_999), k=CHUNK),
            dice.choices(("TRUE", "FALSE"), k=CHUNK),
            dice.choices(["", "", "no remarks", "shore power used"] * 24 + [None] * 5, k=CHUNK),
        )
        for quay, agent, vessel, flag, cargo, arrived, departed, tonnes, dues, pilot, remark in columns:
            number += 1
            if remark is None:
                remark = dice.choice(REMARKS)
            lines.append(
                f"{number:09},{quay},{agent},{vessel},{flag},{cargo},{arrived},{departed},"
                f"{tonnes},{dues // 100}.{dues % 100:02},{pilot},{remark}\n"
            )
        text = "".join(lines).encode()
        made += len(text)
        yield text


def quoted(text):
    """The same records with every field in quotes."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out, quoting=csv.QUOTE_ALL, lineterminator="\n")
    writer.writerows(csv.reader(io.StringIO(text.decode(), newline="")))
    return out.getvalue().encode()


def make(path, size, categories, change=lambda text: text):
    if os.path.exists(path):
        return
    print("making", path, flush=True)
    with open(path + ".part", "wb") as out:
        out.write(change((HEADER + "\n").encode()))
        made = 0
        for text in chunks(size, categories):
            text = change(text)
            out.write(text)
            made += len(text)
            if made >= size:
                break
    os.rename(path + ".part", path)


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("folder")
    parser.add_argument("--size", type=int, default=1_000_000_000)
    arguments = parser.parse_args()
    os.makedirs(arguments.folder, exist_ok=True)
    place = lambda name: os.path.join(arguments.folder, name)
    quays = [f"Quay {n:02}" for n in range(40)]
    make(place("calls.csv"), arguments.size, quays)
    make(place("calls-crlf.csv"), arguments.size, quays, lambda text: text.replace(b"\n", b"\r\n"))
    make(place("calls-quoted.csv"), arguments.size, quays, quoted)
    make(place("calls-20000.csv"), arguments.size, [f"Agent {n:05}" for n in range(20_000)])


if __name__ == "__main__":
    main()
