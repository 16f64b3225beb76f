"""The verbs as functions of Python: paths or rasters in, receipts or lazy rasters out."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zembrel.errors import UsageError, ZembrelError, nearest_name
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.intake import take
from zembrel.inputs.layers import open_layer
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.tables import open_table
from zembrel.inputs.within import asked_crs
from zembrel.opened.arrow import OpenFeatures, OpenPoints, from_arrow, open_features
from zembrel.opened.raster import LazyRaster, plain
from zembrel.opened.xarrays import held_raster
from zembrel.raster.model import Raster
from zembrel.reading import readings
from zembrel.results.receipt import Receipt
from zembrel.results.running import performed
from zembrel.results.verboptions import arguments_of, function_of, options_of
from zembrel.verbtable import VERBS
from zembrel.verbtable.record import FEATURES, POINTS, RASTERS

_NOWHERE = ".zembrel-lazy"  # names a result that is never written
_FIELDS = {"where": "condition"}
# fields of options that Python may set, and nobody types
_HELD = ("names", "tick", "executor", "as_facts")
Source = str | os.PathLike[str] | Raster
Answer = Receipt | LazyRaster | list[LazyRaster]


def open_dataset(path: str | os.PathLike[str], **options: Any) -> Any:
    """What the file at `path` holds: a raster that slices to arrays, features, or points.

    options: those of inputs, such as layer, bands, from_crs and where. Raises InputError or UsageError.
    """
    words = {_FIELDS.get(name, name): value for name, value in options.items()}
    known = [field.name for field in dataclasses.fields(Inputs)]
    for name in options:
        if _FIELDS.get(name, name) not in known:
            raise UsageError(f"open has no option {name!r}", "it would do nothing", nearest_name(name, known))
    inputs = Inputs(inputs=(os.fspath(path),), **words)
    with readings.run():
        given = take(inputs, Output(), (RASTERS, FEATURES, POINTS))
        origin = _one(given.origins)
        if given.kind == RASTERS:
            return LazyRaster(open_layer(origin, inputs).raster)
        if given.kind == FEATURES:
            return open_features(open_table(origin, inputs))
        return OpenPoints(open_cloud(origin, inputs))


def from_xarray(data: Any, crs: str | None = None) -> LazyRaster:
    """The raster of a `DataArray` with y and x at even steps. crs: if its grid mapping does not tell it.

    Raises InputError for uneven steps, or what is no CRS.
    """
    return LazyRaster(held_raster(data, asked_crs(Where(crs=crs)) if crs is not None else None))


def features_from_arrow(table: Any, crs: str | None = None) -> OpenFeatures:
    """The features of an Arrow table with a column of WKB. crs: if its metadata do not tell it.

    Raises InputError without such a column, or for what is no CRS.
    """
    return from_arrow(table, asked_crs(Where(crs=crs)) if crs is not None else None)


def _one(found: Sequence[Any]) -> Any:
    if len(found) != 1:
        raise UsageError(f"{len(found)} files are meant", "one at a time is opened", "name one of them")
    return found[0]


def call(verb: str, inputs: Source | Sequence[Source] = (), out: Any = None, **options: Any) -> Answer:
    """Run a verb. Its options are those of the command line, with underscores; `in_`, since `in` is a word of
    Python's.

    inputs: paths, patterns and folders, or rasters; out: where to write. Returns the receipt; without `out`
    a verb that makes rasters returns them instead, lazily: one, or a list for several inputs of a verb that
    goes one to one. Raises ZembrelError as the command line words it.
    """
    given = [inputs] if isinstance(inputs, str | os.PathLike | Raster) else list(inputs)
    words = {name.removesuffix("_"): value for name, value in options.items()}
    known = options_of(verb)
    held = {name: value for name, value in words.items() if name in _HELD and name not in known}
    typed = {name: value for name, value in words.items() if name not in held}
    receipt, kept = ran(verb, given, None if out is None else os.fspath(out), typed, held)
    if out is not None or not VERBS[verb].lazy:
        return receipt
    coated = [LazyRaster(raster) for raster in kept]
    return coated[0] if len(coated) == 1 else coated


def alone(verb: str, path: str | os.PathLike[str], out: Any = None, **options: Any) -> Receipt:
    """Run a verb of one file that is no layer: `run` of a job, `receipt` of a record.

    options: those of the command line, with underscores; `from_`, since `from` is a word of Python's. Returns
    the receipt. Raises ZembrelError as the command line words it.
    """
    typed = {name.removesuffix("_"): value for name, value in options.items()}
    typed |= {"path": os.fspath(path)} | ({"out": os.fspath(out)} if out is not None else {})
    return performed(function_of(verb), arguments_of(verb, typed, {}), verb)


def ran(
    verb: str, given: Sequence[Source], out: str | None, typed: Mapping[str, Any], held: Mapping[str, Any]
) -> tuple[Receipt, list[Raster]]:
    """The receipt of a verb, and the rasters it makes if they go to no place.

    typed: options by the names that people type; held: those that nobody types.
    """
    paths = tuple(os.fspath(source) for source in given if isinstance(source, str | os.PathLike))
    words = dict(typed) | ({"inputs": paths} if paths else {})
    more = dict(held) | {"rasters": tuple(plain(source) for source in given if isinstance(source, Raster))}
    kept: list[Raster] = []
    if out is not None:
        words["out"] = out
    elif VERBS[verb].lazy:
        several = VERBS[verb].each and _count(given) > 1
        words["out"] = f"{_NOWHERE}/" if several else f"{_NOWHERE}.tif"
        more["receiver"] = kept.append
    try:
        return performed(function_of(verb), arguments_of(verb, words, more), verb), kept
    except ZembrelError as exc:
        if _NOWHERE not in exc.what:
            raise
        why = "features and points, and several results of one kind, are written to a place"
        raise UsageError(f"{verb} gives rasters alone without a place", why, "add out=PATH") from exc


def _count(given: Sequence[Source]) -> int:
    """How many inputs are meant; a folder or a pattern may be many."""
    found = 0
    for source in given:
        many = not isinstance(source, Raster) and (
            Path(source).is_dir() or set("*?[") & set(os.fspath(source))
        )
        found += 2 if many else 1
    return found
