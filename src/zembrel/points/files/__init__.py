"""Point files: the doors to read and to write any of them."""

from __future__ import annotations

import importlib
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, cast

from zembrel import points
from zembrel.errors import InputError, UsageError
from zembrel.geodesy.crs import CRS, UnresolvedCRS
from zembrel.geodesy.text import read_crs
from zembrel.handles import Readable
from zembrel.points.files.catalogue import ENDINGS, POINT_FORMATS, PointFormat, format_of
from zembrel.points.model import PointSource
from zembrel.points.sink import PointSink
from zembrel.reading import layer_at, readings

if TYPE_CHECKING:
    from zembrel.points.las.laswriting import NewFile
    from zembrel.points.las.source import LasSource


@dataclass(frozen=True)
class Reading:
    """How a file is to be understood: its columns, whether to salvage a broken one, and how fine it is
    needed."""

    columns: tuple[str, ...] | None = None
    salvage: bool = False
    resolution: float | None = None  # distance of points, in units of the CRS, that is fine enough


class PointModule(Protocol):
    """What the module of a point format offers."""

    def open_points(self, path: Readable, reading: Reading) -> PointSource: ...
    def make_sink(self, path: Path, new: NewFile) -> PointSink: ...
    def is_ours(self, path: Path) -> bool: ...
    def lacking(self, new: NewFile) -> tuple[str, ...]: ...


def load(form: PointFormat) -> PointModule:
    """The module of a format."""
    return cast(PointModule, importlib.import_module(form.module))


def holds_points(path: Path) -> bool:
    """Whether the file at `path` holds points, by its name, or by a look into a table."""
    name = format_of(path)
    return name is not None and (POINT_FORMATS[name].always or load(POINT_FORMATS[name]).is_ours(path))


def open_points(path: Readable, reading: Reading = Reading()) -> PointSource:
    """The cloud of the file at `path`, or of bytes elsewhere. Raises InputError."""
    if not isinstance(path, Path):
        return load(POINT_FORMATS[str(format_of(path.file))]).open_points(path, reading)
    name = format_of(path)
    if name is None:
        raise InputError(
            f"{path} is of no point format Zembrel reads",
            f"names end in {', '.join(ENDINGS)}",
            "convert it, or name another file",
        )
    if not path.is_file():
        raise InputError(f"{path} cannot be read", "no such file or directory", "check the path")
    layer_at(path)
    source = load(POINT_FORMATS[name]).open_points(path, reading)
    return source if source.cloud.crs is not None else _placed(source, path)


def _placed(source: PointSource, path: Path) -> PointSource:
    """`source`, which does not say its CRS, with that of the .prj beside it, if there is one."""
    beside = path.with_suffix(".prj")
    if not beside.is_file():
        return source
    text = readings.note(beside).read_text("utf-8", errors="replace").strip()
    try:
        crs: CRS = read_crs(text)
    except InputError:
        crs = UnresolvedCRS(text[:60])
    return points.restated.Restated(source, replace(source.cloud, crs=crs), source.parts)


def check_name(path: Path) -> PointFormat:
    """The format of a result. Raises UsageError unless the ending of `path` is a point format's."""
    name = format_of(path)
    if name is None:
        raise UsageError(
            f"{path.name} is no name of a point file",
            f"its ending is {path.suffix!r}",
            "end it in " + ", ".join(ENDINGS) + "; grid makes cells of points",
        )
    return POINT_FORMATS[name]


def not_held(final: Path, new: NewFile, like: LasSource | None) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Values of a new file, and users whose records another one has, that a file of that name cannot hold."""
    form = check_name(final)
    records = () if form.records else replace(new, like=like).carried()
    return load(form).lacking(new), tuple(dict.fromkeys(record.user for record in records))


def make_sink(path: Path, new: NewFile, final: Path) -> PointSink:
    """A sink for a new file at `path`, whose name will be that of `final`."""
    return load(check_name(final)).make_sink(path, new)
