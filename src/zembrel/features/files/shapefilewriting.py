"""Shapefiles written: shapes of one kind, a table of short names, the CRS beside them."""

from __future__ import annotations

import io
import math
from collections.abc import Iterator
from contextlib import suppress
from datetime import date
from pathlib import Path
from typing import Any

import shapely

from zembrel.errors import RefusedError
from zembrel.facts import Fact, fact
from zembrel.features.columns import DAY, INTEGER, REAL, TRUTH
from zembrel.features.files.schema import Schema
from zembrel.features.table import FeatureTable
from zembrel.geodesy.text import write_crs
from zembrel.guarded import GuardedFile

_TYPES = {"Point": 1, "LineString": 3, "LinearRing": 3, "Polygon": 5, "MultiPoint": 8}
_WITH_HEIGHTS = 10  # more than the plain type
_INTEGER, _REAL, _DECIMALS, _WORDS, _NAME = 20, 33, 15, 254, 10  # widths of fields


class ShapefileWriter:
    """Shapes and rows, one by one."""

    def __init__(self, path: Path, schema: Schema) -> None:
        import shapefile

        plain = "MultiPoint" if schema.kind == "MultiPoint" else schema.kind.removeprefix("Multi")
        if plain not in _TYPES:
            raise RefusedError(
                f"{path.name} cannot hold points, lines and polygons together",
                "a Shapefile holds one kind",
                "end --out in .gpkg, or pick one kind with --where",
            )
        self._path, self._schema, self._plain, self._lost = path, schema, plain, dict[str, int]()
        self._names = _names(schema)
        kind = _TYPES[plain] + _WITH_HEIGHTS * schema.heights
        self._guards = {
            ending: GuardedFile(path.with_suffix(f".{ending}")) for ending in ("shp", "shx", "dbf")
        }
        self._files = {ending: io.BufferedRandom(guard) for ending, guard in self._guards.items()}
        self._writer = shapefile.Writer(**self._files, shapeType=kind, encoding="utf-8")
        for name, field in zip(self._names, schema.fields.values(), strict=True):
            if field.kind == INTEGER:
                self._writer.field(name, "N", _INTEGER, 0)
            elif field.kind == REAL:
                self._writer.field(name, "N", _REAL, _DECIMALS)
            elif field.kind in (TRUTH, DAY):
                self._writer.field(name, "L" if field.kind == TRUTH else "D")
            else:
                self._writer.field(name, "C", max(1, min(field.width or _WORDS, _WORDS)))

    def add(self, table: FeatureTable) -> None:
        shapes = shapely.orient_polygons(table.geometries, exterior_cw=True)
        for geometry, row in zip(shapes, table.rows(), strict=True):
            self._put(geometry)
            kinds = (field.kind for field in self._schema.fields.values())
            self._writer.record(*(self._held(n, v, k) for (n, v), k in zip(row.items(), kinds, strict=True)))

    def _put(self, geometry: shapely.Geometry | None) -> None:
        if geometry is None or geometry.is_empty:
            self._writer.null()
            return
        heights = self._schema.heights
        parts = [shapely.get_coordinates(part, include_z=heights).tolist() for part in _lines(geometry)]
        after = "z" if heights else ""
        if self._plain == "Point":
            getattr(self._writer, f"point{after}")(*parts[0][0])
        elif self._plain == "MultiPoint":
            getattr(self._writer, f"multipoint{after}")([part[0] for part in parts])
        else:
            getattr(self._writer, ("poly" if self._plain == "Polygon" else "line") + after)(parts)

    def _held(self, name: str, value: Any, kind: str) -> Any:
        """`value` as its field holds it; what changes is counted."""
        if value is None:
            return None if kind in (INTEGER, REAL, TRUTH, DAY) else ""
        if kind in (TRUTH, DAY):
            return value
        if kind == INTEGER:
            return value
        if kind == REAL:
            if not math.isfinite(value) or len(f"{value:.{_DECIMALS}f}") > _REAL:
                raise RefusedError(
                    f"{self._path.name} cannot hold {name} = {value!r}",
                    f"a number in a Shapefile has {_REAL} signs, {_DECIMALS} of them decimals",
                    "end --out in .gpkg, or leave the field out with --fields",
                )
            if float(f"{value:.{_DECIMALS}f}"[:_REAL]) != value:
                self._lost[name] = self._lost.get(name, 0) + 1
            return value
        text = value.isoformat() if isinstance(value, date) else str(value)
        data = text.encode()
        if len(data) > _WORDS or text != text.rstrip(" \0"):  # blanks at the end are those of the field
            self._lost[name] = self._lost.get(name, 0) + 1
            text = data[:_WORDS].decode(errors="ignore").rstrip(" \0")
        return text

    def finish(self) -> tuple[Fact, ...]:
        self._writer.close()
        self._close()
        for guard in self._guards.values():
            guard.check()
        if self._schema.crs is not None:
            self._path.with_suffix(".prj").write_text(write_crs(self._schema.crs, "prj"))
        self._path.with_suffix(".cpg").write_text("UTF-8")
        changed = [
            fact("renamed", old=old, new=new)
            for old, new in zip(self._schema.fields, self._names, strict=True)
            if old != new
        ]
        lost = [fact("values_shortened", values=count, field=name) for name, count in self._lost.items()]
        return (*changed, *lost)

    def abort(self) -> None:
        with suppress(Exception):  # whatever it has against it: what it has written goes with its folder
            self._writer.balance()
            self._writer.close()
        self._close()

    def _close(self) -> None:
        for file in self._files.values():
            file.close()


def _lines(geometry: shapely.Geometry) -> Iterator[shapely.Geometry]:
    for part in shapely.get_parts(geometry):
        yield from shapely.get_rings(part) if part.geom_type == "Polygon" else (part,)


def _names(schema: Schema) -> list[str]:
    """Names of at most ten bytes, each once."""
    made: list[str] = []
    for name in schema.fields:
        name = name.replace(" ", "_")
        short = name.encode()[:_NAME].decode(errors="ignore")
        number = 1
        while short.lower() in (other.lower() for other in made):
            number += 1
            tail = str(number)
            short = name.encode()[: _NAME - len(tail)].decode(errors="ignore") + tail
        made.append(short)
    return made
