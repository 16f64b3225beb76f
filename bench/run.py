"""Measure: `make bench` runs all cases, `make bench BENCH="reproject memory"` some.

Each case makes its own data in a temporary folder and removes it. Times are whole processes of a
program as an installer leaves it, with its bytecode compiled; where two things are compared they take
turns in one run, and the ratio of their least times counts.
"""

from __future__ import annotations

import compileall
import importlib
import shutil
import sys
import tempfile
from pathlib import Path

from measure import HERE

CASES = (
    "start",
    "geodesy",
    "reproject",
    "memory",
    "engine",
    "grids",
    "terrain",
    "derive",
    "compare",
    "shapes",
    "points",
    "workers",
    "pyramid",
    "packs",
    "sources",
    "jobs",
    "cluster",
)


def main(wanted: list[str]) -> int:
    unknown = set(wanted) - set(CASES)
    if unknown:
        print(f"no case {', '.join(sorted(unknown))}; there are {', '.join(CASES)}")
        return 2
    compileall.compile_dir(HERE.parent / "src", quiet=1)
    missed = 0
    for name in wanted or CASES:
        folder = Path(tempfile.mkdtemp(prefix="zembrel-bench-"))
        try:
            for result in importlib.import_module(name).cases(folder):
                print(result, flush=True)
                missed += not result.held
        finally:
            shutil.rmtree(folder)
    print(f"{missed} figures missed" if missed else "all figures held")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
