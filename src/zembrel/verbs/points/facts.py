"""describe for points: what their files say, and what is true of it."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np

from zembrel.engine.points import Piece, over_pieces, pieces_of
from zembrel.formats.origin import Origin
from zembrel.geodesy.crs import label
from zembrel.grid.framefile import crs_text
from zembrel.inputs.clouds import open_cloud
from zembrel.inputs.intake import Given
from zembrel.inputs.options import Output, Where
from zembrel.measure import show_bytes, show_number
from zembrel.points.classes import name_of
from zembrel.points.duplicates import Duplicates
from zembrel.points.files.catalogue import POINT_FORMATS, format_of
from zembrel.points.las.lookup import class_names
from zembrel.points.las.source import LasSource
from zembrel.points.model import Bounds3, PointSource, Scaling
from zembrel.points.restated import las_of
from zembrel.points.survey import PointsSeen, Survey, SurveyLattice, cover_of, look, voids_of
from zembrel.results.cloudsurvey import bounds_of
from zembrel.results.phrases import show_table
from zembrel.results.receipt import Receipt
from zembrel.verbs.describe import Looking

Rows = list[tuple[str, str]]
_LOOKED_AT = 25_000_000  # points up to which all are looked at without being asked
_SHOWN = 12


def describe(given: Given, where: Where, output: Output, looking: Looking) -> Receipt:
    """Facts of each cloud. Points are looked at unless there are very many; stats: always, and all values."""
    texts, facts, stats = [], [], looking.stats
    for origin in given.origins:
        source = open_cloud(origin, given.options)
        rows, known = _said(origin, source)
        if source.cloud.count and (stats or source.cloud.count <= _LOOKED_AT):
            _add_seen(source, rows, known, output, deep=stats)
        elif source.cloud.count:
            rows.append(("points", f"not looked at, there are {source.cloud.count:,}: add --stats"))
        rows += [("note", remark) for remark in source.cloud.remarks]
        texts.append(show_table(rows))
        facts.append(known)
    return Receipt("describe", given.paths, own={"layers": facts}, data="\n".join(texts))


def _said(path: Origin, source: PointSource) -> tuple[Rows, dict[str, Any]]:
    """What the file says of itself."""
    cloud, size, name = source.cloud, path.size, format_of(path.file)
    title = POINT_FORMATS[name].title if name else ""
    head, record = cloud.header, cloud.layout.dtype.itemsize
    version = f" {head['version']}" if "version" in head else ""
    number = len(source.parts)
    chunks = f", {number:,} chunk{'s' * (number != 1)}" if head.get("compressed") else ""
    rows = [
        ("file", str(path)),
        (
            "format",
            f"{title}{version}, points of format {cloud.layout.format}, {record} bytes each",
        ),
        (
            "size",
            f"{show_bytes(size)} on disk, {show_bytes(cloud.count * record)} unpacked{chunks}",
        ),
        ("CRS", label(cloud.crs) if cloud.crs else "missing: give it with --from-crs"),
        ("points", f"{cloud.count:,}"),
        ("extent", _extent(cloud.bounds, cloud.scaling) if cloud.bounds else "not said"),
        ("steps", "/".join(f"{step:g}" for step in cloud.scaling.scale)),
        ("values", ", ".join(cloud.layout.names[3:])),
    ]
    if head:
        rows.insert(2, ("made by", f"{head['software'] or 'nobody said'}, {head['made']}"))
    facts = {
        "path": str(path), "format": name, "bytes": size, "points": cloud.count,
        "point_format": cloud.layout.format, "crs": crs_text(cloud.crs) if cloud.crs else None,
        "bounds": cloud.bounds, "scale": cloud.scaling.scale, "offset": cloud.scaling.offset,
        "values": cloud.layout.names, "remarks": cloud.remarks, "parts": len(source.parts),
        "version": head.get("version"), "returns_said": head.get("returns"),
    }  # fmt: skip
    return rows, facts


def _extent(bounds: Bounds3, scaling: Scaling) -> str:
    digits = [max(0, -int(np.floor(np.log10(abs(step)) + 1e-9))) for step in (*scaling.scale, *scaling.scale)]
    west, south, low, east, north, high = (f"{v:,.{n}f}" for v, n in zip(bounds, digits, strict=True))
    return f"W {west}  S {south}  E {east}  N {north}  heights {low} to {high}"


def _look(said: Bounds3 | None, lattice: SurveyLattice, deep: bool, piece: Piece) -> PointsSeen:
    """What is seen of a piece."""
    return look(piece.source.read(piece.part), said, lattice, deep=deep)


def _add_seen(source: PointSource, rows: Rows, known: dict[str, Any], output: Output, *, deep: bool) -> None:
    said = source.cloud.bounds
    lattice = SurveyLattice.over(said or bounds_of(source, output), source.cloud.count)

    task = partial(_look, said, lattice, deep)
    with Duplicates() as duplicates:
        survey = Survey(duplicates)
        for seen in over_pieces(pieces_of([source]), task, output.limits):
            survey.note(seen)
        whole = survey.seen
        repeated = survey.duplicates() if deep else None
    _add_counts(source, whole, rows, known)
    _add_truth(source, whole, rows, known)
    if whole.cells is not None and _cover_ground(whole):
        cover = cover_of(whole.cells, lattice, source.cloud.crs)
        rows.append(("density", f"{cover.density:,.2f} points a m2 over {cover.area:,.0f} m2"))
        known |= {"density": cover.density, "area": cover.area}
    if deep and whole.cells is not None and _cover_ground(whole):
        voids = voids_of(whole.cells, lattice, source.cloud.crs)
        among = f"{voids.number} of {voids.area:,.0f} m2 among the points" if voids.number else "none"
        if voids.place is not None:
            among += f", the largest {voids.largest:,.0f} m2 at {voids.place[0]:.10g},{voids.place[1]:.10g}"
        rows.append(("voids", among))
        known["voids"] = voids.number
    if repeated is not None:
        rows.append(("repeated", f"{repeated:,} points lie exactly where another one lies"))
        known["repeated"] = repeated
    for name, (low, high, total) in whole.ends.items():
        rows.append((name, f"{show_number(low)} to {show_number(high)}, mean {total / whole.points:.6g}"))
    known["statistics"] = {
        n: {"min": a, "max": b, "mean": s / whole.points} for n, (a, b, s) in whole.ends.items()
    }


def _cover_ground(whole: PointsSeen) -> bool:
    """Whether points lie side by side: one alone, and points of one line, have no density."""
    if whole.bounds is None:
        return False
    west, south, _, east, north, _ = whole.bounds
    return west < east and south < north


def _add_counts(source: PointSource, whole: PointsSeen, rows: Rows, known: dict[str, Any]) -> None:
    las = las_of(source)
    names = class_names(las.records) if las is not None else {}
    for number, count in sorted(whole.classes.items()):
        rows.append(
            (
                f"class {number}",
                f"{count:,}  {100 * count / whole.points:.1f} %  {names.get(number) or name_of(number)}",
            )
        )
    returns: dict[int, int] = {}
    for (number, _), count in whole.returns.items():
        returns[number] = returns.get(number, 0) + count
    rows.append(("returns", ", ".join(f"{n}: {count:,}" for n, count in sorted(returns.items()))))
    odd = sum(c for (n, of), c in whole.returns.items() if n < 1 or n > of)
    if odd:
        rows.append(("odd", f"{odd:,} points with a return number beyond their number of returns"))
    lines = sorted(whole.sources.items())
    more = f" ... {len(lines) - _SHOWN} more" if len(lines) > _SHOWN else ""
    rows.append(("sources", ", ".join(f"{n}: {count:,}" for n, count in lines[:_SHOWN]) + more))
    flags = {name: count for name, count in whole.flags.items() if count}
    if flags:
        rows.append(("flags", ", ".join(f"{name} {count:,}" for name, count in flags.items())))
    if whole.time_ends is not None:
        low, high = whole.time_ends
        order = "in order" if not whole.backwards else f"{whole.backwards:,} steps back"
        rows.append(("gps time", f"{low:,.6f} to {high:,.6f}, {order}"))
    known |= {
        "classes": dict(sorted(whole.classes.items())), "returns": dict(sorted(returns.items())),
        "sources": dict(lines), "flags": dict(whole.flags), "odd_returns": odd,
        "gps_time": whole.time_ends, "steps_back": whole.backwards, "true_bounds": whole.bounds,
    }  # fmt: skip


def _add_truth(source: PointSource, whole: PointsSeen, rows: Rows, known: dict[str, Any]) -> None:
    """Where the header is wrong."""
    wrong = []
    said, true = source.cloud.bounds, whole.bounds
    if said is not None and true is not None:
        steps = np.array([*source.cloud.scaling.scale] * 2) * 1.0001
        off = np.abs(np.subtract(said, true)) > steps
        if off.any():
            truth = _extent(true, source.cloud.scaling)
            wrong.append(f"bounds: {whole.outside:,} points lie outside; true are {truth}")
        known["outside"] = whole.outside
    las = las_of(source)
    if las is not None:
        wrong += _wrong_counts(las, whole)
    known["header_faults"] = wrong
    rows.append(("header", "; ".join(wrong) if wrong else "agrees with the points"))


def _wrong_counts(las: LasSource, whole: PointsSeen) -> list[str]:
    wrong = []
    if las.header.count != whole.points:
        wrong.append(f"count: it says {las.header.count:,}, there are {whole.points:,}")
    said = las.header.returns
    true = [sum(c for (n, _), c in whole.returns.items() if n == k) for k in range(1, len(said) + 1)]
    if any(said) and [*said] != true:
        wrong.append("points by return: it says " + ", ".join(f"{n:,}" for n in said[:5]))
    return wrong
