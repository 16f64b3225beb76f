"""Mutated files, in a process with little memory and time: cells or an error of ours, never anything else."""

from __future__ import annotations

import json
import resource
import subprocess
import sys
from pathlib import Path

import pytest

import depth
from rasters import random_cells, raster, save

SAMPLES = Path(sys.prefix) / "samples"
MEMORY, SECONDS = 3 * 2**30, 280  # bytes of address space, seconds for all

LOOP = """
import json, random, sys, time, traceback, warnings
from pathlib import Path
from zembrel.errors import ZembrelError
from zembrel.formats import open_raster
from zembrel.formats.blockcache import block_cache
from zembrel.formats.tiff.rules import check_tiff
from zembrel.grid.pane import Pane

warnings.simplefilter("ignore")
seeds, scratch, each = json.loads(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
numbers, slowest, outcome = random.Random(20), 0.0, {"read": 0, "refused": 0}
TRICKY = (0, 1, 2, 127, 128, 255, 256, 32767, 65535, 2**31 - 1, 2**31, 2**32 - 1)

def mutant(content):
    data = bytearray(content)
    for _ in range(numbers.choice((1, 1, 2, 4, 16))):
        kind, at = numbers.randrange(6), numbers.randrange(min(len(data), numbers.choice((64, 600, len(data)))))
        if kind == 0:
            data[at] ^= 1 << numbers.randrange(8)
        elif kind == 1:
            data[at : at + 4] = numbers.choice(TRICKY).to_bytes(4, "little")
        elif kind == 2:
            data[at : at + 2] = numbers.randrange(65536).to_bytes(2, "little")
        elif kind == 3:
            del data[at:]
        elif kind == 4:
            data[at : at + 12] = data[numbers.randrange(len(data)) :][:12]
        else:
            data[at:at] = bytes(numbers.randrange(1, 40))
        if len(data) < 8:
            return bytes(data)
    return bytes(data)

for name in seeds:
    content = Path(name).read_bytes()
    for number in range(each):
        scratch.write_bytes(mutant(content))
        started = time.perf_counter()
        try:
            source = open_raster(scratch)
            for corner in (Pane(0, 0, 64, 64), source.frame.pane):
                part = source.frame.pane.meet(corner)
                if part.size < 4_000_000:
                    source.cells(part)
            check_tiff(scratch)
            outcome["read"] += 1
        except ZembrelError as exc:
            assert exc.what and exc.why and exc.remedy
            outcome["refused"] += 1
        except Exception as exc:
            where = traceback.extract_tb(exc.__traceback__)[-3:]
            print(json.dumps({"failed": f"{name} mutant {number}: {type(exc).__name__}: {exc} {where}"}))
            sys.exit(1)
        slowest = max(slowest, time.perf_counter() - started)
        block_cache.set_budget(0)
print(json.dumps({**outcome, "slowest": slowest}))
"""


def seeds(folder: Path) -> list[str]:
    """Our own files in all codecs, and the smaller samples of others."""
    made = []
    valid = random_cells(50, 60, seed=3) > 40
    for codec in ("none", "deflate", "lzw", "packbits", "zstd", "jpeg", "lerc", "webp"):
        cells = random_cells(3, 50, 60)
        made.append(save(folder / f"{codec}.tif", raster(cells, valid), compress=codec, tile="32"))
    made.append(save(folder / "f.tif", raster(random_cells(50, 60, kind="float32"), valid), tile="16"))
    samples = [path for path in sorted(SAMPLES.rglob("*.tif*")) if path.stat().st_size < 60_000]
    return [str(path) for path in [*made, *samples]]


@pytest.mark.parametrize("each", depth.some([4, 120], [4]))
def test_mutants_are_read_or_refused_within_bounds(tmp_path: Path, each: int) -> None:
    """Read `each` mutants of each file."""
    corpus = seeds(tmp_path)
    if len(corpus) < 20:
        pytest.skip("no samples to mutate; make test fetches them")
    done = subprocess.run(
        [sys.executable, "-c", LOOP, json.dumps(corpus), str(tmp_path / "mutant.tif"), str(each)],
        capture_output=True, text=True, timeout=SECONDS,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY)),
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-3000:]
    found = json.loads(done.stdout.splitlines()[-1])
    assert min(found["read"], found["refused"]) > 10 * each and found["slowest"] < 20
