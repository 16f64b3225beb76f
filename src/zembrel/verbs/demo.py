"""demo: the data of the Isle of Marrowick."""

from __future__ import annotations

import time
from pathlib import Path

from zembrel.demo.data import rasters, texts
from zembrel.demo.lidar import clouds
from zembrel.engine.commit import Staging, resource_errors
from zembrel.engine.points import flow
from zembrel.engine.run import run
from zembrel.errors import RefusedError
from zembrel.formats import choose_format, load
from zembrel.inputs.options import Output
from zembrel.points.files import make_sink
from zembrel.results.receipt import Receipt, Result


def demo(output: Output) -> Receipt:
    """Make all demo files in the folder `output.out`. Raises RefusedError if it holds other things."""
    folder = Path(output.out or "demo")
    _check(folder, output)
    started = time.perf_counter()
    made = _make(folder, output)
    seconds = time.perf_counter() - started
    result = Result(folder, sum(made.values()), files=len(made), seconds=seconds)
    return Receipt("demo", out=str(folder), results=(result,), own={"files": list(made)})


def _check(folder: Path, output: Output) -> None:
    if folder.is_file():
        raise RefusedError(f"{folder} is a file", "the demo needs a folder", "choose another --out")
    if folder.is_dir() and any(folder.iterdir()) and not output.replace:
        raise RefusedError(
            f"{folder} is not empty",
            "files in it could be overwritten",
            "add --replace, or choose another --out",
        )


def _make(folder: Path, output: Output) -> dict[str, int]:
    """Make all files; returns their names and sizes."""

    made = {}
    with Staging(replace=True) as staging:
        for name, raster in rasters():
            staged = staging.path_for(folder / name)
            with resource_errors(folder / name):
                form = choose_format(name, None)
                settings = {"overviews": "no"} if form == "geotiff" else {}
                run(raster, load(form).make_sink(staged, raster.frame, raster.bands, settings), output.limits)
            made[str(name)] = staged.stat().st_size
        for name, new, block in clouds():
            staged = staging.path_for(folder / name)
            with resource_errors(folder / name):
                flow([block], make_sink(staged, new, name), output.limits)
            made[str(name)] = staged.stat().st_size
        for name, text in texts():
            staging.write_text(folder / name, text)
            made[str(name)] = len(text)
        staging.publish()
    return made
