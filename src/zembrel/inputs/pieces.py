"""Sheets on one frame: each by itself to compare them, and all together without seams.

A cell next to the border of a sheet is made of cells on both sides of it. So sheets that share a lattice
are joined before they are resampled, and others get the cells of their neighbours as a halo.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

from zembrel.errors import InputError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import vertical_of
from zembrel.grid.extent import carried_cell, footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.methods import choose_method
from zembrel.inputs.target import Target, brought
from zembrel.raster.model import Band, Raster, Slot
from zembrel.raster.views.haloed import SPARE, with_neighbours
from zembrel.raster.views.mosaic import FEATHER
from zembrel.raster.views.mosaic import mosaic as mosaic_view
from zembrel.raster.views.overlap import RasterPiece
from zembrel.raster.views.reproject import on_frame

APART = ("sum", "count")  # rules under which each sheet counts by itself


def pieces_of(
    layers: Sequence[Layer], target: Target, method: str
) -> tuple[list[RasterPiece], list[Layer], list[Fact]]:
    """The layers that meet the frame, each by itself on it, those layers, and what was chosen for that.

    Raises InputError if none does.
    """
    pieces: list[RasterPiece] = []
    touched: list[Layer] = []
    chose: list[Fact] = []
    for layer in layers:
        footprint = footprint_of(layer.raster.frame, target.frame)
        if footprint is None:
            continue
        raster, choice = brought(layer, target, method)
        pieces.append(RasterPiece(raster, footprint))
        touched.append(layer)
        chose += choice
    if not pieces:
        raise InputError("no input lies on the frame", "nothing would be left", "check --onto or --within")
    unlike = [item for item in dict.fromkeys(chose) if item != fact("native_cells")]
    return pieces, touched, unlike or [fact("native_cells")]


def agreed_bands(rasters: Sequence[Raster]) -> tuple[Band, ...]:
    """The first raster's bands; nodata, and the place in time and the like, only where all agree on it."""
    agreed = len({band.nodata for raster in rasters for band in raster.bands}) == 1
    first = rasters[0].bands
    bands = first if agreed else tuple(replace(band, nodata=None) for band in first)
    if all(_slots(raster) == _slots(rasters[0]) for raster in rasters[1:]):
        return bands
    return tuple(replace(band, slot=None) for band in bands)


def _slots(raster: Raster) -> list[Slot | None]:
    return [band.slot for band in raster.bands]


def sewn(
    pieces: Sequence[RasterPiece],
    layers: Sequence[Layer],
    target: Target,
    method: str,
    rule: str = "first",
    feather: float = FEATHER,
) -> tuple[Raster, list[Fact]]:
    """The layers on the target's frame as one raster without seams, and what was chosen besides.

    pieces: the layers each by itself on the frame; feather: cells of the result over which a sheet fades in.
    """
    moved = [layer.raster.frame.offset_to(target.frame) is None for layer in layers]
    bands = agreed_bands([piece.raster for piece in pieces])
    if len(layers) == 1 or rule in APART or not any(moved):
        return mosaic_view(tuple(pieces), target.frame, bands, rule, feather), []
    shared = shared_lattice([layer.raster.frame for layer in layers]) if all(moved) else None
    if shared is not None:
        whole = _joined(layers, *shared, rule, native_feather(feather, shared[0], target.frame))
        view, chose = brought(replace(layers[0], raster=whole), target, method)
        return view, [*chose, fact("sheets_joined_first", sheets=len(layers))]
    haloed = [
        _with_halo(n, pieces, layers, target, method) if resampled else (piece, None)
        for n, (piece, resampled) in enumerate(zip(pieces, moved, strict=True))
    ]
    whole = mosaic_view(tuple(piece for piece, _ in haloed), target.frame, bands, rule, feather)
    spare = [wide for _, wide in haloed if wide is not None]  # cells of which no sheet has half
    behind = (RasterPiece(whole, target.frame.pane), *spare)
    return mosaic_view(behind, target.frame, bands, "first", feather), []


def shared_lattice(frames: Sequence[Frame]) -> tuple[Frame, list[Pane]] | None:
    """The frame around all, on the lattice that they share, and where on it each lies; None if they share
    none."""
    first, placed = frames[0], []
    for frame in frames:
        offset = first.offset_to(frame)
        if offset is None:
            return None
        placed.append(frame.pane.moved(*offset))
    whole = Pane(
        min(pane.top for pane in placed),
        min(pane.left for pane in placed),
        max(pane.bottom for pane in placed),
        max(pane.right for pane in placed),
    )
    return first.crop(whole), [pane.moved(-whole.top, -whole.left) for pane in placed]


def native_feather(feather: float, lattice: Frame, target: Frame) -> float:
    """Cells of `lattice` in `feather` cells of the target."""
    native = lattice.cell if target.crs is None else carried_cell(lattice, target.crs)
    return feather * target.cell[0] / native[0]


def _joined(
    layers: Sequence[Layer], lattice: Frame, panes: Sequence[Pane], rule: str, feather: float
) -> Raster:
    """Sheets of one lattice as one raster on it."""
    pieces = tuple(
        RasterPiece(on_frame(layer.raster, lattice, "nearest"), pane)
        for layer, pane in zip(layers, panes, strict=True)
    )
    return mosaic_view(pieces, lattice, agreed_bands([layer.raster for layer in layers]), rule, feather)


def _with_halo(
    number: int, pieces: Sequence[RasterPiece], layers: Sequence[Layer], target: Target, method: str
) -> tuple[RasterPiece, RasterPiece | None]:
    """A sheet whose border cells know its neighbours, and the same with all cells that these give it."""
    piece, layer = pieces[number], layers[number]
    near = piece.footprint.grown(SPARE)
    beside = [
        other for other, there in zip(layers, pieces, strict=True)
        if other is not layer and near.meet(there.footprint) and _alike(layer, other)
    ]  # fmt: skip
    name, _ = choose_method(method, layer.raster, target.frame, target.asked.average_codes)
    if not beside or name.name == "nearest":
        return piece, None
    view, among = with_neighbours(
        layer.raster,
        [(other.raster, partial(footprint_of, other.raster.frame)) for other in beside],
        target.frame,
        name,
        lambda raster: brought(replace(layer, raster=raster), target, method)[0],
    )
    return replace(piece, raster=view), RasterPiece(among, near.meet(target.frame.pane) or piece.footprint)


def _alike(one: Layer, other: Layer) -> bool:
    """Whether cells of one may stand beside those of the other: heights of one meaning, places known."""

    mine, theirs = one.raster.frame.crs, other.raster.frame.crs
    return (mine is None) == (theirs is None) and vertical_of(mine) == vertical_of(theirs)
