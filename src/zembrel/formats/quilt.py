"""Quilts (`*.quilt.toml`): many sheets seen as one raster without writing it.

The file says the frame, who wins where sheets overlap, the bands, and of each sheet its path (from the folder
of the quilt), the cells of the frame it may reach and the method that brings it there. Sheets that share
another lattice than the frame's are joined on it, which the file then names, and brought to the frame as one.
Sheets are opened when a cell of theirs is first asked for, so that thousands of them cost nothing until then.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from zembrel import formats
from zembrel.errors import InputError, RefusedError
from zembrel.formats.legendfile import parse_legend
from zembrel.formats.origin import check_inside
from zembrel.formats.sink import Sink
from zembrel.formats.whole import only_layer
from zembrel.geodesy.registry import parse_crs
from zembrel.grid.extent import footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.framefile import frame_from, frame_table
from zembrel.grid.pane import Pane
from zembrel.raster.legend import Legend, hex_of
from zembrel.raster.method import parse_method
from zembrel.raster.model import TYPES, Band, Block, Raster, has_alpha
from zembrel.raster.views.bands import select_bands
from zembrel.raster.views.cast import cast
from zembrel.raster.views.haloed import SPARE, with_neighbours
from zembrel.raster.views.mosaic import FEATHER, mosaic
from zembrel.raster.views.nodata import WithNodata, says_nodata
from zembrel.raster.views.opacity import Opaque
from zembrel.raster.views.overlap import RasterPiece, check_overlap
from zembrel.raster.views.palette import expand_palette
from zembrel.raster.views.place import Reframed
from zembrel.raster.views.reproject import on_frame
from zembrel.tomlfile import Keys, check_keys, read_toml, write_toml

ENDING = ".quilt.toml"
_NUMBER = (int, float)
_KEYS: Keys = {
    "overlap": str,
    "feather": _NUMBER,
    "from_crs": str,
    "from_nodata": _NUMBER,
    "sheets": list,
    "bands": list,
    "legend": list,
    "frame": dict,
    "lattice": dict,
}

layers = only_layer
_DEEPEST = 8  # quilts in quilts
_within = threading.local()


class QuiltSheet(NamedTuple):
    """One sheet: its file, the cells it may reach, and the method that brings it there."""

    path: Path
    footprint: Pane
    method: str


class Sewing(NamedTuple):
    """How sheets become one: overlap rule, cells of a feather, and what to believe of all sheets."""

    overlap: str = "first"
    feather: float = FEATHER
    from_crs: str | None = None
    from_nodata: float | None = None


def open_raster(path: Path, layer: str | None) -> Raster:
    """The quilt at `path`. Raises InputError naming the line of what is wrong."""
    table = read_toml(path, "quilt")
    check_keys(path, table, _KEYS, required=("sheets", "bands", "frame"))
    frame = frame_from(path, table["frame"])
    sewing = Sewing(
        table.get("overlap", "first"),
        float(table.get("feather", FEATHER)),
        table.get("from_crs"),
        table.get("from_nodata"),
    )
    check_overlap(sewing.overlap)
    bands = tuple(_band(path, words) for words in table["bands"])
    if "legend" in table:
        bands = tuple(replace(band, legend=_legend(path, table["legend"])) for band in bands)
    if not bands or not table["sheets"]:
        raise InputError(
            f"{path} has no {'bands' if not bands else 'sheets'}", "it would be empty", "add some"
        )
    lattice = frame_from(path, table["lattice"]) if "lattice" in table else frame
    sheets = [_sheet(path, words, lattice) for words in table["sheets"]]
    rasters = [SheetRaster(sheet, lattice, bands, sewing) for sheet in sheets]
    if sewing.overlap not in ("sum", "count"):
        rasters = _with_neighbours(rasters)
    pieces = tuple(RasterPiece(raster, raster.sheet.footprint) for raster in rasters)
    whole = mosaic(pieces, lattice, bands, sewing.overlap, sewing.feather)
    spare = tuple(RasterPiece(replace(r, spare=True), r.reached) for r in rasters if r.near)
    if spare:  # cells of which no sheet has half
        whole = mosaic((RasterPiece(whole, lattice.pane), *spare), lattice, bands, "first", sewing.feather)
    return whole if lattice is frame else on_frame(whole, frame, sheets[0].method)


def _band(path: Path, words: Any) -> Band:
    """A band of its name, type, nodata (or nothing), unit, colour, and scale and offset if it has them."""
    if not (isinstance(words, list) and len(words) in (5, 7) and words[1] in TYPES):
        raise InputError(
            f"{path}: bands has {words!r}",
            "a band is [name, type, nodata or '', unit, colour] and may go on with scale and offset",
            "mend that line",
        )
    name, kind, nodata, unit, colour = words[:5]
    scale, offset = (float(value) for value in words[5:] or (1.0, 0.0))
    void = nodata if nodata != "" else None
    return Band(str(name), kind, void, str(unit), str(colour), scale=scale, offset=offset)


def _legend(path: Path, rows: list[Any]) -> Legend:
    """The legend of [code, name, colour] each."""
    if not all(isinstance(words, list) and len(words) == 3 for words in rows):
        raise InputError(f"{path}: legend is unclear", "a class is [code, name, colour]", "mend that line")
    return parse_legend(path, write_toml({str(w[0]): {"name": w[1], "colour": w[2]} for w in rows}))


def _sheet(path: Path, words: Any, frame: Frame) -> QuiltSheet:
    whole = isinstance(words, list) and len(words) == 6 and all(isinstance(n, int) for n in words[1:5])
    if not whole or not isinstance(words[0], str):
        raise InputError(
            f"{path}: sheets has {words!r}",
            "a sheet is [path, top, left, bottom, right, method]",
            "mend that line",
        )
    top, left, bottom, right = words[1:5]
    if not (0 <= top < bottom <= frame.rows and 0 <= left < right <= frame.columns):
        raise InputError(
            f"{path}: {words[0]} would reach rows {top} to {bottom} and columns {left} to {right}",
            f"the frame has {frame.columns} columns x {frame.rows} rows",
            "make the quilt again with mosaic",
        )
    named = check_inside(path, path.parent / words[0])
    return QuiltSheet(named, Pane(top, left, bottom, right), str(words[5]))


def _with_neighbours(rasters: Sequence[SheetRaster]) -> list[SheetRaster]:
    """Resampled sheets with those that lie beside them, whose cells those at their borders need."""
    panes = [raster.sheet.footprint for raster in rasters]
    top, left, bottom, right = np.array([(p.top, p.left, p.bottom, p.right) for p in panes]).T
    made = []
    for number, raster in enumerate(rasters):
        if raster.sheet.method != "nearest":
            own = raster.reached
            meets = (top < own.bottom) & (bottom > own.top) & (left < own.right) & (right > own.left)
            near = tuple(rasters[n].sheet for n in np.flatnonzero(meets).tolist() if n != number)
            raster = replace(raster, near=near)
        made.append(raster)
    return made


@dataclass(frozen=True, eq=False)
class SheetRaster:
    """A sheet on the frame of its quilt, opened when first asked for cells.

    near: sheets beside it, for the cells at its border; spare: whether all cells that these give are wanted.
    """

    sheet: QuiltSheet
    frame: Frame
    bands: tuple[Band, ...]
    sewing: Sewing
    near: tuple[QuiltSheet, ...] = ()
    spare: bool = False

    @property
    def reached(self) -> Pane:
        """The cells of the frame that the sheet can give with its neighbours."""
        return self.sheet.footprint.grown(SPARE).meet(self.frame.pane) or self.sheet.footprint

    def cells(self, pane: Pane) -> Block:
        """Raises InputError if the sheet is gone or has not these bands."""
        depth = getattr(_within, "depth", 0)
        if depth >= _DEEPEST:
            what = f"{self.sheet.path} lies in a quilt more than {_DEEPEST} quilts deep"
            raise InputError(what, "one of them holds itself, it seems", "make the quilt again with mosaic")
        _within.depth = depth + 1
        try:
            return self._view.cells(pane)
        finally:
            _within.depth = depth

    @cached_property
    def _view(self) -> Raster:
        own, method = self._source(self.sheet), parse_method(self.sheet.method)
        if not self.near or own.frame.offset_to(self.frame) is not None:
            return on_frame(own, self.frame, method)
        others = [self._source(sheet) for sheet in self.near]
        beside = [(other, partial(footprint_of, other.frame)) for other in others if _alike(own, other)]
        view, among = with_neighbours(
            own, beside, self.frame, method, lambda raster: on_frame(raster, self.frame, method)
        )
        return among if self.spare else view

    def _source(self, sheet: QuiltSheet) -> Raster:
        """A sheet as its file has it, with the bands of the quilt."""
        path = sheet.path
        raster = formats.open_raster(path)
        if self.sewing.from_crs and raster.frame.crs is None:
            raster = Reframed(raster, replace(raster.frame, crs=parse_crs(self.sewing.from_crs)))
        if self.sewing.from_nodata is not None and not says_nodata(raster):
            raster = WithNodata(raster, self.sewing.from_nodata)
        if raster.bands[0].legend is not None and self.bands[0].colour == "red":
            raster = expand_palette(raster)
        if has_alpha(self.bands) and not has_alpha(raster.bands):
            raster = Opaque(raster)
        names = [band.name for band in raster.bands]
        wanted = [band.name for band in self.bands]
        if all(name in names for name in wanted):
            raster = select_bands(raster, tuple(names.index(name) for name in wanted))
        if len(raster.bands) != len(wanted):
            raise InputError(
                f"{path} has the bands {', '.join(names)}",
                f"the quilt has {', '.join(wanted)}",
                "make the quilt again with mosaic",
            )
        return cast(raster, self.bands[0].type)


def _alike(one: Raster, other: Raster) -> bool:
    """Whether the places of both are known, or of neither."""
    return (one.frame.crs is None) == (other.frame.crs is None)


def write_quilt(
    path: Path,
    frame: Frame,
    bands: tuple[Band, ...],
    sheets: Iterable[QuiltSheet],
    sewing: Sewing,
    lattice: Frame | None = None,
) -> str:
    """The text of a quilt that will stand at `path`; lattice: what sheets are joined on before."""
    head: dict[str, Any] = {"overlap": sewing.overlap, "feather": sewing.feather}
    head |= {"from_crs": sewing.from_crs} if sewing.from_crs else {}
    head |= {"from_nodata": sewing.from_nodata} if sewing.from_nodata is not None else {}
    listed = [_listed(band) for band in bands]
    rows = []
    for sheet in sheets:
        pane = sheet.footprint
        near = Path(os.path.relpath(sheet.path.absolute(), path.absolute().parent)).as_posix()
        rows.append([near, pane.top, pane.left, pane.bottom, pane.right, sheet.method])
    entries = bands[0].legend.entries if bands[0].legend is not None else ()
    classes = [[e.code, e.name, hex_of(e.colour)] for e in entries]
    parts: dict[str, list[list[Any]]] = {"bands": listed, "legend": classes, "sheets": rows}
    lists = "".join(f"{key} = [\n{_lines(values)}]\n" for key, values in parts.items() if values)
    tables = {"frame": frame_table(frame)} | ({"lattice": frame_table(lattice)} if lattice else {})
    return write_toml(head) + lists + "\n" + write_toml(tables)


def _listed(band: Band) -> list[Any]:
    facts = [band.name, band.type, "" if band.nodata is None else band.nodata, band.unit, band.colour]
    plain = (band.scale, band.offset) == (1.0, 0.0)
    return facts if plain else [*facts, band.scale, band.offset]


def _lines(values: list[list[Any]]) -> str:
    return "".join(f"  {write_toml({'x': value}).strip().partition(' = ')[2]},\n" for value in values)


def make_sink(path: Path, frame: Frame, bands: tuple[Band, ...], settings: Mapping[str, str]) -> Sink:
    """Raises RefusedError: a quilt names sheets and holds no cells."""
    raise RefusedError(
        f"{path.name} cannot hold cells", "a quilt names the sheets it is made of", "make it with mosaic"
    )
