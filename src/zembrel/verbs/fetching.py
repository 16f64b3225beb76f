"""What a run asks of services: known before it starts, asked for several at a time, named where it fails."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from zembrel.errors import EmptySourceError, RefusedError, RemoteError
from zembrel.facts import Fact, fact
from zembrel.formats.tiff.reader import TiffRaster
from zembrel.grid.extent import carried_cell, footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.layers import Layer
from zembrel.inputs.options import Output
from zembrel.measure import show_bytes
from zembrel.progress import Progress
from zembrel.raster.model import HasOverviews
from zembrel.results.receipt import Loss
from zembrel.sources.remoteblocks import RemoteBlocks
from zembrel.sources.service import Dead
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import MARGIN
from zembrel.web.asking import Request
from zembrel.web.remote import Remote

_PART = 256  # cells of the source, about, along a side of a part for which pieces are looked for
_GUESS = 0.35  # bytes of a cell of a picture, where none could be had
_PROBES = 3  # pieces that are requested first, to estimate the size of the others
_NOT_THERE = 404
_MANY = 5_000  # pieces from which a word is wanted first
_MOST = 1_000_000  # pieces that are looked for
Done = Callable[[int], None]  # told of pieces that came


class Errand(Protocol):
    """Requests for a layer: total pieces, pieces cached before the run, missing pieces, and their bytes."""

    @property
    def pieces(self) -> int: ...
    @property
    def before(self) -> int: ...
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
    before: int

    @property
    def pieces(self) -> int:
        return len(self.wanted)

    @property
    def missing(self) -> int:
        return len(self.to_ask)

    @property
    def bytes(self) -> int:
        service, (rows, columns) = self.raster.service, self.raster.side
        count, size = service.cache.size_of(service.own, [piece.key for piece in self.wanted])
        each = size / count if count else rows * columns * len(self.raster.bands) * _GUESS
        return round(each * self.missing)

    def probed(self) -> TileErrand:
        """Return the errand after a few pieces were requested, to estimate the size of the others."""
        service, step = self.raster.service, max(1, len(self.to_ask) // _PROBES)
        if service.offline:
            return self
        some = self.to_ask[step // 2 :: step][:_PROBES]
        for _ in service.bring(some, self.raster.holding.check):
            pass
        return replace(self, to_ask=tuple(service.missing(self.to_ask)))

    def bring(self, done: Done) -> tuple[Layer | None, list[Loss]]:
        """The layer, void where a piece cannot be had. Raises RemoteError if none can."""
        dead: list[Dead] = []
        for _, failed in self.raster.service.bring(self.to_ask, self.raster.holding.check):
            dead += [failed] if failed is not None else []
            done(1)
        if dead and len(dead) == self.pieces:
            raise dead[0].error
        self._check_any()
        lost = [Loss(failed.piece.told, failed.error) for failed in dead]
        return replace(self.layer, raster=self.raster.brought(self.wanted, dead)), lost

    def _check_any(self) -> None:
        """Raise EmptySourceError if the server has no piece of the area."""
        service = self.raster.service
        stored = service.cache.stored(service.own, [piece.key for piece in self.wanted])
        if len(stored) == self.pieces and all(status == _NOT_THERE for _, status in stored.values()):
            name = self.layer.path
            raise EmptySourceError(
                f"{name} has none of the {self.pieces:,} pieces of the area",
                f"the server answers that nothing is there, as for {self.wanted[0].told}",
                f"check the address with zembrel source test {name}; if it is right, choose another --within",
            )


@dataclass(frozen=True)
class FileErrand:
    """Parts of a remote file."""

    layer: Layer
    place: Remote
    ranges: tuple[tuple[int, int], ...]
    to_ask: tuple[tuple[int, int], ...]
    before: int

    @property
    def pieces(self) -> int:
        return len(self.ranges)

    @property
    def missing(self) -> int:
        return len(self.to_ask)

    @property
    def bytes(self) -> int:
        return self.place.cost(self.to_ask)

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


def errand(layer: Layer, frame: Frame, began: float) -> Errand | None:
    """What has to be brought for a layer on a frame; None for one that comes otherwise.

    began: start of the run in seconds since 1970; pieces cached later were requested by this run. Raises
    RefusedError above the largest number of pieces.
    """
    raster = layer.raster
    if isinstance(raster, RemoteBlocks):
        _check_pieces(raster, frame)
        wanted = {
            piece.key: piece for pane in _panes(raster.frame, frame) for _, piece in raster.blocks(pane)
        }
        pieces = tuple(wanted.values())
        before = raster.service.kept_since(pieces, began)
        return TileErrand(layer, raster, pieces, tuple(raster.service.missing(pieces)), before).probed()
    if isinstance(raster, TiffRaster) and isinstance(place := raster.directory.container.path, Remote):
        ranges = tuple(
            dict.fromkeys(part for pane in _panes(raster.frame, frame) for part in raster.segments(pane))
        )
        to_ask = tuple(part for part in ranges if not place.holds(*part))
        return FileErrand(layer, place, ranges, to_ask, sum(place.was_kept(*part) for part in ranges))
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
    """Yield the panes of a source that a frame needs, with a margin for the resampling kernel."""
    whole = footprint_of(frame, source)
    if whole is None:
        return
    larger = math.sqrt(frame.size / whole.size)  # cells of the frame along one of the source
    side, margin = round(_PART * max(1.0, larger)), math.ceil(MARGIN * max(1.0, 1 / larger))
    for top in range(0, frame.rows, side):
        for left in range(0, frame.columns, side):
            part = Pane(top, left, min(top + side, frame.rows), min(left + side, frame.columns))
            pane = footprint_of(frame.crop(part), source)
            met = pane.grown(margin).meet(source.pane) if pane is not None else None
            if met is not None:
                yield met


def asked_for(errands: Sequence[Errand]) -> list[Fact]:
    """Return a fact about the pieces to request, their bytes, and the cached pieces."""
    if not errands:
        return []
    kept, count = sum(one.before for one in errands), sum(one.pieces for one in errands)
    missing, size = sum(one.missing for one in errands), sum(one.bytes for one in errands)
    whole = size * (count - kept) // missing if missing else 0
    return [fact("pieces_asked", pieces=count - kept, kept=kept, bytes=whole)]


def check_size(errands: Sequence[Errand], output: Output, *, yes: bool) -> None:
    """Raise RefusedError above the ceiling, or for very many pieces without --yes."""
    count, size = sum(one.missing for one in errands), sum(one.bytes for one in errands)
    check_coming(f"{count:,} pieces", size, output)
    if count > _MANY and not (yes or output.dry_run):
        why = f"more than {_MANY:,} are not asked for without a word"
        what = f"{count:,} pieces of about {show_bytes(size)} would be asked for"
        raise RefusedError(what, why, f"go on with: {output.command} --yes")


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
