"""Feature files: the doors to read and to write any of them."""

from __future__ import annotations

import importlib
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, cast

from zembrel import features
from zembrel.errors import InputError, UsageError
from zembrel.facts import Fact
from zembrel.features.files.catalogue import FEATURE_FORMATS, FeatureFormat, format_of
from zembrel.ondemand import on_demand
from zembrel.reading import layer_at

if TYPE_CHECKING:
    from zembrel.features.files.schema import Schema
    from zembrel.features.table import FeatureTable

__getattr__ = on_demand(__name__)

ENDINGS = tuple(ending for form in FEATURE_FORMATS.values() for ending in form.endings)


class FeatureWriter(Protocol):
    """A file under way: tables are added one by one."""

    def add(self, table: FeatureTable) -> None: ...
    def finish(self) -> tuple[Fact, ...]:
        """Complete the file; what it could not hold as it was."""
        ...

    def abort(self) -> None: ...


class HoldsLayers(Protocol):
    """What the module of a format whose files hold several layers offers as well."""

    def names_in(self, path: Path) -> dict[str, bool]: ...
    def take_over(self, source: Path, path: Path, without: str) -> None: ...


class FeatureModule(Protocol):
    """What the module of a feature format offers."""

    def parts(self, path: Path, layer: str | None) -> Iterator[FeatureTable]: ...
    def layers(self, path: Path) -> list[str]: ...
    def make_writer(self, path: Path, schema: Schema) -> FeatureWriter: ...
    def is_ours(self, path: Path) -> bool: ...


def load(form: FeatureFormat) -> FeatureModule:
    """The module of a format."""
    return cast(FeatureModule, importlib.import_module(form.module))


def holds_features(path: Path) -> bool:
    """Whether the file at `path` holds features, by its name, or by a look into a table."""
    form = format_of(path)
    return form is not None and load(form).is_ours(path)


def read_features(path: Path, layer: str | None = None) -> FeatureTable:
    """The features of the file at `path`; of a container those of `layer`. Raises InputError."""
    return features.table.appended(list(feature_parts(path, layer)))


def feature_parts(path: Path, layer: str | None = None) -> Iterator[FeatureTable]:
    """The same some at a time, one table at least; columns may differ between parts. Raises InputError."""
    form = _readable(path)
    if layer is not None and not form.layers and layer != path.stem:
        raise InputError(
            f"{path} has no layer {layer!r}", f"{form.title} holds one layer", "leave --layer out"
        )
    return load(form).parts(path, layer)


def layers_of(path: Path) -> list[str]:
    """Names of the layers of the file at `path`. Raises InputError."""
    return load(_readable(path)).layers(path)


def _readable(path: Path) -> FeatureFormat:
    form = format_of(path)
    if form is None:
        raise InputError(
            f"{path} is of no feature format Zembrel reads",
            f"names end in {', '.join(ENDINGS)}",
            "convert it, or name another file",
        )
    if not path.is_file():
        raise InputError(f"{path} cannot be read", "no such file or directory", "check the path")
    for part in (path, *(path.with_suffix(ending) for ending in form.beside)):
        layer_at(part)
    return form


def check_name(path: Path) -> FeatureFormat:
    """The format of a result. Raises UsageError unless the ending of `path` is a feature format's."""
    form = format_of(path)
    if form is None:
        raise UsageError(
            f"{path.name} is no name of a feature file",
            f"its ending is {path.suffix!r}",
            "end it in " + ", ".join(ENDINGS) + "; rasterize makes cells of features",
        )
    return form


def beside(path: Path) -> list[Path]:
    """The files that belong to a feature file of that name."""
    return [path.with_suffix(ending) for ending in check_name(path).beside]


def names_in(path: Path) -> dict[str, bool]:
    """What is named in the file of several layers at `path`, and whether it is a layer. Raises InputError."""
    return cast(HoldsLayers, load(check_name(path))).names_in(path)


def take_over(source: Path, path: Path, without: str) -> None:
    """Copy the file of several layers `source` to `path`, all but the layer `without`. Raises InputError."""
    cast(HoldsLayers, load(check_name(source))).take_over(source, path, without)


def make_writer(path: Path, schema: Schema) -> FeatureWriter:
    """A writer for a new file at `path`. Raises RefusedError for what its format cannot hold."""
    return load(check_name(path)).make_writer(path, schema)


def write_features(path: Path, table: FeatureTable, name: str) -> tuple[Fact, ...]:
    """Write `table` to a new file at `path`; `name` is that of the layer, where a file has several.

    Returns what the file could not hold as it was.
    """
    writer = make_writer(path, features.files.schema.schema_of([table], name))
    try:
        writer.add(table)
        return writer.finish()
    except BaseException:
        writer.abort()
        raise
