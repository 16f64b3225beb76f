"""describe for features."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np
import shapely

from zembrel.errors import InputError, UsageError
from zembrel.features.columns import DAY, INTEGER, REAL
from zembrel.features.files import layers_of
from zembrel.features.files.catalogue import format_of
from zembrel.features.ground import ground_areas, ground_lengths
from zembrel.features.soundness import faults_of
from zembrel.features.table import FeatureTable
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import label
from zembrel.geodesy.operation import operation
from zembrel.grid.area import split_crs
from zembrel.grid.framefile import crs_text
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.inputs.tables import open_layers, open_table
from zembrel.measure import show_bytes, show_number
from zembrel.results.eachtable import totals
from zembrel.results.phrases import show_kinds, show_table
from zembrel.results.receipt import Receipt
from zembrel.verbs.describe import Looking

Rows = list[tuple[str, str]]
_SHOWN = 5  # faulty features, and values of a field, that are named


def describe(given: Given, where: Where, output: Output, looking: Looking) -> Receipt:
    """Facts of each file of features; stats: of each field; at: `X,Y[@CRS]`, the features there."""
    texts, facts = [], []
    stats, at = looking.stats, looking.at
    wanted = [(o, *chosen) for o in given.origins for chosen in open_layers(o, given.options)]
    for origin, name, own in wanted:
        table = open_table(origin, own)
        rows, known = _rows(origin, table)
        if own is not given.options:
            rows.insert(1, ("layer", name))
        if stats:
            known["fields"] = _add_statistics(table, rows, known["fields"])
        if at:
            known["at"] = _add_features_at(origin, table, at, rows)
        texts.append(show_table(rows))
        facts.append(known)
    return Receipt("describe", given.paths, own={"layers": facts}, data="\n".join(texts))


def _rows(path: Origin, table: FeatureTable) -> tuple[Rows, dict[str, Any]]:
    form, size = format_of(path.file), path.size
    layers, faults = layers_of(path.file), faults_of(table)
    bounds = shapely.total_bounds(table.geometries).tolist() if len(table) else [np.nan] * 4
    placed = bool(np.isfinite(bounds).all())
    corners = "  ".join(f"{side} {show_number(round(v, 6))}" for side, v in zip("WSEN", bounds, strict=True))
    vertices = int(shapely.get_num_coordinates(table.geometries).sum()) if len(table) else 0
    heights = bool(shapely.has_z(table.geometries).any())
    rows = [
        ("file", str(path)),
        ("format", form.title if form else ""),
        ("size", f"{show_bytes(size)} on disk"),
        ("CRS", label(table.crs) if table.crs else "missing: give it with --from-crs"),
        ("extent", corners if placed else "nowhere"),
        ("features", f"{show_kinds(totals(table))}, {vertices:,} corners{', with heights' * heights}"),
        ("geometry", _told(faults) if faults else "all sound"),
        *(("field", f"{name}: {kind}") for name, kind in table.kinds.items()),
        *(("note", remark) for remark in table.remarks),
    ]
    if len(layers) > 1:
        rows.append(("layers", f"{len(layers)}: choose with --layer {', '.join(layers[:_SHOWN])}"))
    facts = {
        "path": str(path), "format": form.title if form else None, "bytes": size, "layers": layers,
        "crs": crs_text(table.crs) if table.crs else None, "bounds": bounds if placed else None,
        "features": len(table), "corners": vertices,
        "faults": [{"feature": n + 1, "why": why} for n, why in faults.items()],
        "fields": [{"name": name, "type": kind} for name, kind in table.kinds.items()],
        "remarks": table.remarks,
    }  # fmt: skip
    return rows, facts


def _told(faults: dict[int, str]) -> str:
    named = "; ".join(f"feature {n + 1}: {why}" for n, why in list(faults.items())[:_SHOWN])
    more = f"; and {len(faults) - _SHOWN} more" if len(faults) > _SHOWN else ""
    return f"{len(faults)} faulty: {named}{more} (convert --repair mends them)"


def _add_statistics(table: FeatureTable, rows: Rows, known: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Ends, mean and missing values of each field; areas and lengths of what has some."""
    told = []
    for facts in known:
        values, kind = table.columns[facts["name"]], facts["type"]
        held = [value for value in values.tolist() if value is not None and value == value]
        found: dict[str, Any] = {"missing": len(values) - len(held)}
        text = "nothing"
        if kind in (INTEGER, REAL) and held:
            found |= {"min": min(held), "max": max(held), "mean": float(np.mean(held))}
            text = f"{show_number(found['min'])} to {show_number(found['max'])}, mean {found['mean']:.6g}"
        elif kind == DAY and held:
            found |= {"min": min(held).isoformat(), "max": max(held).isoformat()}
            text = f"{found['min']} to {found['max']}"
        elif held:
            counts = Counter(map(str, held))
            found |= {"different": len(counts), "most": dict(counts.most_common(_SHOWN))}
            most = ", ".join(f"{word!r} {count:,}" for word, count in counts.most_common(_SHOWN))
            text = f"{len(counts):,} different: {most}{' ...' * (len(counts) > _SHOWN)}"
        if found["missing"]:
            text += f", {found['missing']:,} missing"
        rows.append((facts["name"], text))
        told.append(facts | {"statistics": found})
    dimensions = shapely.get_dimensions(table.geometries)
    areas = table.geometries[dimensions == 2]
    if len(areas):
        longest = float(np.hypot(*np.ptp(shapely.total_bounds(areas).reshape(2, 2), axis=0))) / 1000 or 1.0
        square = float(ground_areas(areas, table.crs, longest).sum())
        rows.append(("area", f"{square:,.1f} m2 on the ground, {square / 1e6:,.4f} km2"))
    lines = table.geometries[dimensions == 1]
    if len(lines):
        rows.append(("length", f"{ground_lengths(lines, table.crs).sum():,.1f} m on the ground"))
    return told


def _add_features_at(path: Origin, table: FeatureTable, at: str, rows: Rows) -> list[dict[str, Any]]:
    numbers, crs = split_crs(at)
    try:
        x, y = (float(part) for part in numbers.split(","))
    except ValueError as exc:
        raise UsageError(f"--at {at}", "a point is needed", "write --at X,Y or --at X,Y@EPSG:4326") from exc
    if crs is not None and table.crs is not None:
        px, py = operation(crs, table.crs)(np.array([x]), np.array([y]))
        x, y = float(px[0]), float(py[0])
    met = np.flatnonzero(shapely.intersects(table.geometries, shapely.Point(x, y)))
    if not met.size:
        raise InputError(
            f"no feature of {path} lies at {at}", "none covers or meets the point", "check it and its CRS"
        )
    found = []
    for n, row in zip(met.tolist(), table.take(met).rows(), strict=True):
        rows.append((f"feature {n + 1}", ", ".join(f"{name} {value}" for name, value in row.items())))
        found.append({"feature": n + 1, **row})
    return found
