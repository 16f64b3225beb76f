"""Feature verbs that go one to one, and those that make one of many: their results and receipts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zembrel.errors import UsageError, nearest_name
from zembrel.features.files.schema import kinds_in
from zembrel.features.files.table import FEATURE_FORMATS
from zembrel.features.soundness import sound
from zembrel.features.table import FeatureTable
from zembrel.geodesy.crs import label
from zembrel.measure import show_bytes
from zembrel.verbs.each import Lost, each, results
from zembrel.verbs.features.opening import open_table
from zembrel.verbs.features.writing import WrittenFeatures, check_target, write_layer
from zembrel.verbs.options import Inputs, Output
from zembrel.verbs.receipt import LOSSES, Receipt, named

Change = Callable[[FeatureTable], tuple[FeatureTable, list[str]]]
_PLURALS = {
    "Point": "points", "MultiPoint": "multipoints", "LineString": "lines", "MultiLineString": "multilines",
    "LinearRing": "rings", "Polygon": "polygons", "MultiPolygon": "multipolygons",
}  # fmt: skip


def one_to_one(
    verb: str, paths: Sequence[Path], inputs: Inputs, output: Output, change: Change, *, check: bool = False
) -> Receipt:
    """Change each file of features and write it, with one receipt over all.

    check: whether faulty geometries are refused unless they are to be mended or left out.
    """
    finals = results(paths, output, _ending(output.format))
    for final in finals:
        check_target(final, output.replace)
    chose: list[str] = []

    def one(path: Path, final: Path) -> tuple[FeatureTable, WrittenFeatures]:
        table, said = opened(path, inputs, check=check)
        table, more = change(table)
        written = write_layer(final, table, output)
        chose.extend([*said, *more, *written.notes])
        return table, written

    done, lost, outside = each(one, paths, finals, paths, keep_going=output.keep_going)
    return receipt(verb, paths, output, done, [*chose, *outside], lost)


def opened(path: Path, inputs: Inputs, *, check: bool) -> tuple[FeatureTable, list[str]]:
    """The features of a file, sound ones if `check`, and what there is to say about them."""
    table = open_table(path, inputs)
    if not (check or inputs.repair or inputs.skip_invalid):
        return table, list(table.remarks)
    table, mended = sound(path, table, repair=inputs.repair, skip=inputs.skip_invalid)
    return table, [*table.remarks, *mended]


def receipt(
    verb: str,
    paths: Sequence[Path],
    output: Output,
    done: Sequence[tuple[FeatureTable, WrittenFeatures]],
    chose: Sequence[str],
    lost: Lost = (),
) -> Receipt:
    """What was written, in numbers."""
    table = done[0][0]
    fields = list(table.columns)
    shown = ", ".join(fields[:8]) + (" ..." if len(fields) > 8 else "")
    size = sum(written.bytes for _, written in done)
    what = str(output.path) if len(done) == 1 else f"{len(done)} files in {output.path}"
    said = tuple(dict.fromkeys(chose))
    lines = [
        (
            "features",
            (counted(table), label(table.crs), f"{len(fields)} fields: {shown}" if fields else "no fields"),
        ),
        ("chose", said),
        (
            "plan" if output.dry_run else "wrote",
            (what, f"{sum(len(t) for t, _ in done):,} features", show_bytes(size)),
        ),
        *(("lost", (f"{path}: {exc.what}",)) for path, exc in lost),
    ]
    facts: dict[str, Any] = {
        "inputs": [str(path) for path in paths],
        "out": str(output.path),
        "features": sum(len(t) for t, _ in done),
        "fields": fields,
        "bytes": size,
        "chose": list(said),
        "lost": [{"input": str(p), "error": e.what, "why": e.why, "try": e.remedy} for p, e in lost],
    }
    title = f"{named(paths)} -> {output.out}"
    return Receipt(verb, title, tuple((w, tuple(i)) for w, i in lines if i), facts, LOSSES if lost else 0)


def counted(table: FeatureTable) -> str:
    """`12 polygons`, `3 points and lines`, or what the features are."""
    kinds = [_PLURALS.get(kind, "collections") for kind in kinds_in(table.geometries)]
    missing = int(np.sum(shapely.is_missing(table.geometries)))
    words = ", ".join(kinds[:-1]) + " and " * (len(kinds) > 1) + "".join(kinds[-1:]) or "features"
    return f"{len(table):,} {words}" + (f", {missing:,} without a geometry" if missing else "")


def _ending(name: str | None) -> str | None:
    """The ending of a feature format by its name. Raises UsageError."""
    if name is None:
        return None
    if name not in FEATURE_FORMATS:
        raise UsageError(
            f"there is no feature format {name!r}",
            "see zembrel formats",
            nearest_name(name, list(FEATURE_FORMATS)),
        )
    return FEATURE_FORMATS[name].endings[0]
