"""Several layers seen as one, for verbs that take many and care for one."""

from __future__ import annotations

from collections.abc import Sequence

from zembrel.facts import Fact, fact
from zembrel.inputs.alike import alike
from zembrel.inputs.layers import Layer
from zembrel.inputs.pieces import pieces_of, sewn
from zembrel.inputs.target import Target, brought
from zembrel.raster.model import Raster


def joined(layers: Sequence[Layer], target: Target, method: str) -> tuple[Raster, list[Fact]]:
    """The layers on the target's frame, the first that is valid winning, and what was chosen for that.

    Raises InputError if none lies there.
    """
    chose = list(target.chose)
    if len(layers) == 1:
        view, more = brought(layers[0], target, method)
        return view, chose + more
    same, said = alike(layers)
    pieces, touched, methods = pieces_of(same, target, method)
    whole, more = sewn(pieces, touched, target, method)
    return whole, [*chose, *said, *(more or methods), fact("overlap", rule="first")]
