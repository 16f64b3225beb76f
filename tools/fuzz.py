"""Damaged files of every format, read by the program in processes of their own: `make fuzz SECONDS=600`.

Files are layers, packs, jobs, their states, sources and what services answer (see `fuzzdesk`). Each run ends with a result or an error of ours. What ends otherwise (a fault of ours, a signal, more than 20 seconds
or a gigabyte) is made as small a change of the sound file as can be, and kept in a folder with what was said.
"""

from __future__ import annotations

import json
import os
import random
import re
import resource
import signal
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import NamedTuple

import fuzzdesk
from zembrel.cli import guarded

SLOW, LARGE = 20, 1_000_000_000  # seconds, and bytes beside those of the process that forks
RASTERS = ("tif", "asc", "bil", "npy", "npz", "nc", "h5.nc", "zarr.zip", "jp2", "png", "gif", "bmp", "webp",
           "cells.parquet", "cells.csv", "xyz")  # fmt: skip
FEATURES = ("geojson", "geojsonl", "gpkg", "shp", "kml", "kmz", "features.csv", "features.parquet")
POINTS = ("las", "laz", "copc.laz", "ply", "pts", "points.parquet")
WRITING = ("--replace", "--ceiling", "100MB")
TRICKY = (0, 1, 2, 127, 128, 255, 256, 32767, 65535, 2**31 - 1, 2**31, 2**32 - 1)


class Seed(NamedTuple):
    """A sound file: its name, the part of it that is damaged, and the runs that read it, one at a time."""

    name: str
    part: str
    runs: tuple[tuple[str, ...], ...]


def seeds(folder: Path) -> list[Seed]:
    """Small sound files of every kind, made by the program."""
    rows = "\n".join(" ".join(str((r * 7 + c * 3) % 250) for c in range(40)) for r in range(30))
    (folder / "r.asc").write_text(
        f"ncols 40\nnrows 30\nxllcorner 730000\nyllcorner 5098000\ncellsize 5\n{rows}\n"
    )
    shape = ('{"type": "Feature", "properties": {"n": %d, "word": "w%d"}, "geometry": {"type": "Polygon", '
             '"coordinates": [[[%d, 1], [%d.5, 1], [%d.5, 2], [%d, 1]]]}}')  # fmt: skip
    shapes = ",".join(shape % ((n,) * 6) for n in range(1, 9))
    (folder / "f.json").write_text(f'{{"type": "FeatureCollection", "features": [{shapes}]}}')
    (folder / "p.txt").write_text(
        "\n".join(f"{730000 + n} {5098000 + n * 7 % 90} {n % 13}" for n in range(900))
    )
    runs = [("convert", "r.asc", "--from-crs", "EPSG:32626", "--type", "uint8", "--out", "r.tif")]
    runs += [
        ("convert", "r.tif", "--out", f"r.{ending}") for ending in RASTERS if ending not in ("asc", "tif")
    ]
    runs += [("convert", "f.json", "--out", f"f.{ending}") for ending in FEATURES]
    runs += [
        ("convert", "p.txt", "--columns", "x,y,z", "--from-crs", "EPSG:32626", "--out", f"s.{e}")
        for e in POINTS
    ]
    runs += [("convert", "r.tif", "--out", "q.flt"), ("deliver", "chart", "r.tif", "--out", "r.kap")]
    runs += [("frame", "r.tif", "--out", "r.frame.toml"), ("mosaic", "r.tif", "--out", "r.quilt.toml")]
    os.chdir(folder)
    for words in runs:
        code = guarded([*words, "-q"])
        if code:
            print(f"no seed: {' '.join(words)}", file=sys.stderr)
    made = []
    for path in sorted(folder.iterdir()):
        if path.name in ("f.json", "p.txt") or path.is_dir():
            continue
        main = path.with_suffix(".shp") if path.suffix in (".dbf", ".shx", ".cpg") else path
        main = path.with_suffix(".bil") if path.suffix == ".hdr" else main
        if path.suffix in (".prj", ".xml", ".pgw"):
            continue
        out = "o.geojson" if main.name[2:] in FEATURES else "o.tif"
        out = "o.las" if main.name[2:] in POINTS else out
        made.append(Seed(main.name, path.name, _layer_runs(main.name, out)))
    return made


def _layer_runs(name: str, out: str) -> tuple[tuple[str, ...], ...]:
    if name.endswith(".frame.toml"):
        return (("resample", "r.tif", "--onto", name, "--out", "o.tif", *WRITING),)
    return (("convert", name, "--out", out, *WRITING),) * 2 + (("describe", name, "--stats"),)


def damaged(content: bytes, chance: random.Random) -> bytes:
    """`content` with some bytes changed, cut, doubled or put in."""
    data = bytearray(content)
    for _ in range(chance.choice((1, 1, 2, 4, 16))):
        if len(data) < 8:
            break
        kind, at = chance.randrange(7), chance.randrange(min(len(data), chance.choice((64, 600, len(data)))))
        if kind == 0:
            data[at] ^= 1 << chance.randrange(8)
        elif kind == 1:
            data[at : at + 4] = chance.choice(TRICKY).to_bytes(4, chance.choice(("little", "big")))
        elif kind == 2:
            data[at : at + 2] = chance.randrange(65536).to_bytes(2, "little")
        elif kind == 3:
            del data[at:]
        elif kind == 4:
            data[at : at + 12] = data[chance.randrange(len(data)) :][:12]
        elif kind == 5:
            data[at:at] = bytes(chance.randrange(1, 40))
        else:
            data[at : at + 1] = chance.choice(
                (b"9", b"-", b"(", b'"', b"\n", b"\xff", b"e", b"nan", b"1e999")
            )
    return bytes(data)


def ended(folder: Path, words: list[str]) -> str:
    """How a run ends: nothing to be said, or what is wrong with it. Slow is what is so twice: at a first time
    kernels may be compiled."""
    how = _ended_once(folder, words)
    return _ended_once(folder, words) if how.startswith("slow") else how


def _ended_once(folder: Path, words: list[str]) -> str:
    said, base = folder / "said", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    child, started = os.fork(), time.monotonic()
    if not child:
        os.chdir(folder)
        streams = os.open(said, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(streams, 1)
        os.dup2(streams, 2)
        signal.alarm(2 * SLOW)
        os._exit(guarded(words))
    _, status, used = os.wait4(child, 0)
    code, seconds = os.waitstatus_to_exitcode(status), time.monotonic() - started
    if code < 0 and code != -signal.SIGALRM:
        return f"signal {-code}"
    if code == -signal.SIGALRM or seconds > SLOW:
        return f"slow: more than {SLOW} s"
    if (used.ru_maxrss - base) * 1024 > LARGE:
        return f"large: {(used.ru_maxrss - base) // 1024} MB more"
    if code == 70:
        text = said.read_text(errors="replace")
        report = re.search(r"/\S+zembrel-report-\S+\.txt", text)
        last = Path(report[0]).read_text().strip().splitlines() if report else [text]
        place = next((line.strip() for line in reversed(last) if "zembrel/" in line), "")
        return f"fault: {last[-1][:120]} at {place}"
    return ""


def smaller(folder: Path, part: Path, words: list[str], whole: bytes, bad: bytes, how: str) -> bytes:
    """As much of the sound file as can be put back without mending it."""
    kind = how.partition(":")[0]
    step = max(len(bad) // 2, 1)
    while step and kind != "slow":
        for at in range(0, min(len(whole), len(bad)), step):
            tried = bad[:at] + whole[at : at + step] + bad[at + step :]
            if len(whole) == len(bad) and tried != bad:
                part.write_bytes(tried)
                if ended(folder, words) == how:
                    bad = tried
        step //= 2
        if step < len(bad) // 256:
            break
    return bad


def main(seconds: float, kept: Path, number: int, most: float) -> int:
    """Damage files for so long, or so many; how many ways of going wrong were found."""
    chance, found, runs, ends = (
        random.Random(number),
        dict[str, str](),
        Counter[str](),
        time.monotonic() + seconds,
    )
    with tempfile.TemporaryDirectory(prefix="fuzz-") as name:
        folder = Path(name)
        os.environ["TMPDIR"] = tempfile.tempdir = name
        given = seeds(folder)
        given += [Seed(*entry) for entry in fuzzdesk.made(folder, guarded)]
        contents = {seed.part: (folder / seed.part).read_bytes() for seed in given}
        while time.monotonic() < ends and sum(runs.values()) < most:
            seed = chance.choice(given)
            part, whole = folder / seed.part, contents[seed.part]
            bad = damaged(whole, chance)
            words = list(chance.choice(seed.runs))
            part.write_bytes(bad)
            how = ended(folder, words)
            runs[seed.part] += 1
            if how and how not in found:
                bad = smaller(folder, part, words, whole, bad, how)
                kept.mkdir(parents=True, exist_ok=True)
                (kept / f"{len(found)}-{seed.part}").write_bytes(bad)
                found[how] = f"{' '.join(words)}   ({seed.part})"
                print(f"{how}\n    {found[how]}", flush=True)
            part.write_bytes(whole)
        (kept / "found.json").write_text(json.dumps(found, indent=2)) if found else None
    print(f"{sum(runs.values()):,} damaged files of {len(runs)} kinds, {len(found)} ways of going wrong")
    return len(found)


if __name__ == "__main__":
    span, where, first = float(sys.argv[1]), Path(sys.argv[2]).absolute(), int(sys.argv[3])
    runs_at_most = float(sys.argv[4]) if len(sys.argv) > 4 else float("inf")
    sys.exit(1 if main(span, where, first, runs_at_most) else 0)
