"""draw: a picture of a raster."""

from __future__ import annotations

from pathlib import Path

from zembrel.draw.picture import Look, draw_picture
from zembrel.engine.commit import Staging, resource_errors
from zembrel.errors import UsageError
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.verbs.inputs import open_layers
from zembrel.verbs.options import Inputs, Output, Where
from zembrel.verbs.receipt import Receipt, frame_items
from zembrel.verbs.target import decide

ENDINGS = (".png", ".pdf", ".svg", ".jpg")


def draw(inputs: Inputs, where: Where, output: Output, *, look: Look) -> Receipt:
    """One input as a picture with its ramp or legend, a scale bar, its CRS and extent.

    Raises UsageError for several inputs or an ending that is no picture's.
    """
    layers = open_layers(inputs)
    out = output.path
    if len(layers) > 1:
        raise UsageError(
            f"{len(layers)} inputs for one picture", "draw shows one layer", "mosaic them first, or name one"
        )
    if out.suffix.lower() not in ENDINGS:
        raise UsageError(
            f"{out.name} is no picture name",
            f"its ending is {out.suffix!r}",
            "end it in " + ", ".join(ENDINGS),
        )
    layer = layers[0]
    view = unscaled(layer.raster)
    if where.within:
        frame = decide([layer], where).frame
        pane = view.frame.pane_of(*frame.bounds).meet(view.frame.pane)
        assert pane is not None
        view = crop(view, pane)
    title = look.title if look.title is not None else Path(layer.path).stem
    with Staging(output.replace) as staging:
        staged = staging.path_for(out)
        with resource_errors(out):
            shown = draw_picture(view, staged, look, title, output.means)
        staging.publish()
    lines = (("frame", frame_items(view.frame)), ("chose", shown), ("wrote", (str(out),)))
    return Receipt(
        "draw",
        f"{layer.path} -> {out}",
        lines,
        {"inputs": [str(layer.path)], "out": str(out), "chose": list(shown)},
    )
