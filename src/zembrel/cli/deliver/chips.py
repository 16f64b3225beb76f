"""deliver chips: squares for training."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from zembrel.cli.command import Command
from zembrel.cli.deliver.devices import CarryTo, DeviceName, carry_of
from zembrel.verbs.options import Inputs, Output, Where


def chips(
    inputs: Inputs,
    where: Where,
    output: Output,
    cells: Annotated[int, typer.Option("--cells", metavar="N", help="Along a side of a chip.")] = 256,
    overlap: Annotated[int, typer.Option("--overlap", metavar="N", help="Cells that neighbours share.")] = 0,
    labels: Annotated[
        str | None, typer.Option("--labels", metavar="FILE", help="Classes of a raster, or features.")
    ] = None,
    field: Annotated[
        str | None, typer.Option("--field", metavar="NAME", help="Of features, whose value is the label.")
    ] = None,
    sampling: Annotated[
        str, typer.Option("--sampling", metavar="WAY", help="grid: all; balanced: classes about as often.")
    ] = "grid",
    count: Annotated[int | None, typer.Option("--count", metavar="N", help="Chips at most.")] = None,
    seed: Annotated[int, typer.Option("--seed", metavar="N", help="Of what is drawn by chance.")] = 1,
    validation: Annotated[
        float, typer.Option("--validation", metavar="SHARE", help="For validation, by blocks of ground.")
    ] = 0.0,
    block: Annotated[
        int | None, typer.Option("--block", metavar="N", help="Cells along such a block; four chips.")
    ] = None,
    form: Annotated[
        str, typer.Option("--form", metavar="FORM", help="Of files in a folder: tif, placed, or npz.")
    ] = "tif",
    carry_to: CarryTo = None,
    device: DeviceName = None,
) -> Any:
    """Chips for training: squares of an image with their labels, in a folder/, .zarr, numbered .tar or
    .tfrecord, split by ground, with an index (Parquet) and the statistics that learners normalize by."""
    from zembrel.verbs.deliver import chips as verb

    chipping = verb.Chipping(cells, overlap, labels, field, sampling, count, seed, validation, block, form)
    return verb.chips(inputs, where, output, chipping, carry_of(carry_to, device))


COMMANDS = {
    "deliver chips": Command(
        chips, "zembrel deliver chips island.tif --labels landcover.tif --validation 0.2 --out chips/"
    ),
}
