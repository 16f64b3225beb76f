"""What a run asks of services: known before it starts, asked for several at a time, named where it fails."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from zembrel.errors import RefusedError, RemoteError
from zembrel.facts import Fact, fact
from zembrel.formats.tiff.reader import TiffRaster
from zembrel.grid.extent import carried_cell, footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.measure import show_bytes
from zembrel.progress import Progress
from zembrel.raster.model import HasOverviews
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Dead
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import MARGIN
from zembrel.verbs.layers import Layer
from zembrel.verbs.options import Output
from zembrel.verbs.receipt import Loss
from zembrel.web.asking import Request
from zembrel.web.remote import Remote

_PART = 256  # cells of the source, about, along a side of a part for which pieces are looked for
_GUESS = 0.35  # bytes of a cell of a picture, where none was seen yet
_MANY = 5_000  # pieces from which a word is wanted first
_MOST = 1_000_000  # pieces that are looked for
Done = Callable[[int], None]  # told of pieces that came


class Errand(Protocol):
    """What a layer needs for a frame: pieces in all, those to ask for, and about their bytes."""

    @property
    def pieces(self) -> int: ...
    @property
    def missing(self) -> int: ...
    @property
    def bytes(self) -> int: ...
    def bring(self, done: Done) -> tuple[Layer | None, list[Loss]]: ...


@dataclass(frozen=True)
class TileErrand:
    """Blocks that each are a piece."""

    layer: Layer
    raster: RemoteBlocks
    wanted: tuple[Request, ...]
    to_ask: tuple[Request, ...]

    @property
    def pieces(self) -> int:
        return len(self.wanted)

    @property
    def missing(self) -> int:
        return len(self.to_ask)

    @property
    def bytes(self) -> int:
        rows, columns = self.raster.side
        own = self.raster.service.own
        share = next((share for share in self.raster.service.cache.shares() if share.source == own), None)
        each = share.bytes / share.entries if share else rows * columns * len(self.raster.bands) * _GUESS
        return round(each * self.missing)

    def bring(self, done: Done) -> tuple[Layer | None, list[Loss]]:
        """The layer, void where a piece cannot be had. Raises RemoteError if none can."""
        dead: list[Dead] = []
        for _, failed in self.raster.service.bring(self.to_ask, self.raster.holding.check):
            dead += [failed] if failed is not None else []
            done(1)
        if dead and len(dead) == self.pieces:
            raise dead[0].error
        lost = [Loss(failed.piece.told, failed.error) for failed in dead]
        return replace(self.layer, raster=self.raster.without(dead)), lost


@dataclass(frozen=True)
class FileErrand:
    """Parts of a remote file."""

    layer: Layer
    place: Remote
    ranges: tuple[tuple[int, int], ...]
    to_ask: tuple[tuple[int, int], ...]

    @property
    def pieces(self) -> int:
        return len(self.ranges)

    @property
    def missing(self) -> int:
        return len(self.to_ask)

    @property
    def bytes(self) -> int:
        return sum(count for _, count in self.to_ask)

    def bring(self, done: Done) -> tuple[Layer | None, list[Loss]]:
        """The layer, or nothing and why where the file cannot be read."""
        try:
            self.place.ahead(self.to_ask)
        except RemoteError as exc:
            return None, [Loss(self.layer.path, exc)]
        finally:
            done(self.missing)
        return self.layer, []


def at_level(layer: Layer, frame: Frame) -> Layer:
    """The layer in the coarsest cells that are fine enough for `frame`."""
    raster = layer.raster
    if not isinstance(raster, HasOverviews) or raster.frame.crs is None:
        return layer
    cell = carried_cell(frame, raster.frame.crs)
    level = raster.coarser(max(1.0, min(cell) / min(raster.frame.cell)))
    return replace(
        layer, raster=replace(level, coarser_ones=()) if isinstance(level, RemoteBlocks) else level
    )


def errand(layer: Layer, frame: Frame) -> Errand | None:
    """What has to be brought for a layer on a frame; None for one that comes otherwise.

    Raises RefusedError for more pieces than can be looked for.
    """
    raster = layer.raster
    if isinstance(raster, RemoteBlocks):
        _check_pieces(raster, frame)
        wanted = {
            piece.key: piece for pane in _panes(raster.frame, frame) for _, piece in raster.blocks(pane)
        }
        pieces = tuple(wanted.values())
        return TileErrand(layer, raster, pieces, tuple(raster.service.missing(pieces)))
    if isinstance(raster, TiffRaster) and isinstance(place := raster.directory.container.path, Remote):
        ranges = tuple(
            dict.fromkeys(part for pane in _panes(raster.frame, frame) for part in raster.segments(pane))
        )
        return FileErrand(layer, place, ranges, tuple(part for part in ranges if not place.holds(*part)))
    return None


def _check_pieces(raster: RemoteBlocks, frame: Frame) -> None:
    met = footprint_of(frame, raster.frame)
    rows, columns = raster.side
    count = met.size // (rows * columns) if met is not None else 0
    if count > _MOST:
        what = f"about {count:,} pieces would be asked for"
        remedy = "choose a smaller area, a coarser --cell or a lower --zoom"
        raise RefusedError(what, f"{_MOST:,} are fetched at most", remedy)


def _panes(source: Frame, frame: Frame) -> Iterator[Pane]:
    """What of a source the parts of a frame need; parts are about as large as those of the source."""
    whole = footprint_of(frame, source)
    if whole is None:
        return
    side = round(_PART * max(1.0, math.sqrt(frame.size / whole.size)))
    for top in range(0, frame.rows, side):
        for left in range(0, frame.columns, side):
            part = Pane(top, left, min(top + side, frame.rows), min(left + side, frame.columns))
            pane = footprint_of(frame.crop(part), source)
            met = pane.grown(MARGIN).meet(source.pane) if pane is not None else None
            if met is not None:
                yield met


def check_size(errands: Sequence[Errand], output: Output, *, yes: bool) -> tuple[int, int]:
    """Pieces and bytes to ask for. Raises RefusedError past the ceiling, or for very many."""
    count, size = sum(one.missing for one in errands), sum(one.bytes for one in errands)
    check_coming(f"{count:,} pieces", size, output)
    if count > _MANY and not (yes or output.dry_run):
        why = f"more than {_MANY:,} are not asked for without a word"
        what = f"{count:,} pieces of about {show_bytes(size)} would be asked for"
        raise RefusedError(what, why, f"go on with: {output.command} --yes")
    return count, size


def check_coming(what: str, size: int, output: Output) -> None:
    """Raise RefusedError where more bytes would come than the ceiling allows."""
    if size > output.ceiling_bytes:
        why = f"the ceiling is {show_bytes(output.ceiling_bytes)}"
        remedy = f"go on with: {output.command} --ceiling {round(size * 1.3)}B"
        raise RefusedError(f"{what} of about {show_bytes(size)} would be asked for", why, remedy)


def credit(source: SourceFile) -> list[Fact]:
    """A word about who is to be named for what a source gives."""
    given = source.get("attribution")
    return [fact("attribution", credit=str(given))] if given else []


def bring(errands: Sequence[Errand], output: Output) -> tuple[list[Layer | None], list[Loss]]:
    """Ask for what is missing; the layers, in which what cannot be had is void, and what that is.

    A layer of which nothing can be had is None. Raises RemoteError if that is so of all.
    """
    count, came = sum(one.missing for one in errands), 0

    def done(number: int) -> None:
        nonlocal came
        came += number
        output.tick(Progress(came, count, came, count))

    layers: list[Layer | None] = []
    lost: list[Loss] = []
    failed: RemoteError | None = None
    for one in errands:
        try:
            layer, more = one.bring(done)
        except RemoteError as exc:
            layer, more, failed = None, [], exc
        layers.append(layer)
        lost += more
    if errands and not any(layers) and (failed is not None or lost):
        raise failed or lost[0].error
    return layers, lost


def refuse_offline(errands: Sequence[Errand], name: str, *, offline: bool) -> None:
    """Raise RefusedError where something would have to be asked for, and nothing may be."""
    missing, pieces = sum(one.missing for one in errands), sum(one.pieces for one in errands)
    if offline and missing:
        what = f"{missing:,} of {pieces:,} pieces of {name} were never fetched"
        raise RefusedError(what, "--offline forbids to ask for them", "leave --offline out")
