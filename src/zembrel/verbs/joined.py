"""Several layers seen as one, for verbs that take many and care for one."""

from __future__ import annotations

from collections.abc import Sequence

from zembrel.errors import InputError
from zembrel.raster.model import Raster
from zembrel.raster.views.mosaic import FEATHER
from zembrel.raster.views.mosaic import mosaic as mosaic_view
from zembrel.verbs.alike import alike
from zembrel.verbs.inputs import Layer
from zembrel.verbs.mosaic import agreed_bands, pieces_of
from zembrel.verbs.target import Target, brought


def joined(layers: Sequence[Layer], target: Target, method: str) -> tuple[Raster, list[str]]:
    """The layers on the target's frame, the first that is valid winning, and what was chosen for that.

    Raises InputError if none lies there.
    """
    chose = list(target.chose)
    if len(layers) == 1:
        view, more = brought(layers[0], target, method)
        return view, chose + more
    same, said = alike(layers)
    pieces, _, methods = pieces_of(same, target, method)
    if not pieces:
        raise InputError("no input lies on the frame", "nothing would be left", "check --onto or --within")
    bands = agreed_bands([piece.raster for piece in pieces])
    whole = mosaic_view(tuple(pieces), target.frame, bands, "first", FEATHER)
    return whole, [*chose, *said, *methods, "overlap first"]
