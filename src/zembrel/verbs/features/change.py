"""convert, clip, reproject and mosaic for features."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import shapely

from zembrel.errors import EmptyInputError, InputError
from zembrel.facts import Fact, fact, remarks
from zembrel.features.spooled import SpooledLayer
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import CRS, label, same
from zembrel.geodesy.operation import operation
from zembrel.inputs.aids import check_used, equipped
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.inputs.tables import LayerParts, open_layers
from zembrel.inputs.within import asked_crs, asked_frame, no_new_crs, overlap_error, resolve
from zembrel.results.eachtable import Change, Unchanged, one_to_one, receipt
from zembrel.results.receipt import Receipt
from zembrel.results.tables import check_target, write_layers
from zembrel.verbs.clip import Clipping


def convert(given: Given, where: Where, output: Output, values: object) -> Receipt:
    """Each file in another format; faulty geometries go as they are unless they are to be mended."""
    return one_to_one("convert", given, output, Unchanged)


def reproject(given: Given, where: Where, output: Output, resampling: object) -> Receipt:
    """Each file in another CRS."""
    return one_to_one("reproject", given, output, lambda: PartsMoved(where))


def clip(given: Given, where: Where, output: Output, clipping: Clipping) -> Receipt:
    """What of each file lies in the area; touching: features that meet it, whole."""
    moves = bool(where.crs or where.onto)
    rule = clipping.touching, clipping.outside
    return one_to_one(
        "clip", given, output, lambda: PartsClipped(where, moves, *rule, output.keep_empty), check=True
    )


def mosaic(given: Given, where: Where, output: Output, joining: object) -> Receipt:
    """All features one after the other, in the CRS of the first unless another is asked for."""
    out = output.path
    check_target(out, output)
    layers = [LayerParts(o, own) for o in given.origins for _, own in open_layers(o, given.options)]
    crs = _asked(where) or layers[0].crs
    if crs is None and any(layer.crs is not None for layer in layers):
        raise InputError(
            f"{given.origins[0]} has no coordinate reference system",
            f"without one its place among the other {len(layers) - 1} inputs is unknown",
            "add --from-crs CRS, or leave the file out",
        )
    sizes, chose = [], list[Fact]()

    def carried() -> Iterator[FeatureTable]:
        for layer in layers:
            change: Change = PartsMoved(where, crs) if crs is not None else Unchanged()
            count = 0
            for part in layer:
                count += len(part)
                yield change.part(part)
            sizes.append(count)
            chose.extend([*layer.told, *change.finish()])

    whole = SpooledLayer(carried())
    if where.within:
        cutting = PartsClipped(where, keep_empty=output.keep_empty)
        whole = SpooledLayer(map(cutting.part, whole))
        chose += cutting.finish()
    written = write_layers(out, [(whole, whole.seen.schema(out.stem))], output)
    shown = ", ".join(f"{size:,}" for size in sizes[:6]) + " ..." * (len(sizes) > 6)
    sort = "files" if len(layers) == len(given.origins) else "layers"
    joined = fact("files_joined", number=len(layers), sort=sort, sizes=shown)
    return receipt("mosaic", given.paths, output, [(whole.seen, written)], [joined, *chose, *written.notes])


def _asked(where: Where) -> CRS | None:
    frame = asked_frame(where)
    return frame.crs if frame is not None else asked_crs(where)


def moved(table: FeatureTable, where: Where, crs: CRS | None = None) -> tuple[FeatureTable, list[Fact]]:
    """`table` in the CRS asked for, or in `crs`, by the ways that are given, and what was chosen."""
    target = crs or _asked(where)
    if target is None:
        raise no_new_crs()
    if table.crs is None:
        return table.to(target), []
    target = equipped(target, where)
    if same(table.crs, target):
        return table, []
    way = operation(table.crs, target)
    check_used(where, [way])
    return table.to(target), [
        fact("from_crs", crs=label(table.crs)),
        *remarks(way.checked(where.strict_crs).remarks),
    ]


@dataclass
class PartsMoved:
    """Features in the CRS asked for, or in `crs`."""

    where: Where
    crs: CRS | None = None
    said: list[Fact] = field(default_factory=list)

    def part(self, table: FeatureTable) -> FeatureTable:
        table, self.said = moved(table, self.where, self.crs)
        return table

    def finish(self) -> list[Fact]:
        return self.said


@dataclass
class PartsClipped:
    """What of features lies in the area, cut at its outline, or whole where that is met, or outside it."""

    where: Where
    moves: bool = False
    touching: bool = False
    outside: bool = False
    keep_empty: bool = False
    moving: PartsMoved = field(init=False)
    count: int = 0
    kept: int = 0
    cut: int = 0
    bounds: list[Any] = field(default_factory=list)
    crs: CRS | None = None

    def __post_init__(self) -> None:
        self.moving = PartsMoved(self.where)

    def part(self, table: FeatureTable) -> FeatureTable:
        table = self.moving.part(table) if self.moves else table
        self.bounds.append(shapely.total_bounds(table.geometries))
        self.count, self.crs = self.count + len(table), table.crs
        result, cut = clipped(table, self.where, touching=self.touching, outside=self.outside)
        self.kept, self.cut = self.kept + len(result), self.cut + cut
        return result

    def finish(self) -> list[Fact]:
        if not self.kept and not self.keep_empty:
            raise self._empty()
        side = "outside the area" if self.outside else "in the area"
        kept = fact("features_kept", kept=self.kept, of=self.count, side=side)
        how = fact("whole_features") if self.touching else fact("cut_at_outline", features=self.cut)
        return [*self.moving.said, kept, how]

    def _empty(self) -> InputError:
        """The error for a layer of which nothing is left."""
        known = np.array([box for box in self.bounds if np.isfinite(box).all()])
        if not known.size:
            why = f"all {self.count:,} are without a geometry"
            return EmptyInputError("no feature has a place", why, "leave --within out")
        (west, south), (east, north) = known[:, :2].min(axis=0).tolist(), known[:, 2:].max(axis=0).tolist()
        return overlap_error("no feature lies", (west, south, east, north), self.crs, str(self.where.within))


def clipped(
    table: FeatureTable, where: Where, *, touching: bool = False, outside: bool = False
) -> tuple[FeatureTable, int]:
    """What of `table` lies in the area, and how many features were cut at its outline."""
    area = resolve(where, table.crs)
    shape = area.polygon if area.polygon is not None else shapely.box(*area.bounds)
    shapely.prepare(shape)
    inside = shapely.covers(shape, table.geometries)
    meets = inside | shapely.intersects(shape, table.geometries)
    if touching:
        return table.take(~meets if outside else meets), 0
    whole = ~meets if outside else inside
    crossed = meets & ~inside
    work = shapely.difference if outside else shapely.intersection
    geometries = table.geometries.copy()
    geometries[crossed] = _of_same_dimension(work(geometries[crossed], shape), geometries[crossed])
    filled = crossed.copy()
    filled[crossed] = ~shapely.is_empty(geometries[crossed])
    return replace(table, geometries=geometries).take(whole | filled), int(filled.sum())


def _of_same_dimension(pieces: np.ndarray, originals: np.ndarray) -> np.ndarray:
    """What of each piece is of the dimension of its original: areas that only touch leave no lines behind."""
    kept = pieces.copy()
    mixed = (shapely.get_type_id(pieces) == 7) | (
        shapely.get_dimensions(pieces) < shapely.get_dimensions(originals)
    )
    for n in np.flatnonzero(mixed & (shapely.get_type_id(originals) != 7)):
        dimension = shapely.get_dimensions(originals[n])
        parts = [p for p in shapely.get_parts(pieces[n]) if shapely.get_dimensions(p) == dimension]
        several = {0: shapely.MultiPoint, 1: shapely.MultiLineString, 2: shapely.MultiPolygon}[int(dimension)]
        kept[n] = parts[0] if len(parts) == 1 else several([q for p in parts for q in shapely.get_parts(p)])
    return kept
