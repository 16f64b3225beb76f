"""Zembrel: rasters, features and points clipped, mosaicked, tiled, reprojected and converted, exactly and in
bounded memory.

`open` opens a file; every verb of the command line is a function: `clip("a.tif", within="coast.gpkg")` gives
a raster that is computed when it is sliced, and with `out="b.tif"` writes it and gives a `Receipt`. Two are
called otherwise, since rooms of the house have their names: `grid_points` and `draw_picture`.
`deliver_pyramid` and the like build packs; `from_xarray` and `from_arrow` take what others hold.
Nothing is imported before it is asked for.
"""

from __future__ import annotations

import importlib
from functools import partial
from typing import Any

from zembrel.verbtable import VERBS, called_by
from zembrel.verbtable.record import ALL, RUNS

_MODEL = {
    "Raster": "zembrel.raster.model", "Band": "zembrel.raster.model", "Block": "zembrel.raster.model",
    "Legend": "zembrel.raster.legend", "Frame": "zembrel.grid.frame", "Pane": "zembrel.grid.pane",
    "Area": "zembrel.grid.area", "Receipt": "zembrel.results.receipt", "ZembrelError": "zembrel.errors",
}  # fmt: skip
_NAMES = {"grid": "grid_points", "draw": "draw_picture"}
_CALLS = {_NAMES.get(verb, verb.replace(" ", "_")): verb for verb in called_by(ALL, RUNS)}
_FROM = {"open": "open_dataset", "from_xarray": "from_xarray", "from_arrow": "features_from_arrow"}
__all__ = [*_FROM, *_MODEL, *_CALLS]


def __getattr__(name: str) -> Any:
    if name in _MODEL:
        return getattr(importlib.import_module(_MODEL[name]), name)
    if name in _FROM or name in _CALLS:
        calls = importlib.import_module("zembrel.opened.calls")
        if name in _FROM:
            return getattr(calls, _FROM[name])
        alone = VERBS[_CALLS[name]].callers == RUNS
        verb = partial(calls.alone if alone else calls.call, _CALLS[name])
        verb.__doc__ = f"The verb {_CALLS[name]}: see `zembrel {_CALLS[name]} --help`. " + (
            verb.func.__doc__ or ""
        )
        return verb
    raise AttributeError(f"module 'zembrel' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
