"""demo: the data of the Isle of Marrowick."""

from __future__ import annotations

import time
from pathlib import Path

from zembrel.engine.commit import Staging
from zembrel.engine.run import run
from zembrel.errors import RefusedError, ResourceError
from zembrel.formats import load
from zembrel.measure import show_bytes
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import Receipt


def demo(output: Output) -> Receipt:
    """Make all demo files in the folder `output.out`. Raises RefusedError if it holds other things."""
    from zembrel.demo.data import rasters, texts

    folder = Path(output.out or "demo")
    if folder.is_file():
        raise RefusedError(f"{folder} is a file", "the demo needs a folder", "choose another --out")
    if folder.is_dir() and any(folder.iterdir()) and not output.replace:
        raise RefusedError(
            f"{folder} is not empty",
            "files in it could be overwritten",
            "add --replace, or choose another --out",
        )
    started = time.perf_counter()
    size = 0
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as exc:
        raise ResourceError(
            f"{folder} cannot be made", str(exc.strerror).lower(), "choose another --out"
        ) from exc
    made = []
    with Staging(replace=True) as staging:
        for name, raster in rasters():
            staged = staging.path_for(folder / name)
            run(
                raster,
                load("geotiff").make_sink(staged, raster.frame, raster.bands, {"overviews": "no"}),
                output.means,
            )
            size += staged.stat().st_size
            made.append(str(name))
        for name, text in texts():
            staging.write_text(folder / name, text)
            size += len(text)
            made.append(str(name))
        staging.publish()
    seconds = time.perf_counter() - started
    wrote = (f"{len(made)} files in {folder}", show_bytes(size), f"in {seconds:.1f} s")
    return Receipt(
        "demo",
        f"Isle of Marrowick -> {folder}",
        (("wrote", wrote),),
        {"out": str(folder), "files": made, "bytes": size},
    )
