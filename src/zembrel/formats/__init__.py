"""Raster formats: the doors to open and to make a file of any of them."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Protocol, cast

from zembrel.errors import InputError, UsageError, nearest_name
from zembrel.formats.catalogue import FORMATS
from zembrel.formats.form import Format
from zembrel.formats.known import added_formats, all_formats, format_named
from zembrel.formats.layers import layer_choice
from zembrel.formats.origin import Origin
from zembrel.formats.sink import Sink
from zembrel.grid.frame import Frame
from zembrel.handles import file_handles
from zembrel.raster.model import Band, Raster
from zembrel.raster.views.bands import stack
from zembrel.reading import layer_at

__all__ = [
    "Format",
    "FormatModule",
    "HasFrame",
    "HasHeader",
    "all_formats",
    "by_ranges",
    "check_settings",
    "choose_format",
    "format_named",
    "format_of_name",
    "frame_of_name",
    "header_beside",
    "identify",
    "is_store",
    "layers_of",
    "load",
    "open_raster",
    "readable",
]  # fmt: skip


class FormatModule(Protocol):
    """What the module of a format offers."""

    def open_raster(self, path: Any, layer: str | None) -> Raster: ...  # those read in parts take a Place
    def layers(self, path: Any) -> list[str]: ...
    def make_sink(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]
    ) -> Sink: ...


class HasHeader(Protocol):
    """What the module of a format with a header beside the file offers as well."""

    def header_text(
        self, path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]
    ) -> str: ...


class HasFrame(Protocol):
    """What the module of a format whose files are frames by their names offers as well."""

    def frame_of_name(self, path: Path, finest: float) -> Frame | None: ...


def frame_of_name(out: Path, asked: str | None, finest: float) -> Frame | None:
    """The frame that the name of a result says, for sources of `finest` degrees; None if it says none."""
    name = asked.lower() if asked else format_of_name(out)
    if name is None or not format_named(name).framed:
        return None
    return cast(HasFrame, load(name)).frame_of_name(out, finest)


def load(name: str) -> FormatModule:
    """The module of format `name`."""
    return cast(FormatModule, importlib.import_module(format_named(name).module))


def header_beside(name: str, out: Path, view: Raster, settings: Mapping[str, str]) -> dict[Path, str]:
    """Place and text of the header that belongs beside a file of format `name`, if there is one."""
    ending = format_named(name).header
    if not ending:
        return {}
    module = cast(HasHeader, load(name))
    return {out.with_suffix(ending): module.header_text(out, view.frame, view.bands, settings)}


def _origin(given: Origin | Path) -> Origin:
    return given if isinstance(given, Origin) else Origin.of(given)


def identify(given: Origin | Path) -> str:
    """Name of the format of a file, by its first bytes, else by its name.

    Raises InputError if it cannot be read or is of no known format.
    """
    origin = _origin(given)
    with origin.naming():
        return _identified(origin)


def _identified(origin: Origin) -> str:
    path, place = origin.file, origin.place
    layer_at(path)
    if is_store(path):
        return str(format_of_name(path))
    file_handles.renew(place)
    head = file_handles.read(place, 0, 16)
    name = _fitting(FORMATS, head, path) or _fitting(added_formats(), head, path)
    if name is not None:
        return name
    if format_of_name(path) is not None:
        what = "is empty" if not head else f"begins with {head[:8]!r}"
        raise InputError(
            f"{path} is not what its name says", f"it {what}", "check how it was made, or leave it out"
        )
    known = ", ".join(all_formats())
    raise InputError(f"{path} is of no format Zembrel reads", f"it reads {known}", "see zembrel formats")


def _fitting(formats: Mapping[str, Format], head: bytes, path: Path) -> str | None:
    by_mark = next((name for name, form in formats.items() if head.startswith(form.magics)), None)
    named = _by_ending(formats, path)
    return by_mark or (named if named is not None and not formats[named].magics else None)


def _by_ending(formats: Mapping[str, Format], path: Path) -> str | None:
    """The format whose ending, the longest that fits, the name of `path` has."""
    fitting = [
        (len(ending), name)
        for name, form in formats.items()
        for ending in form.endings
        if path.name.lower().endswith(ending)
    ]
    return max(fitting, default=(0, None))[1]


def open_raster(given: Origin | Path, layer: str | None = None) -> Raster:
    """The raster in a file; several layers, which share their cells, are bands of one.

    layer: a name, or several with commas between them, or patterns such as `*`. Raises InputError.
    """
    origin = _origin(given)
    with origin.naming():
        return _opened(origin, layer)


def _opened(origin: Origin, layer: str | None) -> Raster:
    module, place = load(identify(origin)), origin.place
    wanted = layer_choice(layer, lambda: module.layers(place))
    rasters = tuple(module.open_raster(place, name) for name in wanted)
    if not all(raster.bands for raster in rasters):
        raise InputError(f"{origin} holds no band", "a raster has one at least", "name another file")
    for name, raster in zip(wanted, rasters, strict=True):
        if raster.frame != rasters[0].frame:
            raise InputError(
                f"{origin}: {name} does not share the cells of {wanted[0]}",
                "layers of one raster lie on one frame",
                "take them one by one, and join them with zembrel stack",
            )
    return rasters[0] if len(rasters) == 1 else stack(rasters)


def layers_of(given: Origin | Path) -> list[str]:
    """The layers of a file. Raises InputError."""
    origin = _origin(given)
    return load(identify(origin)).layers(origin.place)


def by_ranges(head: bytes) -> bool:
    """Whether a file that begins with `head` is of a format that is read in parts: of rasters, or points."""
    return head.startswith(FORMATS["geotiff"].magics) or (head[:4] == b"LASF" and head[377:381] == b"copc")


def readable(path: Path) -> bool:
    """Whether the name of `path` looks like a raster of a known format."""
    return format_of_name(path) is not None


def is_store(path: Path) -> bool:
    """Whether `path` is a folder that is one layer, by its name, and no folder of files."""
    name = format_of_name(path) if path.is_dir() else None
    return name is not None and bool(format_named(name).store)


def stands_as_store(path: Path) -> bool:
    """Whether the folder `path` is one layer by what is in it, too."""
    return is_store(path) and any(
        (path / name).is_file() for name in format_named(str(format_of_name(path))).store
    )


def format_of_name(path: Path) -> str | None:
    """Name of the format that the ending of `path` says, or None."""
    return _by_ending(FORMATS, path) or (_by_ending(added_formats(), path) if path.suffix else None)


def choose_format(out: Path, asked: str | None) -> str:
    """The format of a result: as asked, else by the ending of `out`. Raises UsageError."""
    if asked is not None:
        format_named(asked)
        return asked.lower()
    name = format_of_name(out)
    if name is None:
        endings = ", ".join(form.endings[0] for form in all_formats().values())
        raise UsageError(
            f"the name {out.name} does not say which format to write",
            f"its ending is {out.suffix!r}",
            f"end it in {endings}, or add --format",
        )
    return name


def check_settings(name: str, settings: Mapping[str, str]) -> None:
    """Raise UsageError, with the near miss, for a setting that format `name` does not have, or a value of one
    that it cannot have, as far as its module tells before cells are there."""
    form = format_named(name)
    for key in settings:
        if key not in form.settings:
            raise UsageError(
                f"{form.title} has no setting {key!r}",
                f"see zembrel formats {name}",
                nearest_name(key, form.settings) if form.settings else "leave it out",
            )
    parse = getattr(load(name), "parse_options", None)
    if parse is not None:
        parse(settings)
