"""stack: several layers become bands of one."""

from __future__ import annotations

from dataclasses import replace

from zembrel.facts import distinct, fact
from zembrel.inputs.layers import take_layers
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import brought, decide, masked
from zembrel.raster.model import shared_type
from zembrel.raster.views.bands import Relabelled
from zembrel.raster.views.bands import stack as stack_views
from zembrel.results.receipt import Receipt
from zembrel.results.write import write


def stack(inputs: Inputs, where: Where, output: Output, *, method: MethodName = "auto") -> Receipt:
    """All bands of all inputs on one frame, in the given order; bands of one-band files take their name."""
    layers = take_layers(inputs, output)
    target = decide(layers, where)
    views, chose = [], list(target.chose)
    for layer in layers:
        view, more = brought(layer, target, method)
        if len(view.bands) == 1:
            view = Relabelled(view, (replace(view.bands[0], name=layer.path.stem, legend=None, colour=""),))
        views.append(view)
        chose += more
    whole = stack_views(tuple(views))
    kinds = {band.type for band in whole.bands}
    if len(kinds) > 1:
        chose.append(fact("type_that_holds", type=shared_type(whole.bands).name, types=tuple(sorted(kinds))))
    cover = target.cover() if where.mask else None
    written = write(masked(whole, cover), output.path, output, cover=cover)
    paths = tuple(layer.path for layer in layers)
    return Receipt(
        "stack",
        paths,
        output.out,
        planned=output.dry_run,
        touched=paths,
        frame=target.frame,
        chose=distinct((*chose, *written.chose)),
        checks=written.checks,
        results=(written.result,),
        own={"bands": [band.name for band in whole.bands]},
    )
