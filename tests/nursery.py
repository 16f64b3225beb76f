"""A process that has the program loaded and forks one for each run: as real as a fresh one, without its start.

Requests are lines of JSON on stdin, answers on stdout: the exit code of a run.
"""

from __future__ import annotations

import importlib
import json
import os
import signal
import sys
from typing import Any, NoReturn

LOADED = (
    "numpy", "numba", "imagecodecs", "shapely", "orjson", "rich.progress", "zembrel.cli.commands",
    "zembrel.cli.report", "zembrel.formats.tiff.opening", "zembrel.formats.tiff.sink", "zembrel.raster.kernels.warp",
    "zembrel.raster.kernels.halve", "zembrel.raster.kernels.windowed", "zembrel.features.files.geojson",
    "zembrel.geodesy.registry", "zembrel.geodesy.text", "zembrel.geodesy.operation", "zembrel.verbs.describe",
    "zembrel.verbs.mosaic", "zembrel.verbs.clip", "zembrel.verbs.tile", "zembrel.verbs.resample",
    "zembrel.verbs.convert", "zembrel.verbs.mask", "zembrel.verbs.tally", "zembrel.verbs.rasterize",
    "zembrel.verbs.features.change", "zembrel.verbs.points.change", "zembrel.verbs.points.grid",
    "zembrel.cli.bring", "zembrel.cli.change", "zembrel.cli.look", "zembrel.cli.points", "zembrel.cli.shapes",
    "zembrel.cli.show", "zembrel.cli.where", "zembrel.cli.place", "zembrel.cli.start",
)  # fmt: skip


def main() -> None:
    for name in LOADED:
        importlib.import_module(name)
    for line in sys.stdin:
        run = json.loads(line)
        child = os.fork()
        if not child:
            _become(run)
        print(_waited(child, run["timeout"]), flush=True)


def _become(run: dict[str, Any]) -> NoReturn:
    """Be the program, with its words, folder, environment and streams."""
    os.setsid()
    os.chdir(run["folder"])
    os.environ.clear()
    os.environ.update(run["environment"])
    sys.argv = ["zembrel", *run["words"]]
    for number, (path, flags) in enumerate(
        (
            (run["stdin"], os.O_RDONLY),
            *((path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC) for path in run["told"]),
        )
    ):
        opened = os.open(path, flags, 0o600)
        os.dup2(opened, number)
        os.close(opened)
    streams = (os.fdopen(n, mode, encoding="utf-8") for n, mode in ((0, "r"), (1, "w"), (2, "w")))
    sys.stdin, sys.stdout, sys.stderr = streams
    code: Any = 1
    try:
        from zembrel.cli import main as program

        program()
        code = 0
    except SystemExit as exc:
        code = exc.code if isinstance(exc.code, int) else 0 if exc.code is None else 1
    except BaseException:
        import traceback

        traceback.print_exc()
    sys.stdout.flush()
    sys.stderr.flush()
    import atexit

    atexit._run_exitfuncs()
    os._exit(code)


def _waited(child: int, seconds: int) -> int:
    """The exit code of a child; -1000 for one that had to be ended."""
    signal.signal(signal.SIGALRM, lambda *_: os.killpg(child, signal.SIGKILL))
    signal.alarm(seconds)
    _, status = os.waitpid(child, 0)
    signal.alarm(0)
    return os.waitstatus_to_exitcode(status)


if __name__ == "__main__":
    main()
