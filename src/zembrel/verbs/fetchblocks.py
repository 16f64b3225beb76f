"""fetch of blocks: files that an index names, points as they are, rasters onto a frame."""

from __future__ import annotations

from dataclasses import replace

from zembrel.engine.plan import free_at
from zembrel.errors import UsageError
from zembrel.facts import fact
from zembrel.formats.origin import Origin
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.points.files import holds_points
from zembrel.results.receipt import LOSSES, Loss, Receipt, Result
from zembrel.sources.blocks import blocks_in, brought
from zembrel.sources.service import Service
from zembrel.sources.sourcefile import SourceFile
from zembrel.sources.wish import Wish
from zembrel.verbs.fetching import check_coming, credit
from zembrel.verbs.mosaic import Joining
from zembrel.verbs.mosaic import of_rasters as mosaic_of_rasters
from zembrel.verbs.points.mosaic import mosaic as mosaic_of_points
from zembrel.verbtable.record import POINTS, RASTERS

_UNKNOWN = 50_000_000  # bytes of a file of which nobody says the size


def fetch_blocks(source: SourceFile, wish: Wish, inputs: Inputs, where: Where, output: Output) -> Receipt:
    """The points, or the cells, of all blocks that meet the area, in one file.

    Raises RemoteError where nothing can be had, RefusedError past the ceiling.
    """
    service = Service.of(source, offline=inputs.offline)
    blocks, count = blocks_in(source, service, wish)
    size = sum(block.size if block.size is not None else _UNKNOWN for block in blocks)
    check_coming(f"{len(blocks):,} blocks", size, output)
    said = fact("blocks_met", blocks=len(blocks), of=count)
    if output.dry_run:
        planned = Result(
            output.path, bytes_at_most=size, count=len(blocks), what="blocks", free=free_at(output.path)
        )
        return Receipt(
            "fetch",
            (source.path,),
            output.out,
            planned=True,
            touched=(source.path,),
            chose=(said,),
            results=(planned,),
        )
    origins, failed = brought(source, service, blocks)
    if not origins:
        raise failed[0][1]
    made = _joined(source, origins, inputs, where, output)
    lost = tuple(Loss(told, error) for told, error in failed)
    return replace(
        made, verb="fetch", inputs=(source.path,), touched=(source.path,), chose=(said, *made.chose),
        checks=(*made.checks, *credit(source)), lost=(*made.lost, *lost),
        exit_code=LOSSES if lost else made.exit_code,
    )  # fmt: skip


def _joined(
    source: SourceFile, origins: list[Origin], inputs: Inputs, where: Where, output: Output
) -> Receipt:
    points = [origin for origin in origins if holds_points(origin.file)]
    options = replace(inputs, inputs=tuple(str(origin.name) for origin in origins))
    if points and len(points) < len(origins):
        other = next(origin for origin in origins if origin not in points)
        why = f"{points[0].name.name} holds points, {other.name.name} does not"
        raise UsageError(
            f"{source.name} has files of several kinds", why, "name files of one kind in its index"
        )
    if points:
        return mosaic_of_points(Given(POINTS, tuple(points), options), where, output, Joining())
    return mosaic_of_rasters(Given(RASTERS, tuple(origins), options), where, output, Joining())
