"""mosaic for points."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zembrel.engine.points import Piece
from zembrel.facts import fact, remarks
from zembrel.inputs.clouds import picking
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.points.model import PointBlock
from zembrel.results.clouds import Job, Sieve, carry_out
from zembrel.results.cloudtarget import new_file
from zembrel.results.cloudways import told
from zembrel.results.eachcloud import receipt
from zembrel.results.mergedclouds import Merged, merged
from zembrel.results.receipt import Receipt
from zembrel.verbs.mosaic import Joining


@dataclass(frozen=True, eq=False)
class _Joined:
    """A change to the common CRS; numbers: point source IDs of the points of each cloud."""

    whole: Merged
    numbers: tuple[int, ...] | None

    def __call__(self, block: PointBlock, piece: Piece) -> PointBlock:
        block = self.whole.brought(block, piece)
        return block if self.numbers is None else block.having("source", self.numbers[piece.cloud])


def mosaic(given: Given, where: Where, output: Output, joining: Joining) -> Receipt:
    """All points one file after the other, in the CRS of the first unless another is asked for.

    With `joining.source_ids` points take the number of their file, from 1, as point source ID.
    """
    paths, source_ids = given.paths, joining.source_ids
    whole = merged(given, where, output)
    numbers = [paths.index(path) + 1 for path in whole.paths]

    change = _Joined(whole, tuple(numbers) if source_ids else None)
    same = {"layout": whole.layout, "scaling": whole.scaling, "crs": whole.crs}
    new = new_file(whole.sources[0], output.path, output, **same)  # type: ignore[arg-type]
    still = all(move is None for move in whole.moves)  # then the area is known before parts are read
    sieve = Sieve(whole.within if still else None, picking(given.options))
    ids = (fact("source_ids"),) if source_ids else ()
    job = Job(
        replace(new, points_at_most=whole.count), sieve, change, chose=(*told(sieve), *whole.chose, *ids)
    )
    done = carry_out(job, whole.sources, output.path, output)
    said = [item for source in whole.sources for item in remarks(source.cloud.remarks)]
    return receipt("mosaic", paths, output, [done], said)
