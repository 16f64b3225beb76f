"""Heights seen as one that stay within those they are made of: no kernel swings past a tower or a shore."""

from __future__ import annotations

from collections.abc import Sequence

from zembrel.engine.limits import Limits
from zembrel.facts import Fact
from zembrel.inputs.joined import joined
from zembrel.inputs.layers import Layer
from zembrel.inputs.methods import calm_method
from zembrel.inputs.target import Target
from zembrel.passes.stretch import WHOLE, ends_of_all
from zembrel.raster.model import Raster
from zembrel.raster.views.clamped import Clamped
from zembrel.raster.views.unscaled import unscaled

_SWINGING = ("cubic", "lanczos")


def joined_heights(
    layers: Sequence[Layer], target: Target, method: str, limits: Limits
) -> tuple[Raster, list[Fact]]:
    """The layers on the target's frame: bilinear, or means where cells grow, unless a method is asked for; by
    one that swings past the cells it weighs, within the range of all of them.

    Raises as `joined` does.
    """
    if method == "auto":
        return joined(layers, target, calm_method([layer.raster for layer in layers], target.frame))
    view, said = joined(layers, target, method)
    if method not in _SWINGING or len(view.bands) != 1:
        return view, said
    low, high = ends_of_all([unscaled(layer.raster) for layer in layers], WHOLE, limits)
    return Clamped(unscaled(view), low, high), said
