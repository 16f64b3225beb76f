"""Packs that exist: their kind, their files, and the traits that devices have rules for."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PIL import Image

from zembrel.damaged import DAMAGED
from zembrel.deliver.devices.rules import PackTraits
from zembrel.deliver.packs.kinds import KINDS
from zembrel.deliver.packs.tilereading import TileFound
from zembrel.errors import InputError
from zembrel.formats.kap.header import parse_header
from zembrel.formats.tilefolder import TILE_INDEX
from zembrel.tomlfile import read_toml

_HEAD = 1_000_000  # bytes within which the header of a chart ends
_FORMATS = {"PNG": "png", "JPEG": "jpg", "WEBP": "webp"}


class Cargo(NamedTuple):
    """A pack to carry: where it is, its traits, and its files if its folder may hold others."""

    path: Path
    traits: PackTraits
    files: tuple[Path, ...] = ()

    def items(self, folder: Path) -> list[tuple[Path, Path]]:
        """Each file or folder of the pack, with its place in `folder`."""
        if not self.files:
            return [(self.path, folder / self.path.name)]
        return [(path, folder / self.path.name / path.name) for path in self.files]


class _Sort(NamedTuple):
    """One kind of pack: the endings of its files, a pattern of what its folder holds, and its reader."""

    endings: tuple[str, ...]
    inside: str
    read: Callable[[Path], Cargo]


def cargo_at(path: Path) -> Cargo:
    """Return the pack at `path`. Raises InputError for a path that is missing, no pack, or damaged."""
    if not path.exists():
        raise InputError(f"{path} does not exist", f"looked in {Path.cwd()}", "check the path")
    sort = next((sort for sort in _SORTS if _is(path, sort)), None)
    if sort is None:
        what = f"{path} is not a pack"
        why = f"packs are {', '.join(end for sort in _SORTS for end in sort.endings)}, and folders of tiles"
        raise InputError(what, why, "make one with zembrel deliver")
    try:
        return sort.read(path)
    except DAMAGED as exc:
        raise InputError(
            f"{path} cannot be read", str(exc) or type(exc).__name__, "make the pack again"
        ) from exc


def _is(path: Path, sort: _Sort) -> bool:
    if path.is_dir():
        return path.suffix.lower() in sort.endings or (bool(sort.inside) and any(path.glob(sort.inside)))
    return path.suffix.lower() in sort.endings


def _tiles(kind: str, find: Callable[[Path], Iterator[TileFound]], path: Path) -> Cargo:
    """Return a pack of tiles: the zooms, formats and size of all its tiles."""
    zooms, formats, sides = set[int](), set[str](), set[int]()
    for tile in find(path):
        zooms.add(tile.zoom)
        with Image.open(io.BytesIO(tile.read())) as picture:
            formats.add(_FORMATS.get(str(picture.format), str(picture.format).lower()))
            sides.update(picture.size)
    if not zooms:
        raise ValueError("it holds no tile")
    if len(sides) > 1:
        raise ValueError("its tiles differ in size, or are not square")
    return Cargo(path, PackTraits(kind, (min(zooms), max(zooms)), sides.pop(), tuple(sorted(formats))))


def _charts(path: Path) -> Cargo:
    """Return a chart, or a folder of charts with its catalogue; the most colours of any."""
    charts = sorted(path.glob("*.kap")) if path.is_dir() else [path]
    colours = 0
    for chart in charts:
        with chart.open("rb") as file:
            colours = max(colours, len(parse_header(chart, file.read(_HEAD)).colours))
    catalogue = [path / name for name in ("charts.csv", "charts.geojson") if (path / name).is_file()]
    return Cargo(path, PackTraits("chart", colours=colours), (*charts, *catalogue) if path.is_dir() else ())


def _heightmap(path: Path) -> Cargo:
    """Return the folder of a heightmap: the files that its terrain.toml names."""
    about = read_toml(path / "terrain.toml", "heightmap")
    names = [str(about.get("terrain", "")), *map(str, about.get("overlays", []))]
    lacking = next((name for name in names if Path(name).name != name or not (path / name).is_file()), None)
    if lacking is not None:
        raise ValueError(f"terrain.toml names {lacking!r}, which is not in the folder")
    return Cargo(path, PackTraits("heightmap"), tuple(path / name for name in ("terrain.toml", *names)))


def _degree_cells(path: Path) -> Cargo:
    return Cargo(path, PackTraits("hgt"), tuple(sorted(path.glob("*.hgt"))) if path.is_dir() else ())


def _whole(kind: str, path: Path) -> Cargo:
    return Cargo(path, PackTraits(kind))


_SORTS = (
    *(
        _Sort((kind.ending,), "", partial(_tiles, name, kind.glance))
        for name, kind in KINDS.items()
        if name != "folder"
    ),
    _Sort((), TILE_INDEX, partial(_tiles, "tiles", KINDS["folder"].glance)),
    _Sort((".kap",), "*.kap", _charts),
    _Sort((), "terrain.toml", _heightmap),
    _Sort((".hgt",), "*.hgt", _degree_cells),
    _Sort((".kmz",), "", partial(_whole, "globe")),
    _Sort((".mp4", ".gif", ".webp"), "", partial(_whole, "film")),
    _Sort((".zarr", ".tar", ".tfrecord"), "index.parquet", partial(_whole, "chips")),
)
