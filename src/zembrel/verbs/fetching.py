"""What a run asks of services: known before it starts, asked for several at a time, and named where it fails."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.errors import RefusedError
from zembrel.grid.extent import carried_cell, footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.measure import show_bytes
from zembrel.progress import Progress
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Dead, Piece
from zembrel.sources.wish import MARGIN
from zembrel.verbs.layers import Layer
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import Loss

_PART = 256  # cells of the result along a side of a part for which pieces are looked for
_GUESS = 0.35  # bytes of a cell of a picture, where none was seen yet
_MANY = 5_000  # pieces from which a word is wanted first


@dataclass(frozen=True)
class Errand:
    """Pieces that a layer needs for a frame: all of them, and those that have to be asked for."""

    layer: Layer
    raster: RemoteBlocks
    pieces: tuple[Piece, ...]
    missing: tuple[Piece, ...]

    @property
    def bytes(self) -> int:
        """About how much will come."""
        rows, columns = self.raster.side
        own = self.raster.service.own
        share = next((share for share in self.raster.service.cache.shares() if share.source == own), None)
        each = share.bytes / share.entries if share else rows * columns * len(self.raster.bands) * _GUESS
        return round(each * len(self.missing))


def at_level(layer: Layer, frame: Frame) -> Layer:
    """The layer in the coarsest cells that are fine enough for `frame`."""
    raster = layer.raster
    if not isinstance(raster, RemoteBlocks) or not raster.coarser_ones or raster.frame.crs is None:
        return layer
    cell = carried_cell(frame, raster.frame.crs)
    level = raster.coarser(max(1.0, min(cell) / min(raster.frame.cell)))
    assert isinstance(level, RemoteBlocks)
    return replace(layer, raster=replace(level, coarser_ones=()))


def errand(layer: Layer, frame: Frame) -> Errand | None:
    """What has to be brought for a layer on a frame; None for one that comes otherwise."""
    raster = layer.raster
    if not isinstance(raster, RemoteBlocks):
        return None
    wanted: dict[str, Piece] = {}
    for part in _parts(frame):
        pane = footprint_of(frame.crop(part), raster.frame)
        met = pane.grown(MARGIN).meet(raster.frame.pane) if pane is not None else None
        if met is not None:
            wanted |= {piece.key: piece for _, piece in raster.blocks(met)}
    pieces = tuple(wanted.values())
    return Errand(layer, raster, pieces, tuple(raster.service.missing(pieces)))


def _parts(frame: Frame) -> Iterator[Pane]:
    for top in range(0, frame.rows, _PART):
        for left in range(0, frame.columns, _PART):
            yield Pane(top, left, min(top + _PART, frame.rows), min(left + _PART, frame.columns))


def check_size(errands: Sequence[Errand], output: Output, *, yes: bool) -> tuple[int, int]:
    """Pieces and bytes to ask for. Raises RefusedError past the ceiling, or for very many."""
    count, size = sum(len(one.missing) for one in errands), sum(one.bytes for one in errands)
    if size > output.ceiling_bytes:
        what = f"{count:,} pieces of about {show_bytes(size)} would be asked for"
        why = f"the ceiling is {show_bytes(output.ceiling_bytes)}"
        raise RefusedError(
            what, why, f"go on with: {output.command} --ceiling {round(size * 1.3):,}B".replace(",", "")
        )
    if count > _MANY and not yes:
        what = f"{count:,} pieces of about {show_bytes(size)} would be asked for"
        raise RefusedError(
            what, f"more than {_MANY:,} are not asked for unasked", f"go on with: {output.command} --yes"
        )
    return count, size


def bring(errands: Sequence[Errand], output: Output) -> tuple[list[Layer], list[Loss]]:
    """Ask for what is missing; the layers, in which what cannot be had is void, and what that is.

    Raises RemoteError if nothing can be had at all.
    """
    count, done = sum(len(one.missing) for one in errands), 0
    layers, lost = [], list[Loss]()
    for one in errands:
        dead: list[Dead] = []
        for _, failed in one.raster.service.bring(one.missing, one.raster.holding.check):
            done += 1
            dead += [failed] if failed is not None else []
            output.tick(Progress(done, count, done, count))
        if dead and len(dead) == len(one.pieces):
            raise dead[0].error
        lost += [Loss(Path(failed.piece.request.told), failed.error) for failed in dead]
        layers.append(replace(one.layer, raster=one.raster.without(dead)))
    return layers, lost


def refuse_offline(errands: Sequence[Errand]) -> None:
    """Raise RefusedError where something would have to be asked for, and nothing may be."""
    for one in errands:
        if one.raster.service.offline and one.missing:
            what = (
                f"{len(one.missing):,} of {len(one.pieces):,} pieces of {one.layer.path} were never fetched"
            )
            raise RefusedError(what, "--offline forbids to ask for them", "leave --offline out")
