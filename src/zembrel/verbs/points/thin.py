"""thin: fewer points."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np
import numpy.typing as npt

from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.errors import UsageError, nearest_name
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import CRS
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import take
from zembrel.inputs.lengths import in_units_of
from zembrel.inputs.options import Inputs, Output
from zembrel.optiontext import OptionText
from zembrel.points.model import PointBlock, PointSource
from zembrel.points.picking import Mask, Picking
from zembrel.points.thinning import BEST, Apart, BestOf, Mesh, every, random_share
from zembrel.results.clouds import Job, Sieve
from zembrel.results.cloudtarget import new_file
from zembrel.results.cloudways import told
from zembrel.results.eachcloud import one_to_one
from zembrel.results.receipt import Receipt
from zembrel.verbtable.record import POINTS


@dataclass(frozen=True)
class Thinning:
    """One way: every nth point, a share by chance, the best of each cell, or a spacing in space."""

    every: Annotated[int | None, OptionText("Keep every Nth point.", "N")] = None
    share: Annotated[float | None, OptionText("Keep a random share, e.g. 0.1 for a tenth.", "SHARE")] = None
    seed: Annotated[int, OptionText("Seed for the random choice.", "N")] = 0
    cell: Annotated[str | None, OptionText("Keep one point per cell of this size.", "LENGTH", short="-s")] = (
        None
    )
    best: Annotated[
        str, OptionText("With --cell: keep the central, lowest, highest, first or brightest point.", "NAME")
    ] = "central"
    spacing: Annotated[str | None, OptionText("Keep points at least this far apart.", "LENGTH")] = None


def thin(inputs: Inputs, output: Output, thinning: Thinning) -> Receipt:
    """Each cloud with fewer points, in the order they had. Raises UsageError unless one way is given."""
    _check(thinning)
    given = take(inputs, output, (POINTS,))
    picked = picking(inputs)

    def plan(source: PointSource, final: Path) -> Job:
        new = new_file(source, final, output)
        also, said = _also(source, thinning, picked, output)
        in_order = None
        if thinning.spacing:
            apart = Apart(_length(thinning.spacing, "--spacing", source.cloud.crs), output.limits.memory)

            def in_order(block: PointBlock) -> PointBlock:
                return block.take(apart.mask(block))

        chose = (*told(Sieve(None, picked)), said)
        return Job(new, Sieve(None, picked, also), in_order=in_order, chose=chose)

    return one_to_one("thin", given, output, plan)


def _check(thinning: Thinning) -> None:
    ways = [w for w in (thinning.every, thinning.share, thinning.cell, thinning.spacing) if w is not None]
    if len(ways) != 1:
        raise UsageError(
            f"{len(ways)} ways to thin",
            "points are thinned in one",
            "give --every, --share, --cell or --spacing",
        )
    if thinning.every is not None and thinning.every < 2:
        raise UsageError(f"--every {thinning.every}", "2 and more leave points out", "write --every 10")
    if thinning.share is not None and not 0 < thinning.share < 1:
        raise UsageError(f"--share {thinning.share:g}", "a share lies between 0 and 1", "write --share 0.1")
    if thinning.best not in BEST:
        raise UsageError(
            f"--best {thinning.best}", "a cell has a few best points", nearest_name(thinning.best, BEST)
        )


def _length(text: str, option: str, crs: CRS | None) -> float:
    size = in_units_of(text, crs)
    if size <= 0:
        raise UsageError(f"{option} {text}", "a length above 0 is needed", f"write {option} 1m")
    return size


def _also(
    source: PointSource, thinning: Thinning, picked: Picking, output: Output
) -> tuple[Callable[[PointBlock, Piece], Mask] | None, Fact]:
    """What besides picks points by their number, and a word about the way."""
    step, share = thinning.every, thinning.share
    if step is not None:
        return _Every(step), fact("thin_every", step=step)
    if share is not None:
        said = fact("thin_by_chance", percent=100 * share, seed=thinning.seed)
        return _Share(share, thinning.seed), said
    if thinning.spacing:
        return None, fact("thin_spacing", spacing=thinning.spacing)
    mesh = Mesh(_length(str(thinning.cell), "--cell", source.cloud.crs), thinning.best)
    best = BestOf.of_all(over_pieces(pieces_of([source]), _Best(mesh, picked), output.limits))
    return _Chosen(np.sort(best.numbers)), fact("thin_best", best=thinning.best, cell=thinning.cell)


@dataclass(frozen=True)
class _Every:
    step: int

    def __call__(self, block: PointBlock, piece: Piece) -> Mask:
        return every(len(block), piece.first, self.step)


@dataclass(frozen=True)
class _Share:
    share: float
    seed: int

    def __call__(self, block: PointBlock, piece: Piece) -> Mask:
        return random_share(len(block), piece.first, self.share, self.seed)


@dataclass(frozen=True, eq=False)
class _Chosen:
    """Points by their numbers in the cloud, ascending."""

    numbers: npt.NDArray[np.int64]

    def __call__(self, block: PointBlock, piece: Piece) -> Mask:
        mask = np.zeros(len(block), bool)
        low, high = np.searchsorted(self.numbers, (piece.first, piece.first + len(block)))
        mask[self.numbers[low:high] - piece.first] = True
        return mask


@dataclass(frozen=True, eq=False)
class _Best:
    """The task of finding the best point of each cell among those of a piece."""

    mesh: Mesh
    picked: Picking

    def __call__(self, piece: Piece) -> BestOf:
        block = piece.source.read(piece.part)
        numbers = piece.first + np.flatnonzero(self.picked.mask(block))
        return BestOf.of(self.mesh, block.take(numbers - piece.first), numbers)
