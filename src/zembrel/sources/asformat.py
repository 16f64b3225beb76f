"""A source file as a layer: any verb reads of it what it needs, when it needs it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zembrel.errors import InputError, RefusedError
from zembrel.formats.whole import only_layer
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.sources.opening import open_source
from zembrel.sources.sourcefile import read_source
from zembrel.sources.wish import Wish

layers = only_layer


def open_raster(path: Path, layer: str | None = None) -> Raster:
    """The raster of a source, of all the ground that it covers. Raises InputError for one of many layers."""
    source = read_source(path)
    found = open_source(source, Wish(), offline=readings.offline)
    if len(found.layers) != 1:
        what = f"{source.name} has {len(found.layers)} layers"
        raise InputError(what, "one raster is needed here", f"fetch them first: zembrel fetch {source.name}")
    return found.layers[0].raster


def make_sink(path: Path, *_: Any, **__: Mapping[str, str]) -> Any:
    """Raises RefusedError: a source file says where cells are, and holds none."""
    raise RefusedError(
        f"{path.name} cannot hold cells",
        "a source file says where they are",
        "add it with zembrel source add",
    )
