"""deliver hgt: heights as cells of one degree, all that cover an area."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import numpy.typing as npt

from zembrel.deliver.devices.rules import PackTraits
from zembrel.engine.commit import check_free
from zembrel.engine.limits import Limits
from zembrel.engine.plan import check_room, free_at
from zembrel.errors import InputError, RefusedError, UsageError
from zembrel.facts import Fact, distinct, fact
from zembrel.formats.degreecell import cell_name, degree_cell
from zembrel.formats.hgt import SIZES, VOID
from zembrel.geodesy.registry import by_code
from zembrel.grid.extent import carried_cell, footprint_of
from zembrel.grid.frame import Frame
from zembrel.grid.pane import Pane
from zembrel.inputs.intake import take
from zembrel.inputs.layers import Layer, open_layers
from zembrel.inputs.lengths import in_metres
from zembrel.inputs.methods import MethodName
from zembrel.inputs.options import Inputs, Output, Where
from zembrel.inputs.target import Target, decide, masked, operation_to
from zembrel.measure import parse_length
from zembrel.optiontext import OptionText
from zembrel.packing.heights import joined_heights
from zembrel.passes.survey import is_empty
from zembrel.raster.model import Raster
from zembrel.raster.views.place import crop
from zembrel.raster.views.unscaled import unscaled
from zembrel.results.receipt import Receipt, Result
from zembrel.results.write import write
from zembrel.verbs.deliver.carry import NOWHERE, Carry, DeliveredPack, carried
from zembrel.verbtable.record import RASTERS

Array = npt.NDArray[np.float64]
FORMAT = "hgt"
_STEPS = {1: SIZES[1], 3: SIZES[0]}  # seconds of arc between nodes -> nodes a side
_COARSE = 2 / 3600  # degrees from which cells of a source go into the coarser ones
_TOUCH = 1e-9  # degrees beside a cell that share its edge
_BESIDE = 0.75  # steps beside a cell that hold no node of it but those it shares
_SPOTS, _SPOT = 6, 48  # patches of a source each way, and cells along one, that are compared


@dataclass(frozen=True)
class _DegreeCell:
    """A cell of one degree by its lower left corner, its nodes a side, and where it goes."""

    west: int
    south: int
    side: int
    path: Path

    @property
    def frame(self) -> Frame:
        return degree_cell(self.west, self.south, self.side, self.side)


@dataclass(frozen=True)
class DegreeCells:
    """How heights come onto the nodes, and whether cells are made that hold nothing but an edge of others."""

    method: MethodName = "auto"
    edges: Annotated[bool, OptionText("Also write cells that only share an edge with the heights.")] = False


def hgt(
    inputs: Inputs, where: Where, output: Output, making: DegreeCells = DegreeCells(), carry: Carry = NOWHERE
) -> Receipt:
    """Heights, seen as one, as `N46W024.hgt` and its neighbours in the folder `output.out`.

    Raises UsageError for a step that such cells do not have, InputError for what is no elevation.
    """
    return carried(carry, output, "hgt", lambda: _packed(inputs, where, output, making))


def _packed(inputs: Inputs, where: Where, output: Output, making: DegreeCells) -> DeliveredPack:
    """The cells, and what a device asks of them."""
    if where.crs or where.onto or where.longest:
        raise UsageError(
            "such cells have frames of their own", "degrees of WGS 84", "use --within and --cell"
        )
    asked = _asked_step(where)
    layers = open_layers(take(inputs, output, (RASTERS,)))
    target = decide(layers, replace(where, crs="EPSG:4326", cell=None))
    side = _STEPS[asked or _native_step(layers)]
    cells = list(_cells(target, output.path, side, making.edges))
    size = 2 * side * side * len(cells)
    coarser = 2 * _STEPS[3] ** 2 * len(cells)
    fits = "--cell 3arcsec" if side != _STEPS[3] and coarser <= output.ceiling_bytes else ""
    what = f"{len(cells)} cells of one degree"
    check_room(output.path, size, output.ceiling_bytes, output.command, what, fits)
    paths = tuple(layer.path for layer in layers)
    chose = [fact("degree_cells", cells=len(cells), seconds=3600 // (side - 1), side=side)]
    receipt = Receipt(
        "deliver hgt", paths, output.out, planned=output.dry_run, touched=paths, chose=tuple(chose)
    )
    if output.dry_run:
        room = free_at(output.path)
        planned = Result(output.path, bytes_at_most=size, count=len(cells), what="cells", free=room)
        return DeliveredPack(replace(receipt, results=(planned,)), PackTraits("hgt"))
    for cell in cells:
        check_free(cell.path, output.replace)
    held, said = _with_heights(layers, target, cells, making, output)
    voids = 0
    for cell, view in held:
        done = write(view, cell.path, replace(output, format=FORMAT))
        voids += view.frame.size - (done.result.valid or 0)
        said += done.chose
    written = [cell for cell, _ in held]
    made, checks = _told(layers, cells, written, side, output)
    checks += [fact("voids_in_cells", voids=voids)] if voids else []
    receipt = replace(receipt, chose=distinct((*chose, *said)), checks=tuple(checks), results=(made,))
    files = tuple(cell.path for cell in written)
    return DeliveredPack(replace(receipt, seconds=output.seconds), PackTraits("hgt"), files)


def _with_heights(
    layers: Sequence[Layer], target: Target, cells: Sequence[_DegreeCell], making: DegreeCells, output: Output
) -> tuple[list[tuple[_DegreeCell, Raster]], list[Fact]]:
    """The cells that hold a height, with their views, and what was chosen for these."""
    held, said = list[tuple[_DegreeCell, Raster]](), list[Fact]()
    for cell in cells:
        target = replace(target, frame=cell.frame)
        view, more = _heights(layers, target, making.method, output.limits)
        if view is not None and not is_empty(view if making.edges else _within_edges(view), output.limits):
            held.append((cell, view))
            said += more
    return held, said


def _told(
    layers: Sequence[Layer],
    cells: Sequence[_DegreeCell],
    written: Sequence[_DegreeCell],
    side: int,
    output: Output,
) -> tuple[Result, list[Fact]]:
    """What was written, and how it compares. Raises RefusedError where that is nothing."""
    if not written:
        raise RefusedError("no cell of one degree holds a height", "all of it is void", "check --within")
    names = [cell_name(cell.west, cell.south) for cell in written]
    how = (", ".join(names[:4]) + " ..." * (len(names) > 4),)
    taken = 2 * side * side * len(names)
    made = Result(output.path, taken, count=len(names), what="cells", seconds=output.seconds, how=how)
    empty = len(cells) - len(written)
    left_out = [fact("cells_without_heights", cells=empty)] if empty else []
    return made, [_against_source(layers, written, side), *left_out]


def _asked_step(where: Where) -> int | None:
    """Seconds of arc between nodes, if they are asked for."""
    if not where.cell:
        return None
    step = parse_length(where.cell)
    seconds = 0.0 if step.kind == "length" else 3600 * step.in_unit("angle", 1.0)
    found = next((known for known in _STEPS if abs(seconds - known) < 1e-6), None)
    if found is None:
        why = "such cells have heights every 1arcsec or 3arcsec"
        raise UsageError(f"--cell {where.cell}", why, "write --cell 1arcsec")
    return found


def _native_step(layers: Sequence[Layer]) -> int:
    finest = min(min(carried_cell(layer.raster.frame, by_code(4326))) for layer in layers)
    return 3 if finest >= _COARSE else 1


def _within_edges(view: Raster) -> Raster:
    """The nodes that no other cell has."""
    return crop(view, Pane(1, 1, view.frame.rows - 1, view.frame.columns - 1))


def _cells(target: Target, folder: Path, side: int, edges: bool) -> Iterator[_DegreeCell]:
    """All cells into which the area reaches farther than the nodes they share, from the south-west.

    edges: also those that share some.
    """
    edge = -_TOUCH if edges else _BESIDE / (side - 1)
    left, south, right, north = target.area.bounds if target.area else target.frame.bounds
    if not target.area and target.frame.registration == "node":  # values stand on the outer nodes
        across, along = (size / 2 for size in target.frame.cell)
        left, south, right, north = left + across, south + along, right - across, north - along
    for y in range(math.floor(south + edge), math.ceil(north - edge)):
        for x in range(math.floor(left + edge), math.ceil(right - edge)):
            west = (x + 180) % 360 - 180
            yield _DegreeCell(west, y, side, folder / f"{cell_name(west, y)}.hgt")


def _heights(
    layers: Sequence[Layer], target: Target, method: str, limits: Limits
) -> tuple[Raster | None, list[Fact]]:
    """Heights of a cell in whole metres, and what was chosen for that; None where no layer lies."""
    near = [layer for layer in layers if footprint_of(layer.raster.frame, target.frame) is not None]
    if not near:
        return None, []
    view, said = joined_heights(near, target, method, limits)
    if len(view.bands) != 1 or view.bands[0].legend is not None:
        why = "colours and classes are none"
        raise InputError("heights are one band of values", why, "pick it with --bands")
    return in_metres(unscaled(masked(view, target.cover() if target.asked.mask else None))), said


def _against_source(layers: Sequence[Layer], cells: Sequence[_DegreeCell], side: int) -> Fact:
    """How far heights between the nodes that were written are off those of the source, in spots of it."""
    held = {(c.west, c.south): np.memmap(c.path, ">i2", "r", shape=(side, side)) for c in cells}
    off = [np.zeros(0)]
    frame = cells[0].frame
    for layer in layers:
        lon, lat, heights = _spots(layer, frame)
        for (west, south), nodes in held.items():
            inside = (lon >= west) & (lon < west + 1) & (lat > south) & (lat <= south + 1)
            u, v = (lon[inside] - west) * (side - 1), (south + 1 - lat[inside]) * (side - 1)
            off.append(heights[inside] - _between(nodes, u, v))
    differences = np.concatenate(off)
    differences = np.abs(differences[np.isfinite(differences)])
    if not differences.size:
        return fact("nothing_to_compare")
    rms, most = float(np.sqrt((differences**2).mean())), float(np.percentile(differences, 95))
    return fact("against_source", places=differences.size, rms=rms, ninety_five=most)


def _spots(layer: Layer, frame: Frame) -> tuple[Array, Array, Array]:
    """Longitudes, latitudes and heights of some cells of a layer."""
    whole, way = layer.raster.frame, operation_to(layer, frame)
    rows, columns = ([int(at) for at in np.linspace(0, max(0, n - _SPOT), _SPOTS)] for n in whole.pane.shape)
    xs, ys, heights = [np.zeros(0)], [np.zeros(0)], [np.zeros(0)]
    for row, column in sorted({(row, column) for row in rows for column in columns}):
        pane = Pane(row, column, min(row + _SPOT, whole.rows), min(column + _SPOT, whole.columns))
        block = in_metres(unscaled(layer.raster)).cells(pane)
        v, u = np.mgrid[pane.top : pane.bottom, pane.left : pane.right].astype(float)
        x, y = whole.centres(u.ravel(), v.ravel())
        xs.append(x)
        ys.append(y)
        heights.append(np.where(block.valid_of(0), block.cells[0], np.nan).ravel())
    x, y = np.concatenate(xs), np.concatenate(ys)
    lon, lat = way(x, y) if way is not None else (x, y)
    lon = (lon + 180) % 360 - 180
    return lon, lat, np.concatenate(heights)


def _between(nodes: Any, u: Array, v: Array) -> Array:
    """Heights between four nodes, NaN beside a void."""
    left, top = (np.minimum(part.astype(int), len(nodes) - 2) for part in (u, v))
    corners = [nodes[top + down, left + right].astype(float) for down in (0, 1) for right in (0, 1)]
    a, b, c, d = (np.where(corner == VOID, np.nan, corner) for corner in corners)
    u, v = u - left, v - top
    made: Array = (a * (1 - u) + b * u) * (1 - v) + (c * (1 - u) + d * u) * v
    return made
