"""Several clouds seen as one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zembrel.engine.points import Piece
from zembrel.errors import EmptyInputError, InputError
from zembrel.facts import Fact, fact
from zembrel.geodesy.crs import CRS, label, same
from zembrel.geodesy.operation import CoordinateOperation
from zembrel.grid.extent import box_bounds
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.points.model import Bounds3, PointBlock, PointSource, Scaling
from zembrel.points.moving import Moved, carried_scaling
from zembrel.points.picking import Inside
from zembrel.points.records import Layout
from zembrel.results.cloudsurvey import bounds_of
from zembrel.results.cloudways import inside, target_crs, way_to


@dataclass(frozen=True)
class Merged:
    """Several clouds seen as one: how each comes into the common CRS, and where it lies there."""

    paths: Sequence[Path]
    sources: Sequence[PointSource]
    crs: CRS | None
    moves: Sequence[Moved | None]
    boxes: Sequence[Bounds3]
    layout: Layout
    scaling: Scaling
    within: Inside | None = None
    chose: tuple[Fact, ...] = ()

    @property
    def count(self) -> int:
        return sum(source.cloud.count for source in self.sources)

    @property
    def bounds(self) -> Bounds3:
        lows = [min(box[axis] for box in self.boxes) for axis in range(3)]
        return (*lows, *(max(box[axis] for box in self.boxes) for axis in range(3, 6)))  # type: ignore[return-value]

    def brought(self, block: PointBlock, piece: Piece) -> PointBlock:
        """A block of one of the clouds in the common CRS, within the area if there is one."""
        move = self.moves[piece.cloud]
        block = move(block) if move is not None else block
        return block if self.within is None else block.take(self.within.mask(block.x, block.y))

    def met_by(self, area: Inside) -> Merged:
        """The clouds that lie in `area`."""
        met = [n for n, box in enumerate(self.boxes) if area.meets(box)]
        return replace(
            self,
            paths=[self.paths[n] for n in met],
            sources=[self.sources[n] for n in met],
            moves=[self.moves[n] for n in met],
            boxes=[self.boxes[n] for n in met],
        )


def merged(given: Given, where: Where, output: Output, *, everywhere: bool = False) -> Merged:
    """The clouds of files in the CRS of the first, unless another is asked for. Raises InputError.

    everywhere: whether what lies outside of the area, or the frame, counts too.
    """
    paths = given.paths
    sources = [open_cloud(origin, given.options) for origin in given.origins]
    _check_placed(paths, sources)
    target = target_crs(None, where) or sources[0].cloud.crs
    ways, said = [], list[Fact]()
    for source in sources:
        way, more = way_to(source.cloud.crs, target, where) if target is not None else (None, [])
        ways.append(way)
        said += more
    boxes = _boxes(paths, sources, ways, output)
    layout = common_layout([source.cloud.layout for source in sources])
    try:
        scaling, how = common_scaling(sources, ways, boxes)
    except InputError as exc:
        others = (_far(path, s, paths[0], sources[0]) for path, s in zip(paths, sources, strict=True))
        raise next((far for far in others if far is not None), exc) from exc
    moves = [Moved(way, scaling) if way is not None else None for way in ways]
    within = inside(target, where) if (where.within or where.onto) and not everywhere else None
    said = [how, *dict.fromkeys(said)]
    whole = Merged(paths, sources, target, moves, boxes, layout, scaling, within, tuple(said))
    if within is None:
        return whole
    used = whole.met_by(within)
    if not used.sources:
        raise EmptyInputError(
            "no point lies in the area", f"{len(paths)} files were looked at", "check --within"
        )
    return replace(
        used, chose=(*said, *(fact("nothing_there", input=p) for p in paths if p not in used.paths))
    )


def _check_placed(paths: Sequence[Path], sources: Sequence[PointSource]) -> None:
    homeless = [p for p, s in zip(paths, sources, strict=True) if s.cloud.crs is None]
    if homeless and len(homeless) < len(paths):
        known = next(s.cloud.crs for s in sources if s.cloud.crs is not None)
        raise InputError(
            f"{homeless[0]} has no coordinate reference system",
            f"without one its place among the other {len(paths) - 1} inputs is unknown",
            f"add --from-crs EPSG:{known.code} if that is what it is in, or leave the file out",
        )


def _boxes(
    paths: Sequence[Path],
    sources: Sequence[PointSource],
    ways: Sequence[CoordinateOperation | None],
    output: Output,
) -> list[Bounds3]:
    """Bounds of all clouds in the CRS of the result. Raises InputError for one that has no place there."""
    made: list[Bounds3] = []
    for path, source, way in zip(paths, sources, ways, strict=True):
        try:
            made.append(_box(source, way, output))
        except InputError as exc:
            raise (_far(path, source, paths[0], sources[0]) or exc) from exc
    return made


def _far(path: Path, source: PointSource, first: Path, like: PointSource) -> InputError | None:
    """The error for a cloud whose CRS puts it on another part of the Earth; None if both have one CRS."""
    if same(source.cloud.crs, like.cloud.crs):
        return None
    return InputError(
        f"{path} lies far from {first}",
        f"it is in {label(source.cloud.crs)}, {first.name} in {label(like.cloud.crs)}",
        "leave it out, or say its CRS with --from-crs and --force-crs if that is wrong",
    )


def _box(source: PointSource, way: CoordinateOperation | None, output: Output) -> Bounds3:
    """Bounds of a cloud in the CRS of the result."""
    bounds = source.cloud.bounds or bounds_of(source, output)
    if way is None:
        return bounds
    west, south, east, north = box_bounds(
        (bounds[0], bounds[1], bounds[3], bounds[4]), way.source, way.target
    )
    return west, south, bounds[2], east, north, bounds[5]


def common_layout(layouts: Sequence[Layout]) -> Layout:
    """The layout that holds all of several: formats 6 to 10 if any is one, colours, times and extra bytes
    of each."""
    if all(layout == layouts[0] for layout in layouts):
        return layouts[0]
    names = {name for layout in layouts for name in layout.dtype.names or ()}
    long = any(layout.long for layout in layouts)
    extra = tuple(dict.fromkeys(field for layout in layouts for field in layout.extra))
    order = (6, 7, 8, 9, 10) if long else (0, 1, 2, 3, 4, 5)
    wanted = {"gps_time", "red", "nir", "wave_index"} & names
    number = next((n for n in order if wanted <= set(Layout(n).dtype.names or ())), order[-1])
    if not long and "nir" in wanted:
        number = 8
    return Layout(number, extra)


def common_scaling(
    sources: Sequence[PointSource], ways: Sequence[CoordinateOperation | None], boxes: Sequence[Bounds3]
) -> tuple[Scaling, Fact]:
    """The finest steps of all, round the offset of the first if that reaches; and what that means."""
    scalings = [
        source.cloud.scaling if way is None else carried_scaling(source.cloud.scaling, _own(source), way, 1.0)
        for source, way in zip(sources, ways, strict=True)
    ]
    scale = tuple(min(s.scale[axis] for s in scalings) for axis in range(3))
    lows = [min(box[axis] for box in boxes) for axis in range(3)]
    highs = [max(box[axis + 3] for box in boxes) for axis in range(3)]
    whole: Bounds3 = (*lows, *highs)  # type: ignore[assignment]
    scaling = Scaling(scale, scalings[0].offset)  # type: ignore[arg-type]
    if not scaling.holds(whole):
        middle = tuple(float(round((low + high) / 2)) for low, high in zip(lows, highs, strict=True))
        scaling = Scaling(scaling.scale, middle)  # type: ignore[arg-type]
    if not scaling.holds(whole):
        raise InputError(
            f"steps of {'/'.join(f'{step:g}' for step in scale)} do not reach over all inputs",
            f"they lie from {lows[0]:.10g},{lows[1]:.10g} to {highs[0]:.10g},{highs[1]:.10g}",
            "add --set scale=0.01, or give inputs that lie closer together",
        )
    alike = all(s.scale == scalings[0].scale for s in scalings)
    steps = "/".join(f"{step:g}" for step in scale)
    return scaling, fact("steps_of_all", steps=steps) if alike else fact("steps_finest", steps=steps)


def _own(source: PointSource) -> Bounds3:
    bounds = source.cloud.bounds
    return bounds if bounds is not None else (0.0, 0.0, 0.0, 1.0, 1.0, 1.0)
