"""convert, clip, reproject and mosaic for features."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from zembrel.errors import InputError
from zembrel.features.table import FeatureTable, appended
from zembrel.geodesy.crs import CRS, label, same
from zembrel.geodesy.operation import operation
from zembrel.verbs.aids import check_used, equipped
from zembrel.verbs.clip import Clipping
from zembrel.verbs.features.each import one_to_one, opened, receipt
from zembrel.verbs.features.opening import open_layers
from zembrel.verbs.features.writing import check_target, write_layer
from zembrel.verbs.intake import Given
from zembrel.verbs.options import Output, Where
from zembrel.verbs.receipt import Receipt
from zembrel.verbs.within import asked_crs, asked_frame, no_new_crs, overlap_error, resolve


def convert(given: Given, where: Where, output: Output, values: object) -> Receipt:
    """Each file in another format; faulty geometries go as they are unless they are to be mended."""
    return one_to_one("convert", given, output, lambda table: (table, []))


def reproject(given: Given, where: Where, output: Output, resampling: object) -> Receipt:
    """Each file in another CRS."""
    return one_to_one("reproject", given, output, lambda table: moved(table, where))


def clip(given: Given, where: Where, output: Output, clipping: Clipping) -> Receipt:
    """What of each file lies in the area; touching: features that meet it, whole."""

    def cut(table: FeatureTable) -> tuple[FeatureTable, list[str]]:
        table, chose = moved(table, where) if where.crs or where.onto else (table, [])
        table, said = clipped(table, where, touching=clipping.touching, outside=clipping.outside)
        return table, [*chose, *said]

    return one_to_one("clip", given, output, cut, check=True)


def mosaic(given: Given, where: Where, output: Output, joining: object) -> Receipt:
    """All features one after the other, in the CRS of the first unless another is asked for."""
    out = output.path
    check_target(out, output)
    tables, chose = [], []
    for origin in given.origins:
        for _, own in open_layers(origin, given.options):
            table, said = opened(origin, own, check=False)
            tables.append(table)
            chose += said
    crs = _asked(where) or tables[0].crs
    if crs is None and any(table.crs is not None for table in tables):
        raise InputError(
            f"{given.origins[0]} has no coordinate reference system",
            f"without one its place among the other {len(tables) - 1} inputs is unknown",
            "add --from-crs CRS, or leave the file out",
        )
    carried = []
    for table in tables:
        table, said = moved(table, where, crs) if crs is not None else (table, [])
        carried.append(table)
        chose += said
    whole = appended(carried)
    if where.within:
        whole, said = clipped(whole, where)
        chose += said
    written = write_layer(out, whole, output)
    sort = "files" if len(tables) == len(given.origins) else "layers"
    sizes = ", ".join(f"{len(table):,}" for table in tables[:6]) + " ..." * (len(tables) > 6)
    counts = f"{len(tables)} {sort} of {sizes}"
    return receipt("mosaic", given.paths, output, [(whole, written)], [counts, *chose, *written.notes])


def _asked(where: Where) -> CRS | None:
    frame = asked_frame(where)
    return frame.crs if frame is not None else asked_crs(where)


def moved(table: FeatureTable, where: Where, crs: CRS | None = None) -> tuple[FeatureTable, list[str]]:
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
    return table.to(target), [f"from {label(table.crs)}", *way.checked(where.strict_crs).remarks]


def clipped(
    table: FeatureTable, where: Where, *, touching: bool = False, outside: bool = False
) -> tuple[FeatureTable, list[str]]:
    """What of `table` lies in the area, cut at its outline, or whole where that is met, or outside it.

    Raises InputError if nothing is left.
    """
    area = resolve(where, table.crs)
    if not np.isfinite(shapely.bounds(table.geometries)).any():
        raise InputError(
            "no feature has a place", f"all {len(table):,} are without a geometry", "leave --within out"
        )
    shape = area.polygon if area.polygon is not None else shapely.box(*area.bounds)
    shapely.prepare(shape)
    inside = shapely.covers(shape, table.geometries)
    meets = inside | shapely.intersects(shape, table.geometries)
    if touching:
        kept = ~meets if outside else meets
        result, cut = table.take(kept), 0
    else:
        whole = ~meets if outside else inside
        crossed = meets & ~inside
        work = shapely.difference if outside else shapely.intersection
        geometries = table.geometries.copy()
        geometries[crossed] = _of_same_dimension(work(geometries[crossed], shape), geometries[crossed])
        filled = crossed.copy()
        filled[crossed] = ~shapely.is_empty(geometries[crossed])
        cut = int(filled.sum())
        result = replace(table, geometries=geometries).take(whole | filled)
    if not len(result):
        raise overlap_error(
            "no feature lies", tuple(shapely.total_bounds(table.geometries)), table.crs, str(where.within)
        )
    side = "outside the area" if outside else "in the area"
    how = "whole features that meet it" if touching else f"{cut:,} cut at its outline"
    return result, [f"{len(result):,} of {len(table):,} features {side}", how]


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
