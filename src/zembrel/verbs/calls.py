"""The verbs as functions of Python: paths or rasters in, receipts or lazy rasters out."""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import os
import typing
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.errors import UsageError, ZembrelError, nearest_name
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.verbs.features.opening import open_table
from zembrel.verbs.intake import FEATURES, POINTS, RASTERS, take
from zembrel.verbs.layers import open_layer
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.points.opening import open_cloud
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.running import performed

# verb -> module and function
VERBS = {
    "describe": "describe.describe", "index": "index.index", "label": "label.label", "frame": "frame.frame",
    "pin": "pin.pin", "fetch": "fetch.fetch",
    "mosaic": "mosaic.mosaic", "stack": "stack.stack", "clip": "clip.clip",
    "tile": "tile.tile", "mask": "mask.mask", "fill": "fill.fill", "resample": "resample.resample",
    "reproject": "resample.reproject", "convert": "convert.convert", "thin": "points.thin.thin",
    "ground": "points.ground.ground", "grid": "points.grid.grid", "terrain": "terrain.terrain",
    "derive": "derive.derive", "classify": "classify.classify",
    "paint": "paint.paint",
    "rasterize": "rasterize.rasterize", "polygonize": "polygonize.polygonize", "contour": "contour.contour",
    "trace": "trace.trace", "centroids": "centroids.centroids", "sample": "sample.sample",
    "tally": "tally.tally", "compare": "compare.compare", "profile": "profile.profile",
    "check": "check.check", "draw": "draw.draw",
} | {
    f"deliver {pack}": f"deliver.{pack}.{pack}"
    for pack in ("pyramid", "globe", "chart", "heightmap", "hgt", "chips", "film")
}  # fmt: skip
LAZY = ("fetch", "mosaic", "stack", "clip", "mask", "fill", "resample", "reproject", "convert", "paint",
        "grid", "rasterize", "pin", "terrain", "derive", "classify")  # fmt: skip
_EACH = (
    "clip",
    "mask",
    "fill",
    "resample",
    "reproject",
    "convert",
    "paint",
    "terrain",
    "derive",
    "classify",
)  # a result of each input
_NOWHERE = ".zembrel-lazy"  # names a result that is never written
_GROUPS = (Inputs, Where, Output)
Source = str | os.PathLike[str] | Raster
Answer = Receipt | Raster | list[Raster]


def open_dataset(path: str | os.PathLike[str], **options: Any) -> Any:
    """What the file at `path` holds: a `Raster`, a `FeatureTable`, or a `PointSource`.

    options: those of inputs, such as layer, bands, from_crs and condition. Raises InputError or UsageError.
    """
    known = _fields(Inputs)
    _check_known("open", {name: value for name, value in options.items() if name not in known}, known)
    inputs = Inputs(inputs=(os.fspath(path),), **options)
    with readings.run():
        given = take(inputs, Output(), (RASTERS, FEATURES, POINTS))
        origin = _one(given.origins)
        if given.kind == RASTERS:
            return open_layer(origin, inputs).raster
        return open_table(origin, inputs) if given.kind == FEATURES else open_cloud(origin, inputs)


def _one(found: Sequence[Any]) -> Any:
    if len(found) != 1:
        raise UsageError(f"{len(found)} files are meant", "one at a time is opened", "name one of them")
    return found[0]


def call(verb: str, inputs: Source | Sequence[Source] = (), out: Any = None, **options: Any) -> Answer:
    """Run a verb. Its options are those of the command line, with underscores.

    inputs: paths, patterns and folders, or rasters; out: where to write. Returns the receipt; without `out`
    a verb that makes rasters returns them instead, lazily: one, or a list for several inputs of a verb that
    goes one to one. Raises ZembrelError as the command line words it.
    """
    module, _, name = f"zembrel.verbs.{VERBS[verb]}".rpartition(".")
    function = getattr(importlib.import_module(module), name)
    given = [inputs] if isinstance(inputs, str | os.PathLike | Raster) else list(inputs)
    words: dict[str, Any] = {"inputs": tuple(os.fspath(s) for s in given if isinstance(s, str | os.PathLike))}
    words["rasters"] = tuple(s for s in given if isinstance(s, Raster))
    kept: list[Raster] = []
    if out is not None:
        words["out"] = os.fspath(out)
    elif verb in LAZY:
        several = verb in _EACH and _count(given) > 1
        words |= {"out": f"{_NOWHERE}/" if several else f"{_NOWHERE}.tif", "receiver": kept.append}
    try:
        receipt = performed(function, _arguments(verb, function, words | options))
    except ZembrelError as exc:
        if _NOWHERE not in exc.what:
            raise
        why = "features and points, and several results of one kind, are written to a place"
        raise UsageError(f"{verb} gives rasters alone without a place", why, "add out=PATH") from exc
    if out is not None or verb not in LAZY:
        return receipt
    return kept[0] if len(kept) == 1 else kept


def _count(given: Sequence[Source]) -> int:
    """How many inputs are meant; a folder or a pattern may be many."""
    found = 0
    for source in given:
        many = not isinstance(source, Raster) and (
            Path(source).is_dir() or set("*?[") & set(os.fspath(source))
        )
        found += 2 if many else 1
    return found


def _arguments(verb: str, function: Any, options: dict[str, Any]) -> dict[str, Any]:
    """The arguments of a verb's function, its groups of options filled. Raises UsageError."""
    hints = typing.get_type_hints(function)
    left, made = dict(options), {}
    own = [name for name in inspect.signature(function).parameters if hints[name] not in _GROUPS]
    for name in own:
        fields = _fields(hints[name])
        if fields:
            made[name] = hints[name](**{field: left.pop(field) for field in fields if field in left})
        elif name in left:
            made[name] = left.pop(name)
    for name, kind in hints.items():
        if kind in _GROUPS:
            fields = _fields(kind)
            made[name] = kind(**{field: _value(left.pop(field)) for field in fields if field in left})
    for name in ("rasters", "receiver"):
        if not left.get(name):
            left.pop(name, None)
    _check_known(verb, left, [field for group in _GROUPS for field in _fields(group)])
    return made


def _fields(kind: Any) -> list[str]:
    """The names of the fields of a group of options; none of any other type."""
    if dataclasses.is_dataclass(kind):
        return [field.name for field in dataclasses.fields(kind)]
    return list(getattr(kind, "_fields", ()))


def _check_known(verb: str, left: Mapping[str, Any], known: Sequence[str]) -> None:
    if left:
        name = min(left)
        raise UsageError(f"{verb} has no option {name!r}", "it would do nothing", nearest_name(name, known))


def _value(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value
